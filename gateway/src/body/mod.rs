//! Bodies on their way: of requests as they arrive and as they are sent on, of replies as they are given.

mod idle;
mod pace;
mod packed;
mod reply;
mod request;

use std::task::{Context, Poll};

use bytes::Bytes;

use crate::trace::Refusal;

pub(crate) use idle::Idle;
pub use pace::Pace;
pub(crate) use packed::{Packed, PackingPlace};
pub(crate) use reply::{ReplyBody, Through};
pub(crate) use request::{InBody, OutBody, ReadFailure};

/// An error of a body; what happened is told elsewhere, this one only ends the stream.
#[derive(Debug, thiserror::Error)]
#[error("{0}")]
pub(crate) struct BodyError(pub(crate) &'static str);

/// A body that is made piece by piece while it is sent.
pub(crate) trait Pieces {
    /// The next piece.
    fn poll(&mut self, cx: &mut Context<'_>) -> Poll<Option<Result<Bytes, BodyError>>>;

    /// Whether nothing comes any more.
    fn is_done(&self) -> bool {
        false
    }

    /// Why it broke off; told once.
    fn broke(&mut self) -> Option<Refusal> {
        None
    }
}
