//! The steps of an operation: its calls, and what their expressions see.
//!
//! Steps that wait for nothing start at once, the others when the answers that they need are there. One step alone is the
//! short way: its answer may go through to the caller as it comes.

mod body;
mod many;
mod one;
mod scope;
#[cfg(test)]
mod tests;

use std::sync::Arc;
use std::time::Duration;

use bytes::Bytes;
use http::request::Parts;
use http_body_util::BodyExt;
use hyper::body::Incoming;
use porch_facade::{CompiledBackend, CompiledFacade, CompiledOperation};
use serde_json::Value;

pub(crate) use scope::{AnswerOnly, AnswerView, Parameters, Scope, parameters};

use crate::body::InBody;
use crate::call::{Answer, Failure};
use crate::exchange::Exchange;
use crate::problem::{Problem, Tell};

/// Answers that must be read whole may have at most this many bytes.
pub(crate) const MAX_ANSWER: usize = 64 << 20;

/// What the steps of an exchange work with.
pub(crate) struct Request<'a> {
    pub(crate) facade: &'a Arc<CompiledFacade>,
    pub(crate) operation: &'a CompiledOperation,
    pub(crate) parts: &'a Parts,
    /// The segments that the path variables took.
    pub(crate) captured: &'a [&'a str],
    pub(crate) native: bool,
    pub(crate) tell: Tell,
}

/// What the steps gave.
pub(crate) enum Outcome<'a> {
    /// The answer of the only step, with what there is to note of it.
    One(Answer, &'a CompiledBackend, Vec<String>),
    /// All answers are in the scope; the reply is built of them.
    Many,
}

/// Carries the steps out.
pub(crate) async fn run<'a>(
    x: &Exchange<'_>,
    request: &Request<'a>,
    scope: &mut Scope<'_>,
    body: InBody,
) -> Result<Outcome<'a>, Box<Problem>> {
    match request.operation.steps.as_slice() {
        [step] => one::run(x, request, step, scope, body).await,
        steps => {
            many::run(x, request, steps, scope, body).await?;
            Ok(Outcome::Many)
        }
    }
}

/// Reads a whole answer.
pub(crate) async fn collect(mut body: Incoming, idle: Duration) -> Result<Bytes, Failure> {
    let mut all = Vec::new();
    loop {
        match tokio::time::timeout(idle, body.frame()).await {
            Err(_) => return Err(Failure::Silent),
            Ok(None) => return Ok(all.into()),
            Ok(Some(Err(e))) => {
                let why = format!("it broke off in the middle of its answer: {e}");
                return Err(Failure::Answer(why));
            }
            Ok(Some(Ok(frame))) => {
                let Ok(data) = frame.into_data() else {
                    continue;
                };
                if all.len() + data.len() > MAX_ANSWER {
                    let why = format!("it has more than {MAX_ANSWER} bytes");
                    return Err(Failure::Answer(why));
                }
                all.extend_from_slice(&data);
            }
        }
    }
}

/// The JSON value of an answer's body.
pub(crate) fn json_of(bytes: &[u8]) -> Result<Value, Failure> {
    if bytes.is_empty() {
        return Ok(Value::Null);
    }
    serde_json::from_slice(bytes).map_err(|e| Failure::Answer(format!("its body is no JSON: {e}")))
}
