//! Several steps: each starts when the answers that it needs are there, and those that need nothing of one another run at once.
//!
//! Refusals are asked for as soon as the answers are there that they look at, before anything else starts. A step that changes
//! something waits for all refusals that can be told without it, and for those that change something before it.

mod each;
mod pages;
mod undo;

use std::future::Future;
use std::pin::Pin;
use std::task::Poll;
use std::time::Duration;

use http::StatusCode;
use porch_facade::{Step, StepPlan};
use porch_rules::expr::Template;
use serde_json::{Value, json};
use tokio::time::Instant;

use super::body;
use super::given::called_nothing;
use super::one::{Call, carry_out};
use super::{refused, routed};
use crate::answer::{Answer, Content, json_of};
use crate::body::InBody;
use crate::call::{CallerBody, Needs};
use crate::exchange::state::Exchange;
use crate::failure::Failure;
use crate::problem::{Problem, late_together};
use crate::scope::{AnswerView, Scope, Within};
use crate::steps::request::Request;
use crate::trace::StageName;

/// What a step gives: nothing where it is not called.
type Gave = Result<Option<AnswerView>, Box<Problem>>;
type Running<'r> = Waiting<'r, Gave>;
/// Something that is waited for.
type Waiting<'r, T> = Pin<Box<dyn Future<Output = T> + 'r>>;

/// Carries out steps. The answers go into the scope, by the numbers of their steps; the first failure ends the others.
pub(super) async fn run<'a>(
    x: &Exchange<'_>,
    request: &Request<'a>,
    steps: &'a [Step],
    scope: &mut Scope<'_>,
    body: InBody,
) -> Result<(), Box<Problem>> {
    let calls: Vec<Call<'a>> = steps
        .iter()
        .map(|step| Call::of(x, request, (step, scope), false))
        .collect::<Result<_, _>>()?;
    let body = shared_body(x, request, &calls, scope, body).await?;
    scope.answers = steps.iter().map(|_| Default::default()).collect();
    let scope: &Scope<'_> = scope;
    let done = All {
        x,
        request,
        calls: &calls,
        scope,
        body: &body,
        states: vec![State::Waits; steps.len()],
        asked: vec![false; request.operation.refusals.len()],
        changed: Vec::new(),
    };
    let result = done.run().await;
    hide(x, request, result)
}

/// What one backend was shown may come back from another, to which something of its answer was sent.
fn hide(
    x: &Exchange<'_>,
    request: &Request<'_>,
    mut result: Result<(), Box<Problem>>,
) -> Result<(), Box<Problem>> {
    let mut recorder = x.recorder.borrow_mut();
    let backends = request.operation.backends(request.facade);
    for mask in backends.map(|b| &b.credentials.mask) {
        for stage in &mut recorder.stages {
            stage.mask(mask);
        }
        if let Err(problem) = &mut result {
            mask.text(&mut problem.refusal.why);
        }
    }
    result
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum State {
    Waits,
    Runs,
    Done,
}

/// All steps of an operation while they are carried out.
struct All<'r, 'a> {
    x: &'r Exchange<'r>,
    request: &'r Request<'a>,
    calls: &'r [Call<'a>],
    scope: &'r Scope<'r>,
    body: &'r CallerBody,
    states: Vec<State>,
    /// Which refusals were asked for.
    asked: Vec<bool>,
    /// Steps that changed something, in the order in which they were done.
    changed: Vec<usize>,
}

