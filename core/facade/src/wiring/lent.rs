//! Secrets that expressions name.

use std::cell::RefCell;
use std::collections::BTreeMap;

use crate::compiled::{PLACEHOLDER, Secrets};

/// Where expressions of a facade get secrets from, and which they got.
pub struct Lent<'a> {
    /// Where they come from.
    pub from: &'a Secrets<'a>,
    named: RefCell<BTreeMap<String, String>>,
}

impl<'a> Lent<'a> {
    pub(crate) fn new(from: &'a Secrets<'a>) -> Self {
        Self {
            from,
            named: RefCell::default(),
        }
    }

    /// A secret's value, noted as named where it is there.
    pub(crate) fn value(&self, name: &str) -> Option<String> {
        match self.from {
            Secrets::Placeholder => Some(PLACEHOLDER.to_owned()),
            Secrets::Known(known) => {
                let value = known.get(name)?;
                let mut named = self.named.borrow_mut();
                named.insert(name.to_owned(), value.clone());
                Some(value.clone())
            }
        }
    }

    /// Those that were named, with their values.
    pub(crate) fn take(&self) -> BTreeMap<String, String> {
        self.named.take()
    }
}

/// What becomes of the values of expressions that stand at a place, which decides what they may do with secrets.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Use {
    /// They are sent to a backend: in header fields, in a body.
    Sent,
    /// They are sent in its path or query, which come back in references and stand in logs of others.
    Target,
    /// They are counted by, and where they are not there the call is refused: what was agreed to may be named plainly.
    Counted,
    /// They are told to callers, or decide what happens: a secret can be compared.
    Here,
}

impl Use {
    /// Why a secret, or what is made of one, may not be a value here.
    pub(crate) fn refuses(self) -> Option<(&'static str, &'static str)> {
        match self {
            Self::Sent => None,
            Self::Target => Some((
                "a secret is not sent in a path or query of an expression",
                "say it below `credentials: calling: query:` of the backend, or send it in a header field or body",
            )),
            Self::Here | Self::Counted => Some((
                "a secret is not shown: here it can only be compared, with `==` or `!=`",
                "secrets are sent in header fields and bodies, below `send:` and `changes: request:`",
            )),
        }
    }
}
