//! Admit: credentials, limits, sizes, media types, contract.

use std::net::IpAddr;

use http::HeaderValue;
use http::request::Parts;
use porch_facade::{CompiledOperation, LimitPlan, MediaType, Per};
use porch_rules::limit::{Decision, stable_id};

use super::credential;
use super::find::Found;
use crate::body::InBody;
use crate::caller::{Caller, RateFields};
use crate::exchange::Origin;
use crate::exchange::state::{Exchange, Mode};
use crate::media;
use crate::problem::{self, Problem, seconds};
use crate::scope::{Parameters, parameters};
use crate::shared::Shared;
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
        let shared = &x.worker.shared;
        if !op.admission.networks.is_empty() {
            networks(op, x.origin.address)?;
        }
        if !op.admission.credentials.is_empty() {
            let grants = shared.grants.load();
            let now = x.now / 1000;
            x.caller = credential::caller(found.facade, op, &parts.headers, &grants, now)?;
        }
        if !op.admission.limits.is_empty() {
            x.rate = limits(shared, op, &x.caller, x.origin)?;
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
    x.recorder.borrow_mut().stage(StageName::Admit, from, |s| {
        note(s, x, op, &parameters);
    });
    x.chosen = chosen(op, parts)?;
    Ok(Admitted { parameters })
}

/// Whether callers of an address may call: the cheapest of all refusals.
#[cold]
fn networks(op: &CompiledOperation, address: IpAddr) -> Result<(), Box<Problem>> {
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

/// Asks every limit; a refusal gives back what earlier limits had counted.
fn limits(
    shared: &Shared,
    op: &CompiledOperation,
    caller: &Caller,
    origin: &Origin,
) -> Result<Option<RateFields>, Box<Problem>> {
    let now = shared.now_ms();
    let plans = &op.admission.limits;
    let mut tightest: Option<(&LimitPlan, Decision)> = None;
    for (i, plan) in plans.iter().enumerate() {
        let subject = subject(plan, caller, origin);
        let decision = shared.counters.ask(plan.id, subject, plan.limit, now);
        if !decision.allowed {
            for earlier in &plans[..i] {
                let subject = self::subject(earlier, caller, origin);
                shared.counters.give_back(earlier.id, subject);
            }
            let state = state(plan, &decision);
            return Err(problem::too_many(
                plan,
                &decision,
                caller.consumer(),
                &state,
            ));
        }
        if tightest
            .as_ref()
            .is_none_or(|(_, d)| decision.remaining < d.remaining)
        {
            tightest = Some((plan, decision));
        }
    }
    Ok(tightest.and_then(|(plan, decision)| fields(plan, &decision)))
}

fn subject(plan: &LimitPlan, caller: &Caller, origin: &Origin) -> u64 {
    match plan.per {
        Per::Consumer => caller.consumer_id() as u64,
        Per::Address => {
            let of_address = || stable_id(&counted(origin.address).to_string());
            *origin.subject.get_or_init(of_address)
        }
        Per::Everyone => 0,
    }
}

/// The address that is counted: of IPv6 the network, of which one caller has 2^64 addresses (RFC 6177 §2).
fn counted(address: IpAddr) -> IpAddr {
    match address.to_canonical() {
        IpAddr::V6(v6) => IpAddr::V6((u128::from(v6) >> 64 << 64).into()),
        v4 => v4,
    }
}

fn fields(plan: &LimitPlan, decision: &Decision) -> Option<RateFields> {
    Some(RateFields {
        policy: plan.policy.clone(),
        state: HeaderValue::from_str(&state(plan, decision)).ok()?,
    })
}

fn state(plan: &LimitPlan, decision: &Decision) -> String {
    let wait = if decision.remaining == 0 {
        decision.retry_after
    } else {
        decision.reset
    };
    // Without the general machine for texts: every limited call has it.
    let mut number = itoa::Buffer::new();
    let mut text = String::with_capacity(plan.name.len() + 40);
    text.push('"');
    text.push_str(&plan.name);
    text.push_str("\";r=");
    text.push_str(number.format(decision.remaining));
    text.push_str(";t=");
    text.push_str(number.format(seconds(wait)));
    text
}

fn note(stage: &mut Stage, x: &Exchange<'_>, op: &CompiledOperation, parameters: &Parameters<'_>) {
    let live = x.mode == Mode::Live;
    let notes = &mut stage.notes;
    match x.caller.consumer() {
        Some(consumer) => notes.push(format!(
            "the key “{}…” is of the consumer “{}”",
            x.caller.shown(),
            consumer.name
        )),
        None if live => notes.push("no key is demanded".into()),
        None if !op.admission.credentials.is_empty() => {
            notes.push("a trial run: the key that callers must show is not demanded".into());
        }
        None => {}
    }
    for limit in &op.admission.limits {
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_address_is_counted_by_what_one_caller_has() {
        let of = |text: &str| counted(text.parse().unwrap()).to_string();
        assert_eq!(of("10.1.2.3"), "10.1.2.3");
        assert_eq!(of("::ffff:10.1.2.3"), "10.1.2.3");
        assert_eq!(of("2001:db8:1:2:3:4:5:6"), "2001:db8:1:2::");
        assert_eq!(of("2001:db8:1:2::"), of("2001:db8:1:2:ffff:ffff:ffff:ffff"));
        assert_ne!(of("2001:db8:1:2::"), of("2001:db8:1:3::"));
    }
}
