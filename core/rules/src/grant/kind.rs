//! The kinds of credentials.

use super::{Grant, Proof};

/// The kind of a credential. Labels are unique within a kind only.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Kind {
    /// A key.
    #[default]
    Key,
    /// Name and password.
    Password,
    /// A token of an issuer.
    Token,
    /// A signature of the request.
    Signature,
    /// A certificate.
    Certificate,
}

impl Kind {
    /// Its name.
    pub fn name(self) -> &'static str {
        match self {
            Self::Key => "key",
            Self::Password => "password",
            Self::Token => "token",
            Self::Signature => "signature",
            Self::Certificate => "certificate",
        }
    }

    /// One with a label, as people are told of it.
    pub fn of(self, label: &str) -> String {
        match self {
            Self::Key => format!("the key “{label}…”"),
            Self::Password => format!("the password of “{label}”"),
            Self::Token => format!("a token of {label}"),
            Self::Signature => format!("a signature with the key “{label}”"),
            Self::Certificate => format!("the certificate “{label}”"),
        }
    }
}

impl Grant {
    /// The kind of credential that it follows from.
    pub fn kind(&self) -> Kind {
        match self.proof.as_deref() {
            None => Kind::Key,
            Some(Proof::Password(_)) => Kind::Password,
            Some(Proof::Token) => Kind::Token,
            Some(Proof::Signing(_)) => Kind::Signature,
            Some(Proof::Certificate) => Kind::Certificate,
        }
    }

    /// What was shown, as people are told of it.
    pub fn told(&self) -> String {
        self.kind().of(&self.shown.label)
    }
}
