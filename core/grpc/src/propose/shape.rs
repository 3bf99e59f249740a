//! A way to call a method by HTTP.

use crate::rule::{Bound, Piece};

/// A way to call a method by HTTP.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Shape {
    /// `operationId`.
    pub id: String,
    /// Method; `*` for any.
    pub method: String,
    /// Path template of the contract.
    pub path: String,
    /// Full name of the gRPC method.
    pub calls: String,
    /// What fields get from the path.
    pub bound: Vec<Bound>,
    /// The field that the request's body is; `*` for the whole message; empty for none.
    pub body: String,
    /// The field that the reply's body is; empty for the whole message.
    pub response_body: String,
    /// Why this shape.
    pub why: String,
}

impl Shape {
    /// Gives path variables the style of a `.proto` file: `homePort` becomes `home_port`.
    pub fn in_own_names(&mut self) {
        let mut path = String::with_capacity(self.path.len());
        let mut inside = false;
        for c in self.path.chars() {
            match c {
                '{' => inside = true,
                '}' => inside = false,
                c if inside && c.is_ascii_uppercase() => {
                    path.push('_');
                    path.push(c.to_ascii_lowercase());
                    continue;
                }
                _ => {}
            }
            path.push(c);
        }
        self.path = path;
        for bound in &mut self.bound {
            for piece in &mut bound.pieces {
                if let Piece::Variable(name) | Piece::Several(name) = piece {
                    let cut = |c: char| match c.is_ascii_uppercase() {
                        true => format!("_{}", c.to_ascii_lowercase()),
                        false => c.to_string(),
                    };
                    *name = name.chars().map(cut).collect();
                }
            }
        }
    }
}
