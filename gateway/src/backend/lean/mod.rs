//! A client of HTTP/1.1 for requests without a body, or with one that is there whole.
//!
//! No task stands between an exchange and its connection: the exchange writes its request and reads the answer itself. What
//! streams to a backend goes by hyper's client ([`super::http1`]), which does both at once. It is as strict as that one or
//! stricter: tests give both the same bytes.

mod body;
mod head;
#[cfg(test)]
mod tests;

use std::cell::RefCell;
use std::collections::HashMap;
use std::hash::BuildHasherDefault;
use std::io;
use std::pin::Pin;
use std::rc::{Rc, Weak};
use std::task::{Context, Poll, Waker, ready};
use std::time::{Duration, Instant};

use bytes::{Buf, Bytes, BytesMut};
use http::Method;
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::time::Sleep;
use tokio_util::io::poll_read_buf;

use super::dial::{Stream, To};
use super::tls::Offer;
use super::{Answered, Attempt, CallFailure, Came, Key, Slot};
use crate::body::OutBody;
use crate::usage::Mix;
pub(crate) use body::Body;
use head::{Framing, Head, Reader};

/// Idle connections older than this are not used again.
const MAX_IDLE: Duration = Duration::from_secs(30);
/// At most this many idle connections an address are kept.
const MAX_KEPT: usize = 256;
/// Room for what is read at once.
const ROOM: usize = 8 << 10;
const MAX_ROOM: usize = 256 << 10;
/// Up to here, a body is copied behind its head: to hand parts to the system takes longer.
const SMALL: usize = 4 << 10;

/// What is wrong with an answer, or its connection.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{what}")]
pub(crate) struct Wrong {
    what: String,
    /// Whether what came is no HTTP/1.1.
    parse: bool,
}

impl Wrong {
    fn parse(what: impl Into<String>) -> Self {
        let (what, parse) = (what.into(), true);
        Self { what, parse }
    }

    /// What broke in another client.
    pub(super) fn broken(what: String) -> Self {
        Self { what, parse: false }
    }

    fn closed(when: &str) -> Self {
        let (what, parse) = (format!("the connection was closed {when}"), false);
        Self { what, parse }
    }

    fn io(error: &io::Error) -> Self {
        let (what, parse) = (error.to_string(), false);
        Self { what, parse }
    }

    fn failure(self) -> CallFailure {
        CallFailure::Broken(match self.parse {
            true => super::http1::no_http(&self.what),
            false => self.what,
        })
    }
}

impl From<hyper::Error> for Wrong {
    fn from(error: hyper::Error) -> Self {
        let (what, parse) = (error.to_string(), error.is_parse());
        Self { what, parse }
    }
}

/// A connection.
pub(super) struct Conn {
    stream: Stream,
    /// What was read and not yet used.
    buf: BytesMut,
    room: usize,
    /// What is still to be written: a head, and a body.
    head: Vec<u8>,
    written: usize,
    body: Bytes,
    timer: Option<Pin<Box<Sleep>>>,
    /// Where it waits between exchanges; not what keeps that alive.
    pool: Weak<Pool>,
    key: Key,
    since: Instant,
}

/// The connections of one worker.
#[derive(Default)]
#[expect(
    clippy::vec_box,
    reason = "they go between here and the bodies of answers, and are large"
)]
pub(super) struct Pool {
    idle: RefCell<HashMap<Key, Vec<Box<Conn>>, BuildHasherDefault<Mix>>>,
}

impl Pool {
    fn take(&self, key: Key) -> Option<Box<Conn>> {
        let mut idle = self.idle.borrow_mut();
        let list = idle.get_mut(&key)?;
        while let Some(mut conn) = list.pop() {
            if conn.is_fit() {
                return Some(conn);
            }
        }
        None
    }

    /// Whether connections to an address wait to be used again.
    pub(super) fn has(&self, key: Key) -> bool {
        self.idle.borrow().contains_key(&key)
    }

    /// Closes those that somebody waits for.
    pub(super) fn give_way(&self) {
        for list in self.idle.borrow_mut().values_mut() {
            list.retain(|conn| !conn.stream.is_wanted());
        }
    }

