//! Services known by sample calls: command lines as people paste them, exchanges as they are written down, and the description
//! (OpenAPI 3.1) that follows from what was sent and what came back.
//!
//! Everything that comes in is foreign: its size, depth and number are bounded. What looks like a secret never becomes part of the
//! description; it is handed out apart, for whoever keeps the backend's secrets.

#![forbid(unsafe_code)]
#![warn(missing_docs)]

mod build;
mod command;
mod message;
mod secrets;
mod segments;
mod shape;
mod words;

pub use build::{Learned, learn};
pub use command::{Call, is_command, read_commands};
pub use message::read_exchanges;
pub use secrets::{Credential, Known, is_secret};

/// At most so many samples are read at once.
pub const MAX_SAMPLES: usize = 100;
/// A text of samples has at most so many bytes.
pub const MAX_TEXT: usize = 4 << 20;

/// One exchange with a service, as far as it is known.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Exchange {
    /// The request.
    pub call: Call,
    /// The answer, where there is one.
    pub answer: Option<Answer>,
}

/// What a service answered.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Answer {
    /// Its status.
    pub status: u16,
    /// Its header fields.
    pub fields: Vec<(String, String)>,
    /// Its body.
    pub body: Vec<u8>,
}

/// Why a text is no sample.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{message}")]
pub struct NoSample {
    /// What is wrong.
    pub message: String,
    /// What can be done about it.
    pub help: String,
}

impl NoSample {
    pub(crate) fn new(message: impl Into<String>, help: impl Into<String>) -> Self {
        Self {
            message: message.into(),
            help: help.into(),
        }
    }
}

/// The first field of a name, whatever its case (RFC 9110 §5.1).
pub(crate) fn field<'f>(fields: &'f [(String, String)], name: &str) -> Option<&'f str> {
    let mut fields = fields.iter();
    let found = fields.find(|(n, _)| n.eq_ignore_ascii_case(name));
    found.map(|(_, value)| value.as_str())
}

/// The name of the media type in `Content-Type`, without parameters (RFC 9110 §8.3.1).
pub(crate) fn essence(fields: &[(String, String)]) -> String {
    let kind = field(fields, "content-type").unwrap_or_default();
    let name = kind.split(';').next().unwrap_or_default();
    name.trim().to_ascii_lowercase()
}
