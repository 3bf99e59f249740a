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
