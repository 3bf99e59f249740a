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
    /// Notes that a share of the callers is told by who calls, or from where.
    pub(crate) fn by_caller(&mut self) {
        let names = ["consumer", "address"].map(str::to_owned);
        self.caller.extend(names);
    }

    /// Notes that it hangs on the credential itself: two tokens of one client may say different things.
    fn by_what_is_shown(&mut self) {
        self.caller.insert("key".to_owned());
        self.fields.insert("authorization".to_owned());
    }

    pub(super) fn note(&mut self, reference: &Reference) {
        let mut names = reference.steps.iter().map(|s| s.name.as_str());
        match (names.next(), names.next()) {
            (Some("header"), Some(name)) => drop(self.fields.insert(name.to_ascii_lowercase())),
            (Some("caller"), Some("roles")) => self.by_what_is_shown(),
            // What was agreed to is the credential's that is shown.
            (Some("caller"), Some("agreement" | "account")) | (Some("terms"), _) => {
                self.caller.insert("key".to_owned());
            }
            (Some("claims"), _) => self.by_what_is_shown(),
            (Some("caller"), Some(name)) => drop(self.caller.insert(name.to_owned())),
            // All of them stand in one field (RFC 6265 §5.4).
            (Some("cookie"), _) => drop(self.fields.insert("cookie".to_owned())),
            (Some("header" | "caller"), None) => self.all = true,
            _ => {}
        }
    }
}
