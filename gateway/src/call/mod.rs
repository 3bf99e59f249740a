//! Calls: one folder a protocol, one line each in [`PROTOCOLS`].
//!
//! A protocol says how it needs the caller's body, prepares a request and reads an answer. It knows nothing of traces,
//! connections, repeats or problems: what went wrong is a value ([`Failure`]), and so is what there is to see ([`Seen`]).

mod failure;
pub(crate) mod fields;
pub(crate) mod grpc;
mod http;
#[cfg(test)]
mod knock;
mod soap;

use std::cell::RefCell;
use std::future::Future;
use std::pin::Pin;
use std::rc::Rc;
use std::sync::Arc;
use std::time::Duration;

use ::http::request::Parts;
use ::http::{HeaderMap, HeaderName, HeaderValue, Request, StatusCode, response};
use bytes::Bytes;
use porch_facade::{Address, Call, CompiledBackend, CompiledFacade, CompiledOperation, MediaType};
use serde_json::Value;

pub(crate) use failure::{Failure, Mistake, Told};

use crate::backend::Answered;
use crate::body::{InBody, OutBody, ReplyBody};
use crate::problem::Tell;
use crate::steps::Scope;

/// The protocols.
const PROTOCOLS: &[&dyn Protocol] = &[
    &http::Http,
    &soap::Soap,
    &grpc::Grpc,
    #[cfg(test)]
    &knock::Knock,
];

/// The protocol of a call.
pub(crate) fn protocol(call: &dyn Call) -> Option<&'static dyn Protocol> {
    let kind = call.kind();
    PROTOCOLS.iter().find(|p| p.kind() == kind).copied()
}

/// What a protocol can do.
pub(crate) trait Protocol: Sync {
    /// The kind of backends that it calls.
    fn kind(&self) -> &'static str;

    /// How the caller's body is needed.
    fn needs(&self, cx: &Context<'_>, body: &InBody) -> Needs;

    /// Makes the request.
    fn prepare(&self, cx: &Context<'_>, body: CallerBody) -> Result<Prepared, Failure>;

    /// Reads the answer.
    fn read<'a>(&'a self, cx: &'a Context<'a>, sent: Sent) -> Reading<'a>;
}

/// An answer while it is read.
pub(crate) type Reading<'a> = Pin<Box<dyn Future<Output = Read> + 'a>>;

/// What a call works with.
pub(crate) struct Context<'a> {
    pub(crate) facade: &'a CompiledFacade,
    pub(crate) operation: &'a CompiledOperation,
    pub(crate) call: &'a Arc<dyn Call>,
    pub(crate) backend: &'a CompiledBackend,
    /// The address that the request is made for.
    pub(crate) address: &'a Address,
    pub(crate) faults: &'a std::collections::HashMap<String, u16>,
    /// The caller's request.
    pub(crate) parts: &'a Parts,
    /// The segments that the path variables took.
    pub(crate) captured: &'a [&'a str],
    pub(crate) scope: &'a Scope<'a>,
    /// Whether the caller speaks the backend's own protocol.
    pub(crate) native: bool,
    /// The media type that the caller gets, when there is a choice.
    pub(crate) chosen: Option<MediaType>,
    /// Whether somebody will look at what is kept of messages.
    pub(crate) keep: bool,
    /// Whether a large answer may go on while it arrives: not where all of it is shown or waited for.
    pub(crate) may_stream: bool,
    /// Whether an expression needs the answer's value.
    pub(crate) whole: bool,
    pub(crate) trial: bool,
    /// For what goes wrong when the reply has begun.
    pub(crate) tell: &'a Tell,
}

/// How a call needs the caller's body.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Needs {
    /// Not at all.
    Nothing,
    /// As it comes.
    Stream,
    /// Whole, as bytes of any media type.
    Raw,
    /// Whole, as bytes of JSON; and as a value too, where an expression looks into it.
    Json { value: bool },
    /// Whole, as a value.
    Value,
}

/// The caller's body, as far as it was read. What is a value is in the scope.
pub(crate) enum CallerBody {
    /// Nothing of it is left.
    Gone,
    /// Not read.
    Unread(InBody),
    /// Read.
    Bytes(Bytes),
}

impl CallerBody {
    pub(crate) fn bytes(&self) -> Option<&Bytes> {
        match self {
            CallerBody::Bytes(bytes) => Some(bytes),
            _ => None,
        }
    }
}

/// What went wrong with a body while it was sent.
pub(crate) type Complaint = Rc<RefCell<Option<Failure>>>;

/// A request that is ready to be sent.
pub(crate) struct Prepared {
    pub(crate) request: Request<OutBody>,
    /// How long the answer's head may take.
    pub(crate) within: Duration,
    /// Whether it may be sent again (RFC 9110 §9.2.1), made anew.
    pub(crate) again: bool,
    pub(crate) complaint: Option<Complaint>,
    /// What there is to see of its body; only filled where somebody looks.
    pub(crate) seen: Seen,
}

/// What was sent, and what came.
pub(crate) struct Sent {
    pub(crate) answered: Answered,
    /// When the answer must be there, where the caller set a time.
    pub(crate) until: tokio::time::Instant,
    pub(crate) complaint: Option<Complaint>,
}

/// What there is to see of a message.
#[derive(Debug, Default)]
pub(crate) struct Seen {
    pub(crate) notes: Vec<String>,
    /// Header fields, where they are more than those of the head.
    pub(crate) fields: Option<HeaderMap>,
    /// Its body, or the beginning.
    pub(crate) body: Option<Vec<u8>>,
    /// Length of the whole body.
    pub(crate) bytes: Option<u64>,
    /// Whether it goes through unseen.
    pub(crate) streamed: bool,
}

/// What reading an answer gave.
pub(crate) struct Read {
    /// Status and fields of the answer.
    pub(crate) status: StatusCode,
    pub(crate) fields: HeaderMap,
    pub(crate) seen: Seen,
    /// What was tolerated or done on the way to the reply.
    pub(crate) notes: Vec<String>,
    pub(crate) answer: Result<Answer, Failure>,
}

/// An answer.
pub(crate) enum Answer {
    /// It goes to the caller as it comes.
    Through(Box<Passing>),
    /// It was read.
    Whole(Box<Whole>),
}

/// An answer that goes to the caller as it comes.
pub(crate) struct Passing {
    pub(crate) head: response::Parts,
    pub(crate) body: ReplyBody,
    /// Whether its fields are the backend's, to be cleaned and translated.
    pub(crate) of_backend: bool,
}

/// An answer that was read.
pub(crate) struct Whole {
    /// Status that the reply has.
    pub(crate) status: StatusCode,
    /// Fields of the answer.
    pub(crate) fields: HeaderMap,
    pub(crate) body: Content,
    /// Header elements of a SOAP envelope.
    pub(crate) soap_headers: Option<Value>,
    pub(crate) passed: Passed,
}

/// The body of an answer that was read.
pub(crate) enum Content {
    Empty,
    /// JSON, as bytes.
    Json(Bytes),
    Value(Value),
    /// Bytes of some media type, which no expression looks into.
    Raw(String, Bytes),
}

/// Fields of an answer that go to the caller.
pub(crate) enum Passed {
    None,
    /// All of them, where the body is not built anew.
    All,
    These(Vec<(HeaderName, HeaderValue)>),
}
