//! Where secrets come from when something is compiled.

use std::collections::HashMap;

/// What stands for a secret that is only taken to be there.
pub(crate) const PLACEHOLDER: &str = "secret";

/// Where secrets come from.
pub enum Secrets<'a> {
    /// Every secret is taken to be there: for checking.
    Placeholder,
    /// These.
    Known(&'a HashMap<String, String>),
}

impl Secrets<'_> {
    /// What tells one value of a secret from another, without showing it.
    pub(crate) fn digest(value: &str) -> [u8; 32] {
        *blake3::hash(value.as_bytes()).as_bytes()
    }

    /// Whether secrets that were filled in have the same values still.
    pub(crate) fn still(&self, filled: &[(String, [u8; 32])]) -> bool {
        match self {
            Self::Placeholder => filled.is_empty(),
            Self::Known(known) => filled.iter().all(|(name, digest)| {
                known
                    .get(name)
                    .is_some_and(|value| Self::digest(value) == *digest)
            }),
        }
    }
}
