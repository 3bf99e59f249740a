//! Mistakes in values that are to become XML.

/// One thing in a JSON value that its type rules out.
#[derive(Clone, Debug, PartialEq, Eq, serde::Serialize)]
pub struct WriteError {
    /// JSON Pointer (RFC 6901) to the value.
    pub pointer: String,
    /// What is wrong with it.
    pub message: String,
    /// Whether it is a header element's: the pointer begins at its name then, not at the body.
    pub header: bool,
}

/// Why a JSON text cannot become a message.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum TextError {
    /// It is no JSON.
    #[error("is no JSON: {0}")]
    Json(#[from] crate::tree::JsonError),
    /// What its types rule out.
    #[error("{} values do not fit", .0.len())]
    Values(Vec<WriteError>),
}

impl From<Vec<WriteError>> for TextError {
    fn from(errors: Vec<WriteError>) -> Self {
        Self::Values(errors)
    }
}
