//! Bodies of replies.

use std::pin::Pin;
use std::rc::Rc;
use std::task::{Context, Poll};
use std::time::Duration;

use bytes::Bytes;
use http_body::{Body, Frame, SizeHint};
use hyper::body::Incoming;
use tokio::time::Sleep;

use crate::grpc::Messages;
use crate::pool::Lease;
use crate::request_body::BodyError;
use crate::soap::Converting;
use crate::worker::Ending;

/// A reply's body.
pub(crate) enum ReplyBody {
    /// Whole.
    Full(Option<Bytes>),
    /// Streamed from a backend.
    Stream(Box<StreamBody>),
    /// Converted while it streams through.
    Convert(Box<Converting>),
    /// Messages of a stream, each sent on as it comes.
    Messages(Box<Messages>),
    /// A native gRPC answer, trailers included.
    Native {
        body: Incoming,
        ending: Option<Rc<Ending>>,
    },
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

    fn poll_frame(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
    ) -> Poll<Option<Result<Frame<Bytes>, BodyError>>> {
        match &mut *self {
            ReplyBody::Full(bytes) => Poll::Ready(bytes.take().map(|b| Ok(Frame::data(b)))),
            ReplyBody::Stream(stream) => stream.poll(cx),
            ReplyBody::Convert(converting) => converting.poll(cx).map_ok(Frame::data),
            ReplyBody::Messages(messages) => messages.poll(cx).map_ok(Frame::data),
            ReplyBody::Native { body, ending } => {
                let polled = Pin::new(body).poll_frame(cx);
                if let (Poll::Ready(Some(Ok(frame))), Some(ending)) = (&polled, &ending) {
                    ending.add_bytes(frame.data_ref().map_or(0, |d| d.len() as u64));
                }
                polled.map_err(|_| BodyError("the backend broke off"))
            }
        }
    }

    fn is_end_stream(&self) -> bool {
        match self {
            ReplyBody::Full(bytes) => bytes.is_none(),
            ReplyBody::Stream(stream) => stream.body.is_end_stream(),
            ReplyBody::Convert(converting) => converting.is_done(),
            ReplyBody::Messages(messages) => messages.is_done(),
            ReplyBody::Native { body, .. } => body.is_end_stream(),
        }
    }

    fn size_hint(&self) -> SizeHint {
        match self {
            ReplyBody::Full(bytes) => {
                SizeHint::with_exact(bytes.as_ref().map_or(0, |b| b.len() as u64))
            }
            ReplyBody::Stream(stream) => stream.body.size_hint(),
            ReplyBody::Convert(_) | ReplyBody::Messages(_) => SizeHint::default(),
            ReplyBody::Native { body, .. } => body.size_hint(),
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
                let timer = self
                    .timer
                    .get_or_insert_with(|| Box::pin(tokio::time::sleep(idle)));
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
