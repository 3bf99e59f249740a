//! The stages of an exchange besides its calls.

mod admit;
mod back;
mod credential;
mod find;
mod record;
mod reply;
mod sound;

pub(crate) use admit::admit;
pub(crate) use find::find;
pub(crate) use record::record;
pub(crate) use reply::reply;
pub(crate) use sound::{Sound, is_session, sound};
