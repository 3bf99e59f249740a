//! What an offer allows, in words: the limits and quotas of what it opens, with its terms in them.

use std::collections::HashSet;
use std::sync::Arc;
use std::time::Duration;

use porch_facade::{CompiledPorch, LimitPlan, Time, Who};
use porch_gateway::agreed;
use porch_rules::grant::Agreement;
use porch_rules::period::Length;
use serde_json::json;

use crate::publication::Offer;

/// So many are said.
const MOST: usize = 20;

/// A length of time in words, in the largest unit that says it whole.
fn span(of: Duration) -> String {
    let seconds = of.as_secs();
    let units = [
        (86_400, "day"),
        (3600, "hour"),
        (60, "minute"),
        (1, "second"),
    ];
    let whole = units
        .into_iter()
        .find(|(unit, _)| seconds > 0 && seconds.is_multiple_of(*unit));
    match whole.map(|(unit, name)| (seconds / unit, name)) {
        Some((1, name)) => format!("any {name}"),
        Some((n, name)) => format!("any {n} {name}s"),
        None => format!("any {} milliseconds", of.as_millis()),
    }
}

fn each(length: Length) -> &'static str {
    match length {
        Length::Hour => "each hour",
        Length::Day => "each day",
        Length::Week => "each week",
        Length::Month => "each month",
    }
}

/// Who shares a limit, as those who call understand it.
fn shared(who: &Who) -> &'static str {
    match who {
        Who::Consumer => "",
        Who::Agreement => ", for the agreement",
        Who::Key => ", for each credential",
        Who::Account => ", for all of your applications",
        Who::Address => ", from one address",
        Who::Facade | Who::Everyone => ", for all callers together",
        Who::Value(_) => ", for each of what it is counted by",
    }
}

/// A limit or quota in words.
pub(super) fn words(plan: &LimitPlan, most: u64) -> String {
    let what = if plan.bytes { "bytes" } else { "calls" };
    let when = match &plan.time {
        Time::Window(window, _) => format!("in {}", span(*window)),
        Time::Period(periods, _) => each(periods.length).to_owned(),
    };
    format!("{most} {what} {when}{}", shared(&plan.per))
}

/// The limits and quotas of what an offer opens, each once.
pub(super) fn of_offer(porch: &CompiledPorch, offer: &Offer) -> Vec<String> {
    let as_agreed = Agreement {
        id: 0,
        offer: offer.doc.name.as_str().into(),
        terms: Arc::new(json!(offer.doc.terms)),
        opens: Some(offer.opens.clone().into()),
        from: 0,
        until: i64::MAX,
        paused: false,
    };
    let (mut seen, mut told) = (HashSet::new(), Vec::new());
    for facade in porch.facades.iter().filter(|f| as_agreed.reaches(&f.name)) {
        let opened = facade.operations.iter();
        let opened = opened.filter(|o| as_agreed.is_open(&facade.name, &o.id));
        for operation in opened {
            let limits = &operation.admission.limits;
            for plan in limits.plain.iter().chain(&limits.asked) {
                if !seen.insert(plan.id) || told.len() >= MOST {
                    continue;
                }
                let Some(most) = agreed(&plan.most, Some(&as_agreed)) else {
                    continue;
                };
                told.push(format!("{}: {}", facade.name, words(plan, most)));
            }
        }
    }
    told
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn times_are_said_in_the_largest_unit_that_says_them_whole() {
        for (ms, said) in [
            (90_000, "any 90 seconds"),
            (60_000, "any minute"),
            (7_200_000, "any 2 hours"),
            (86_400_000, "any day"),
            (500, "any 500 milliseconds"),
        ] {
            assert_eq!(span(Duration::from_millis(ms)), said);
        }
    }
}
