//! Calls that go to another backend in place of their own: chosen before anything is made, or spared where no answer came.
//!
//! All of it lies aside: a call that goes nowhere else has no room for it.

use std::sync::Arc;

use bytes::Bytes;
use http::StatusCode;
use porch_facade::{Choice, CompiledBackend, Routing, Share, Spare, Step};
use porch_rules::expr::EvalError;
use serde_json::Value;

use super::attempts::{Kept, may_be_made, may_be_repeated};
use super::one::{self, Call, Done};
use super::refused::holds;
use super::{body, copied};
use crate::body::InBody;
use crate::call::{CallerBody, Needs};
use crate::exchange::state::Exchange;
use crate::failure::Failure;
use crate::problem::{Lost, Problem, of_failure};
use crate::scope::Scope;
use crate::steps::request::Request;
use crate::trace::StageName;

/// What a step calls: an index of a backend, and what of it.
type Called<'a> = (usize, &'a Arc<dyn porch_facade::Call>);

/// Where a call goes: the first choice that fits, or its own backend.
#[cold]
pub(super) fn chosen<'a>(
    x: &Exchange<'_>,
    request: &Request<'a>,
    (step, routing): (&'a Step, &'a Routing),
    scope: &Scope<'_>,
) -> Result<Called<'a>, Box<Problem>> {
    if let (Some(_), Some(shadow)) = (x.copy(), &routing.shadow) {
        return Ok((shadow.way.backend, &shadow.way.call));
    }
    for choice in &routing.choices {
        let fits = fits(choice, scope).map_err(|(source, e)| {
            let failure = Failure::unsuitable("where the call goes", (source, e));
            of_failure(failure, request.operation, None, StageName::Prepare).of_rule(&choice.place)
        })?;
        if fits {
            let place = &choice.place;
            let other = choice
                .way
                .as_ref()
                .and_then(|way| request.facade.backends.get(way.backend));
            if let Some(other) = other.filter(|other| not_well(x, other)) {
                let text = format!(
                    "{} is not well, and is passed over: {} ({})",
                    other.name,
                    place.rule,
                    place.told()
                );
                tell(x, text);
                continue;
            }
            let name = match request.operation.steps.len() {
                1 => String::new(),
                _ => format!("{}: ", step.name),
            };
            tell(x, format!("{name}{} ({})", place.rule, place.told()));
            return Ok(match &choice.way {
                Some(way) => (way.backend, &way.call),
                None => (step.backend, &step.call),
            });
        }
    }
    Ok((step.backend, &step.call))
}

fn fits(choice: &Choice, scope: &Scope<'_>) -> Result<bool, (String, EvalError)> {
    if let Some(when) = &choice.when
        && !holds(when, scope)?
    {
        return Ok(false);
    }
    choice.share.as_ref().map_or(Ok(true), |s| takes(s, scope))
}

/// Whether a share takes the caller. Whoever cannot be told from others is one with them.
fn takes(share: &Share, scope: &Scope<'_>) -> Result<bool, (String, EvalError)> {
    let Some(by) = &share.by else {
        let name = scope.caller.consumer_name();
        return Ok(match name {
            "" => share.takes(scope.address.to_string().as_bytes()),
            name => share.takes(name.as_bytes()),
        });
    };
    Ok(match by.render(scope)? {
        Some(Value::String(text)) => share.takes(text.as_bytes()),
        Some(value) => share.takes(value.to_string().as_bytes()),
        None => share.takes(b""),
    })
}

/// The backends that are called where a step's gives no answer; what another call takes back stays where it was done.
pub(super) fn spares<'a>(x: &Exchange<'_>, step: &'a Step) -> &'a [Spare] {
    let routing = step.routing.as_deref();
    let may = step.plan.as_ref().is_none_or(|p| p.undo.is_none()) && x.copy().is_none();
    routing.filter(|_| may).map_or(&[], |r| &r.spares)
}

/// Whether there is more to a call than to make it.
pub(super) fn aside(x: &Exchange<'_>, step: &Step) -> bool {
    step.routing.is_some() && (!spares(x, step).is_empty() || copied::is_copied(x, step))
}

/// How a spare needs the caller's body.
pub(super) fn needs<'a>(
    x: &Exchange<'_>,
    request: &Request<'a>,
    (call, spare): (&Call<'a>, &'a Spare),
    scope: &Scope<'_>,
    body: &InBody,
) -> Option<Needs> {
    let other = call.by(x, request, &spare.way)?;
    let cx = other.context(x, request, scope);
    Some(other.protocol.needs(&cx, body))
}

/// How the body is needed by all that may be called: what may be sent once more is kept until then.
pub(super) fn needed<'a>(
    x: &Exchange<'_>,
    request: &Request<'a>,
    call: &Call<'a>,
    scope: &Scope<'_>,
    (own, body): (Needs, &InBody),
) -> Needs {
    let own = one::needed(request, call, own);
    let spares = spares(x, call.step);
    if spares.is_empty() || !may_be_made(request, call) {
        return own;
    }
    let others = spares.iter();
    let others = others.filter_map(|s| needs(x, request, (call, s), scope, body));
    // What streams is read: it may be sent twice.
    others.fold(body::both(Needs::Nothing, own), body::both)
}

