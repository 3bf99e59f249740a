//! Problems in the facade's own words.

use std::sync::Arc;

use http::HeaderValue;
use serde_json::Value;

/// The reasons of problems: the last parts of their types.
pub const REASONS: [&str; 46] = [
    "agreement",
    "answer-contract",
    "at-once",
    "backend-answer",
    "backend-broke-off",
    "backend-busy",
    "backend-credential",
    "backend-resting",
    "backend-slow",
    "backend-unreachable",
    "body-size",
    "coding",
    "contract",
    "counts-away",
    "credential",
    "digest",
    "fault",
    "grpc",
    "guessing",
    "host",
    "identity",
    "issuer",
    "key",
    "loop-detected",
    "media-type",
    "method",
    "network",
    "no-example",
    "not-acceptable",
    "not-counted",
    "not-found",
    "not-granted",
    "not-kept",
    "origin",
    "overloaded",
    "path",
    "paused",
    "quota",
    "random",
    "rate-limit",
    "refused",
    "request-broke-off",
    "request-slow",
    "role",
    "transfer-coding",
    "wiring",
];

/// Which problems words are for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Of {
    /// Those of a reason.
    Reason(Box<str>),
    /// Those with a status.
    Status(u16),
    /// Those whose status begins with a digit.
    Class(u16),
}

impl Of {
    /// Whether a problem is one of them.
    pub fn fits(&self, reason: &str, status: u16) -> bool {
        match self {
            Of::Reason(own) => **own == *reason,
            Of::Status(own) => *own == status,
            Of::Class(own) => *own == status / 100,
        }
    }
}

/// What is said of some problems.
#[derive(Debug)]
pub struct Words {
    /// Of which.
    pub of: Of,
    /// What is wrong, by language; none: as the porch says it.
    pub title: Vec<(Box<str>, Box<str>)>,
    /// What is wrong this time, by language.
    pub detail: Vec<(Box<str>, Box<str>)>,
    /// What kind of problem it is.
    pub kind: Option<Box<str>>,
    /// `Link` to a page that helps.
    pub help: Option<HeaderValue>,
    /// More members.
    pub members: Vec<(String, Value)>,
    /// Where they stand.
    pub place: Arc<super::RulePlace>,
}
