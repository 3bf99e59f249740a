//! One step: prepare, call, read.

use std::borrow::Cow;
use std::sync::Arc;
use std::time::Instant;

use http::Version;
use porch_facade::{CompiledBackend, Step, Transport, Way};
use porch_rules::expr::EvalError;

use super::attempts::{self, Again, Kept};
use super::given::{answered, given, recorded};
use super::made::{prepare, remade};
use super::{body, inside, refused, routed, shown};
use crate::answer::Answer;
use crate::body::InBody;
use crate::call::protocols::protocol;
use crate::call::{CallerBody, Context, Needs, Prepared, Protocol, Read, Reading, Sent};
use crate::exchange::state::Exchange;
use crate::failure::Failure;
use crate::problem::{Problem, not_wired, of_failure};
use crate::scope::Scope;
use crate::steps::request::{Outcome, Request};
use crate::trace::{Recorder, Stage, StageName, came};

/// Traces show so many items of a list.
const SHOWN: u32 = 10;

/// A step that is about to be carried out.
#[derive(Clone, Copy)]
pub(super) struct Call<'a> {
    pub(super) step: &'a Step,
    /// What is called: the step's own call, or the same of a backend that it goes to.
    pub(super) made: &'a Arc<dyn porch_facade::Call>,
    pub(super) backend: &'a CompiledBackend,
    pub(super) protocol: &'static dyn Protocol,
    /// Index of the address that is called.
    pub(super) at: u32,
    /// The number of the item that it is made for, where it is made for each of a list.
    pub(super) item: Option<u32>,
    /// Whether the answer may go through, or is waited for whole.
    pub(super) alone: bool,
}

impl<'a> Call<'a> {
    pub(super) fn of(
        x: &Exchange<'_>,
        request: &Request<'a>,
        (step, scope): (&'a Step, &Scope<'_>),
        alone: bool,
    ) -> Result<Self, Box<Problem>> {
        let (backend, made) = match &step.routing {
            None => (step.backend, &step.call),
            Some(routing) => routed::chosen(x, request, (step, routing), scope)?,
        };
        let backend = request.facade.backends.get(backend);
        let (Some(backend), Some(protocol)) = (backend, protocol(&**made)) else {
            return Err(not_wired(request.operation));
        };
        Ok(Self {
            step,
            made,
            backend,
            protocol,
            at: x.worker.backends.choose(backend) as u32,
            item: None,
            alone,
        })
    }

    /// The same call once more, at the address whose turn it is.
    pub(super) fn again(&self, x: &Exchange<'_>) -> Self {
        let at = x.worker.backends.choose(self.backend) as u32;
        Self { at, ..*self }
    }

    /// Index of the address that is called.
    pub(super) fn at(&self) -> usize {
        self.at as usize
    }

    /// The same call of another backend.
    pub(super) fn by(&self, x: &Exchange<'_>, request: &Request<'a>, way: &'a Way) -> Option<Self> {
        let backend = request.facade.backends.get(way.backend)?;
        Some(Self {
            made: &way.call,
            backend,
            protocol: protocol(&*way.call)?,
            at: x.worker.backends.choose(backend) as u32,
            ..*self
        })
    }

