//! Limits and quotas: asked in the order of cost, given back where the call goes no further.

mod asked;
mod at_once;
mod common;

use std::sync::Arc;

use http::HeaderValue;
use porch_facade::{CompiledOperation, LimitPlan, Number, Time, Who, policy};
use porch_rules::grant::Kind;
use porch_rules::guess::counted;
use porch_rules::limit::{Decision, Limit, stable_id};

use crate::Shared;
use crate::caller::{Caller, RateFields};
use crate::count::{Ask, counted_for, limit_in, period_of};
use crate::exchange::Origin;
use crate::exchange::state::Exchange;
use crate::problem::{self, Problem, Refused, seconds};
use crate::scope::Scope;
use crate::usage::{QuotaTold, Record};

pub(super) use asked::asked;
pub(crate) use at_once::at_once;
pub(crate) use common::together;

use asked::crossed;

/// What one limit counted.
#[derive(Clone, Copy)]
pub(crate) struct Counted {
    id: u64,
    subject: u64,
    limit: Limit,
    weight: u64,
    at: u64,
    /// Whether it was counted together with other nodes.
    common: bool,
}

/// Bytes that are counted when all of them are known.
pub(crate) struct Charge {
    id: u64,
    subject: u64,
    limit: Limit,
    told: Option<Box<QuotaTold>>,
    warn_at: Box<[u8]>,
    most: u64,
    common: bool,
}

/// The nearest of several limits.
#[derive(Default)]
struct Nearest<'p> {
    found: Option<(&'p LimitPlan, Limit, Decision)>,
    /// Whether it is this node's share only.
    apart: bool,
}

impl<'p> Nearest<'p> {
    /// The one of which the smallest part is left.
    fn add(&mut self, plan: &'p LimitPlan, limit: Limit, decision: Decision) {
        let part = |limit: &Limit, d: &Decision| d.remaining as f64 / limit.most.max(1) as f64;
        let nearer = |(_, l, d): &(_, Limit, Decision)| part(&limit, &decision) < part(l, d);
        if self.found.as_ref().is_none_or(nearer) {
            self.found = Some((plan, limit, decision));
        }
    }

    fn fields(self) -> Option<RateFields> {
        let (plan, limit, decision) = self.found?;
        let mut fields = fields(plan, limit, &decision)?;
        if self.apart {
            // A parameter that says so (RFC 9651 §3.1.2); who does not know it passes it over.
            let told = format!("{};apart", fields.state.to_str().ok()?);
            fields.state = HeaderValue::from_str(&told).ok()?;
        }
        Some(fields)
    }

    /// Those of limits that were asked before have said theirs; of both the one of which less is left stays.
    fn beside(self, rate: &mut Option<RateFields>) {
        let Some((_, limit, decision)) = &self.found else {
            return;
        };
        let part = decision.remaining as f64 / limit.most.max(1) as f64;
        if rate.as_ref().is_none_or(|rate| part <= part_of(rate)) {
            *rate = self.fields();
        }
    }
}

/// Asks the limits that take nothing but who calls.
pub(super) fn plain(x: &mut Exchange<'_>, op: &CompiledOperation) -> Result<(), Box<Problem>> {
    let shared = &x.worker.shared;
    let now = shared.now_ms();
    let plans = &op.admission.limits.plain;
    let mut nearest = Nearest::default();
    for plan in plans {
        let Some(limit) = plan.plain else { continue };
        let subject = subject(&plan.per, &x.caller, x.origin, x.facade_name());
        let decision = shared.counters.ask(plan.id, subject, limit, 1, now);
        if !decision.allowed {
            give_back(x, op);
            return Err(refused(x, plan, limit, 1, &decision));
        }
        match x.counted {
            0 => x.counted = decision.at,
            _ => x.rare().plain.push(decision.at),
        }
        nearest.add(plan, limit, decision);
    }
    x.rate = nearest.fields();
    Ok(())
}

/// The part of a limit that is left, as its fields say it.
fn part_of(rate: &RateFields) -> f64 {
    let number = |field: &HeaderValue, key: &str| {
        let text = field.to_str().ok()?;
        let (_, rest) = text.rsplit_once(key)?;
        rest.split(';').next()?.parse::<f64>().ok()
    };
    match (number(&rate.state, ";r="), number(&rate.policy, ";q=")) {
        (Some(left), Some(most)) if most > 0.0 => left / most,
        _ => 1.0,
    }
}

