//! One step: prepare, call, read.

use std::time::Instant;

use http::{Version, header};
use porch_facade::{CompiledBackend, Step, Transport};

use super::{body, inside, shown};
use crate::answer::Answer;
use crate::body::InBody;
use crate::call::protocols::protocol;
use crate::call::{CallerBody, Context, Needs, Prepared, Protocol, Read, Reading, Sent};
use crate::exchange::state::Exchange;
use crate::failure::Failure;
use crate::fields::{TRACEPARENT, via};
use crate::outgoing::Outgoing;
use crate::problem::{Problem, not_wired, of_failure};
use crate::scope::Scope;
use crate::steps::request::{Outcome, Request};
use crate::trace::{Message, StageName, came, sent};

/// A step that is about to be carried out.
pub(super) struct Call<'a> {
    pub(super) step: &'a Step,
    pub(super) backend: &'a CompiledBackend,
    pub(super) protocol: &'static dyn Protocol,
    /// Index of the address that is called.
    pub(super) at: usize,
    /// Its name, where an operation has several.
    pub(super) shown: &'a str,
    /// Whether the answer may go through, or is waited for whole.
    pub(super) alone: bool,
}

impl<'a> Call<'a> {
    pub(super) fn of(
        x: &Exchange<'_>,
        request: &Request<'a>,
        step: &'a Step,
        alone: bool,
    ) -> Result<Self, Box<Problem>> {
        let backend = request.facade.backends.get(step.backend);
        let (Some(backend), Some(protocol)) = (backend, protocol(&*step.call)) else {
            return Err(not_wired(request.operation));
        };
        Ok(Self {
            step,
            backend,
            protocol,
            at: x.worker.backends.choose(backend),
            shown: if alone { "" } else { &step.name },
            alone,
        })
    }

    pub(super) fn context<'c>(
        &'c self,
        x: &'c Exchange<'_>,
        request: &'c Request<'a>,
        scope: &'c Scope<'c>,
    ) -> Context<'c> {
        let shaped = request.operation.reply.body.is_some();
        let trial = x.is_trial();
        let as_json = x.chosen != Some(porch_facade::MediaType::Xml);
        Context {
            facade: request.facade,
            operation: request.operation,
            call: &self.step.call,
            backend: self.backend,
            address: &self.backend.addresses[self.at],
            faults: &self.step.faults,
            parts: request.parts,
            captured: request.captured,
            scope,
            native: request.native,
            chosen: x.chosen,
            keep: x.recorder.borrow().full,
            may_stream: self.alone && !trial && !shaped && as_json,
            whole: shaped || !self.alone,
            trial,
            share: &x.share,
            tell: &request.tell,
        }
    }

    pub(super) fn problem(
        &self,
        request: &Request<'_>,
        failure: Failure,
        stage: StageName,
    ) -> Box<Problem> {
        of_failure(failure, request.operation, Some(self.backend), stage)
    }
}

pub(super) async fn run<'a>(
    x: &Exchange<'_>,
    request: &Request<'a>,
    step: &'a Step,
    scope: &mut Scope<'_>,
    body: InBody,
) -> Result<Outcome<'a>, Box<Problem>> {
    let call = Call::of(x, request, step, true)?;
    let needs = {
        let cx = call.context(x, request, scope);
        call.protocol.needs(&cx, &body)
    };
    let needs = body::demanded(request.operation, request.parts, &body, needs)
        .map_err(|f| call.problem(request, f, StageName::Admit))?;
    let body = if matches!(needs, Needs::Nothing | Needs::Stream) {
        CallerBody::Unread(body)
    } else {
        body::receive(x, request.operation, request.parts, needs, scope, body)
            .await
            .map_err(|f| call.problem(request, f, StageName::Admit))?
    };
    let done = carry_out(x, request, &call, scope, body).await?;
    Ok(Outcome::One(done.answer, call.backend, done.notes))
}

/// What a step gave.
pub(super) struct Done {
    /// Status and fields of the answer, for expressions.
    pub(super) status: http::StatusCode,
    pub(super) fields: http::HeaderMap,
    pub(super) answer: Answer,
    pub(super) notes: Vec<String>,
}

/// Prepares the request of a step, sends it and reads the answer.
pub(super) async fn carry_out<'a>(
    x: &Exchange<'_>,
    request: &Request<'a>,
    call: &Call<'a>,
    scope: &Scope<'_>,
    body: CallerBody,
) -> Result<Done, Box<Problem>> {
    let cx = call.context(x, request, scope);
    let Prepared {
        request: made,
        within,
        again,
        complaint,
        ..
    } = prepare(x, request, call, &cx, body)?;
    let from = x.recorder.borrow().begin();
    let until = tokio::time::Instant::now() + within;
    let mut slot = Some(made);
    let anew = || if again { remade(x, call, &cx) } else { None };
    let backends = &x.worker.backends;
    let answered = match &call.backend.credentials.client {
        None if call.backend.transport == Transport::Inside => {
            Box::pin(inside::send(x, call, &mut slot, until)).await
        }
        None => {
            let sent = backends.send(call.backend, call.at, &mut slot, until, within, &anew);
            sent.await.map_err(Failure::Call)
        }
        Some(grant) => {
            let sending = shown::Sending {
                slot: &mut slot,
                until,
                within,
                anew: &anew,
            };
            Box::pin(shown::send(x, call, grant, sending)).await
        }
    };
    // What is looked at before it is handed on is not kept behind that.
    let (sent, by_http2) = {
        let answered = answered.map_err(|failure| {
            let complaint = complaint.as_ref().and_then(|c| c.borrow_mut().take());
            let failure = complaint.unwrap_or(failure);
            let problem = call.problem(request, failure, StageName::Prepare);
            note(x, call, (StageName::Call, from), &problem);
            problem
        })?;
        let version = answered.head.version;
        let sent = Sent {
            answered,
            until,
            complaint,
        };
        let may_choose = cx.keep && call.backend.offers_http2;
        (sent, may_choose && version == Version::HTTP_2)
    };
    let read = match call.protocol.read(&cx, sent) {
        Reading::Done(read) => read,
        Reading::Later(reading) => reading.await,
    };
    finish(x, request, call, (from, by_http2), read)
}

