//! Calls: one folder a protocol, one line each in [`protocols`].
//!
//! A protocol says how it needs the caller's body, prepares a request and reads an answer. It knows nothing of traces,
//! connections, repeats or problems: what went wrong is a value ([`Failure`]), and so is what there is to see ([`Seen`]).

pub(crate) mod coding;
pub(crate) mod grpc;
pub(crate) mod http;
#[cfg(test)]
mod knock;
pub(crate) mod messages;
pub(crate) mod protocols;
mod soap;

use std::future::Future;
use std::pin::Pin;
use std::sync::Arc;
use std::time::Duration;

use ::http::request::Parts;
use ::http::{HeaderMap, StatusCode};
use bytes::Bytes;
use porch_facade::{
    Address, Call, CompiledBackend, CompiledFacade, CompiledOperation, Gathering, MediaType,
    StepPlan,
};

use crate::answer::{Answer, Seen};
use crate::backend::Answered;
use crate::body::InBody;
use crate::budget::Share;
use crate::failure::{Complaint, Failure};
use crate::outgoing::Outgoing;
use crate::problem::Tell;
use crate::scope::Scope;

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
#[expect(
    clippy::large_enum_variant,
    reason = "what is read at once is the common way, and is not put into a box for the others"
)]
pub(crate) enum Reading<'a> {
    /// It was read.
    Done(Read),
    /// Something of it must be waited for.
    Later(Pin<Box<dyn Future<Output = Read> + 'a>>),
}

impl<'a> Reading<'a> {
    pub(crate) fn later(reading: impl Future<Output = Read> + 'a) -> Self {
        Self::Later(Box::pin(reading))
    }
}

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
    /// What else there is to it, where it is one of several calls.
    pub(crate) plan: Option<&'a StepPlan>,
    pub(crate) trial: bool,
    /// Whether the caller's body came compressed, and was read.
    pub(crate) unpacked: bool,
    /// Of the memory for bodies.
    pub(crate) share: &'a Share<'a>,
    /// For what goes wrong when the reply has begun.
    pub(crate) tell: &'a Tell,
}

impl<'a> Context<'a> {
    /// How the messages of an answer are taken as a list, where they are.
    pub(crate) fn gathers(&self) -> Option<&'a Gathering> {
        self.plan?.messages.as_ref()
    }

    /// Whether a status besides those of success is that of an answer.
    pub(crate) fn takes(&self, status: StatusCode) -> bool {
        let statuses = self.plan.map_or(&[][..], |plan| &plan.statuses);
        statuses.contains(&status.as_u16())
    }
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

/// A request that is ready to be sent.
pub(crate) struct Prepared {
    pub(crate) request: Outgoing,
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
