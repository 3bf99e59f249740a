//! The body of an answer by HTTP/2.

use std::pin::Pin;
use std::task::{Context, Poll, ready};

use bytes::Bytes;
use h2::{Reason, RecvStream};
use http_body::Frame;

use super::Place;
use super::pipe::Piping;
use crate::backend::lean::Wrong;

/// The body of an answer, and what goes on as long as it comes.
pub(crate) struct Body {
    received: RecvStream,
    is_trailing: bool,
    /// Given back with the last byte.
    place: Option<Place>,
    /// A request's body that is still being sent.
    piped: Option<Piping>,
}

impl Body {
    pub(super) fn new(received: RecvStream, place: Place, piped: Option<Piping>) -> Self {
        Self {
            received,
            is_trailing: false,
            place: Some(place),
            piped,
        }
    }

    fn end(&mut self) {
        self.place = None;
        self.piped = None;
    }
}

impl http_body::Body for Body {
    type Data = Bytes;
    type Error = Wrong;

    fn poll_frame(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
    ) -> Poll<Option<Result<Frame<Bytes>, Wrong>>> {
        let body = &mut *self;
        if !body.is_trailing {
            match ready!(body.received.poll_data(cx)) {
                Some(Ok(data)) => {
                    if let Some(place) = &body.place {
                        place.heard();
                    }
                    // More may come in its place (RFC 9113 §6.9); where the stream has ended, nothing does.
                    let _ = body.received.flow_control().release_capacity(data.len());
                    return Poll::Ready(Some(Ok(Frame::data(data))));
                }
                Some(Err(e)) => return Poll::Ready(body.failed(&e)),
                None => body.is_trailing = true,
            }
        }
        match ready!(body.received.poll_trailers(cx)) {
            Ok(trailers) => {
                body.end();
                Poll::Ready(trailers.map(|t| Ok(Frame::trailers(t))))
            }
            Err(e) => Poll::Ready(body.failed(&e)),
        }
    }

    fn is_end_stream(&self) -> bool {
        self.received.is_end_stream()
    }
}

impl Body {
    /// A stream that is reset without an error has answered early and says nothing more (RFC 9113 §8.1).
    fn failed(&mut self, error: &h2::Error) -> Option<Result<Frame<Bytes>, Wrong>> {
        self.end();
        match error.reason() {
            Some(Reason::NO_ERROR) => None,
            _ => Some(Err(Wrong::broken(error.to_string()))),
        }
    }
}
