//! Replies that are read whole, to be kept or compared, as far as they may be; what is longer goes on as it comes.

use std::pin::Pin;
use std::task::{Context, Poll};
use std::time::Duration;

use bytes::{Bytes, BytesMut};
use http::response::Parts;
use http::{Response, header};
use http_body::Body;
use http_body_util::BodyExt;
use tokio::time::Instant;

use crate::body::{BodyError, Pieces, ReplyBody};
use crate::exchange::state::Exchange;
use crate::failure::Failure;
use crate::problem::{Problem, of_failure};
use crate::trace::{Refusal, StageName};

/// A reply whose body was read.
pub(crate) enum Gathered {
    /// All of it.
    Whole(Parts, Bytes),
    /// It is longer.
    Rest(Response<ReplyBody>),
}

/// A reply that is not there whole within this time goes on as it comes: it may be one that never ends.
const WHOLE_WITHIN: Duration = Duration::from_secs(1);

/// Reads a reply's body, up to a number of bytes, and for a while.
pub(crate) async fn gather(
    x: &Exchange<'_>,
    response: Response<ReplyBody>,
    most: usize,
) -> Result<Gathered, Box<Problem>> {
    let (head, mut body) = response.into_parts();
    if let ReplyBody::Full(bytes) = &mut body {
        let bytes = bytes.take().unwrap_or_default();
        return Ok(match bytes.len() > most {
            true => {
                let body = ReplyBody::Full(Some(bytes));
                Gathered::Rest(Response::from_parts(head, body))
            }
            false => Gathered::Whole(head, bytes),
        });
    }
    let told = head.headers.get(header::CONTENT_LENGTH);
    let told = told.and_then(|v| v.to_str().ok()?.parse::<u64>().ok());
    let least = body.size_hint().lower().max(told.unwrap_or(0));
    if least > most as u64 {
        return Ok(Gathered::Rest(Response::from_parts(head, body)));
    }
    let failed = |x: &Exchange<'_>, failure| {
        let op = x.at.get().and_then(|index| x.porch.at(index));
        match op {
            Some((_, op)) => of_failure(failure, op, None, StageName::Reply),
            None => crate::problem::nothing_here(""),
        }
    };
    let mut all = BytesMut::new();
    let until = Instant::now() + WHOLE_WITHIN;
    loop {
        let frame = match tokio::time::timeout_at(until, body.frame()).await {
            Ok(Some(frame)) => frame,
            Ok(None) => return Ok(Gathered::Whole(head, all.freeze())),
            Err(_) => return Ok(rest(head, all, body)),
        };
        let frame = frame.map_err(|e| failed(x, Failure::Answer(format!("it broke off: {e}"))))?;
        // Trailers are not kept.
        let Ok(data) = frame.into_data() else {
            continue;
        };
        x.share
            .gather(data.len())
            .map_err(|room| failed(x, room.into()))?;
        all.extend_from_slice(&data);
        if all.len() > most {
            return Ok(rest(head, all, body));
        }
    }
}

/// What was read, with what comes behind it.
fn rest(head: Parts, read: BytesMut, body: ReplyBody) -> Gathered {
    let rest = Rest {
        first: Some(read.freeze()).filter(|f| !f.is_empty()),
        body,
    };
    let body = ReplyBody::made(Box::new(rest));
    Gathered::Rest(Response::from_parts(head, body))
}

/// What was read, and what comes behind it.
struct Rest {
    first: Option<Bytes>,
    body: ReplyBody,
}

impl Pieces for Rest {
    fn poll(&mut self, cx: &mut Context<'_>) -> Poll<Option<Result<Bytes, BodyError>>> {
        if let Some(first) = self.first.take() {
            return Poll::Ready(Some(Ok(first)));
        }
        loop {
            return match Pin::new(&mut self.body).poll_frame(cx) {
                Poll::Ready(Some(Ok(frame))) => match frame.into_data() {
                    Ok(data) => Poll::Ready(Some(Ok(data))),
                    Err(_) => continue,
                },
                Poll::Ready(Some(Err(e))) => Poll::Ready(Some(Err(e))),
                Poll::Ready(None) => Poll::Ready(None),
                Poll::Pending => Poll::Pending,
            };
        }
    }

    fn broke(&mut self) -> Option<Refusal> {
        match &mut self.body {
            ReplyBody::Made { pieces, .. } => pieces.broke(),
            _ => None,
        }
    }
}