/// The limit as it is for this call: a quota's period, and what was added to it.
fn limit_of(x: &Exchange<'_>, plan: &LimitPlan, most: u64, subject: u64) -> Limit {
    if let Time::Window(window, form) = plan.time {
        return Limit { most, window, form };
    }
    let now = i64::try_from(x.worker.shared.now_ms()).unwrap_or(i64::MAX);
    let period = period_of(plan, x.caller.agreement(), now).unwrap_or((0, i64::MAX));
    let from = u64::try_from(period.0).unwrap_or(0);
    let added = x.worker.shared.added(plan.id, subject, from);
    limit_in(period, most.saturating_add(added))
}

/// A number that is known or asked for.
fn number(number: &Number, scope: &Scope<'_>) -> Result<u64, String> {
    let (template, source) = match number {
        Number::Fixed(number) => return Ok(*number),
        Number::Asked(template, source) => (template, source),
    };
    match template.render(scope) {
        Ok(Some(value)) => value
            .as_u64()
            .ok_or_else(|| format!("“={source}” gives {value}, which is no whole number")),
        Ok(None) => Err(format!("“={source}” has no value")),
        Err((_, e)) => Err(format!("“={source}”: {e}")),
    }
}

/// Takes back what was counted: the call is refused, and reaches no backend.
#[cold]
pub(crate) fn give_back(x: &mut Exchange<'_>, op: &CompiledOperation) {
    let first = Some(std::mem::take(&mut x.counted)).filter(|at| *at > 0);
    let rare = x.rare.take().unwrap_or_default();
    let plain = first.into_iter().chain(rare.plain);
    x.rate = None;
    let shared = &x.worker.shared;
    let now = shared.now_ms();
    for (plan, at) in op.admission.limits.plain.iter().zip(plain) {
        if let Some(limit) = plan.plain {
            let subject = subject(&plan.per, &x.caller, x.origin, x.facade_name());
            let when = (at, now);
            shared.counters.give_back(plan.id, subject, limit, 1, when);
        }
    }
    for a in rare.counted {
        if let (true, Some(common)) = (a.common, &shared.common) {
            let ask = Ask {
                limit: a.id,
                subject: a.subject,
                rule: a.limit,
                weight: a.weight,
            };
            common.give_back(ask, a.at);
            continue;
        }
        let when = (a.at, now);
        shared
            .counters
            .give_back(a.id, a.subject, a.limit, a.weight, when);
    }
}

impl Charge {
    /// Counts the bytes of an exchange that is over; one was counted before.
    pub(crate) fn pay(self, shared: &Arc<Shared>, bytes: u64) {
        let more = bytes.saturating_sub(1);
        if let (true, Some(common)) = (self.common, &shared.common) {
            let ask = Ask {
                limit: self.id,
                subject: self.subject,
                rule: self.limit,
                weight: more,
            };
            let (answer, shared) = (common.charge(ask), shared.clone());
            // What ends with its worker has nobody left to tell.
            let Ok(runtime) = tokio::runtime::Handle::try_current() else {
                return;
            };
            runtime.spawn(async move {
                if let Ok(used) = answer.await {
                    self.tell(&shared, more, used);
                }
            });
            return;
        }
        let now = shared.now_ms();
        let used = shared
            .counters
            .charge(self.id, self.subject, self.limit, more, now);
        self.tell(shared, more, used);
    }

    fn tell(self, shared: &Shared, more: u64, used: u64) {
        let before = used.saturating_sub(more);
        let Some(mut told) = self.told else { return };
        if let Some(share) = crossed(&self.warn_at, self.most, (before.saturating_sub(1), used)) {
            (told.share, told.used) = (share, used);
            shared.send(Record::Quota(told));
        }
    }
}

/// Who a limit is counted for, where that may be asked of the request.
fn asked_for(x: &Exchange<'_>, per: &Who, facade: &str, scope: &Scope<'_>) -> Result<u64, String> {
    let Who::Value(template) = per else {
        return Ok(subject(per, &x.caller, x.origin, facade));
    };
    match template.render(scope) {
        Ok(Some(value)) => Ok(stable_id(&value.to_string())),
        Ok(None) => Ok(0),
        Err((_, e)) => Err(e.to_string()),
    }
}

