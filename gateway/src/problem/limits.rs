//! What callers are told who call too often.

use std::net::IpAddr;
use std::time::Duration;

use http::{HeaderValue, header};
use porch_facade::{AtOncePlan, LimitPlan, Number, RulePlace, Time};
use porch_rules::grant::Consumer;
use porch_rules::limit::{Decision, Limit};
use serde_json::json;

use super::{Problem, seconds};
use crate::fields::{RATE_LIMIT, RATE_LIMIT_POLICY};
use crate::trace::StageName;

/// A call that a limit refuses.
pub(crate) struct Refused<'d> {
    pub(crate) limit: Limit,
    pub(crate) weight: u64,
    pub(crate) decision: &'d Decision,
    /// Whose limit it is, and who has one.
    pub(crate) whose: String,
    pub(crate) per: &'static str,
    pub(crate) policy: Option<HeaderValue>,
    pub(crate) state: String,
}

pub(crate) fn too_many(plan: &LimitPlan, refused: &Refused<'_>) -> Box<Problem> {
    let (most, decision) = (refused.limit.most, refused.decision);
    let what = if plan.bytes { "bytes" } else { "requests" };
    let wait = seconds(decision.retry_after);
    let (kind, title, time) = match plan.time {
        Time::Window(window, _) => (
            "rate-limit",
            "Too many requests",
            format!("in any {} seconds", seconds(window)),
        ),
        Time::Period(periods, _) => {
            let each = format!("{:?}", periods.length).to_lowercase();
            ("quota", "The quota is used up", format!("in each {each}"))
        }
    };
    let used = most.saturating_sub(decision.remaining);
    let whole = match (refused.weight, plan.bytes) {
        (weight, _) if weight > most => {
            format!("this one counts {weight}, which is more than there ever is")
        }
        (1, _) | (_, true) => format!("the next one is possible in {wait} seconds"),
        (weight, _) => format!(
            "this one counts {weight}, {used} are used, and there is room for it in {wait} seconds"
        ),
    };
    let (whose, per) = (&refused.whose, refused.per);
    let detail = format!("At most {most} {what} {time} {per}; {whole}.");
    let why = match (&plan.time, refused.weight) {
        (Time::Window(window, _), 1) if !plan.bytes => format!(
            "{whose} made {most} requests in the last {} seconds, which is all that this limit allows; {whole}",
            seconds(*window)
        ),
        _ => format!("{whose} used {used} of {most} {what} {time}; {whole}"),
    };
    let mut problem = Problem::new(429, kind, title, detail, StageName::Admit)
        .why(why)
        .by(&plan.place)
        .with("limit", json!(plan.place.rule))
        .with("used", json!(used))
        .with("most", json!(most))
        .header(header::RETRY_AFTER, &wait.max(1).to_string());
    if let Some(policy) = &refused.policy {
        problem.headers.push((RATE_LIMIT_POLICY, policy.clone()));
    }
    problem.header(RATE_LIMIT, &refused.state)
}

impl Problem {
    /// The limit that refuses is this node's share only.
    pub(crate) fn of_a_share(mut self: Box<Self>, nodes: u64, why: &str) -> Box<Self> {
        let share = format!(
            " The place where the nodes count is away: this is the share of 1 of {nodes} nodes."
        );
        self.detail.push_str(&share);
        let rates = self
            .headers
            .iter_mut()
            .filter(|(name, _)| *name == RATE_LIMIT);
        for (_, value) in rates {
            let told = value.to_str().map(|said| format!("{said};apart"));
            if let Some(told) = told.ok().and_then(|t| HeaderValue::from_str(&t).ok()) {
                *value = told;
            }
        }
        let why = format!(
            "{}; {}: {why}",
            self.refusal.why,
            share.trim().trim_end_matches('.')
        );
        self.why(why).with("apart", json!(true))
    }
}

/// A limit that several nodes count together, and cannot now.
pub(crate) fn counts_away(why: &str, place: &RulePlace) -> Box<Problem> {
    let title = "The limit cannot be asked now";
    let detail =
        "How much is used is counted elsewhere, and there is no answer. Try again in a moment.";
    Problem::new(503, "counts-away", title, detail, StageName::Admit)
        .why(format!(
            "the place where the nodes count is away ({why}), and the limit says `apart: refuse`"
        ))
        .by(place)
        .header(header::RETRY_AFTER, "1")
}

/// A nonce that may have been used on another node.
pub(crate) fn nonces_away(why: &str, place: &RulePlace) -> Box<Problem> {
    let title = "What was shown cannot be checked now";
    let detail = "Whether it was used before is known elsewhere, and there is no answer. Try again in a moment.";
    Problem::new(503, "counts-away", title, detail, StageName::Admit)
        .why(format!(
            "the place where the nodes remember nonces is away ({why})"
        ))
        .by(place)
        .header(header::RETRY_AFTER, "1")
}

/// Too many are under way, and no more can wait.
pub(crate) fn too_many_at_once(
    plan: &AtOncePlan,
    most: u64,
    waiting: usize,
    (whose, per): &(String, &'static str),
) -> Box<Problem> {
    let detail =
        format!("At most {most} requests at the same time {per}. Try again when one has ended.");
    let why = format!("{whose} has {most} requests under way, and {waiting} wait already");
    Problem::new(
        429,
        "at-once",
        "Too many requests at the same time",
        detail,
        StageName::Admit,
    )
    .why(why)
    .by(&plan.place)
    .with("limit", json!(plan.place.rule))
    .with("most", json!(most))
    .header(header::RETRY_AFTER, "1")
}

/// A limit whose number is in what was agreed to, where nothing was.
pub(crate) fn no_number(
    consumer: Option<&Consumer>,
    number: &Number,
    why: &str,
    place: &RulePlace,
) -> Box<Problem> {
    let source = match number {
        Number::Asked(_, source) => source,
        Number::Fixed(_) => "",
    };
    let who = consumer.map_or("this caller", |c| c.name.as_str());
    let title = "An agreement is needed";
    let detail = "How much may be called is agreed on, and no agreement that holds now says it.";
    let why =
        format!("{why}: no agreement of {who} that holds for this facade now gives “{source}”");
    Problem::new(403, "agreement", title, detail, StageName::Admit)
        .why(why)
        .by(place)
}

/// A limit that cannot tell how much a request counts, or for whom.
pub(crate) fn no_weight(why: &str, place: &RulePlace) -> Box<Problem> {
    let title = "The request cannot be counted";
    let detail = "What it is counted by is not in it, or is of another kind.";
    Problem::new(400, "not-counted", title, detail, StageName::Admit)
        .why(format!("a limit needs what is not there: {why}"))
        .by(place)
}

/// Somebody sends credentials that are not good, again and again.
pub(crate) fn guessing(
    wait: Duration,
    address: IpAddr,
    why: &str,
    place: &RulePlace,
) -> Box<Problem> {
    let wait = seconds(wait).max(1);
    let title = "Too many credentials that are not good";
    let detail = format!("Try again in {wait} seconds, with the right one.");
    Problem::new(429, "guessing", title, detail, StageName::Admit)
        .why(format!(
            "too many from {address} in the last minute; this time {why}"
        ))
        .by(place)
        .header(header::RETRY_AFTER, &wait.to_string())
}
