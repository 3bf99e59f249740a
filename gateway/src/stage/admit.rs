//! Admit: credentials, limits, sizes, media types, contract.

use http::request::Parts;
use porch_facade::{CompiledOperation, MediaType, RoleRule};

use super::find::Found;
use super::{credential, limits};
use crate::body::InBody;
use crate::exchange::state::{Exchange, Mode};
use crate::media;
use crate::problem::{self, Problem};
use crate::scope::{Parameters, Scope, parameters};
use crate::trace::{Stage, StageName};

/// What was found out of a request that may pass.
pub(crate) struct Admitted<'x> {
    pub(crate) parameters: Parameters<'x>,
}

/// Whether a request may pass.
pub(crate) fn admit<'x>(
    x: &mut Exchange<'_>,
    found: &Found<'x>,
    captured: &[&str],
    parts: &Parts,
    body: &InBody,
) -> Result<Admitted<'x>, Box<Problem>> {
    let from = x.recorder.borrow().begin();
    let op = found.operation;
    if x.mode == Mode::Live {
        if !op.admission.networks.is_empty() {
            networks_let(x, op)?;
        }
        // Who had to prove it did so before.
        if !op.admission.credentials.is_empty() && x.caller.consumer().is_none() {
            x.caller = credential::caller(x, found.facade, op, parts)?;
        }
        if !op.admission.roles.is_empty() {
            roles(x, op)?;
        }
        // What several nodes count together is asked for when nothing else is left to look at.
        if !op.admission.limits.plain.is_empty() && x.worker.shared.common.is_none() {
            limits::plain(x, op)?;
        }
    }
    if body.length().is_some_and(|n| n > op.admission.max_body)
        && !op.steps.iter().any(|s| s.call.takes_messages())
    {
        return Err(problem::too_large(op));
    }
    // A native call has its values in its messages.
    let parameters = if found.native {
        Parameters::default()
    } else {
        parameters(op, captured, parts.uri.query(), &parts.headers)
            .map_err(|list| problem::mistakes(list, op, StageName::Admit))?
    };
    let asked_here = x.mode == Mode::Live && x.worker.shared.common.is_none();
    let parameters = match op.admission.limits.asked.is_empty() || !asked_here {
        true => parameters,
        false => {
            asked(x, found, parts, &parameters)?;
            parameters
        }
    };
    x.recorder.borrow_mut().stage(StageName::Admit, from, |s| {
        note(s, x, op, &parameters);
    });
    x.chosen = chosen(op, parts)?;
    Ok(Admitted { parameters })
}

/// Asks the limits that look at the request.
#[cold]
fn asked(
    x: &mut Exchange<'_>,
    found: &Found<'_>,
    parts: &Parts,
    parameters: &Parameters<'_>,
) -> Result<(), Box<Problem>> {
    let (parameters, caller) = (parameters.clone(), x.caller.clone());
    let by = (&caller, x.origin.address);
    let scope = Scope::of(found.operation, &parts.headers, parameters, by);
    limits::asked(x, (found.facade, found.operation), &scope)
}

/// Whether the caller has the roles that it takes.
#[cold]
fn roles(x: &Exchange<'_>, op: &CompiledOperation) -> Result<(), Box<Problem>> {
    let has = |rule: &RoleRule| x.caller.roles().any(|r| rule.any.iter().any(|a| a == r));
    let mut rules = op.admission.roles.iter();
    match (rules.find(|rule| !has(rule)), x.caller.consumer()) {
        (Some(rule), Some(consumer)) => {
            let own: Vec<&str> = x.caller.roles().collect();
            Err(problem::no_role(consumer, &own, rule))
        }
        _ => Ok(()),
    }
}

/// Whether callers of an address may call: the cheapest of all refusals.
#[cold]
pub(super) fn networks_let(x: &Exchange<'_>, op: &CompiledOperation) -> Result<(), Box<Problem>> {
    let address = x.origin.address;
    let mut all = op.admission.networks.iter();
    match all.find(|networks| !networks.lets(address)) {
        None => Ok(()),
        Some(networks) => Err(problem::other_network(address, &networks.place)),
    }
}

/// The media type that the caller gets, when there is a choice.
fn chosen(op: &CompiledOperation, parts: &Parts) -> Result<Option<MediaType>, Box<Problem>> {
    let Some(offer) = &op.admission.media else {
        return Ok(None);
    };
    match media::choose(&parts.headers, &offer.offered) {
        Some(chosen) => Ok(Some(chosen)),
        None => {
            let names: Vec<&str> = offer.offered.iter().map(|k| media::name(*k)).collect();
            Err(problem::not_acceptable(&names, op))
        }
    }
}

fn note(stage: &mut Stage, x: &Exchange<'_>, op: &CompiledOperation, parameters: &Parameters<'_>) {
    let live = x.mode == Mode::Live;
    let notes = &mut stage.notes;
    match x.caller.consumer() {
        Some(consumer) => {
            let shown = x.caller.credential();
            notes.push(format!("{shown} is of the consumer “{}”", consumer.name));
            notes.extend(
                x.caller
                    .agreement()
                    .map(|a| format!("the agreement to “{}” holds", a.offer)),
            );
        }
        None if live => notes.push("no key is demanded".into()),
        None if !op.admission.credentials.is_empty() => {
            notes.push("a trial run: the key that callers must show is not demanded".into());
        }
        None => {}
    }
    let counted_here = !live || x.worker.shared.common.is_none();
    for limit in op.admission.limits.of_time().filter(|_| counted_here) {
        let counted = x.rate.as_ref().and_then(|r| r.state.to_str().ok());
        let state = if live {
            counted.unwrap_or_default()
        } else {
            "not counted in a trial run"
        };
        let place = &limit.place;
        notes.push(format!("{} ({}): {state}", place.rule, place.reach));
    }
    let path = op.route.variables.iter().map(String::as_str);
    let query = parameters.1.iter().map(|(name, value)| (*name, value));
    for (name, value) in path.zip(&parameters.0).chain(query) {
        notes.push(format!("{name} = {value}"));
    }
}
