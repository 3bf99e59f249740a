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
use crate::trace::{Refusal, StageName};

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

    /// What stands around a message. JSON as it is written here has no line ends.
    fn message(self) -> [&'static [u8]; 2] {
        match self {
            Form::Lines => [b"", b"\n"],
            Form::Events => [b"data: ", b"\n\n"],
            Form::Raw => [b"", b""],
        }
    }

    /// What stands around a failure in the midst of a stream: a member that no message has, or an event of its own. Raw bytes
    /// have no place for it.
    fn problem(self) -> Option<[&'static [u8]; 2]> {
        match self {
            Form::Lines => Some([b"{\"@problem\":", b"}\n"]),
            Form::Events => Some([b"event: problem\ndata: ", b"\n\n"]),
            Form::Raw => None,
        }
    }
}

/// Where messages come from.
pub(crate) trait MessageSource {
    /// The next message, as it is sent on; the end, or what went wrong.
    fn poll(&mut self, cx: &mut Context<'_>) -> Poll<Option<Result<Bytes, Failure>>>;
}

/// Messages that are there at the same time leave together, as many as make up so much: each piece costs a frame.
const TOGETHER: usize = 16 << 10;
/// How long a problem in the stream has to leave before the stream is broken off.
const LAST_WORDS: Duration = Duration::from_millis(250);

/// Messages that are sent on while they come.
pub(crate) struct Messages {
    source: Option<Box<dyn MessageSource>>,
    form: Form,
    /// Makes problems of what goes wrong.
    tell: Tell,
    /// What is sent next; taken before anything else.
    next: Vec<u8>,
    /// A message that is sent as it is.
    whole: Option<Bytes>,
    /// The stream is broken off behind what is sent next, once that had time to leave.
    broken: bool,
    last_words: Option<Pin<Box<Sleep>>>,
    /// A trial run ends after so many messages, or after a while.
    left: Option<u32>,
    until: Option<Pin<Box<Sleep>>>,
    /// What went wrong.
    refusal: Option<Refusal>,
}

impl Messages {
    pub(crate) fn new(source: Box<dyn MessageSource>, form: Form, tell: Tell) -> Self {
        Self {
            source: Some(source),
            form,
            tell,
            next: Vec::new(),
            whole: None,
            broken: false,
            last_words: None,
            left: None,
            until: None,
            refusal: None,
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
                if self.form == Form::Raw {
                    self.whole = Some(message).filter(|m| !m.is_empty());
                } else {
                    self.put(self.form.message(), &message);
                }
                if let Some(left) = &mut self.left {
                    *left = left.saturating_sub(1);
                    if *left == 0 {
                        self.source = None;
                    }
                }
            }
            Err(failure) => {
                let (document, refusal) = self.tell.document(failure, StageName::Prepare);
                self.refusal = refusal;
                if let Some(around) = self.form.problem() {
                    self.put(around, &document);
                }
                self.source = None;
                self.broken = true;
            }
        }
    }

    fn put(&mut self, [before, behind]: [&[u8]; 2], text: &[u8]) {
        for part in [before, text, behind] {
            self.next.extend_from_slice(part);
        }
    }

    /// What is to be sent now, if `all` of what is there has come together.
    fn ready(&mut self, all: bool) -> Option<Poll<Option<Result<Bytes, BodyError>>>> {
        if let Some(whole) = self.whole.take() {
            return Some(Poll::Ready(Some(Ok(whole))));
        }
        if self.next.is_empty() || (!all && self.next.len() < TOGETHER) {
            return None;
        }
        let next = std::mem::take(&mut self.next);
        Some(Poll::Ready(Some(Ok(next.into()))))
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
            let ends = self.broken || self.source.is_none();
            if let Some(ready) = self.ready(ends) {
                return ready;
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
                    if let Some(ready) = self.ready(true) {
                        return ready;
                    }
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
        self.source.is_none() && self.next.is_empty() && self.whole.is_none() && !self.broken
    }

    fn broke(&mut self) -> Option<Refusal> {
        self.refusal.take()
    }
}

#[cfg(test)]
mod tests {
    use std::collections::VecDeque;
    use std::sync::Arc;

