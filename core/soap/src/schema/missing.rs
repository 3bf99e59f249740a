//! Why a type or element cannot be had.

use super::QName;

/// Nested deeper than this, groups and types run in a circle.
pub(super) const MAX_DEPTH: usize = 100;

/// Why a type or element cannot be had.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Missing {
    /// A reference that leads nowhere.
    #[error(
        "no schema declares the {what} “{}” of {}{}",
        name.1,
        namespace(&name.0),
        near.as_ref().map_or_else(String::new, |near| nearest(name, near))
    )]
    Undeclared {
        /// Element, type, …
        what: &'static str,
        /// What was looked for.
        name: QName,
        /// The one that was perhaps meant.
        near: Option<QName>,
    },
    /// Types inside of types without end.
    #[error("its types are nested more than {MAX_DEPTH} levels deep, or in a circle")]
    TooDeep,
    /// A declaration without the reference that it must have.
    #[error("{0} without a {1}")]
    Bare(&'static str, &'static str),
    /// A name that XML Schema itself does not have (part 2 §3).
    #[error("XML Schema has no type “{0}”")]
    NoBuiltIn(String),
    /// A group that holds itself (part 1 §3.8.6, §3.6.6).
    #[error("the {0} “{1}” holds itself")]
    HoldsItself(&'static str, String),
    /// A simple type that is made from a complex one.
    #[error("a simple type is made from “{0}”, which is none")]
    NotSimple(String),
    /// A type that is its own base.
    #[error("the type “{0}” is made from itself")]
    Itself(String),
}

fn namespace(uri: &str) -> String {
    match uri {
        "" => "no namespace".to_owned(),
        uri => format!("namespace “{uri}”"),
    }
}

/// The nearest name, with its namespace where that is what differs.
fn nearest(name: &QName, near: &QName) -> String {
    match (near.0 == name.0, near.1 == name.1) {
        (true, _) => format!(" (there is “{}”)", near.1),
        (false, true) => format!(" ({} has one)", namespace(&near.0)),
        (false, false) => format!(" (there is “{}” of {})", near.1, namespace(&near.0)),
    }
}