fn prepare(
    x: &Exchange<'_>,
    request: &Request<'_>,
    call: &Call<'_>,
    cx: &Context<'_>,
    body: CallerBody,
) -> Result<Prepared, Box<Problem>> {
    let from = x.recorder.borrow().begin();
    let before = if cx.keep { shown_body(cx, &body) } else { None };
    match call.protocol.prepare(cx, body) {
        Ok(mut prepared) => {
            add_common(x, call, cx, &mut prepared.request);
            if cx.keep {
                let mut seen = std::mem::take(&mut prepared.seen);
                let notes = std::mem::take(&mut seen.notes);
                let origin = cx.address.origin(call.backend.transport);
                let after = sent(&prepared.request, &origin, seen);
                let mut recorder = x.recorder.borrow_mut();
                let at = (StageName::Prepare, from);
                recorder.of_step(at, call.shown, call.backend, |stage| {
                    stage.before = before;
                    stage.after = Some(after);
                    stage.notes = notes;
                });
            }
            Ok(prepared)
        }
        Err(failure) => {
            let problem = call.problem(request, failure, StageName::Prepare);
            let mut recorder = x.recorder.borrow_mut();
            let at = (StageName::Prepare, from);
            recorder.of_step(at, call.shown, call.backend, |stage| {
                stage.before = before;
                stage.notes.push(problem.refusal.why.clone());
            });
            Err(problem)
        }
    }
}

/// The caller's body as it is shown, as far as it was read.
fn shown_body(cx: &Context<'_>, body: &CallerBody) -> Option<Message> {
    match (body.bytes(), &cx.scope.body) {
        (Some(bytes), _) => Some(Message::default().body(bytes)),
        (None, Some(value)) => Some(Message::default().body(value.to_string().as_bytes())),
        (None, None) => None,
    }
}

/// What every backend request carries.
fn add_common(x: &Exchange<'_>, call: &Call<'_>, cx: &Context<'_>, request: &mut Outgoing) {
    let fields = &mut request.fields;
    fields.append(header::VIA, via(cx.parts.version));
    fields.set(&header::FORWARDED, x.origin.forwarded(&cx.parts.headers));
    fields.set(&TRACEPARENT, x.traceparent.clone());
    for (name, value) in &call.backend.credentials.headers {
        fields.set(name, value.clone());
    }
    if call.backend.transport == Transport::Http1 {
        let address = &call.backend.addresses[call.at];
        fields.set(&header::HOST, address.host.clone());
    }
}

/// The request once more, where it may be repeated.
fn remade(x: &Exchange<'_>, call: &Call<'_>, cx: &Context<'_>) -> Option<Outgoing> {
    let mut prepared = call.protocol.prepare(cx, CallerBody::Gone).ok()?;
    add_common(x, call, cx, &mut prepared.request);
    Some(prepared.request)
}

fn finish(
    x: &Exchange<'_>,
    request: &Request<'_>,
    call: &Call<'_>,
    (from, by_http2): (Instant, bool),
    mut read: Read,
) -> Result<Done, Box<Problem>> {
    let answer = read
        .answer
        .map_err(|failure| call.problem(request, failure, StageName::Prepare));
    let mut recorder = x.recorder.borrow_mut();
    if recorder.full {
        let mut notes = std::mem::take(&mut read.seen.notes);
        if by_http2 {
            notes.push("by HTTP/2, which it chose".into());
        }
        if let Err(problem) = &answer
            && problem.refusal.stage != StageName::Reply
        {
            notes.push(problem.refusal.why.clone());
        }
        let after = came(read.status, &read.fields, read.seen);
        let at = (StageName::Call, from);
        recorder.of_step(at, call.shown, call.backend, |stage| {
            stage.notes = notes;
            stage.after = Some(after);
        });
        if let Err(problem) = &answer
            && problem.refusal.stage == StageName::Reply
        {
            let at = (StageName::Reply, recorder.begin());
            recorder.of_step(at, call.shown, call.backend, |stage| {
                stage.notes = std::mem::take(&mut read.notes);
                stage.notes.push(problem.refusal.why.clone());
            });
        }
    }
    Ok(Done {
        answer: answer?,
        status: read.status,
        fields: read.fields,
        notes: read.notes,
    })
}

fn note(x: &Exchange<'_>, call: &Call<'_>, at: (StageName, Instant), problem: &Problem) {
    let mut recorder = x.recorder.borrow_mut();
    recorder.of_step(at, call.shown, call.backend, |stage| {
        stage.notes.push(problem.refusal.why.clone());
    });
}