    const ID: &str = "4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7";

    use porch_facade::{Model, Secrets};

    use super::*;

    /// A source with these messages, which has nothing to say between those that are `None`.
    struct Listed(VecDeque<Option<Result<&'static str, Failure>>>);

    impl MessageSource for Listed {
        fn poll(&mut self, cx: &mut Context<'_>) -> Poll<Option<Result<Bytes, Failure>>> {
            match self.0.pop_front() {
                None => Poll::Ready(None),
                Some(None) => {
                    cx.waker().wake_by_ref();
                    Poll::Pending
                }
                Some(Some(message)) => Poll::Ready(Some(
                    message.map(|text| Bytes::from_static(text.as_bytes())),
                )),
            }
        }
    }

    fn tell() -> Tell {
        let files = [
            (
                "b.yaml",
                "elm-porch: backend/1\nname: b\nkind: http\naddress: http://127.0.0.1:1\n",
            ),
            (
                "c.yaml",
                "openapi: 3.1.0\ninfo: { title: T, version: 1.0.0 }\npaths:\n  /a:\n    get: { operationId: a, responses: { '200': { description: ok } } }\n",
            ),
            (
                "f.yaml",
                "elm-porch: facade/1\nname: f\nbase: /f\ncontract: c.yaml\noperations:\n  a: { call: { backend: b } }\n",
            ),
        ];
        let files = files.map(|(n, t)| (n.to_owned(), t.to_owned()));
        let model = Model::read(Arc::new(files.into()), "live", &Arc::default());
        let (porch, _) = model.porch(&[], &Secrets::Known(&Default::default()));
        Tell::new(&porch.facades[0], 0, ID)
    }

    fn messages(form: Form, list: Vec<Option<Result<&'static str, Failure>>>) -> Messages {
        Messages::new(Box::new(Listed(list.into())), form, tell())
    }

    /// All pieces until the end, and whether it was broken off.
    async fn all(mut messages: Messages) -> (Vec<String>, bool) {
        let mut pieces = Vec::new();
        loop {
            match std::future::poll_fn(|cx| messages.poll(cx)).await {
                Some(Ok(piece)) => pieces.push(String::from_utf8_lossy(&piece).into_owned()),
                Some(Err(_)) => return (pieces, true),
                None => return (pieces, false),
            }
        }
    }

    #[tokio::test]
    async fn messages_stand_one_behind_the_other_in_each_form() {
        for (form, wanted) in [
            (Form::Lines, ["{\"n\":1}\n", "{\"n\":2}\n"]),
            (Form::Events, ["data: {\"n\":1}\n\n", "data: {\"n\":2}\n\n"]),
            (Form::Raw, ["{\"n\":1}", "{\"n\":2}"]),
        ] {
            let list = vec![Some(Ok("{\"n\":1}")), None, None, Some(Ok("{\"n\":2}"))];
            let (pieces, broken) = all(messages(form, list)).await;
            assert_eq!(
                (pieces, broken),
                (wanted.map(str::to_owned).to_vec(), false)
            );
        }
        assert_eq!(all(messages(Form::Lines, vec![])).await, (vec![], false));
    }

    #[tokio::test]
    async fn what_is_there_at_the_same_time_leaves_together_within_bounds() {
        let list = || vec![Some(Ok("1")), Some(Ok("2")), None, Some(Ok("3"))];
        let (pieces, _) = all(messages(Form::Lines, list())).await;
        assert_eq!(pieces, ["1\n2\n", "3\n"]);
        let (pieces, _) = all(messages(Form::Raw, list())).await;
        assert_eq!(pieces, ["1", "2", "3"]);
        let long: &'static str = "x".repeat(7_000).leak();
        let (pieces, _) = all(messages(
            Form::Lines,
            (0..7).map(|_| Some(Ok(long))).collect(),
        ))
        .await;
        let sizes: Vec<usize> = pieces.iter().map(String::len).collect();
        assert_eq!(sizes, [21_003, 21_003, 7_001]);
        let failure = Failure::Answer("it is no message".into());
        let both = vec![Some(Ok("1")), Some(Err(failure))];
        let (pieces, broken) = all(messages(Form::Lines, both)).await;
        assert!(broken && pieces.len() == 1, "{pieces:?}");
        assert!(pieces[0].starts_with("1\n{\"@problem\":"), "{pieces:?}");
    }

    #[tokio::test]
    async fn what_goes_wrong_in_between_is_told_in_band_and_ends_the_stream() {
        let list = || {
            let failure = Failure::Answer("it is no message".into());
            vec![Some(Ok("1")), None, Some(Err(failure)), Some(Ok("never"))]
        };
        let (pieces, broken) = all(messages(Form::Lines, list())).await;
        assert!(broken);
        assert_eq!(pieces.len(), 2);
        let told: serde_json::Value = serde_json::from_str(&pieces[1]).unwrap();
        let problem = &told["@problem"];
        assert_eq!(problem["status"], 502, "{told}");
        assert_eq!(problem["instance"], format!("urn:elm-porch:exchange:{ID}"));
        let (pieces, broken) = all(messages(Form::Events, list())).await;
        assert!(
            broken && pieces[1].starts_with("event: problem\ndata: {"),
            "{pieces:?}"
        );
        // Raw bytes have no place for it: breaking off is all there is to say.
        assert_eq!(
            all(messages(Form::Raw, list())).await,
            (vec!["1".to_owned()], true)
        );
    }

    #[tokio::test]
    async fn a_trial_run_sees_so_many_messages_or_waits_so_long() {
        let endless = |n: usize| (0..n).map(|_| Some(Ok("x"))).collect::<Vec<_>>();
        let some = messages(Form::Raw, endless(100)).bounded(3, Duration::from_secs(5));
        assert_eq!(all(some).await.0.len(), 3);
        /// Never says anything.
        struct Silent;
        impl MessageSource for Silent {
            fn poll(&mut self, _: &mut Context<'_>) -> Poll<Option<Result<Bytes, Failure>>> {
                Poll::Pending
            }
        }
        let silent = Messages::new(Box::new(Silent), Form::Raw, tell());
        let silent = silent.bounded(3, Duration::from_millis(20));
        assert_eq!(all(silent).await, (vec![], false));
    }

    #[tokio::test]
    async fn a_message_that_came_already_is_the_first() {
        let first =
            messages(Form::Lines, vec![Some(Ok("2"))]).starting_with(Ok(Bytes::from_static(b"1")));
        assert!(!first.is_done());
        assert_eq!(all(first).await.0, ["1\n2\n"]);
        assert!(!messages(Form::Lines, vec![]).is_done());
    }

    #[test]
    fn the_form_is_what_the_caller_asks_for() {
        let of = |accept: Option<&str>, raw: bool| {
            let mut headers = HeaderMap::new();
            if let Some(accept) = accept {
                headers.insert(http::header::ACCEPT, accept.parse().unwrap());
            }
            Form::of(&headers, raw)
        };
        for (accept, form) in [
            (None, Form::Lines),
            (Some("*/*"), Form::Lines),
            (Some("application/x-ndjson"), Form::Lines),
            (Some("text/event-stream"), Form::Events),
            (Some("TEXT/Event-Stream;q=0.9"), Form::Events),
            (Some("application/json, text/event-stream"), Form::Events),
            (Some("text/event-streams"), Form::Lines),
        ] {
            assert_eq!(of(accept, false), form, "{accept:?}");
            assert_eq!(of(accept, true), Form::Raw, "{accept:?}");
        }
        assert_eq!(Form::Events.content_type(), "text/event-stream");
    }
}
