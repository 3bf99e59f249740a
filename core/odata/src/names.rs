//! Names of what is made: operations, variables, components.

use std::collections::{HashMap, HashSet};

use crate::model::Model;

/// Names that no two things may have.
#[derive(Default)]
pub(crate) struct Taken {
    all: HashSet<String>,
    /// How often a name was wanted.
    wanted: HashMap<String, usize>,
}

impl Taken {
    /// A name, with a number where it is taken.
    pub(crate) fn give(&mut self, wanted: &str) -> String {
        let plain = |c: char| c.is_ascii_alphanumeric() || c == '_';
        let mut name: String = wanted.chars().filter(|c| plain(*c)).collect();
        if name.is_empty() {
            name = "operation".into();
        }
        let mut own = name.clone();
        while !self.all.insert(own.clone()) {
            let times = self.wanted.entry(name.clone()).or_insert(1);
            *times += 1;
            own = format!("{name}{times}");
        }
        own
    }
}

/// A name that begins with a small letter.
pub(crate) fn small(name: &str) -> String {
    let mut chars = name.chars();
    match chars.next() {
        Some(first) => first.to_lowercase().chain(chars).collect(),
        None => String::new(),
    }
}

/// A name that begins with a capital.
pub(crate) fn capital(name: &str) -> String {
    let mut chars = name.chars();
    match chars.next() {
        Some(first) => first.to_uppercase().chain(chars).collect(),
        None => String::new(),
    }
}

/// A variable of a path, for a property; names that expressions do not know how to say are numbered.
pub(crate) fn variable(name: &str, number: usize) -> String {
    let own = small(name);
    match is_identifier(&own) {
        true => own,
        false => format!("key{number}"),
    }
}

/// Whether a name can stand in an expression as it is.
pub(crate) fn is_identifier(name: &str) -> bool {
    let plain = |c: char| c.is_ascii_alphanumeric() || c == '_';
    let starts = name.starts_with(|c: char| c.is_ascii_alphabetic() || c == '_');
    starts && name.chars().all(plain) && !RESERVED.contains(&name)
}

/// Words that are no identifiers of CEL (language definition, Syntax).
const RESERVED: [&str; 20] = [
    "as",
    "break",
    "const",
    "continue",
    "else",
    "false",
    "for",
    "function",
    "if",
    "import",
    "in",
    "let",
    "loop",
    "namespace",
    "null",
    "package",
    "return",
    "true",
    "var",
    "void",
];

/// Names of components by qualified names: the short one, where nothing else has it.
pub(crate) fn components(model: &Model) -> HashMap<String, String> {
    let mut taken = Taken::default();
    let all = model.structures.keys().chain(model.enums.keys());
    all.map(|full| {
        let short = full.rsplit('.').next().unwrap_or(full);
        (full.clone(), taken.give(short))
    })
    .collect()
}

/// A name as it stands in a path (RFC 3986 §3.3).
pub(crate) fn encoded(name: &str) -> String {
    let mut out = String::with_capacity(name.len());
    for byte in name.bytes() {
        match byte {
            b if b.is_ascii_alphanumeric() || b"-._~$@".contains(&b) => out.push(char::from(b)),
            b => out.push_str(&format!("%{b:02X}")),
        }
    }
    out
}
