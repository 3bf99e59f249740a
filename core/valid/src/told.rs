//! What is wrong with a value, in words.

use serde_json::Value;

use crate::node::{ARRAY, BOOLEAN, INTEGER, NULL, NUMBER, OBJECT, STRING};

/// What is said of a member that only the service sets.
pub(crate) const READ_ONLY: &str = "is set by the service and not by callers";
/// Values longer than this are not shown whole.
const SHOWN: usize = 60;
/// So many of a list are shown.
const FEW: usize = 10;

/// One mistake.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Misfit {
    /// Where in the value (RFC 6901).
    pub pointer: String,
    /// What is wrong, to be read behind the pointer.
    pub told: String,
    /// Whether it is a member that only the service sets.
    pub read_only: bool,
}

/// A step on the way to a part of a value.
#[derive(Clone, Copy, Debug)]
pub(crate) enum Step<'v> {
    Member(&'v str),
    Item(usize),
}

pub(crate) fn pointer(path: &[Step<'_>]) -> String {
    let mut out = String::new();
    for step in path {
        out.push('/');
        match step {
            Step::Member(name) if name.contains(['~', '/']) => {
                out.push_str(&name.replace('~', "~0").replace('/', "~1"));
            }
            Step::Member(name) => out.push_str(name),
            Step::Item(at) => out.push_str(&at.to_string()),
        }
    }
    out
}

pub(crate) fn types(bits: u8) -> String {
    let words = [
        (STRING, "a text"),
        (INTEGER, "a whole number"),
        (NUMBER, "a number"),
        (BOOLEAN, "true or false"),
        (OBJECT, "an object"),
        (ARRAY, "a list"),
        (NULL, "null"),
    ];
    let known = words.iter().filter(|(bit, _)| bits & bit != 0);
    let names: Vec<&str> = known.map(|(_, name)| *name).collect();
    names.join(" or ")
}

pub(crate) fn values(options: &[Value]) -> String {
    let known: Vec<String> = options.iter().take(FEW).map(shown).collect();
    let more = match options.len().saturating_sub(FEW) {
        0 => String::new(),
        n => format!(" and {n} more"),
    };
    format!("{}{more}", known.join(", "))
}

pub(crate) fn shown(value: &Value) -> String {
    let text = match value {
        Value::String(text) => text.clone(),
        other => other.to_string(),
    };
    match text.char_indices().nth(SHOWN) {
        Some((at, _)) => format!("{}…", &text[..at]),
        None => text,
    }
}

/// One thing, or several of it.
pub(crate) fn some(count: u64, one: &str, several: &str) -> String {
    match count {
        1 => format!("1 {one}"),
        n => format!("{n} {several}"),
    }
}
