//! Several steps: those that wait for nothing start at once.

use std::future::Future;
use std::pin::Pin;
use std::task::Poll;

use http::StatusCode;
use porch_facade::Step;

use super::body;
use super::one::{Call, carry_out};
use crate::answer::{Answer, Content, json_of};
use crate::body::InBody;
use crate::call::{CallerBody, Needs};
use crate::exchange::state::Exchange;
use crate::failure::Failure;
use crate::problem::Problem;
use crate::scope::{AnswerView, Scope};
use crate::steps::request::Request;
use crate::trace::StageName;

type Running<'r> = Pin<Box<dyn Future<Output = Result<AnswerView, Box<Problem>>> + 'r>>;

/// Carries out steps in waves: all whose answers are there start together. The answers go into the scope, by the numbers of
/// their steps; the first failure ends the others.
pub(super) async fn run<'a>(
    x: &Exchange<'_>,
    request: &Request<'a>,
    steps: &'a [Step],
    scope: &mut Scope<'_>,
    body: InBody,
) -> Result<(), Box<Problem>> {
    let calls: Vec<Call<'a>> = steps
        .iter()
        .map(|step| Call::of(x, request, step, false))
        .collect::<Result<_, _>>()?;
    let body = shared_body(x, request, &calls, scope, body).await?;
    scope.answers = steps.iter().map(|_| None).collect();
    loop {
        let ready: Vec<usize> = (0..steps.len())
            .filter(|i| scope.answers[*i].is_none())
            .filter(|i| steps[*i].needs.iter().all(|n| has(scope, *n)))
            .collect();
        if ready.is_empty() {
            return Ok(());
        }
        let answers = {
            let scope: &Scope<'_> = scope;
            let running: Vec<Running<'_>> = ready
                .iter()
                .map(|i| -> Running<'_> {
                    let taken = copy(&body);
                    Box::pin(answer(x, request, &calls[*i], scope, taken))
                })
                .collect();
            all(running).await?
        };
        for (i, answer) in ready.into_iter().zip(answers) {
            scope.answers[i] = Some(answer);
        }
    }
}

fn has(scope: &Scope<'_>, step: usize) -> bool {
    scope.answers.get(step).is_some_and(Option::is_some)
}

fn copy(body: &CallerBody) -> CallerBody {
    match body.bytes() {
        Some(bytes) => CallerBody::Bytes(bytes.clone()),
        None => CallerBody::Gone,
    }
}

/// A body that several steps may need is read once.
async fn shared_body<'a>(
    x: &Exchange<'_>,
    request: &Request<'a>,
    calls: &[Call<'a>],
    scope: &mut Scope<'_>,
    body: InBody,
) -> Result<CallerBody, Box<Problem>> {
    let mut needs = Needs::Nothing;
    for call in calls {
        needs = match (needs, {
            let cx = call.context(x, request, scope);
            call.protocol.needs(&cx, &body)
        }) {
            (one, Needs::Nothing) => one,
            (Needs::Nothing, Needs::Stream) => Needs::Raw,
            (Needs::Nothing, one) => one,
            (Needs::Raw, Needs::Raw | Needs::Stream) => Needs::Raw,
            (Needs::Json { value: a }, Needs::Json { value: b }) => Needs::Json { value: a || b },
            (one, Needs::Raw | Needs::Stream) => one,
            _ => Needs::Value,
        };
    }
    let (op, parts) = (request.operation, request.parts);
    let received = match body::demanded(op, parts, &body, needs) {
        Ok(needs) => body::receive(x, op, parts, needs, scope, body).await,
        Err(failure) => Err(failure),
    };
    match (received, calls.first()) {
        (Ok(CallerBody::Unread(_)), _) => Ok(CallerBody::Gone),
        (Ok(received), _) => Ok(received),
        (Err(failure), Some(call)) => Err(call.problem(request, failure, StageName::Admit)),
        (Err(_), None) => Ok(CallerBody::Gone),
    }
}

/// One step, its answer as expressions see it.
async fn answer<'a>(
    x: &Exchange<'_>,
    request: &Request<'a>,
    call: &Call<'a>,
    scope: &Scope<'_>,
    body: CallerBody,
) -> Result<AnswerView, Box<Problem>> {
    let done = carry_out(x, request, call, scope, body).await?;
    let (status, fields) = (done.status, done.fields);
    let failed = |failure| call.problem(request, failure, StageName::Reply);
    let (value, soap_headers) = match done.answer {
        Answer::Whole(whole) => {
            let value = match whole.body {
                Content::Empty => serde_json::Value::Null,
                Content::Json(json) => json_of(&json, &x.share).map_err(failed)?,
                Content::Value(value) => value,
                Content::Raw(..) => {
                    let why = "an expression cannot look into it".to_owned();
                    return Err(failed(Failure::Answer(why)));
                }
            };
            (value, whole.soap_headers)
        }
        Answer::Through(_) if status == StatusCode::NO_CONTENT => (serde_json::Value::Null, None),
        Answer::Through(_) => {
            let why = format!("it answered {status}, where another call waits for what it says");
            return Err(failed(Failure::Answer(why)));
        }
    };
    Ok(AnswerView::new(
        status.as_u16(),
        &fields,
        value,
        soap_headers,
    ))
}

/// Waits for all; the first failure ends the others.
async fn all(mut running: Vec<Running<'_>>) -> Result<Vec<AnswerView>, Box<Problem>> {
    let mut done: Vec<Option<AnswerView>> = running.iter().map(|_| None).collect();
    std::future::poll_fn(|cx| {
        let mut waiting = false;
        for (future, answer) in running.iter_mut().zip(&mut done) {
            if answer.is_some() {
                continue;
            }
            match future.as_mut().poll(cx) {
                Poll::Ready(Ok(came)) => *answer = Some(came),
                Poll::Ready(Err(problem)) => return Poll::Ready(Err(problem)),
                Poll::Pending => waiting = true,
            }
        }
        if waiting {
            Poll::Pending
        } else {
            Poll::Ready(Ok(()))
        }
    })
    .await?;
    Ok(done.into_iter().flatten().collect())
}
