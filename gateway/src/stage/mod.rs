//! The stages of an exchange besides its calls.

mod admit;
mod credential;
mod find;
mod record;
mod reply;

pub(crate) use admit::admit;
pub(crate) use find::find;
pub(crate) use record::record;
pub(crate) use reply::reply;
