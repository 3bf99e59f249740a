//! How callers show who they are, in words.

use porch_facade::{CredentialKind, KeyPlace};
use serde::Serialize;
use utoipa::ToSchema;

/// A way to show who calls.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, ToSchema)]
pub(crate) struct Way {
    /// `key`, `key-as-token`, `basic`, `token`, `signature` or `certificate`.
    pub(crate) kind: &'static str,
    /// Of a key: `header` or `query`.
    #[serde(rename = "in")]
    pub(crate) place: Option<&'static str>,
    /// Of a key: the name of the header field or parameter.
    pub(crate) name: Option<String>,
    /// In words.
    pub(crate) how: String,
}

impl Way {
    pub(super) fn of(kind: &CredentialKind) -> Self {
        let way = |kind, how: &str| Self {
            kind,
            place: None,
            name: None,
            how: how.to_owned(),
        };
        match kind {
            CredentialKind::Key(KeyPlace::Header(_, name)) => Self {
                kind: "key",
                place: Some("header"),
                name: Some(name.to_string()),
                how: format!("a key in the header field {name}"),
            },
            CredentialKind::Key(KeyPlace::Bearer) => {
                way("key-as-token", "a key in Authorization: Bearer")
            }
            CredentialKind::Key(KeyPlace::Query(name)) => Self {
                kind: "key",
                place: Some("query"),
                name: Some(name.to_string()),
                how: format!("a key in the query parameter {name}"),
            },
            CredentialKind::Basic => way("basic", "a name and a password (RFC 7617)"),
            CredentialKind::Token(rule) => {
                let (issuer, expected) = (&rule.expected.issuer, &rule.expected);
                let audience = match expected.audience.as_slice() {
                    [] => String::new(),
                    all => format!(" for {}", all.join(" or ")),
                };
                let how =
                    format!("a token of {issuer}{audience} in Authorization: Bearer (RFC 6750)");
                way("token", &how)
            }
            CredentialKind::Signature(rule) => {
                let covers = rule.covers.join(", ");
                let by: Vec<&str> = rule.algorithms.iter().map(|a| a.name()).collect();
                let how = format!("a signature (RFC 9421) of {covers}, by {}", by.join(" or "));
                way("signature", &how)
            }
            CredentialKind::Certificate(_) => way("certificate", "a certificate, shown by TLS"),
        }
    }
}
