//! Streams of HTTP/2 that nobody reads: the connection lives on with its other streams, and they are broken off.
//!
//! A stream whose window is used up is not asked for its next piece any more, and so it cannot notice anything itself.
//! Each connection looks at its streams now and then.

use std::cell::{Cell, RefCell};
use std::pin::Pin;
use std::rc::{Rc, Weak};
use std::task::{Context, Poll};
use std::time::Duration;

use bytes::Bytes;
use http_body::{Body, Frame, SizeHint};
use tokio::time::Instant;

use crate::body::{BodyError, ReplyBody};

/// A piece that was given must be followed by the asking for the next one within so long a time.
const PATIENCE: Duration = Duration::from_secs(20);
const LOOK: Duration = Duration::from_secs(5);
/// Large pieces are given in parts of this size, so that what is left can be taken back.
const PART: usize = 64 << 10;

/// The streams of one connection.
#[derive(Default)]
pub(super) struct Streams {
    open: RefCell<Vec<Weak<Stream>>>,
}

struct Stream {
    body: RefCell<Option<ReplyBody>>,
    /// What is left of a piece.
    rest: RefCell<Bytes>,
    /// When a piece was given, until the next one is asked for.
    given: Cell<Option<Instant>>,
}

/// A reply's body that can be taken away.
pub(super) struct Watched(Rc<Stream>);

impl Streams {
    /// A body that is looked after.
    pub(super) fn watch(&self, body: ReplyBody) -> Watched {
        let stream = Rc::new(Stream {
            body: RefCell::new(Some(body)),
            rest: RefCell::default(),
            given: Cell::new(None),
        });
        self.open.borrow_mut().push(Rc::downgrade(&stream));
        Watched(stream)
    }

    /// Looks after them, as long as it is asked to.
    pub(super) async fn look(&self) {
        loop {
            tokio::time::sleep(LOOK).await;
            self.open.borrow_mut().retain(|weak| {
                let Some(stream) = weak.upgrade() else {
                    return false;
                };
                let stalled = stream.given.get().is_some_and(|g| g.elapsed() > PATIENCE);
                if stalled {
                    // The backend's side of it ends here, and so does its place among the exchanges.
                    stream.body.borrow_mut().take();
                    stream.rest.take();
                }
                !stalled
            });
        }
    }
}

impl Stream {
    fn next(&self, cx: &mut Context<'_>) -> Poll<Option<Result<Frame<Bytes>, BodyError>>> {
        let mut rest = self.rest.borrow_mut();
        if rest.is_empty() {
            let mut body = self.body.borrow_mut();
            let Some(body) = body.as_mut() else {
                return Poll::Ready(Some(Err(BodyError("the caller did not read"))));
            };
            match Pin::new(body).poll_frame(cx) {
                Poll::Ready(Some(Ok(frame))) => match frame.into_data() {
                    Ok(data) => *rest = data,
                    Err(frame) => return Poll::Ready(Some(Ok(frame))),
                },
                other => return other,
            }
        }
        let part = rest.len().min(PART);
        Poll::Ready(Some(Ok(Frame::data(rest.split_to(part)))))
    }
}

impl Body for Watched {
    type Data = Bytes;
    type Error = BodyError;

    fn poll_frame(
        self: Pin<&mut Self>,
        cx: &mut Context<'_>,
    ) -> Poll<Option<Result<Frame<Bytes>, BodyError>>> {
        let next = self.0.next(cx);
        let given = matches!(next, Poll::Ready(Some(Ok(_))));
        self.0.given.set(given.then(Instant::now));
        next
    }

    fn is_end_stream(&self) -> bool {
        let ended = |body: &ReplyBody| body.is_end_stream();
        self.0.rest.borrow().is_empty() && self.0.body.borrow().as_ref().is_some_and(ended)
    }

    fn size_hint(&self) -> SizeHint {
        let rest = self.0.rest.borrow().len() as u64;
        let body = self.0.body.borrow();
        let mut hint = body.as_ref().map(Body::size_hint).unwrap_or_default();
        if rest > 0 {
            if let Some(upper) = hint.upper() {
                hint.set_upper(upper + rest);
            }
            hint.set_lower(hint.lower() + rest);
        }
        hint
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use http_body_util::BodyExt;

    fn full(bytes: usize) -> ReplyBody {
        ReplyBody::Full(Some(vec![7; bytes].into()))
    }

    #[tokio::test(start_paused = true)]
    async fn a_stream_that_is_not_asked_for_more_is_taken_away_and_others_are_not() {
        let streams = Streams::default();
        let (mut stalled, mut read) = (streams.watch(full(200_000)), streams.watch(full(200_000)));
        let untouched = streams.watch(full(10));
        let looking = streams.look();
        tokio::pin!(looking);
        let mut got = 0;
        let first = stalled.frame().await.unwrap().unwrap();
        assert_eq!(first.into_data().unwrap().len(), PART);
        assert_eq!(stalled.size_hint().exact(), Some(200_000 - PART as u64));
        for _ in 0..4 {
            tokio::select! {
                () = &mut looking => unreachable!(),
                () = tokio::time::sleep(Duration::from_secs(10)) => {}
            }
            if let Some(frame) = read.frame().await {
                got += frame.unwrap().into_data().unwrap().len();
            }
        }
        assert_eq!(got, 200_000);
        assert!(stalled.0.body.borrow().is_none());
        let end = stalled.frame().await.unwrap().map(|_| ());
        assert_eq!(end.unwrap_err().to_string(), "the caller did not read");
        // Nothing was given yet: it is the connection that waits.
        assert!(untouched.0.body.borrow().is_some());
    }
}
