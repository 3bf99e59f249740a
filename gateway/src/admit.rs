//! Admit: credentials, limits, sizes, contract.

use std::net::IpAddr;
use std::sync::Arc;
use std::time::Duration;

use http::{HeaderMap, HeaderName, HeaderValue, header};
use porch_facade::{CompiledOperation, CompiledPorch, LimitPlan, Per};
use porch_rules::key::{Consumer, KeyTable, Refused};
use porch_rules::limit::{Decision, stable_id};
use serde_json::json;

use crate::problem::Problem;
use crate::scope::Mistake;
use crate::shared::Shared;

/// Who calls, once that is known.
#[derive(Clone, Debug, Default)]
pub(crate) struct Caller {
    pub(crate) consumer: Option<Arc<Consumer>>,
    pub(crate) key: Box<str>,
}

/// Checks the key that an operation demands.
pub(crate) fn key(
    porch: &CompiledPorch,
    op: &CompiledOperation,
    keys: &KeyTable,
    headers: &HeaderMap,
    now: i64,
) -> Result<Caller, Box<Problem>> {
    let Some(place) = &op.key else {
        return Ok(Caller::default());
    };
    let facade = &porch.facades[op.facade];
    let refuse = |detail: String, why: String| {
        let challenge = format!(
            "Key realm=\"{}\", header=\"{}\"",
            facade.name, facade.key_header_shown
        );
        Err(Problem::new(401, "key", "A key is needed", detail, "admit")
            .why(why)
            .by(place)
            .header(header::WWW_AUTHENTICATE, &challenge))
    };
    let Some(value) = headers.get(&facade.key_header) else {
        let elsewhere = [header::AUTHORIZATION.as_str(), "api-key", "x-api-key"]
            .into_iter()
            .find(|n| *n != facade.key_header.as_str() && headers.contains_key(*n));
        let hint = elsewhere.map_or_else(String::new, |n| {
            format!("; what came in the header “{n}” is not looked at")
        });
        let detail = format!(
            "Send your key in the header “{}”{hint}.",
            facade.key_header_shown
        );
        return refuse(
            detail,
            format!("no key in the header “{}”{hint}", facade.key_header_shown),
        );
    };
    let shown = value.to_str().unwrap_or_default().trim();
    match keys.check(shown, now) {
        Ok(entry) => Ok(Caller {
            consumer: Some(entry.consumer.clone()),
            key: entry.prefix.clone(),
        }),
        Err(refused) => {
            let known =
                porch_rules::key::prefix(shown).map_or_else(String::new, |p| format!(" “{p}…”"));
            let why = match refused {
                Refused::Unknown if known.is_empty() => {
                    "what was sent does not have the form of a key".to_owned()
                }
                Refused::Unknown => format!("nobody has the key{known}"),
                Refused::Ended => format!("the key{known} has ended"),
                Refused::Paused => format!("the key{known} or its consumer is paused"),
            };
            let detail = if refused == Refused::Unknown {
                "The key is not known."
            } else {
                "The key is not valid now."
            };
            refuse(detail.into(), why)
        }
    }
}

/// The `RateLimit` fields of a reply (draft-ietf-httpapi-ratelimit-headers §3 and §4).
pub(crate) struct RateFields {
    pub(crate) policy: HeaderValue,
    pub(crate) state: HeaderValue,
}

pub(crate) const RATE_LIMIT: HeaderName = HeaderName::from_static("ratelimit");
pub(crate) const RATE_LIMIT_POLICY: HeaderName = HeaderName::from_static("ratelimit-policy");

fn seconds(d: Duration) -> u64 {
    d.as_millis().div_ceil(1000) as u64
}

/// Asks every limit; a refusal gives back what earlier limits had counted.
pub(crate) fn limits(
    shared: &Shared,
    op: &CompiledOperation,
    caller: &Caller,
    address: IpAddr,
    now: u64,
) -> Result<Option<RateFields>, Box<Problem>> {
    let mut tightest: Option<(&LimitPlan, Decision)> = None;
    for (i, plan) in op.limits.iter().enumerate() {
        let subject = subject(plan, caller, address);
        let decision = shared.windows.ask(plan.id, subject, plan.limit, now);
        if !decision.allowed {
            for earlier in &op.limits[..i] {
                shared
                    .windows
                    .give_back(earlier.id, self::subject(earlier, caller, address));
            }
            return Err(too_many(plan, &decision, caller));
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

fn subject(plan: &LimitPlan, caller: &Caller, address: IpAddr) -> u64 {
    match plan.per {
        Per::Consumer => caller.consumer.as_ref().map_or(0, |c| c.id as u64),
        Per::Address => stable_id(&address.to_string()),
        Per::Everyone => 0,
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
    format!(
        "\"{}\";r={};t={}",
        plan.name,
        decision.remaining,
        seconds(wait)
    )
}

fn too_many(plan: &LimitPlan, decision: &Decision, caller: &Caller) -> Box<Problem> {
    let wait = seconds(decision.retry_after);
    let who = match plan.per {
        Per::Consumer => caller.consumer.as_ref().map_or_else(
            || "this caller".into(),
            |c| format!("the consumer “{}”", c.name),
        ),
        Per::Address => "this address".into(),
        Per::Everyone => "all callers together".into(),
    };
    let per = match plan.per {
        Per::Consumer => "for each consumer",
        Per::Address => "for each address",
        Per::Everyone => "for all callers together",
    };
    let window = seconds(plan.limit.window);
    let detail = format!(
        "At most {} requests in any {window} seconds {per}; the next one is possible in {wait} seconds.",
        plan.limit.requests
    );
    let why = format!(
        "{who} made {} requests in the last {window} seconds, which is all that this limit allows; the next one is possible in {wait} seconds",
        plan.limit.requests
    );
    Problem::new(429, "rate-limit", "Too many requests", detail, "admit")
        .why(why)
        .by(&plan.place)
        .header(header::RETRY_AFTER, &wait.max(1).to_string())
        .header(RATE_LIMIT_POLICY, plan.policy.to_str().unwrap_or_default())
        .header(RATE_LIMIT, &state(plan, decision))
}

/// A request that does not fit the contract, every mistake listed.
pub(crate) fn mistakes(list: Vec<Mistake>, op: &CompiledOperation, stage: &str) -> Box<Problem> {
    let errors: Vec<_> = list
        .iter()
        .map(|(pointer, detail)| json!({ "pointer": pointer, "detail": detail }))
        .collect();
    let why = list
        .iter()
        .map(|(pointer, detail)| format!("{pointer} {detail}"))
        .collect::<Vec<_>>()
        .join("; ");
    let detail = if list.len() == 1 {
        why.clone()
    } else {
        format!("{} values do not fit; see `errors`.", list.len())
    };
    Problem::new(
        400,
        "contract",
        "The request does not fit the contract",
        detail,
        stage,
    )
    .why(why)
    .by(&op.place)
    .with("errors", json!(errors))
}

/// A body that is larger than allowed.
pub(crate) fn too_large(op: &CompiledOperation) -> Box<Problem> {
    let detail = format!("The body may have at most {} bytes.", op.max_body.0);
    Problem::new(413, "body-size", "The body is too large", detail, "admit").by(&op.max_body.1)
}
