//! What callers are told of a call that failed.

use std::time::Duration;

use http::header;
use porch_facade::{CompiledBackend, CompiledOperation};

use super::refusals::{body_unreadable, coded, mistakes, no_room, not_understood};
use super::{Lost, Problem};
use crate::backend::CallFailure;
use crate::failure::{Failure, Told};
use crate::fields::PROXY_STATUS;
use crate::trace::StageName;

/// The problem of a failure.
pub(crate) fn of_failure(
    failure: Failure,
    op: &CompiledOperation,
    backend: Option<&CompiledBackend>,
    stage: StageName,
) -> Box<Problem> {
    match failure {
        Failure::Mistakes(list) => mistakes(list, op, stage),
        Failure::Unsuitable(place, source, error) => unusable(
            format!("{place} cannot be made from the request: {error}."),
            format!("{place}: ={source}: {error}"),
            op,
        ),
        Failure::Target(target) => unusable(
            "No valid address can be made from the request.".into(),
            format!("“{target}” is no valid request target"),
            op,
        ),
        Failure::Body(failure) => body_unreadable(failure, op),
        Failure::MediaType(taken, came) => not_understood(&taken, &came, op),
        Failure::Coding => coded(op),
        Failure::NoRoom(room) => no_room(room, op, StageName::Reply),
        Failure::NoRandom => {
            let detail = "No random numbers can be had.";
            Problem::new(503, "random", "Not now", detail, StageName::Prepare).by(&op.place)
        }
        Failure::Call(failure) => call_failed(&failure, op, backend),
        Failure::Answer(why) => bad_answer(op, why),
        Failure::Silent => silent(op),
        Failure::Told(told) => of_backend(*told, op),
    }
}

/// The caller's values are at fault.
fn unusable(detail: String, why: String, op: &CompiledOperation) -> Box<Problem> {
    let title = "The request cannot be used";
    Problem::new(400, "contract", title, detail, StageName::Prepare)
        .why(why)
        .by(&op.place)
}

/// A call that gave no answer. `Proxy-Status` as RFC 9209 §2.3 names the errors.
fn call_failed(
    failure: &CallFailure,
    op: &CompiledOperation,
    backend: Option<&CompiledBackend>,
) -> Box<Problem> {
    let name = backend.map_or("the backend", |b| b.name.as_str());
    let address = backend
        .and_then(|b| b.addresses.first())
        .map_or("", |a| a.authority.as_str());
    let timeout = backend.map(|b| b.timeout).unwrap_or_default();
    let connect = backend.map(|b| b.connect).unwrap_or_default();
    let lost = match failure {
        CallFailure::Connect(_)
        | CallFailure::ConnectTimeout
        | CallFailure::Busy(_)
        | CallFailure::Resting(_) => Lost::Unsent,
        CallFailure::Broken(_) => Lost::Perhaps,
        CallFailure::Timeout => Lost::Late,
    };
    let (kind, title, error, why) = match failure {
        CallFailure::Connect(what) => (
            "backend-unreachable",
            "The backend cannot be reached",
            what.proxy_status(),
            format!("no connection to {name} ({address}): {what}"),
        ),
        CallFailure::ConnectTimeout => (
            "backend-slow",
            "The backend is too slow",
            "connection_timeout",
            format!("no connection to {name} ({address}) within {connect:?}"),
        ),
        CallFailure::Resting(left) => return resting(op, name, *left),
        CallFailure::Busy(most) => return busy(op, name, *most, connect).lost(lost),
        CallFailure::Broken(what) => (
            "backend-broke-off",
            "The backend broke off",
            "connection_terminated",
            format!("{name} ({address}) broke off: {what}"),
        ),
        CallFailure::Timeout => (
            "backend-slow",
            "The backend is too slow",
            "http_response_timeout",
            format!("{name} ({address}) gave no answer within {timeout:?}"),
        ),
    };
    let (status, detail) = if kind == "backend-slow" {
        (504, "It gave no answer in time. Try again later.")
    } else {
        (502, "The request may not have been carried out.")
    };
    Problem::new(status, kind, title, detail, StageName::Call)
        .why(why)
        .by(&op.place)
        .header(PROXY_STATUS, &format!("elm-porch; error={error}"))
        .lost(lost)
}

