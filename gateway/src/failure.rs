//! What can go wrong with a call, as values.

use std::cell::RefCell;
use std::rc::Rc;

use http::{HeaderName, HeaderValue};
use porch_rules::expr::EvalError;
use serde_json::Value;

use crate::backend::CallFailure;
use crate::body::ReadFailure;
use crate::budget::NoRoom;

/// What went wrong with a body while it was sent.
pub(crate) type Complaint = Rc<RefCell<Option<Failure>>>;

/// One thing in a request that does not fit: a pointer to it, and what is wrong.
pub(crate) type Mistake = (String, String);

/// What went wrong.
#[derive(Debug)]
pub(crate) enum Failure {
    /// The request does not fit: every mistake.
    Mistakes(Vec<Mistake>),
    /// Something cannot be made from the request: what, the expression, and why.
    Unsuitable(String, String, String),
    /// No valid target can be made from the request.
    Target(String),
    /// The caller's body cannot be read.
    Body(ReadFailure),
    /// Its media type is not understood: those that are, and the one that came.
    MediaType(Vec<String>, String),
    /// It is coded, and must be read here.
    Coding,
    /// There is no memory for the answer.
    NoRoom(NoRoom),
    /// The system gives no random numbers.
    NoRandom,
    /// The backend gave no answer.
    Call(CallFailure),
    /// Its answer cannot be used: why.
    Answer(String),
    /// It fell silent in the middle of its answer.
    Silent,
    /// It answered with a failure of its own.
    Told(Box<Told>),
}

/// A failure that a backend tells.
#[derive(Debug)]
pub(crate) struct Told {
    pub(crate) status: u16,
    /// Last part of the problem's type.
    pub(crate) kind: &'static str,
    pub(crate) title: &'static str,
    /// For the caller.
    pub(crate) text: String,
    /// For the publisher.
    pub(crate) why: String,
    /// Members of the problem.
    pub(crate) members: Vec<(&'static str, Value)>,
    pub(crate) fields: Vec<(HeaderName, HeaderValue)>,
}

impl From<NoRoom> for Failure {
    fn from(room: NoRoom) -> Self {
        Self::NoRoom(room)
    }
}

impl Failure {
    /// One mistake in the request's body.
    pub(crate) fn body(what: impl Into<String>) -> Self {
        Self::Mistakes(vec![("/body".into(), what.into())])
    }

    /// A failed expression of a request.
    pub(crate) fn unsuitable(place: &str, (source, error): (String, EvalError)) -> Self {
        Self::Unsuitable(place.to_owned(), source, error.to_string())
    }
}
