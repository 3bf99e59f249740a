//! What expressions read of callers.

use std::collections::BTreeSet;

use porch_rules::expr::Reference;

/// What expressions of an operation read of its callers, besides path, query and body.
#[derive(Debug, Default)]
pub struct Used {
    /// Names of header fields.
    pub(crate) fields: BTreeSet<String>,
    /// Members of `caller`.
    pub(crate) caller: BTreeSet<String>,
    /// Whether all header fields are read, or some that only a request tells.
    pub(crate) all: bool,
}

impl Used {
    pub(super) fn note(&mut self, reference: &Reference) {
        let mut names = reference.steps.iter().map(|s| s.name.as_str());
        match (names.next(), names.next()) {
            (Some("header"), Some(name)) => drop(self.fields.insert(name.to_ascii_lowercase())),
            (Some("caller"), Some(name)) => drop(self.caller.insert(name.to_owned())),
            (Some("header" | "caller"), None) => self.all = true,
            _ => {}
        }
    }
}
