//! Why an operation of a definition cannot be called.

use crate::schema::Missing;

/// Why an operation cannot be called.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Unusable {
    /// A type or element of its messages cannot be had.
    #[error(transparent)]
    Missing(#[from] Missing),
    /// The port type names a message that the definition lacks.
    #[error("there is no message “{0}”")]
    NoMessage(String),
    /// Neither input nor output (WSDL 1.1 §2.4).
    #[error("it takes no input and gives no output")]
    NothingToSay,
    /// A part without `element` and `type` (WSDL 1.1 §2.3.1).
    #[error("the part “{0}” names neither an element nor a type")]
    Part(String),
}