/// Carries a call out; where no answer comes, that of its spares in their order.
pub(super) async fn carry_out<'a>(
    x: &Exchange<'_>,
    request: &Request<'a>,
    call: &mut Call<'a>,
    scope: &Scope<'_>,
    body: CallerBody,
) -> Result<Done, Box<Problem>> {
    let came = spared(x, request, call, scope, body).await;
    let came = copied::read(x, call.step, came).await;
    if copied::is_copied(x, call.step) {
        copied::behind(x, request, call, scope, &came).await;
    }
    came
}

/// The same without copies.
async fn spared<'a>(
    x: &Exchange<'_>,
    request: &Request<'a>,
    call: &mut Call<'a>,
    scope: &Scope<'_>,
    body: CallerBody,
) -> Result<Done, Box<Problem>> {
    let kept = Kept::of(&body);
    let mut others = spares(x, call.step).iter().peekable();
    let mut body = Some(body);
    // One that takes no connections is not asked first.
    while let Some(why) = away(x, call.backend)
        && let Some(spare) = others.peek()
        && let Some(other) = call.by(x, request, &spare.way)
        && body.is_some()
    {
        let text = format!("{} {why}: {}", call.backend.name, told(spare));
        call.tell(x, text);
        *call = other;
        others.next();
    }
    let mut failed: Vec<String> = Vec::new();
    loop {
        let own = match body.take() {
            Some(body) => body,
            None => match &kept {
                Kept::Read(bytes) => CallerBody::Bytes(Bytes::clone(bytes)),
                Kept::None | Kept::Gone => CallerBody::Gone,
            },
        };
        let came = one::carry_out(x, request, call, scope, own).await;
        let lost = lost(request, call, &came).filter(|_| !matches!(kept, Kept::Gone));
        let lost = lost.map(|mut told| {
            call.backend.credentials.mask.text(&mut told);
            told
        });
        let next = others.next().filter(|_| lost.is_some());
        let other = next.and_then(|spare| Some((spare, call.by(x, request, &spare.way)?)));
        let (Some(lost), Some((spare, other))) = (lost, other) else {
            return came.map_err(|mut problem| {
                failed.iter().for_each(|told| problem.also(told));
                problem
            });
        };
        // A failure was told where it happened.
        let text = match came {
            Ok(_) => format!("{lost}: {}", told(spare)),
            Err(_) => told(spare),
        };
        call.tell(x, text);
        failed.push(format!("before it: {lost}"));
        *call = other;
    }
}

/// Whether none of a backend's addresses is well, as far as they are asked.
fn not_well(x: &Exchange<'_>, backend: &CompiledBackend) -> bool {
    let mut all = 0..backend.addresses.len();
    let watched = &x.worker.shared.watched;
    all.all(|at| watched.told(backend, at).is_some())
}

/// Why a backend is not asked first.
fn away(x: &Exchange<'_>, backend: &CompiledBackend) -> Option<&'static str> {
    if x.worker.backends.is_down(backend) {
        return Some(match not_well(x, backend) {
            true => "is not well",
            false => "took no connection lately",
        });
    }
    let resting = x.worker.shared.circuits.resting(backend);
    resting.map(|_| "is left alone")
}

fn told(spare: &Spare) -> String {
    format!("{} ({})", spare.place.rule, spare.place.told())
}

/// Why no answer came that another backend could not give, where the call may be made once more.
fn lost(
    request: &Request<'_>,
    call: &Call<'_>,
    came: &Result<Done, Box<Problem>>,
) -> Option<String> {
    let unavailable = [
        StatusCode::BAD_GATEWAY,
        StatusCode::SERVICE_UNAVAILABLE,
        StatusCode::GATEWAY_TIMEOUT,
    ];
    let is_answer = |status: StatusCode| {
        let plan = call.step.plan.as_ref();
        plan.is_some_and(|p| p.statuses.contains(&status.as_u16()))
    };
    let repeats = || may_be_repeated(request, call, false);
    match came {
        Ok(done) if unavailable.contains(&done.status) && !is_answer(done.status) && repeats() => {
            Some(format!("{} answered {}", call.backend.name, done.status))
        }
        Ok(_) => None,
        Err(problem) => match problem.lost {
            Lost::Unsent if may_be_made(request, call) => Some(problem.refusal.why.clone()),
            Lost::Perhaps if !is_answer(problem.status) && repeats() => {
                Some(problem.refusal.why.clone())
            }
            _ => None,
        },
    }
}

/// Tells where a call goes.
fn tell(x: &Exchange<'_>, text: String) {
    let mut recorder = x.recorder.borrow_mut();
    let from = recorder.begin();
    recorder.stage(StageName::Prepare, from, |stage| stage.notes.push(text));
}