/// The same label of another kind is another credential.
fn of_credential(caller: &Caller) -> u64 {
    match caller.kind() {
        Kind::Key => stable_id(caller.shown()),
        kind => stable_id(&format!("{}\0{}", kind.name(), caller.shown())),
    }
}

/// Who a limit is counted for.
#[inline]
fn subject(per: &Who, caller: &Caller, origin: &Origin, facade: &str) -> u64 {
    match per {
        Who::Consumer => caller.consumer_id() as u64,
        Who::Address => {
            let of_address = || stable_id(&counted(origin.address).to_string());
            *origin.subject.get_or_init(of_address)
        }
        Who::Everyone | Who::Value(_) => 0,
        Who::Facade => stable_id(facade),
        Who::Key => of_credential(caller),
        Who::Agreement | Who::Account => {
            let of = |consumer| counted_for(per, consumer, caller.agreement(), facade);
            caller.consumer().and_then(of).unwrap_or(0)
        }
    }
}

/// Whose limit it is, for people.
fn whose(per: &Who, x: &Exchange<'_>) -> (String, &'static str) {
    let caller = &x.caller;
    let consumer = || match caller.consumer() {
        Some(c) => format!("the consumer “{}”", c.name),
        None => "this caller".to_owned(),
    };
    match per {
        Who::Consumer => (consumer(), "for each consumer"),
        Who::Address => ("this address".into(), "for each address"),
        Who::Everyone => ("all callers together".into(), "for all callers together"),
        Who::Facade => ("all callers of the facade".into(), "for each facade"),
        Who::Key => (caller.credential(), "for each key"),
        Who::Agreement => match caller.agreement() {
            Some(a) => (
                format!("{} by “{}”", consumer(), a.offer),
                "for each agreement",
            ),
            None => (consumer(), "for each agreement"),
        },
        Who::Account => match caller.account() {
            "" => (consumer(), "for each account"),
            account => (format!("the account “{account}”"), "for each account"),
        },
        Who::Value(_) => ("callers like this one".into(), "for each of its kind"),
    }
}

fn refused(
    x: &Exchange<'_>,
    plan: &LimitPlan,
    limit: Limit,
    weight: u64,
    decision: &Decision,
) -> Box<Problem> {
    let (whose, per) = whose(&plan.per, x);
    let policy = policy_of(plan, limit);
    problem::too_many(
        plan,
        &Refused {
            limit,
            weight,
            decision,
            whose,
            per,
            policy,
            state: state(plan, decision),
        },
    )
}

/// `RateLimit-Policy`, which is known before anybody calls unless the number is another one for this call.
fn policy_of(plan: &LimitPlan, limit: Limit) -> Option<HeaderValue> {
    let is_known = plan.most.fixed() == Some(limit.most);
    let known = plan.policy.clone().filter(|_| is_known);
    known.or_else(|| policy(&plan.name, limit.most, plan.bytes, limit.window))
}

fn fields(plan: &LimitPlan, limit: Limit, decision: &Decision) -> Option<RateFields> {
    Some(RateFields {
        policy: policy_of(plan, limit)?,
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_part_that_is_left_is_read_from_the_fields() {
        let of = |policy: &'static str, state: &'static str| {
            part_of(&RateFields {
                policy: HeaderValue::from_static(policy),
                state: HeaderValue::from_static(state),
            })
        };
        assert_eq!(of("\"a;q=1\";q=8;w=60", "\"a;r=7\";r=2;t=5"), 0.25);
        assert_eq!(
            of("\"a\";q=8;qu=\"content-bytes\";w=60", "\"a\";r=8;t=5"),
            1.0
        );
        assert_eq!(of("nothing", "nothing"), 1.0);
    }

    #[test]
    fn shares_are_told_once_when_they_are_passed() {
        let shares = [50, 80, 100];
        let crossed = |before, after| crossed(&shares, 10, (before, after));
        assert_eq!(crossed(0, 4), None);
        assert_eq!(crossed(4, 5), Some(50));
        assert_eq!(crossed(5, 6), None);
        assert_eq!(crossed(7, 8), Some(80));
        assert_eq!(crossed(4, 10), Some(100));
        assert_eq!(crossed(10, 11), None);
        assert_eq!(super::crossed(&[80], 3, (2, 3)), Some(80));
        assert_eq!(super::crossed(&[100], u64::MAX, (0, 5)), None);
    }
}
