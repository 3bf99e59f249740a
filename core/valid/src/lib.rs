//! Whether values keep to the schemas of a contract (JSON Schema 2020-12, as OpenAPI 3.1 §4.8.24 uses it).
//!
//! Schemas are compiled once into flat nodes; a value is held against them without copying anything. What a caller is told is said
//! here, all of it at once, with a JSON Pointer (RFC 6901) for each mistake. Formats are checked (2020-12 validation §7.2.2).
//!
//! The work is bounded: a part of a value is held against a schema once, however many ways lead there; patterns run on an engine
//! whose time grows with the text alone; and what would take longer than any real value does is refused.

#![forbid(unsafe_code)]

mod check;
mod compile;
mod doubled;
mod evaluated;
mod format;
mod node;
mod number;
mod pattern;
mod swift;
mod told;

use std::sync::Arc;

use serde_json::Value;

pub use compile::{Added, Schemas};
pub use doubled::doubled;
pub use told::Misfit;

use crate::node::Node;

/// Whether a text is of a format (JSON Schema 2020-12 validation §7.3); of one that is not known none is.
pub fn is_of_format(name: &str, text: &str) -> bool {
    format::check(name).is_some_and(|is| is(text))
}

/// Whose values are checked.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum From {
    /// What callers send: members that only the service sets are mistakes.
    Callers,
    /// What backends answer.
    Backends,
}

/// A schema that is ready to be asked; those of one contract share their parts.
#[derive(Clone, Debug)]
pub struct Validator {
    nodes: Arc<Vec<Node>>,
    root: u32,
    from: From,
}

impl Validator {
    /// Everything that is wrong with a value, up to a bound.
    pub fn misfits(&self, value: &Value) -> Vec<Misfit> {
        check::Check::new(&self.nodes, self.from).all(self.root, value)
    }

    /// Whether bytes are JSON, have no member twice in one object, and keep to the schema, as far as that is known from reading
    /// them once; where not, [`Validator::misfits`] and [`doubled`] tell.
    pub fn surely_fits(&self, json: &[u8]) -> bool {
        swift::fits(&self.nodes, self.from, self.root, json)
    }

    /// Whether a value keeps to the schema.
    pub fn fits(&self, value: &Value) -> bool {
        check::Check::new(&self.nodes, self.from).fits(self.root, value)
    }
}
