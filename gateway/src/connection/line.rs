//! A caller's connection of HTTP/1.1: how long a head may take, and whether the caller is still there while it is answered.
//!
//! hyper can watch both, by a timer for each head and by reading on while an exchange is under way. Here one timer serves a
//! connection for as long as it lives, and nothing is read that is not wanted yet: what the caller sends early stays in the
//! system's buffer, which is only looked into for the end.

use std::cell::{Cell, RefCell, RefMut};
use std::io;
use std::pin::Pin;
use std::rc::Rc;
use std::task::{Context, Poll, ready};
use std::time::Duration;

use bytes::Bytes;
use http_body::{Body, Frame, SizeHint};
use hyper::body::Incoming;
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::time::{Instant, Sleep};

use super::Paced;
use super::socket::CallersSocket;

/// Up to here, a head and a body are copied behind each other: to hand parts to the system takes longer.
const SMALL: usize = 4 << 10;

thread_local! {
    static TOGETHER: RefCell<Vec<u8>> = const { RefCell::new(Vec::new()) };
}

/// What a connection is at.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Turn {
    /// The next head is to be read, with what nobody wanted of the request before.
    Head,
    /// A head is waited for, until then.
    Late(Instant),
    /// An exchange reads a request.
    Body,
    /// An exchange has all of its request: a caller who ends the connection now does not wait for an answer.
    Answer,
}

/// The connection, as its parts share it.
pub(super) struct Line {
    socket: RefCell<Paced<CallersSocket>>,
    turn: Cell<Turn>,
    /// Number of the request that is at hand.
    count: Cell<u32>,
    patience: Duration,
    timer: RefCell<Option<Pin<Box<Sleep>>>>,
}

impl Line {
    pub(super) fn new(stream: CallersSocket, patience: Duration) -> Rc<Self> {
        Rc::new(Self {
            socket: RefCell::new(Paced::new(stream)),
            turn: Cell::new(Turn::Head),
            count: Cell::new(0),
            patience,
            timer: RefCell::new(None),
        })
    }

    /// The body of a request whose exchange begins.
    pub(super) fn begin(self: &Rc<Self>, body: Incoming) -> CallersBody {
        let ended = body.is_end_stream();
        self.turn.set(if ended { Turn::Answer } else { Turn::Body });
        self.count.set(self.count.get().wrapping_add(1));
        let line = (!ended).then(|| (self.clone(), self.count.get()));
        CallersBody { body, line }
    }

    /// A request's body has come to its end, or nobody wants it any more. By then the next request may be at hand.
    fn body_ends(&self, count: u32, turn: Turn) {
        if self.count.get() == count && self.turn.get() == Turn::Body {
            self.turn.set(turn);
        }
    }

    /// Whether the caller has gone while an exchange is under way; wakes the task when it goes.
    pub(super) fn is_left(&self, cx: &mut Context<'_>) -> bool {
        if self.turn.get() != Turn::Answer {
            return false;
        }
        let mut one = [0u8; 1];
        let socket = self.socket.borrow();
        let peeked = socket
            .inner()
            .tcp()
            .poll_peek(cx, &mut ReadBuf::new(&mut one));
        matches!(peeked, Poll::Ready(Ok(0) | Err(_)))
    }

    /// Whether the head that is waited for is late; wakes the task when it is. The timer is left as it is where it ends
    /// earlier than it must, and set anew then: most heads come long before.
    fn is_late(&self, cx: &mut Context<'_>) -> bool {
        let until = match self.turn.get() {
            Turn::Late(until) => until,
            Turn::Body => return false,
            Turn::Head | Turn::Answer => {
                let until = Instant::now() + self.patience;
                self.turn.set(Turn::Late(until));
                until
            }
        };
        let mut timer = self.timer.borrow_mut();
        let Some(timer) = &mut *timer else {
            let timer = timer.insert(Box::pin(tokio::time::sleep_until(until)));
            return timer.as_mut().poll(cx).is_ready();
        };
        // It was polled by this task when it was set, so it wakes it.
        while timer.is_elapsed() {
            if timer.deadline() >= until {
                return true;
            }
            timer.as_mut().reset(until);
            if timer.as_mut().poll(cx).is_pending() {
                return false;
            }
        }
        false
    }
}

/// The connection, as hyper reads and writes it.
pub(super) struct Socket(pub(super) Rc<Line>);

impl Socket {
    fn inner(&self) -> RefMut<'_, Paced<CallersSocket>> {
        self.0.socket.borrow_mut()
    }
}

impl AsyncRead for Socket {
    #[inline]
    fn poll_read(
        self: Pin<&mut Self>,
        cx: &mut Context<'_>,
        buf: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        let read = Pin::new(&mut *self.inner()).poll_read(cx, buf);
        if read.is_pending() && self.0.is_late(cx) {
            let late = "the head of a request is late";
            return Poll::Ready(Err(io::Error::new(io::ErrorKind::TimedOut, late)));
        }
        read
    }
}

impl AsyncWrite for Socket {
    #[inline]
    fn poll_write(
        self: Pin<&mut Self>,
        cx: &mut Context<'_>,
        buf: &[u8],
    ) -> Poll<io::Result<usize>> {
        Pin::new(&mut *self.inner()).poll_write(cx, buf)
    }

    #[inline]
    fn poll_write_vectored(
        self: Pin<&mut Self>,
        cx: &mut Context<'_>,
        bufs: &[io::IoSlice<'_>],
    ) -> Poll<io::Result<usize>> {
        let all: usize = bufs.iter().map(|part| part.len()).sum();
        if bufs.len() == 1 || all > SMALL {
            return Pin::new(&mut *self.inner()).poll_write_vectored(cx, bufs);
        }
        TOGETHER.with_borrow_mut(|together| {
            together.clear();
            for part in bufs {
                together.extend_from_slice(part);
            }
            Pin::new(&mut *self.inner()).poll_write(cx, together)
        })
    }

    fn is_write_vectored(&self) -> bool {
        self.inner().is_write_vectored()
    }

    fn poll_flush(self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut *self.inner()).poll_flush(cx)
    }

    fn poll_shutdown(self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut *self.inner()).poll_shutdown(cx)
    }
}

/// A request's body as it comes from a connection.
pub(crate) struct CallersBody {
    body: Incoming,
    /// Of HTTP/1.1, until all of it is here.
    line: Option<(Rc<Line>, u32)>,
}

impl CallersBody {
    /// A body of HTTP/2, whose streams end by themselves.
    pub(super) fn of_stream(body: Incoming) -> Self {
        Self { body, line: None }
    }
}

impl Drop for CallersBody {
    fn drop(&mut self) {
        if let Some((line, count)) = self.line.take() {
            // What is left of it is read away, or the connection ends behind the answer.
            line.body_ends(count, Turn::Head);
        }
    }
}

impl Body for CallersBody {
    type Data = Bytes;
    type Error = hyper::Error;

    fn poll_frame(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
    ) -> Poll<Option<Result<Frame<Bytes>, hyper::Error>>> {
        let frame = ready!(Pin::new(&mut self.body).poll_frame(cx));
        let ended = match &frame {
            None => true,
            Some(Ok(_)) => self.body.is_end_stream(),
            Some(Err(_)) => false,
        };
        if ended && let Some((line, count)) = self.line.take() {
            line.body_ends(count, Turn::Answer);
        }
        Poll::Ready(frame)
    }

    fn is_end_stream(&self) -> bool {
        self.body.is_end_stream()
    }

    fn size_hint(&self) -> SizeHint {
        self.body.size_hint()
    }
}