    pub(super) fn sweep(&self) {
        self.idle.borrow_mut().retain(|_, list| {
            list.retain_mut(|conn| conn.is_fit());
            !list.is_empty()
        });
    }
}

impl Conn {
    fn new(stream: Stream, pool: &Rc<Pool>, key: Key) -> Box<Self> {
        Box::new(Self {
            stream,
            buf: BytesMut::new(),
            room: ROOM,
            head: Vec::new(),
            written: 0,
            body: Bytes::new(),
            timer: None,
            pool: Rc::downgrade(pool),
            key,
            since: Instant::now(),
        })
    }

    /// Puts the connection back behind the last byte of an answer. One that has more to say, or to hear, is closed.
    fn give_back(mut self: Box<Self>) {
        let pool = self.pool.upgrade();
        let Some(pool) = pool.filter(|_| self.buf.is_empty() && self.is_written()) else {
            return;
        };
        if self.stream.is_wanted() {
            return;
        }
        if self.room > ROOM {
            (self.buf, self.room) = (BytesMut::new(), ROOM);
        }
        self.since = Instant::now();
        let mut idle = pool.idle.borrow_mut();
        let list = idle.entry(self.key).or_default();
        if list.len() < MAX_KEPT {
            list.push(self);
        }
    }

    /// Whether it may carry another exchange: it is young, nothing came by it, and it is open as far as that is known.
    fn is_fit(&mut self) -> bool {
        if self.since.elapsed() >= MAX_IDLE {
            return false;
        }
        let mut one = [0u8; 1];
        let mut cx = Context::from_waker(Waker::noop());
        let read = Pin::new(&mut self.stream).poll_read(&mut cx, &mut ReadBuf::new(&mut one));
        read.is_pending()
    }

    fn is_written(&self) -> bool {
        self.written == self.head.len() && self.body.is_empty()
    }

    /// Writes as much as the other side takes.
    fn poll_out(&mut self, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        while !self.is_written() {
            let head = &self.head[self.written..];
            let stream = Pin::new(&mut self.stream);
            let n = if self.body.is_empty() {
                ready!(stream.poll_write(cx, head))?
            } else if head.is_empty() {
                ready!(stream.poll_write(cx, &self.body))?
            } else {
                let both = [io::IoSlice::new(head), io::IoSlice::new(&self.body)];
                ready!(stream.poll_write_vectored(cx, &both))?
            };
            if n == 0 {
                return Poll::Ready(Err(io::ErrorKind::WriteZero.into()));
            }
            let of_head = n.min(head.len());
            self.written += of_head;
            self.body.advance(n - of_head);
        }
        Pin::new(&mut self.stream).poll_flush(cx)
    }

    fn poll_head(
        &mut self,
        cx: &mut Context<'_>,
        reader: &mut Reader,
        method: &Method,
    ) -> Poll<Result<Head, Wrong>> {
        loop {
            match ready!(self.poll_fill(cx)) {
                Ok(0) if self.buf.is_empty() => {
                    return Poll::Ready(Err(Wrong::closed("before it answered")));
                }
                Ok(0) => {
                    let when = "in the middle of its answer's head";
                    return Poll::Ready(Err(Wrong::closed(when)));
                }
                Ok(_) => {}
                Err(e) => return Poll::Ready(Err(Wrong::io(&e))),
            }
            if let Some(head) = reader.read(&mut self.buf, method).transpose() {
                return Poll::Ready(head);
            }
        }
    }

    /// Whether it is too late for an answer; wakes the task when it is. A timer that was set for an earlier exchange is left
    /// as it is, and set anew when it ends: most answers come long before.
    fn is_late(&mut self, cx: &mut Context<'_>, until: tokio::time::Instant) -> bool {
        let timer = &mut self.timer;
        let timer = timer.get_or_insert_with(|| Box::pin(tokio::time::sleep_until(until)));
        if timer.deadline() > until {
            timer.as_mut().reset(until);
        }
        while timer.as_mut().poll(cx).is_ready() {
            if tokio::time::Instant::now() >= until {
                return true;
            }
            timer.as_mut().reset(until);
        }
        false
    }

