//! Replies that are compressed on their way (gzip, RFC 1952).

use std::io::Write;
use std::pin::Pin;
use std::rc::Rc;
use std::task::{Context, Poll};

use bytes::Bytes;
use flate2::Compression;
use flate2::write::GzEncoder;
use http::HeaderMap;
use http_body::{Body, Frame};

use super::{BodyError, ReplyBody};
use crate::worker::Worker;

/// So much is compressed at a time, so that others of this worker get their turn.
const PIECE: usize = 64 << 10;
const PIECES: usize = 8;
/// A little less than the best, at a third of the time.
const LEVEL: Compression = Compression::new(5);

/// A reply's body that is compressed as it comes.
pub(crate) struct Packed {
    body: ReplyBody,
    gzip: Option<GzEncoder<Vec<u8>>>,
    /// What came and is not compressed yet.
    left: Bytes,
    /// Whether something was compressed that is not on its way: nothing is held back while nothing more comes.
    held: bool,
    trailers: Option<HeaderMap>,
    _place: PackingPlace,
}

/// A place among the replies of a worker that are compressed at the same time: each takes a quarter of a megabyte.
pub(crate) struct PackingPlace(Rc<Worker>);

/// So many at most.
const PLACES: usize = 256;

impl PackingPlace {
    /// A place, where there is one.
    pub(crate) fn take(worker: &Rc<Worker>) -> Option<Self> {
        let packing = &worker.packing;
        if packing.get() >= PLACES {
            return None;
        }
        packing.set(packing.get() + 1);
        Some(Self(worker.clone()))
    }
}

impl Drop for PackingPlace {
    fn drop(&mut self) {
        self.0.packing.set(self.0.packing.get() - 1);
    }
}

impl Packed {
    pub(crate) fn new(body: ReplyBody, place: PackingPlace) -> Self {
        Self {
            body,
            gzip: Some(GzEncoder::new(Vec::new(), LEVEL)),
            left: Bytes::new(),
            held: false,
            trailers: None,
            _place: place,
        }
    }

    pub(crate) fn is_done(&self) -> bool {
        self.gzip.is_none() && self.trailers.is_none()
    }

    pub(crate) fn poll(
        &mut self,
        cx: &mut Context<'_>,
    ) -> Poll<Option<Result<Frame<Bytes>, BodyError>>> {
        let mut pieces = 0;
        loop {
            let Some(gzip) = &mut self.gzip else {
                return Poll::Ready(self.trailers.take().map(|t| Ok(Frame::trailers(t))));
            };
            if !self.left.is_empty() {
                let piece = self.left.split_to(self.left.len().min(PIECE));
                // Into memory: it cannot fail.
                let _ = gzip.write_all(&piece);
                self.held = true;
                if let Some(made) = taken(gzip, PIECE / 4) {
                    return Poll::Ready(Some(Ok(Frame::data(made))));
                }
                pieces += 1;
                if pieces == PIECES {
                    cx.waker().wake_by_ref();
                    return Poll::Pending;
                }
                continue;
            }
            match Pin::new(&mut self.body).poll_frame(cx) {
                Poll::Ready(Some(Ok(frame))) => match frame.into_data() {
                    Ok(data) => self.left = data,
                    Err(frame) => self.trailers = frame.into_trailers().ok(),
                },
                Poll::Ready(Some(Err(e))) => {
                    // What is not whole has no end that says it were.
                    self.gzip = None;
                    return Poll::Ready(Some(Err(e)));
                }
                Poll::Ready(None) => return self.finished(),
                Poll::Pending => {
                    let flushed = std::mem::take(&mut self.held) && gzip.flush().is_ok();
                    if let Some(made) = taken(gzip, 1).filter(|_| flushed) {
                        return Poll::Ready(Some(Ok(Frame::data(made))));
                    }
                    return Poll::Pending;
                }
            }
        }
    }

    fn finished(&mut self) -> Poll<Option<Result<Frame<Bytes>, BodyError>>> {
        let rest = self.gzip.take().and_then(|g| g.finish().ok());
        Poll::Ready(match rest {
            Some(rest) => Some(Ok(Frame::data(rest.into()))),
            None => Some(Err(BodyError("it could not be compressed"))),
        })
    }
}

/// What was made so far, where it is so much.
fn taken(gzip: &mut GzEncoder<Vec<u8>>, least: usize) -> Option<Bytes> {
    let made = gzip.get_mut();
    (made.len() >= least).then(|| std::mem::take(made).into())
}