    pub(super) fn context<'c>(
        &'c self,
        x: &'c Exchange<'_>,
        request: &'c Request<'a>,
        scope: &'c Scope<'c>,
    ) -> Context<'c> {
        let reply = &request.operation.reply;
        let shaped = reply.body.is_some() || reply.looks_into || reply.is_changed;
        let trial = x.is_trial();
        let as_json = x.chosen != Some(porch_facade::MediaType::Xml);
        Context {
            facade: request.facade,
            operation: request.operation,
            call: self.made,
            backend: self.backend,
            address: &self.backend.addresses[self.at()],
            faults: &self.step.faults,
            parts: request.parts,
            captured: request.captured,
            scope,
            native: request.native,
            // Of several answers none is the reply.
            chosen: if self.alone { x.chosen } else { None },
            keep: x.recorder.borrow().full && !self.is_quiet(),
            may_stream: self.alone && !trial && !shaped && as_json,
            whole: shaped || !self.alone,
            plan: self.step.plan.as_deref(),
            trial,
            unpacked: x.unpacked.get(),
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
        let failure = match failure {
            // What is made of other answers is not the caller's to answer for.
            Failure::Unsuitable(place, source, error)
                if !self.alone && super::names_answers(request.operation, &source) =>
            {
                Failure::Answer(format!("{place} cannot be made: ={source}: {error}"))
            }
            other => other,
        };
        let problem = of_failure(failure, request.operation, Some(self.backend), stage);
        match &self.step.plan {
            Some(plan) => problem.of_rule(&plan.place),
            None => problem,
        }
    }

    /// The problem of an expression that has no value.
    pub(super) fn failed(
        &self,
        request: &Request<'_>,
        what: &str,
        (source, error): (String, EvalError),
    ) -> Box<Problem> {
        self.unusable(request, what, (source, error.to_string()))
    }

    /// The same for one whose value cannot be used.
    pub(super) fn unusable(
        &self,
        request: &Request<'_>,
        what: &str,
        (source, told): (String, String),
    ) -> Box<Problem> {
        let failure = Failure::Unsuitable(format!("{what} ({})", self.step.name), source, told);
        self.problem(request, failure, StageName::Prepare)
    }

    /// The problem of an answer whose status is none of success, where others wait for what it says.
    pub(super) fn unusual(&self, request: &Request<'_>, status: http::StatusCode) -> Box<Problem> {
        let name = &self.step.name;
        let why = format!(
            "“{name}” answered {status}; what that means can be said with `statuses`, `otherwise` or `refuse`"
        );
        self.problem(request, Failure::Answer(why), StageName::Reply)
    }

    /// Its name, where an operation has several.
    pub(super) fn shown(&self) -> Cow<'a, str> {
        match self.item {
            _ if self.alone => "".into(),
            None => (&*self.step.name).into(),
            Some(i) => format!("{}[{i}]", self.step.name).into(),
        }
    }

    /// Whether nothing of it is shown: of a list only the first are.
    fn is_quiet(&self) -> bool {
        self.item.is_some_and(|i| i >= SHOWN)
    }

    /// Notes down what became of it besides.
    pub(super) fn tell(&self, x: &Exchange<'_>, text: String) {
        let mut recorder = x.recorder.borrow_mut();
        let at = (StageName::Call, recorder.begin());
        self.note(&mut recorder, at, |stage| stage.notes.push(text));
    }

    /// Notes a stage of it down, where it is shown.
    pub(super) fn note(
        &self,
        recorder: &mut Recorder,
        at: (StageName, Instant),
        fill: impl FnOnce(&mut Stage),
    ) {
        if !self.is_quiet() {
            recorder.of_step(at, &self.shown(), self.backend, fill);
        }
    }
}

/// The call of an operation that has one.
fn the_only<'a>(
    x: &Exchange<'_>,
    request: &Request<'a>,
    scope: &Scope<'_>,
) -> Result<Call<'a>, Box<Problem>> {
    match request.operation.steps.first() {
        Some(step) => Call::of(x, request, (step, scope), true),
        None => Err(not_wired(request.operation)),
    }
}

pub(super) async fn run<'a>(
    x: &Exchange<'_>,
    request: &Request<'a>,
    scope: &mut Scope<'_>,
    body: InBody,
) -> Result<Outcome<'a>, Box<Problem>> {
    let mut call = the_only(x, request, scope)?;
    let needs = {
        let cx = call.context(x, request, scope);
        call.protocol.needs(&cx, &body)
    };
    let needs = match call.step.routing {
        None => needed(request, &call, needs),
        Some(_) => routed::needed(x, request, &call, scope, (needs, &body)),
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
    if !request.operation.refusals.is_empty() {
        refused::by_request(request, scope)?;
    }
    if !x.origin.given.is_empty()
        && let Some(answer) = given(x, &call)
    {
        return Ok(Outcome::One(answer, call.backend, Vec::new()));
    }
    let done = match routed::aside(x, call.step) {
        false => carry_out(x, request, &call, scope, body).await?,
        true => Box::pin(routed::carry_out(x, request, &mut call, scope, body)).await?,
    };
    Ok(Outcome::One(done.answer, call.backend, done.notes))
}