/// As many connections are in use as the backend takes (RFC 9209 §2.3.12).
fn busy(op: &CompiledOperation, name: &str, most: u32, within: Duration) -> Box<Problem> {
    let title = "The backend is busy";
    let detail = "It takes no more calls at the moment. Try again later.";
    let all = match most {
        1 => "the only connection".to_owned(),
        most => format!("all {most} connections"),
    };
    Problem::new(503, "backend-busy", title, detail, StageName::Call)
        .why(format!(
            "{all} to {name} stayed in use for {within:?} (`connections`)"
        ))
        .by(&op.place)
        .header(header::RETRY_AFTER, "1")
        .header(PROXY_STATUS, "elm-porch; error=connection_limit_reached")
}

/// A backend that is left alone (RFC 9209 §2.3.4).
fn resting(op: &CompiledOperation, name: &str, left: Duration) -> Box<Problem> {
    let title = "The backend is left alone";
    let detail = "Too many of its calls failed lately. Try again later.";
    let seconds = left.as_secs().saturating_add(1);
    Problem::new(503, "backend-resting", title, detail, StageName::Call)
        .why(format!(
            "{name} is left alone for {seconds} s more, since too many of its calls failed (`circuit`)"
        ))
        .by(&op.place)
        .header(header::RETRY_AFTER, &seconds.to_string())
        .header(PROXY_STATUS, "elm-porch; error=destination_unavailable")
        .lost(Lost::Unsent)
}

/// An answer that cannot be used.
pub(crate) fn bad_answer(op: &CompiledOperation, why: String) -> Box<Problem> {
    let title = "The backend's answer cannot be used";
    let detail = "Its answer is not what its definition says.";
    Problem::new(502, "backend-answer", title, detail, StageName::Reply)
        .why(why)
        .by(&op.place)
        .header(PROXY_STATUS, "elm-porch; error=http_protocol_error")
        .lost(Lost::Late)
}

/// A reply that the contract has not.
pub(crate) fn not_as_agreed(op: &CompiledOperation, told: String) -> Box<Problem> {
    let title = "The backend's answer does not fit the contract";
    let detail = "Its answer is not what the contract of this API says.";
    Problem::new(502, "answer-contract", title, detail, StageName::Reply)
        .why(told)
        .by(&op.place)
        .header(PROXY_STATUS, "elm-porch; error=http_protocol_error")
}

fn silent(op: &CompiledOperation) -> Box<Problem> {
    let detail = "It fell silent in the middle of its answer. Try again later.";
    let title = "The backend is too slow";
    Problem::new(504, "backend-slow", title, detail, StageName::Reply)
        .why("it fell silent in the middle of its answer")
        .by(&op.place)
        .header(PROXY_STATUS, "elm-porch; error=http_response_timeout")
        .lost(Lost::Late)
}

/// A failure that the backend tells itself.
fn of_backend(told: Told, op: &CompiledOperation) -> Box<Problem> {
    let mut problem = Problem::new(
        told.status,
        told.kind,
        told.title,
        told.text,
        StageName::Reply,
    )
    .why(told.why)
    .by(&op.place);
    if matches!(told.status, 502..=504) {
        problem = problem.lost(Lost::Perhaps);
    }
    for (name, value) in told.members {
        problem = problem.with(name, value);
    }
    for (name, value) in told.fields {
        if name == header::RETRY_AFTER {
            problem.headers.retain(|(n, _)| *n != name);
        }
        problem.headers.push((name, value));
    }
    problem
}
