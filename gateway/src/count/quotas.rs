//! Quotas as they stand: for whom they are counted, in which period, and how much was agreed on.

use std::time::Duration;

use porch_facade::{LimitPlan, Number, PeriodStart, REQUEST_ROOTS, Time, Who};
use porch_rules::expr::{NoXml, Scope, Val};
use porch_rules::grant::{Agreement, Consumer};
use porch_rules::limit::{Form, Limit, stable_id};
use serde_json::Value;

/// Whose count a consumer's calls are in, where that follows from the consumer and what it has agreed to.
pub fn counted_for(
    per: &Who,
    consumer: &Consumer,
    agreement: Option<&Agreement>,
    facade: &str,
) -> Option<u64> {
    let own = consumer.id.cast_unsigned();
    match per {
        Who::Consumer => Some(own),
        Who::Everyone => Some(0),
        Who::Facade => Some(stable_id(facade)),
        Who::Agreement => {
            Some(agreement.map_or(own, |a| stable_id("agreement") ^ a.id.cast_unsigned()))
        }
        Who::Account => Some(match consumer.account.as_str() {
            "" => own,
            account => stable_id(account),
        }),
        Who::Key | Who::Address | Who::Value(_) => None,
    }
}

/// The period of a quota at a time: its beginning, and that of the next; milliseconds since 1970. `None`: it is no quota.
pub fn period_of(plan: &LimitPlan, agreement: Option<&Agreement>, now: i64) -> Option<(i64, i64)> {
    let Time::Period(periods, start) = &plan.time else {
        return None;
    };
    Some(match (start, agreement) {
        (PeriodStart::Agreement, Some(a)) => periods.since(a.from.saturating_mul(1000), now),
        _ => plan.lately.of_calendar(periods, now),
    })
}

/// The limit that a quota is in a period, with how much.
pub fn limit_in((from, to): (i64, i64), most: u64) -> Limit {
    let from = u64::try_from(from).unwrap_or(0);
    let to = u64::try_from(to).unwrap_or(u64::MAX);
    Limit {
        most,
        window: Duration::from_millis(to.saturating_sub(from)),
        form: Form::Fixed { from },
    }
}

/// What terms say alone.
struct Terms<'a>(&'a Value);

impl Scope for Terms<'_> {
    fn open_xml(&self, _: &str) -> Result<Value, NoXml> {
        Err(NoXml("terms are no XML".into()))
    }

    fn member<'s>(&'s self, root: usize, name: &str) -> Option<Val<'s>> {
        let is_terms = REQUEST_ROOTS.get(root) == Some(&"terms");
        self.0.get(name).filter(|_| is_terms).map(Val::of)
    }

    fn whole(&self, root: usize) -> Val<'_> {
        match REQUEST_ROOTS.get(root) {
            Some(&"terms") => Val::of(self.0),
            _ => Val::Absent,
        }
    }
}

/// A number that is known, or that follows from what was agreed to alone.
pub fn agreed(number: &Number, agreement: Option<&Agreement>) -> Option<u64> {
    match number {
        Number::Fixed(number) => Some(*number),
        Number::Asked(template, _) => {
            let nothing = Value::Null;
            let terms = Terms(agreement.map_or(&nothing, |a| &a.terms));
            template.render(&terms).ok()??.as_u64()
        }
    }
}