/// How the body is needed, where an expression of the operation's own looks into it.
pub(super) fn needed(request: &Request<'_>, call: &Call<'_>, needs: Needs) -> Needs {
    let policy = call.backend.attempts.as_ref();
    match needs {
        // What may be sent once more is kept until then.
        Needs::Stream
            if policy.is_some_and(|p| attempts::has_key(p, request)) && !request.native =>
        {
            match request.operation.reply.reads_body {
                true => Needs::Value,
                false => Needs::Raw,
            }
        }
        _ if !request.operation.reply.reads_body || request.native => needs,
        Needs::Json { .. } => Needs::Json { value: true },
        _ => Needs::Value,
    }
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
    let mut kept = Kept::Gone;
    let Prepared {
        request: made,
        within,
        again,
        complaint,
        ..
    } = begin(x, request, call, &cx, (body, &mut kept))?;
    x.reached.set(true);
    let from = x.recorder.borrow().begin();
    let until = tokio::time::Instant::now() + within;
    let mut slot = Some(made);
    let anew = || again.then(|| remade(x, request, call, &cx)).flatten();
    let backends = &x.worker.backends;
    let answered = match &call.backend.credentials.client {
        _ if !x.origin.recorded.is_empty() && recorded(x, call).is_some() => answered(x, call),
        // All of them in a place of their own: a call that is made once has no room for it.
        _ if call.backend.attempts.is_some() || call.backend.circuit.is_some() => {
            let of = Again::of(request, (call, scope), (kept, until, again));
            Box::pin(attempts::send(x, of, (&mut slot, within), &anew)).await
        }
        None if call.backend.transport == Transport::Inside => {
            Box::pin(inside::send(x, call, &mut slot, until)).await
        }
        None => {
            let sent = backends.send(call.backend, call.at(), &mut slot, until, within, &anew);
            sent.await.map_err(Failure::Call)
        }
        Some(grant) => {
            let sending = shown::Sending::of(&mut slot, (until, within), &anew);
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

/// The prepared request; what attempts again are made of is kept, where there may be some.
fn begin(
    x: &Exchange<'_>,
    request: &Request<'_>,
    call: &Call<'_>,
    cx: &Context<'_>,
    (body, kept): (CallerBody, &mut Kept),
) -> Result<Prepared, Box<Problem>> {
    if call.backend.attempts.is_some() {
        *kept = Kept::of(&body);
    }
    prepare(x, request, call, cx, body)
}

fn finish(
    x: &Exchange<'_>,
    request: &Request<'_>,
    call: &Call<'_>,
    (from, by_http2): (Instant, bool),
    mut read: Read,
) -> Result<Done, Box<Problem>> {
    if request.operation.cache.is_some() {
        x.hear(&read.fields);
    }
    let answer = read
        .answer
        .map_err(|failure| call.problem(request, failure, StageName::Prepare));
    let mut recorder = x.recorder.borrow_mut();
    if recorder.full {
        let mut notes = std::mem::take(&mut read.seen.notes);
        if by_http2 {
            notes.push("by HTTP/2, which it chose".into());
        }
        if call.backend.health.is_some() {
            notes.extend(x.worker.shared.watched.all_told(call.backend));
        }
        if let Err(problem) = &answer
            && problem.refusal.stage != StageName::Reply
        {
            notes.push(problem.refusal.why.clone());
        }
        let after = came(read.status, &read.fields, read.seen);
        let at = (StageName::Call, from);
        call.note(&mut recorder, at, |stage| {
            stage.notes = notes;
            stage.after = Some(after);
        });
        if let Err(problem) = &answer
            && problem.refusal.stage == StageName::Reply
        {
            let at = (StageName::Reply, recorder.begin());
            call.note(&mut recorder, at, |stage| {
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
    call.note(&mut recorder, at, |stage| {
        stage.notes.push(problem.refusal.why.clone());
    });
}
