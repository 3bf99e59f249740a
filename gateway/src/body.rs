//! Bodies on their way through.

use std::pin::Pin;
use std::rc::Rc;
use std::task::{Context, Poll};
use std::time::Duration;

use bytes::Bytes;
use http_body::{Body, Frame, SizeHint};
use http_body_util::BodyExt;
use hyper::body::Incoming;
use tokio::time::Sleep;

use crate::exchange::Ending;
use crate::pool::Lease;

/// An error of a body; what happened is told elsewhere, this one only ends the stream.
#[derive(Debug, thiserror::Error)]
#[error("{0}")]
pub(crate) struct BodyError(pub(crate) &'static str);

/// A request's body as it arrives.
pub(crate) enum InBody {
    /// From a connection.
    Incoming(Incoming),
    /// Given whole, by a trial run.
    Full(Bytes),
}

impl InBody {
    pub(crate) fn length(&self) -> Option<u64> {
        match self {
            InBody::Incoming(body) => body.size_hint().exact(),
            InBody::Full(bytes) => Some(bytes.len() as u64),
        }
    }

    /// Reads all of it.
    pub(crate) async fn collect(self, limit: u64, idle: Duration) -> Result<Bytes, ReadFailure> {
        match self {
            InBody::Full(bytes) if bytes.len() as u64 > limit => Err(ReadFailure::TooLarge),
            InBody::Full(bytes) => Ok(bytes),
            InBody::Incoming(mut body) => {
                if body.is_end_stream() {
                    return Ok(Bytes::new());
                }
                if body.size_hint().lower() > limit {
                    return Err(ReadFailure::TooLarge);
                }
                let mut first: Option<Bytes> = None;
                let mut all: Vec<u8> = Vec::new();
                loop {
                    match tokio::time::timeout(idle, body.frame()).await {
                        Err(_) => return Err(ReadFailure::TooSlow),
                        Ok(None) => break,
                        Ok(Some(Err(_))) => return Err(ReadFailure::BrokenOff),
                        Ok(Some(Ok(frame))) => {
                            let Ok(data) = frame.into_data() else {
                                continue;
                            };
                            if all.is_empty() && first.is_none() {
                                if data.len() as u64 > limit {
                                    return Err(ReadFailure::TooLarge);
                                }
                                first = Some(data);
                                continue;
                            }
                            if let Some(f) = first.take() {
                                all.extend_from_slice(&f);
                            }
                            if (all.len() + data.len()) as u64 > limit {
                                return Err(ReadFailure::TooLarge);
                            }
                            all.extend_from_slice(&data);
                        }
                    }
                }
                Ok(first.unwrap_or_else(|| all.into()))
            }
        }
    }
}

/// Why a body could not be read whole.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum ReadFailure {
    TooLarge,
    TooSlow,
    BrokenOff,
}

/// A request's body on its way to a backend.
pub(crate) enum OutBody {
    Empty,
    Full(Option<Bytes>),
    Stream { body: Incoming, left: u64 },
}

impl Body for OutBody {
    type Data = Bytes;
    type Error = BodyError;

    fn poll_frame(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<Option<Result<Frame<Bytes>, BodyError>>> {
        match &mut *self {
            OutBody::Empty => Poll::Ready(None),
            OutBody::Full(bytes) => Poll::Ready(bytes.take().map(|b| Ok(Frame::data(b)))),
            OutBody::Stream { body, left } => match Pin::new(body).poll_frame(cx) {
                Poll::Ready(Some(Ok(frame))) => {
                    let size = frame.data_ref().map_or(0, |d| d.len() as u64);
                    if size > *left {
                        return Poll::Ready(Some(Err(BodyError("the body is larger than allowed"))));
                    }
                    *left -= size;
                    Poll::Ready(Some(Ok(frame)))
                }
                Poll::Ready(Some(Err(_))) => Poll::Ready(Some(Err(BodyError("the caller broke off")))),
                Poll::Ready(None) => Poll::Ready(None),
                Poll::Pending => Poll::Pending,
            },
        }
    }

    fn is_end_stream(&self) -> bool {
        match self {
            OutBody::Empty | OutBody::Full(None) => true,
            OutBody::Full(Some(_)) => false,
            OutBody::Stream { body, .. } => body.is_end_stream(),
        }
    }

    fn size_hint(&self) -> SizeHint {
        match self {
            OutBody::Empty | OutBody::Full(None) => SizeHint::with_exact(0),
            OutBody::Full(Some(bytes)) => SizeHint::with_exact(bytes.len() as u64),
            OutBody::Stream { body, .. } => body.size_hint(),
        }
    }
}

/// A reply's body.
pub(crate) enum ReplyBody {
    /// Whole.
    Full(Option<Bytes>),
    /// Streamed from a backend.
    Stream(Box<StreamBody>),
}

/// An answer's body that streams through; its connection goes back to the pool behind its last frame.
pub(crate) struct StreamBody {
    pub(crate) body: Incoming,
    pub(crate) lease: Option<Lease>,
    pub(crate) idle: Duration,
    pub(crate) timer: Option<Pin<Box<Sleep>>>,
    pub(crate) ending: Option<Rc<Ending>>,
}

impl Body for ReplyBody {
    type Data = Bytes;
    type Error = BodyError;

    fn poll_frame(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<Option<Result<Frame<Bytes>, BodyError>>> {
        match &mut *self {
            ReplyBody::Full(bytes) => Poll::Ready(bytes.take().map(|b| Ok(Frame::data(b)))),
            ReplyBody::Stream(stream) => stream.poll(cx),
        }
    }

    fn is_end_stream(&self) -> bool {
        match self {
            ReplyBody::Full(bytes) => bytes.is_none(),
            ReplyBody::Stream(stream) => stream.body.is_end_stream(),
        }
    }

    fn size_hint(&self) -> SizeHint {
        match self {
            ReplyBody::Full(bytes) => SizeHint::with_exact(bytes.as_ref().map_or(0, |b| b.len() as u64)),
            ReplyBody::Stream(stream) => stream.body.size_hint(),
        }
    }
}

impl StreamBody {
    fn poll(&mut self, cx: &mut Context<'_>) -> Poll<Option<Result<Frame<Bytes>, BodyError>>> {
        match Pin::new(&mut self.body).poll_frame(cx) {
            Poll::Ready(Some(Ok(frame))) => {
                self.timer = None;
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
                let idle = self.idle;
                let timer = self.timer.get_or_insert_with(|| Box::pin(tokio::time::sleep(idle)));
                match timer.as_mut().poll(cx) {
                    Poll::Ready(()) => {
                        self.lease = None;
                        Poll::Ready(Some(Err(BodyError("the backend fell silent"))))
                    }
                    Poll::Pending => Poll::Pending,
                }
            }
        }
    }

    fn done(&mut self) {
        if let Some(lease) = self.lease.take() {
            lease.give_back();
        }
    }
}
