//! What a scanner finds.

/// What is wrong with a document.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{message}")]
pub struct XmlError {
    /// What is wrong.
    pub message: String,
    /// Bytes of the document before the place.
    pub offset: u64,
}

impl From<super::ReferenceError> for XmlError {
    fn from(wrong: super::ReferenceError) -> Self {
        Self {
            message: wrong.to_string(),
            offset: 0,
        }
    }
}

/// One attribute; the value is as written, references not yet replaced.
#[derive(Clone, Copy, Debug)]
pub struct Attribute<'a> {
    /// The qualified name.
    pub name: &'a str,
    /// The raw value.
    pub value: &'a str,
}

/// What comes next in a document.
#[derive(Debug)]
pub enum Token<'a> {
    /// A start tag; `empty` when it ends the element as well (no [`Token::End`] follows then).
    Start {
        /// Prefix, bound to a namespace for sure ([`super::Scanner::resolve`]) or empty.
        prefix: &'a str,
        /// Local name.
        local: &'a str,
        /// `<name/>`.
        empty: bool,
    },
    /// An end tag.
    End,
    /// Character data; `raw` when references must still be replaced ([`super::push_text`]).
    Text {
        /// The text.
        text: &'a str,
        /// Whether it may hold references.
        raw: bool,
    },
    /// The token is not complete in the bytes at hand.
    More,
    /// The end of a well-formed document.
    Eof,
}
