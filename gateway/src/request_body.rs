//! Bodies of requests: as they arrive, and on their way to a backend.

use std::pin::Pin;
use std::task::{Context, Poll};
use std::time::Duration;

use bytes::Bytes;
use http_body::{Body, Frame, SizeHint};
use http_body_util::BodyExt;
use hyper::body::Incoming;

use crate::grpc::Lines;

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
    Stream {
        body: Incoming,
        left: u64,
    },
    /// Lines of JSON that become gRPC messages.
    Lines(Box<Lines>),
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
            OutBody::Lines(lines) => lines.poll(cx).map_ok(Frame::data),
            OutBody::Stream { body, left } => match Pin::new(body).poll_frame(cx) {
                Poll::Ready(Some(Ok(frame))) => {
                    let size = frame.data_ref().map_or(0, |d| d.len() as u64);
                    if size > *left {
                        return Poll::Ready(Some(Err(BodyError(
                            "the body is larger than allowed",
                        ))));
                    }
                    *left -= size;
                    Poll::Ready(Some(Ok(frame)))
                }
                Poll::Ready(Some(Err(_))) => {
                    Poll::Ready(Some(Err(BodyError("the caller broke off"))))
                }
                Poll::Ready(None) => Poll::Ready(None),
                Poll::Pending => Poll::Pending,
            },
        }
    }

    fn is_end_stream(&self) -> bool {
        match self {
            OutBody::Empty | OutBody::Full(None) => true,
            OutBody::Full(Some(_)) | OutBody::Lines(_) => false,
            OutBody::Stream { body, .. } => body.is_end_stream(),
        }
    }

    fn size_hint(&self) -> SizeHint {
        match self {
            OutBody::Empty | OutBody::Full(None) => SizeHint::with_exact(0),
            OutBody::Full(Some(bytes)) => SizeHint::with_exact(bytes.len() as u64),
            OutBody::Stream { body, .. } => body.size_hint(),
            OutBody::Lines(_) => SizeHint::default(),
        }
    }
}
