//! Why a value is none of its field's kind.

use super::pull::SyntaxError;

/// What a field's kind rules out (JSON mapping of protocol buffers, table).
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub(crate) enum Unfit {
    #[error("must be true or false")]
    Bool,
    #[error("is no base64: {0}")]
    Base64(#[from] base64::DecodeError),
    #[error("“{text}” is none of {of}; {help}")]
    Name {
        text: String,
        of: String,
        help: String,
    },
    #[error("{0} is no number of {1}, which takes no others")]
    Closed(i128, String),
    #[error("must be a number")]
    Number,
    #[error("must be a whole number")]
    Whole,
    #[error("is out of range")]
    Range,
    #[error("must be null")]
    Null,
    #[error("must be another kind of value")]
    Kind,
    #[error("must lie between {0} and {1}")]
    Between(i128, i128),
    #[error("must be a number, “NaN”, “Infinity” or “-Infinity”")]
    Float,
    #[error("is too large for a {0}")]
    Large(&'static str),
    /// A timestamp or duration that is none.
    #[error("{0}")]
    Time(&'static str),
    #[error("the path “{0}” must be in lower camel case")]
    Path(String),
    #[error(transparent)]
    Syntax(#[from] SyntaxError),
    #[error("has no value")]
    Nothing,
    #[error("is the message {0}: name one of its fields")]
    Message(String),
}
