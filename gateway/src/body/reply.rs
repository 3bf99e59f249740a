//! Bodies of replies.

use std::pin::Pin;
use std::task::{Context, Poll};

use bytes::Bytes;
use http_body::{Body, Frame, SizeHint};

use super::{BodyError, Idle, Packed, Pieces};
use crate::backend::{Came, Lease};
use crate::budget::waiting;
use crate::worker::Ending;

/// A reply's body.
pub(crate) enum ReplyBody {
    /// Whole.
    Full(Option<Bytes>),
    /// As it comes from a backend, trailers included.
    Through(Box<Through>),
    /// Made piece by piece.
    Made {
        pieces: Box<dyn Pieces>,
        ending: Option<Box<Ending>>,
    },
    /// Another one, compressed as it comes.
    Packed(Box<Packed>),
}

/// An answer's body that goes through; its connection goes back to the pool behind its last frame.
pub(crate) struct Through {
    pub(crate) body: Came,
    pub(crate) lease: Option<Lease>,
    pub(crate) idle: Option<Idle>,
    pub(crate) ending: Option<Ending>,
}

impl ReplyBody {
    pub(crate) fn made(pieces: Box<dyn Pieces>) -> Self {
        Self::Made {
            pieces,
            ending: None,
        }
    }

    /// What is told when the last byte is gone, or the caller has left.
    pub(crate) fn set_ending(&mut self, told: Ending) {
        match self {
            Self::Full(bytes) => {
                told.add_bytes(bytes.as_ref().map_or(0, |b| b.len() as u64));
                if let Some(all) = bytes.take() {
                    *bytes = Some(waiting(&told.worker().shared.budget, all));
                }
            }
            Self::Through(through) => through.ending = Some(told),
            Self::Made { ending, .. } => *ending = Some(Box::new(told)),
            // It is compressed behind all that is told of it.
            Self::Packed(_) => {}
        }
    }
}

impl Body for ReplyBody {
    type Data = Bytes;
    type Error = BodyError;

    fn poll_frame(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
    ) -> Poll<Option<Result<Frame<Bytes>, BodyError>>> {
        match &mut *self {
            ReplyBody::Full(bytes) => Poll::Ready(bytes.take().map(|b| Ok(Frame::data(b)))),
            ReplyBody::Through(through) => through.poll(cx),
            ReplyBody::Made { pieces, ending } => {
                let polled = pieces.poll(cx);
                if let (Poll::Ready(Some(piece)), Some(ending)) = (&polled, &ending) {
                    ending.add_bytes(piece.as_ref().map_or(0, |p| p.len() as u64));
                    if let Some(refusal) = pieces.broke() {
                        ending.broke(refusal);
                    }
                }
                polled.map_ok(Frame::data)
            }
            ReplyBody::Packed(packed) => packed.poll(cx),
        }
    }

    fn is_end_stream(&self) -> bool {
        match self {
            ReplyBody::Full(bytes) => bytes.is_none(),
            ReplyBody::Through(through) => through.body.is_end_stream(),
            ReplyBody::Made { pieces, .. } => pieces.is_done(),
            ReplyBody::Packed(packed) => packed.is_done(),
        }
    }

    fn size_hint(&self) -> SizeHint {
        match self {
            ReplyBody::Full(bytes) => {
                SizeHint::with_exact(bytes.as_ref().map_or(0, |b| b.len() as u64))
            }
            ReplyBody::Through(through) => through.body.size_hint(),
            ReplyBody::Made { .. } | ReplyBody::Packed(_) => SizeHint::default(),
        }
    }
}

impl Through {
    fn poll(&mut self, cx: &mut Context<'_>) -> Poll<Option<Result<Frame<Bytes>, BodyError>>> {
        match Pin::new(&mut self.body).poll_frame(cx) {
            Poll::Ready(Some(Ok(frame))) => {
                if let Some(idle) = &mut self.idle {
                    idle.came();
                }
                if let (Some(ending), Some(data)) = (&self.ending, frame.data_ref()) {
                    ending.add_bytes(data.len() as u64);
                }
                if self.body.is_end_stream() {
                    self.done();
                }
                Poll::Ready(Some(Ok(frame)))
            }
            Poll::Ready(Some(Err(_))) => {
                self.lease = None;
                Poll::Ready(Some(Err(BodyError("the backend broke off"))))
            }
            Poll::Ready(None) => {
                self.done();
                Poll::Ready(None)
            }
            Poll::Pending => {
                if !self.idle.as_mut().is_some_and(|idle| idle.is_over(cx)) {
                    return Poll::Pending;
                }
                self.lease = None;
                Poll::Ready(Some(Err(BodyError("the backend fell silent"))))
            }
        }
    }

    fn done(&mut self) {
        if let Some(lease) = self.lease.take() {
            lease.give_back();
        }
    }
}
