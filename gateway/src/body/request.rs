//! Bodies of requests: as they arrive, and on their way to a backend.

use std::cell::Cell;
use std::pin::Pin;
use std::rc::Rc;
use std::task::{Context, Poll};
use std::time::Duration;

use bytes::Bytes;
use http_body::{Body, Frame, SizeHint};
use http_body_util::BodyExt;
use tokio::time::Instant;

use super::{BodyError, Pace, Pieces};
use crate::budget::{NoRoom, Share};
use crate::connection::CallersBody;
use crate::failure::{Complaint, Failure};

/// A request's body as it arrives.
pub(crate) enum InBody {
    /// From a connection.
    Incoming(CallersBody),
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

    /// Reads some of it and throws it away, so that a caller who is still sending gets to read the refusal.
    pub(crate) async fn discard(self) {
        let InBody::Incoming(mut body) = self else {
            return;
        };
        let mut left = 16usize << 20;
        let reading = async {
            while let Some(Ok(frame)) = body.frame().await {
                match left.checked_sub(frame.data_ref().map_or(0, Bytes::len)) {
                    Some(rest) => left = rest,
                    None => return,
                }
            }
        };
        let _ = tokio::time::timeout(Duration::from_secs(2), reading).await;
    }

    /// Reads all of it.
    pub(crate) async fn collect(self, limit: u64, share: &Share<'_>) -> Result<Bytes, ReadFailure> {
        let mut body = match self {
            InBody::Full(bytes) if bytes.len() as u64 > limit => return Err(ReadFailure::TooLarge),
            InBody::Full(bytes) => return Ok(bytes),
            InBody::Incoming(body) => body,
        };
        if body.is_end_stream() {
            return Ok(Bytes::new());
        }
        if body.size_hint().lower() > limit {
            return Err(ReadFailure::TooLarge);
        }
        let (mut gathered, mut pace) = (Gathered::default(), Pace::new());
        loop {
            let next = std::future::poll_fn(|cx| match Pin::new(&mut body).poll_frame(cx) {
                Poll::Pending if pace.is_over(cx) => Poll::Ready(Err(ReadFailure::TooSlow)),
                other => other.map(Ok),
            });
            match next.await? {
                None => return Ok(gathered.finish()),
                Some(Err(_)) => return Err(ReadFailure::BrokenOff),
                Some(Ok(frame)) => {
                    if let Ok(data) = frame.into_data() {
                        pace.moved(data.len());
                        share.gather(data.len()).map_err(ReadFailure::NoRoom)?;
                        gathered.add(data, limit)?;
                    }
                }
            }
        }
    }
}

/// Pieces of a body; a body of one piece is not copied.
#[derive(Default)]
struct Gathered {
    first: Option<Bytes>,
    all: Vec<u8>,
}

impl Gathered {
    fn add(&mut self, data: Bytes, limit: u64) -> Result<(), ReadFailure> {
        let before = self.first.as_ref().map_or(self.all.len(), Bytes::len);
        if (before + data.len()) as u64 > limit {
            return Err(ReadFailure::TooLarge);
        }
        if before == 0 {
            self.first = Some(data);
            return Ok(());
        }
        if let Some(first) = self.first.take() {
            self.all.extend_from_slice(&first);
        }
        self.all.extend_from_slice(&data);
        Ok(())
    }

    fn finish(self) -> Bytes {
        self.first.unwrap_or_else(|| self.all.into())
    }
}

/// Why a body could not be read whole.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum ReadFailure {
    TooLarge,
    TooSlow,
    BrokenOff,
    NoRoom(NoRoom),
}

/// A request's body on its way to a backend.
pub(crate) enum OutBody {
    Empty,
    Full(Option<Bytes>),
    Stream {
        body: CallersBody,
        left: u64,
        /// Where the caller may not be silent for long.
        pace: Option<Pace>,
        /// When something of it came last: the backend's time begins with the end of the request.
        moved: Rc<Cell<Instant>>,
        /// What is wrong with it is the caller's fault, not the backend's.
        complaint: Complaint,
    },
    /// Made piece by piece.
    Made(Box<dyn Pieces>),
}

impl OutBody {
    /// A caller's body, sent on as it comes.
    pub(crate) fn stream(body: CallersBody, left: u64, complaint: Complaint) -> Self {
        Self::Stream {
            body,
            left,
            pace: Some(Pace::new()),
            moved: Rc::new(Cell::new(Instant::now())),
            complaint,
        }
    }

    /// A caller's messages, sent on as they come: there may be long pauses between them.
    pub(crate) fn messages(body: CallersBody, left: u64, complaint: Complaint) -> Self {
        Self::Stream {
            body,
            left,
            pace: None,
            moved: Rc::new(Cell::new(Instant::now())),
            complaint,
        }
    }

    /// When something of a caller's body came last.
    pub(crate) fn moved(&self) -> Option<Rc<Cell<Instant>>> {
        match self {
            Self::Stream { moved, .. } => Some(moved.clone()),
            _ => None,
        }
    }
}

impl Body for OutBody {
    type Data = Bytes;
    type Error = BodyError;

    fn poll_frame(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
    ) -> Poll<Option<Result<Frame<Bytes>, BodyError>>> {
        match &mut *self {
            OutBody::Empty => Poll::Ready(None),
            OutBody::Full(bytes) => Poll::Ready(bytes.take().map(|b| Ok(Frame::data(b)))),
            OutBody::Made(pieces) => pieces.poll(cx).map_ok(Frame::data),
            OutBody::Stream {
                body,
                left,
                pace,
                moved,
                complaint,
            } => {
                let failure = match Pin::new(body).poll_frame(cx) {
                    Poll::Ready(Some(Ok(frame))) => {
                        let size = frame.data_ref().map_or(0, |d| d.len() as u64);
                        if let Some(pace) = pace {
                            pace.moved(size as usize);
                        }
                        moved.set(Instant::now());
                        if size <= *left {
                            *left -= size;
                            return Poll::Ready(Some(Ok(frame)));
                        }
                        ReadFailure::TooLarge
                    }
                    Poll::Ready(Some(Err(_))) => ReadFailure::BrokenOff,
                    Poll::Ready(None) => return Poll::Ready(None),
                    Poll::Pending => {
                        if !pace.as_mut().is_some_and(|pace| pace.is_over(cx)) {
                            return Poll::Pending;
                        }
                        ReadFailure::TooSlow
                    }
                };
                *complaint.borrow_mut() = Some(Failure::Body(failure));
                Poll::Ready(Some(Err(BodyError("the caller's body is not good"))))
            }
        }
    }

    fn is_end_stream(&self) -> bool {
        match self {
            OutBody::Empty | OutBody::Full(None) => true,
            OutBody::Full(Some(_)) | OutBody::Made(_) => false,
            OutBody::Stream { body, .. } => body.is_end_stream(),
        }
    }

    fn size_hint(&self) -> SizeHint {
        match self {
            OutBody::Empty | OutBody::Full(None) => SizeHint::with_exact(0),
            OutBody::Full(Some(bytes)) => SizeHint::with_exact(bytes.len() as u64),
            OutBody::Stream { body, .. } => body.size_hint(),
            OutBody::Made(_) => SizeHint::default(),
        }
    }
}
