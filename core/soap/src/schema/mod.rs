//! Reading XML Schema 1.0: from documents to a [`Plan`](crate::Plan).
//!
//! Global components are indexed first; types are then compiled when a message needs them, so a broken corner that nobody
//! uses does no harm.

mod compile;
mod index;
pub mod json;
mod missing;

pub use compile::Compiler;
pub(crate) use index::{Component, Index, Kind, QName, Source, documentation};
pub use missing::Missing;
