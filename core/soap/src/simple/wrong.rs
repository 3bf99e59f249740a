//! Why a text or a value is none of its type.

use super::short;

/// What a type rules out.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum ValueError {
    /// A text outside the lexical space of its type (XML Schema part 2).
    #[error("“{0}” is no {1}")]
    Lexical(String, &'static str),
    /// A JSON value of another kind.
    #[error("{0} is expected, not {1}")]
    Kind(&'static str, String),
    /// A string that is no base64.
    #[error("base64 is expected (RFC 4648 §4)")]
    Base64,
    /// A number that would be written with too many digits.
    #[error("the number has too many digits")]
    Endless,
    /// None of the values that the type lists (part 2 §4.3.5).
    #[error("“{text}” is none of {listed}{}", near.as_ref().map_or_else(String::new, |n| format!("; did you mean “{n}”?")))]
    NotListed {
        /// What stands there.
        text: String,
        /// The values that may.
        listed: String,
        /// The one that was perhaps meant.
        near: Option<String>,
    },
    /// A pattern that does not fit (part 2 §4.3.4).
    #[error("“{0}” does not fit the pattern {1}")]
    Pattern(String, String),
    /// Fewer characters, octets or items than wanted (part 2 §4.3.1, §4.3.2).
    #[error("{0} characters, but at least {1} are needed")]
    Short(usize, usize),
    /// More of them than wanted (part 2 §4.3.1, §4.3.3).
    #[error("{0} characters, but at most {1} are allowed")]
    Long(usize, usize),
    /// A number beyond a bound, with how the bound is meant (part 2 §4.3.7 to §4.3.10).
    #[error("{0} {1} {2}")]
    Bound(String, &'static str, String),
    /// More digits than wanted (part 2 §4.3.11, §4.3.12).
    #[error("{0} has more than {1} digits{2}")]
    Digits(String, usize, &'static str),
    /// A value of a list that holds what tells values apart.
    #[error("“{0}” cannot stand in a list: its values are told apart by white space")]
    InList(String),
    /// No member of a union takes the value.
    #[error("{0} fits none of the {1} types that may stand here")]
    NoMember(&'static str, usize),
}

impl ValueError {
    pub(super) fn lexical(text: &str, kind: &'static str) -> Self {
        Self::Lexical(short(text).to_string(), kind)
    }
}