impl<'r, 'a> All<'r, 'a> {
    async fn run(mut self) -> Result<(), Box<Problem>> {
        let within = self.request.operation.within;
        let until = within.map(|within| (Instant::now() + within, within));
        let mut running: Vec<(usize, Running<'r>)> = Vec::new();
        let failed = loop {
            if let Err(problem) = self.ask() {
                break problem;
            }
            self.start(&mut running);
            if running.is_empty() {
                return Ok(());
            }
            let (i, gave) = match self.next(&mut running, until).await {
                Ok(came) => came,
                Err(problem) => break problem,
            };
            if let Err(problem) = self.done(i, gave) {
                break problem;
            }
        };
        self.undo(failed, running).await
    }

    /// Waits for the first that is done, as long as all may take together.
    async fn next(
        &self,
        running: &mut Vec<(usize, Running<'r>)>,
        until: Option<(Instant, Duration)>,
    ) -> Result<(usize, Gave), Box<Problem>> {
        let Some((until, within)) = until else {
            return Ok(next(running).await);
        };
        if let Ok(came) = tokio::time::timeout_at(until, next(running)).await {
            return Ok(came);
        }
        let names = running.iter().map(|(i, _)| &*self.calls[*i].step.name);
        let names: Vec<&str> = names.collect();
        Err(late_together(self.request.operation, &names, within))
    }

    /// Notes what a step gave.
    fn done(&mut self, i: usize, gave: Gave) -> Result<(), Box<Problem>> {
        self.states[i] = State::Done;
        let Some(answer) = gave? else { return Ok(()) };
        let call = &self.calls[i];
        // What failed, or was not made since an answer stands for it, changed nothing.
        let was_made = !answer.failed() && !self.x.origin.stands_for(&call.step.name);
        if was_made && plan(call.step).is_some_and(|p| p.writes) {
            self.changed.push(i);
        }
        let _ = self.scope.answers[i].set(answer);
        Ok(())
    }

    /// Asks for all refusals whose answers are there.
    fn ask(&mut self) -> Result<(), Box<Problem>> {
        for (refusal, asked) in self.request.operation.refusals.iter().zip(&mut self.asked) {
            let is_done = |n: &usize| self.states[*n] == State::Done;
            if *asked || !refusal.needs.iter().all(is_done) {
                continue;
            }
            *asked = true;
            refused::ask(self.request, refusal, self.scope)?;
        }
        Ok(())
    }

    /// Starts all steps that wait for nothing any more.
    fn start(&mut self, running: &mut Vec<(usize, Running<'r>)>) {
        for i in 0..self.calls.len() {
            if self.states[i] != State::Waits || !self.may_start(i) {
                continue;
            }
            self.states[i] = State::Runs;
            let (x, request, scope) = (self.x, self.request, self.scope);
            let (call, body) = (&self.calls[i], self.body);
            running.push((i, Box::pin(step(x, request, call, scope, body))));
        }
    }

    fn may_start(&self, i: usize) -> bool {
        let step = self.calls[i].step;
        let is_done = |n: &usize| self.states[*n] == State::Done;
        let Some(plan) = plan(step) else {
            return step.needs.iter().all(is_done);
        };
        if !plan.behind.iter().all(is_done) {
            return false;
        }
        let refusals = self.request.operation.refusals.iter().zip(&self.asked);
        let refusals = refusals.filter(|(_, asked)| plan.writes && !**asked);
        let mut refusals = refusals.map(|(refusal, _)| &refusal.needs);
        refusals.all(|needs| needs.iter().any(|n| *n == i || self.is_behind(*n, i)))
    }

    /// Whether a step cannot be done before another one is.
    fn is_behind(&self, step: usize, other: usize) -> bool {
        plan(self.calls[step].step).is_some_and(|p| p.behind.contains(&other))
    }
}

fn plan(step: &Step) -> Option<&StepPlan> {
    step.plan.as_deref()
}

/// A body that several steps may need is read once.
async fn shared_body<'a>(
    x: &Exchange<'_>,
    request: &Request<'a>,
    calls: &[Call<'a>],
    scope: &mut Scope<'_>,
    body: InBody,
) -> Result<CallerBody, Box<Problem>> {
    let mut needs = match request.operation.reply.reads_body {
        true => Needs::Value,
        false => Needs::Nothing,
    };
    for call in calls {
        let own = {
            let cx = call.context(x, request, scope);
            call.protocol.needs(&cx, &body)
        };
        let spares = routed::spares(x, call.step).iter();
        let others = spares.filter_map(|s| routed::needs(x, request, (call, s), scope, &body));
        needs = others.fold(body::both(needs, own), body::both);
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

fn copy(body: &CallerBody) -> CallerBody {
    match body.bytes() {
        Some(bytes) => CallerBody::Bytes(bytes.clone()),
        None => CallerBody::Gone,
    }
}

/// One step: called where it is to be, once or for each item of a list, with what stands for its answer where it fails.
async fn step<'a>(
    x: &Exchange<'_>,
    request: &Request<'a>,
    call: &Call<'a>,
    scope: &Scope<'_>,
    body: &CallerBody,
) -> Gave {
    let Some(plan) = plan(call.step) else {
        return answer(x, request, call, scope, copy(body)).await.map(Some);
    };
    if let Some(when) = &plan.when
        && !truth(request, call, scope, when)?
    {
        call.tell(x, format!("{}: is not called", call.step.name));
        return match &plan.each {
            // For nothing it was called.
            Some(_) => {
                let none = Value::Array(Vec::new());
                let view = AnswerView::bare(0, none);
                Ok(Some(view.named(true)))
            }
            None => instead(request, call, scope, 0),
        };
    }
    let gave = match &plan.each {
        _ if x.origin.given(&call.step.name).is_some() => given(x, request, call, plan, scope),
        Some(each) => each::run(x, request, call, (each, plan), scope, body).await,
        None if let Some(pages) = &plan.pages => {
            pages::run(x, request, call, pages, scope, body).await
        }
        None => {
            let answer = answer(x, request, call, scope, copy(body)).await;
            answer.and_then(|answer| shaped(request, call, plan, (answer, None), scope))
        }
    };
    match gave {
        Ok(answer) => Ok(Some(answer)),
        Err(problem) if plan.otherwise.is_some() && plan.each.is_none() => {
            stands_for(x, call, &problem);
            instead(request, call, scope, problem.status.as_u16())
        }
        Err(problem) => Err(problem),
    }
}

/// What is made in place of an answer, for people.
const INSTEAD: &str = "what stands for its answer";

/// The answer that somebody who tries the operation gives in place of a call; of a list, what all of its calls gave.
fn given(
    x: &Exchange<'_>,
    request: &Request<'_>,
    call: &Call<'_>,
    plan: &StepPlan,
    scope: &Scope<'_>,
) -> Result<AnswerView, Box<Problem>> {
    let Some(given) = x.origin.given(&call.step.name) else {
        return Err(call.unusual(request, StatusCode::OK));
    };
    called_nothing(x, call);
    let status = given.status;
    if !status.is_success() && !plan.statuses.contains(&status.as_u16()) {
        return Err(call.unusual(request, status));
    }
    let view = AnswerView::bare(status.as_u16(), given.body.clone()).named(false);
    match plan.each.is_some() || plan.pages.is_some() {
        true => Ok(view),
        false => shaped(request, call, plan, (view, None), scope),
    }
}

/// Notes that something stands for an answer.
fn stands_for(x: &Exchange<'_>, call: &Call<'_>, problem: &Problem) {
    let (name, why) = (call.shown(), &problem.refusal.why);
    let text = format!("{name} failed, and its “otherwise” stands for it: {why}");
    call.tell(x, text);
}

/// What stands for an answer that is not there.
fn instead(request: &Request<'_>, call: &Call<'_>, scope: &Scope<'_>, status: u16) -> Gave {
    let otherwise = plan(call.step).and_then(|p| p.otherwise.as_ref());
    let Some(otherwise) = otherwise else {
        return Ok(None);
    };
    let made = otherwise.render(scope);
    let made = made.map_err(|e| call.failed(request, INSTEAD, e))?;
    let body = made.unwrap_or(Value::Null);
    let view = AnswerView::bare(status, body);
    Ok(Some(view.named(true)))
}

/// Whether a condition holds.
fn truth(
    request: &Request<'_>,
    call: &Call<'_>,
    scope: &Scope<'_>,
    when: &Template,
) -> Result<bool, Box<Problem>> {
    let held = refused::holds(when, scope);
    held.map_err(|e| call.failed(request, "whether it is called", e))
}

/// What is made of an answer.
fn shaped(
    request: &Request<'_>,
    call: &Call<'_>,
    plan: &StepPlan,
    (mut answer, item): (AnswerView, Option<&Value>),
    scope: &Scope<'_>,
) -> Result<AnswerView, Box<Problem>> {
    let Some(template) = &plan.answer else {
        return Ok(answer);
    };
    let made = {
        let within = Within {
            around: scope,
            item,
            answer: Some(&answer),
        };
        template.render(&Scope::inside(&within))
    };
    let made = made.map_err(|(source, e)| {
        let why = format!("its answer cannot be shaped: ={source}: {e}");
        call.problem(request, Failure::Answer(why), StageName::Reply)
    })?;
    answer.replace_body(made.unwrap_or(Value::Null));
    Ok(answer)
}

/// The answer of one call, as expressions see it.
async fn answer<'a>(
    x: &Exchange<'_>,
    request: &Request<'a>,
    call: &Call<'a>,
    scope: &Scope<'_>,
    body: CallerBody,
) -> Result<AnswerView, Box<Problem>> {
    let statuses = plan(call.step).map_or(&[][..], |p| &p.statuses);
    let takes = |status: StatusCode| statuses.contains(&status.as_u16());
    let came = match routed::aside(x, call.step) {
        false => carry_out(x, request, call, scope, body).await,
        true => {
            let mut own = *call;
            routed::carry_out(x, request, &mut own, scope, body).await
        }
    };
    let done = match came {
        Ok(done) => done,
        Err(problem) if takes(problem.status) => {
            let told = json!({ "title": problem.title(), "detail": problem.detail() });
            let view = AnswerView::bare(problem.status.as_u16(), told);
            return Ok(view.named(false));
        }
        Err(problem) => return Err(problem),
    };
    let (status, fields) = (done.status, done.fields);
    let failed = |failure| call.problem(request, failure, StageName::Reply);
    let (value, soap_headers) = match done.answer {
        Answer::Whole(whole) => {
            let value = match whole.body {
                Content::Empty => Value::Null,
                Content::Json(json) => json_of(&json, &x.share).map_err(failed)?,
                Content::Value(value) => value,
                Content::Raw(..) => {
                    let why = "an expression cannot look into it".to_owned();
                    return Err(failed(Failure::Answer(why)));
                }
            };
            (value, whole.soap_headers)
        }
        Answer::Through(_) if status == StatusCode::NO_CONTENT || takes(status) => {
            (Value::Null, None)
        }
        Answer::Through(_) => return Err(call.unusual(request, status)),
    };
    let view = AnswerView::new(status.as_u16(), fields, value, soap_headers);
    Ok(view.named(false))
}

/// Waits for the first that is done.
async fn next<T>(running: &mut Vec<(usize, Waiting<'_, T>)>) -> (usize, T) {
    let (at, gave) = std::future::poll_fn(|cx| {
        for (at, (_, future)) in running.iter_mut().enumerate() {
            if let Poll::Ready(gave) = future.as_mut().poll(cx) {
                return Poll::Ready((at, gave));
            }
        }
        Poll::Pending
    })
    .await;
    let (i, _) = running.swap_remove(at);
    (i, gave)
}