    /// Reads what there is; 0 at the connection's end. Where much comes at once, more is read the next time.
    fn poll_fill(&mut self, cx: &mut Context<'_>) -> Poll<io::Result<usize>> {
        self.buf.reserve(self.room);
        let room = self.buf.capacity() - self.buf.len();
        let read = ready!(poll_read_buf(Pin::new(&mut self.stream), cx, &mut self.buf))?;
        if read == room {
            self.room = (self.room * 2).min(MAX_ROOM);
        }
        Poll::Ready(Ok(read))
    }
}

/// Keeps a connection that is open already.
pub(super) fn adopt(pool: &Rc<Pool>, key: Key, stream: Stream) {
    Conn::new(stream, pool, key).give_back();
}

/// Whether a request goes by this client.
pub(super) fn takes(slot: &Slot) -> bool {
    slot.as_ref()
        .is_some_and(|r| matches!(r.body, OutBody::Empty | OutBody::Full(_)))
}

/// Sends a request and waits for the head of its answer.
pub(super) async fn send(
    pool: &Rc<Pool>,
    key: Key,
    to: &To<'_>,
    slot: &mut Slot,
    fresh: bool,
    until: tokio::time::Instant,
) -> Result<Answered, Attempt> {
    let kept = if fresh { None } else { pool.take(key) };
    let reused = kept.is_some();
    let mut conn = match kept {
        Some(conn) => conn,
        // Boxed: it is large, and mostly there is no need for it.
        None => {
            let connecting = Box::pin(to.connect(Offer::Http1));
            match tokio::time::timeout_at(until, connecting).await {
                Ok(Ok(stream)) => Conn::new(stream, pool, key),
                Ok(Err(what)) => return Err(Attempt::connect(what)),
                Err(_) => return Err(Attempt::connect(CallFailure::Timeout)),
            }
        }
    };
    let Some(method) = load(&mut conn, slot) else {
        return Err(Attempt::nothing());
    };
    match exchange(&mut conn, slot, &method, until).await {
        Some(Ok(head)) => Ok(answered(conn, head)),
        Some(Err(wrong)) => Err(Attempt {
            failure: wrong.failure(),
            reused,
        }),
        None => Err(Attempt::connect(CallFailure::Timeout)),
    }
}

/// Makes a request ready to be written; it stays in its place until a part of it is.
fn load(conn: &mut Conn, slot: &mut Slot) -> Option<Method> {
    let request = slot.as_mut()?;
    let body = match &request.body {
        OutBody::Full(bytes) => bytes.clone(),
        _ => None,
    };
    let length = body.as_ref().map(Bytes::len);
    conn.body = body.unwrap_or_default();
    conn.head.clear();
    conn.written = 0;
    head::write(request, length, &mut conn.head);
    if conn.body.len() <= SMALL {
        conn.head.extend_from_slice(&std::mem::take(&mut conn.body));
    }
    Some(request.method.clone())
}

/// Writes the request and reads the answer's head, which may come before all is written. Gives nothing when it is too late.
async fn exchange(
    conn: &mut Conn,
    slot: &mut Slot,
    method: &Method,
    until: tokio::time::Instant,
) -> Option<Result<Head, Wrong>> {
    let (mut reader, mut broken) = (Reader::default(), None);
    std::future::poll_fn(|cx| {
        if broken.is_none()
            && let Poll::Ready(Err(e)) = conn.poll_out(cx)
        {
            // Whoever closes early may have said why.
            broken = Some(Wrong::io(&e));
        }
        if conn.written > 0 {
            *slot = None;
        } else if let Some(wrong) = broken.take() {
            return Poll::Ready(Some(Err(wrong)));
        }
        match conn.poll_head(cx, &mut reader, method) {
            Poll::Ready(head) => Poll::Ready(Some(head.map_err(|e| broken.take().unwrap_or(e)))),
            Poll::Pending if conn.is_late(cx, until) => Poll::Ready(None),
            Poll::Pending => Poll::Pending,
        }
    })
    .await
}

fn answered(conn: Box<Conn>, head: Head) -> Answered {
    let body = if head.framing == Framing::Nothing {
        if head.keep {
            conn.give_back();
        }
        Body::empty()
    } else {
        Body::new(conn, head.framing, head.keep)
    };
    Answered {
        head: head.parts,
        body: Came::Lean(body),
        lease: None,
    }
}
