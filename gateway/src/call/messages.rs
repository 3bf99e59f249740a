//! Replies of several messages: lines of JSON, or server-sent events, each sent on when it comes.

use std::future::Future;
use std::pin::Pin;
use std::task::{Context, Poll};
use std::time::Duration;

use bytes::Bytes;
use http::HeaderMap;
use tokio::time::Sleep;

use crate::body::{BodyError, Pieces};
use crate::failure::Failure;
use crate::problem::Tell;
use crate::trace::StageName;

/// How messages are written one behind the other.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Form {
    /// One line of JSON each (application/x-ndjson).
    Lines,
    /// One event each (HTML Living Standard §9.2, text/event-stream).
    Events,
    /// Each as it is.
    Raw,
}

impl Form {
    /// The form that the caller asks for.
    pub(crate) fn of(headers: &HeaderMap, raw: bool) -> Self {
        if raw {
            return Self::Raw;
        }
        let accepts = headers
            .get_all(http::header::ACCEPT)
            .into_iter()
            .filter_map(|v| v.to_str().ok());
        let is_event_stream = |range: &str| {
            range
                .split(';')
                .next()
                .is_some_and(|r| r.trim().eq_ignore_ascii_case("text/event-stream"))
        };
        if accepts.flat_map(|a| a.split(',')).any(is_event_stream) {
            Self::Events
        } else {
            Self::Lines
        }
    }

    pub(crate) fn content_type(self) -> &'static str {
        match self {
            Form::Lines => "application/x-ndjson",
            Form::Events => "text/event-stream",
            Form::Raw => "application/octet-stream",
        }
    }

    fn message(self, message: Bytes) -> Bytes {
        match self {
            Form::Lines => [&message, b"\n".as_slice()].concat().into(),
            // JSON as it is written here has no line ends.
            Form::Events => [b"data: ", message.as_ref(), b"\n\n"].concat().into(),
            Form::Raw => message,
        }
    }

    /// A failure in the midst of a stream: a member that no message has, or an event of its own.
    fn problem(self, document: &[u8]) -> Bytes {
        match self {
            Form::Lines => [b"{\"@problem\":", document, b"}\n"].concat().into(),
            Form::Events => [b"event: problem\ndata: ", document, b"\n\n"]
                .concat()
                .into(),
            Form::Raw => Bytes::new(),
        }
    }
}

/// Where messages come from.
pub(crate) trait MessageSource {
    /// The next message, as it is sent on; the end, or what went wrong.
    fn poll(&mut self, cx: &mut Context<'_>) -> Poll<Option<Result<Bytes, Failure>>>;
}

/// How long a problem in the stream has to leave before the stream is broken off.
const LAST_WORDS: Duration = Duration::from_millis(250);

/// Messages that are sent on while they come.
pub(crate) struct Messages {
    source: Option<Box<dyn MessageSource>>,
    form: Form,
    /// Makes problems of what goes wrong.
    tell: Tell,
    /// What is sent next; taken before anything else.
    next: Option<Bytes>,
    /// The stream is broken off behind what is sent next, once that had time to leave.
    broken: bool,
    last_words: Option<Pin<Box<Sleep>>>,
    /// A trial run ends after so many messages, or after a while.
    left: Option<u32>,
    until: Option<Pin<Box<Sleep>>>,
}

impl Messages {
    pub(crate) fn new(source: Box<dyn MessageSource>, form: Form, tell: Tell) -> Self {
        Self {
            source: Some(source),
            form,
            tell,
            next: None,
            broken: false,
            last_words: None,
            left: None,
            until: None,
        }
    }

    /// With a message that came already.
    pub(crate) fn starting_with(mut self, message: Result<Bytes, Failure>) -> Self {
        self.take(message);
        self
    }

    /// Ends after some messages or a while, for trial runs.
    pub(crate) fn bounded(mut self, messages: u32, time: Duration) -> Self {
        self.left = Some(messages);
        self.until = Some(Box::pin(tokio::time::sleep(time)));
        self
    }

    fn take(&mut self, message: Result<Bytes, Failure>) {
        match message {
            Ok(message) => {
                self.next = Some(self.form.message(message));
                if let Some(left) = &mut self.left {
                    *left = left.saturating_sub(1);
                    if *left == 0 {
                        self.source = None;
                    }
                }
            }
            Err(failure) => {
                let document = self.tell.document(failure, StageName::Prepare);
                self.next = Some(self.form.problem(&document));
                self.source = None;
                self.broken = true;
            }
        }
    }

    /// An error drops what the connection has not written yet: it gets time to write first.
    fn break_off(&mut self, cx: &mut Context<'_>) -> Poll<Option<Result<Bytes, BodyError>>> {
        let wait = self
            .last_words
            .get_or_insert_with(|| Box::pin(tokio::time::sleep(LAST_WORDS)));
        if wait.as_mut().poll(cx).is_pending() {
            return Poll::Pending;
        }
        self.broken = false;
        Poll::Ready(Some(Err(BodyError("the stream broke off"))))
    }
}

impl Pieces for Messages {
    fn poll(&mut self, cx: &mut Context<'_>) -> Poll<Option<Result<Bytes, BodyError>>> {
        loop {
            if let Some(next) = self.next.take() {
                if !next.is_empty() {
                    return Poll::Ready(Some(Ok(next)));
                }
                continue;
            }
            if self.broken {
                return self.break_off(cx);
            }
            let Some(source) = &mut self.source else {
                return Poll::Ready(None);
            };
            match source.poll(cx) {
                Poll::Ready(Some(message)) => self.take(message),
                Poll::Ready(None) => self.source = None,
                Poll::Pending => {
                    let until = self.until.as_mut();
                    if !until.is_some_and(|u| u.as_mut().poll(cx).is_ready()) {
                        return Poll::Pending;
                    }
                    self.source = None;
                }
            }
        }
    }

    fn is_done(&self) -> bool {
        self.source.is_none() && self.next.is_none() && !self.broken
    }
}
