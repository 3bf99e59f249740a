//! The stages of an exchange besides its calls.

mod admit;
mod answers;
mod back;
mod cache;
pub(crate) mod cors;
mod credential;
mod find;
mod kept_body;
mod limits;
mod pack;
mod record;
mod reply;
mod sound;
mod wired;

pub(crate) use admit::admit;
pub(crate) use answers::keeps;
pub(crate) use back::each_link;
pub(crate) use cache::{cached, kept};
pub(crate) use credential::{prove, without_credentials};
pub(crate) use find::{Found, find, operation_of};
pub(crate) use kept_body::{Gathered, gather};
pub(crate) use limits::{Charge, Counted, at_once, give_back, together};
pub(crate) use pack::pack;
pub(crate) use record::record;
pub(crate) use reply::reply;
pub(crate) use sound::{Sound, is_session, sound};
