//! Replies of several messages: lines of JSON, or server-sent events, each sent on when it comes.

use std::future::Future;
use std::pin::Pin;
use std::rc::Rc;
use std::sync::Arc;
use std::task::{Context, Poll};
use std::time::Duration;

use bytes::Bytes;
use http::HeaderMap;
use porch_facade::{CompiledOperation, CompiledPorch, GrpcWiring, Wiring};
use tokio::time::Sleep;

use super::answer::{self, Answer, Part};
use super::lines::Complaint;
use crate::admit;
use crate::problem::Problem;
use crate::request_body::BodyError;
use crate::worker::Ending;

/// How messages are written one behind the other.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Form {
    /// One line of JSON each (application/x-ndjson).
    Lines,
    /// One event each (HTML Living Standard §9.2, text/event-stream).
    Events,
    /// The data of each `google.api.HttpBody` as it is.
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
        if accepts.flat_map(|a| a.split(',')).any(|range| {
            range
                .split(';')
                .next()
                .is_some_and(|r| r.trim().eq_ignore_ascii_case("text/event-stream"))
        }) {
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

    fn message(self, json: Vec<u8>) -> Bytes {
        match self {
            Form::Lines => {
                let mut line = json;
                line.push(b'\n');
                line.into()
            }
            // JSON as it is written here has no line ends.
            Form::Events => [b"data: ", json.as_slice(), b"\n\n"].concat().into(),
            Form::Raw => json.into(),
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

/// How long a problem in the stream has to leave before the stream is broken off.
const LAST_WORDS: Duration = Duration::from_millis(250);

/// Messages that are sent on while they come.
pub(crate) struct Messages {
    porch: Arc<CompiledPorch>,
    operation: u32,
    answer: Option<Answer>,
    form: Form,
    /// Exchange id, for problems in the stream.
    id: String,
    /// What is sent next; taken before anything else.
    next: Option<Bytes>,
    complaint: Option<Complaint>,
    /// The stream is broken off behind what is sent next, once that had time to leave.
    broken: Option<(&'static str, Option<Pin<Box<Sleep>>>)>,
    pub(crate) ending: Option<Rc<Ending>>,
    /// A trial run ends after so many messages, or after a while.
    left: Option<u32>,
    until: Option<Pin<Box<Sleep>>>,
}

impl Messages {
    pub(crate) fn new(
        porch: Arc<CompiledPorch>,
        operation: u32,
        answer: Answer,
        form: Form,
        id: String,
        complaint: Option<Complaint>,
    ) -> Self {
        Self {
            porch,
            operation,
            answer: Some(answer),
            form,
            id,
            next: None,
            complaint,
            broken: None,
            ending: None,
            left: None,
            until: None,
        }
    }

    /// With a message that came already.
    pub(crate) fn starting_with(mut self: Box<Self>, message: &Bytes) -> Box<Self> {
        self.take(message);
        self
    }

    /// Ends after some messages or a while, for trial runs.
    pub(crate) fn bounded(mut self: Box<Self>, messages: u32, time: Duration) -> Box<Self> {
        self.left = Some(messages);
        self.until = Some(Box::pin(tokio::time::sleep(time)));
        self
    }

    pub(crate) fn is_done(&self) -> bool {
        self.answer.is_none() && self.next.is_none() && self.broken.is_none()
    }

    fn op(&self) -> Option<(&CompiledOperation, &GrpcWiring)> {
        let op = self.porch.operations.get(self.operation as usize)?;
        match &op.wiring {
            Wiring::Grpc(wiring) => Some((op, wiring)),
            _ => None,
        }
    }

    fn take(&mut self, message: &[u8]) {
        let Some((op, wiring)) = self.op() else {
            return;
        };
        let made = match self.form {
            Form::Raw => answer::raw(wiring, message).map(|(_, data)| data),
            form => answer::to_json(wiring, message)
                .and_then(|json| shaped(wiring, json))
                .map(|json| form.message(json)),
        };
        match made {
            Ok(bytes) => {
                self.next = Some(bytes);
                if let Some(left) = &mut self.left {
                    *left = left.saturating_sub(1);
                    if *left == 0 {
                        self.answer = None;
                    }
                }
            }
            Err(why) => {
                let problem = answer::bad(op, why);
                self.fail(&problem, "the backend's answer cannot be used");
            }
        }
    }

    fn fail(&mut self, problem: &Problem, what: &'static str) {
        tracing::warn!(
            "{}: a stream broke off: {}",
            self.op().map_or("", |(op, _)| &op.id),
            problem.refusal.why
        );
        let (_, document) = problem.render(&self.id, &HeaderMap::new());
        self.next = Some(self.form.problem(&document));
        self.answer = None;
        self.broken = Some((what, None));
    }

    pub(crate) fn poll(&mut self, cx: &mut Context<'_>) -> Poll<Option<Result<Bytes, BodyError>>> {
        loop {
            if let Some(next) = self.next.take() {
                if let Some(ending) = &self.ending {
                    ending.add_bytes(next.len() as u64);
                }
                if !next.is_empty() {
                    return Poll::Ready(Some(Ok(next)));
                }
                continue;
            }
            if let Some((what, wait)) = &mut self.broken {
                // An error drops what the connection has not written yet: it gets time to write first.
                let wait = wait.get_or_insert_with(|| Box::pin(tokio::time::sleep(LAST_WORDS)));
                if wait.as_mut().poll(cx).is_pending() {
                    return Poll::Pending;
                }
                let what = *what;
                self.broken = None;
                return Poll::Ready(Some(Err(BodyError(what))));
            }
            let Some(answer) = &mut self.answer else {
                return Poll::Ready(None);
            };
            match answer.poll(cx) {
                Poll::Ready(Ok(Part::Message(message))) => self.take(&message),
                Poll::Ready(Ok(Part::Ended(ended))) if ended.code == 0 => self.answer = None,
                Poll::Ready(end) => {
                    let complaint = self.complaint.as_ref().and_then(|c| c.borrow_mut().take());
                    let Some((op, wiring)) = self.op() else {
                        return Poll::Ready(None);
                    };
                    let problem = match (complaint, end) {
                        (Some(mistakes), _) => admit::mistakes(mistakes, op, "prepare"),
                        (None, Ok(Part::Ended(ended))) => answer::failed(&ended, op, wiring),
                        (None, Ok(Part::Message(_))) => return Poll::Ready(None),
                        (None, Err(why)) => answer::bad(op, why),
                    };
                    self.fail(&problem, "the stream broke off");
                }
                Poll::Pending => {
                    if let Some(until) = &mut self.until
                        && until.as_mut().poll(cx).is_ready()
                    {
                        self.answer = None;
                        continue;
                    }
                    return Poll::Pending;
                }
            }
        }
    }
}

/// A message's JSON as `reply` shapes it.
fn shaped(wiring: &GrpcWiring, json: Vec<u8>) -> Result<Vec<u8>, String> {
    let Some(template) = &wiring.reply else {
        return Ok(json);
    };
    let body = serde_json::from_slice(&json).map_err(|e| e.to_string())?;
    let scope = crate::scope::AnswerOnly::new(body);
    match template.render(&scope) {
        Ok(value) => Ok(value.map_or_else(Vec::new, |v| v.to_string().into_bytes())),
        Err((source, error)) => Err(format!("the reply cannot be built: ={source}: {error}")),
    }
}
