//! Quotas as they stand, what is added to them, and what was told of them.

use std::collections::{HashMap, HashSet};
use std::sync::Arc;

use axum::extract::{Extension, State};
use axum::http::StatusCode;
use porch_facade::{CompiledFacade, CompiledPorch, LimitPlan, Time, Who};
use porch_gateway::{agreed, counted_for, period_of};
use porch_rules::grant::{Agreement, Consumer};
use porch_store::{NewAddition, now_ms};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use utoipa::{IntoParams, ToSchema};

use super::extract::{Json, Query};
use super::session::Publisher;
use crate::app::App;
use crate::directory::ConsumerRow;
use crate::error::ApiError;

/// Counts that are looked at.
const MOST: usize = 100_000;

#[derive(Serialize, ToSchema)]
pub(crate) struct QuotaView {
    /// The quota, in words.
    rule: String,
    /// What it reaches.
    reach: String,
    /// A facade that it is of.
    facade: String,
    /// Whose it is; empty where that is no consumer, agreement or account.
    whose: String,
    used: u64,
    /// Of how much; none where that follows from each request.
    most: Option<u64>,
    /// What of that was added.
    added: u64,
    /// Milliseconds since 1970.
    from_at: i64,
    /// When it begins anew.
    until_at: i64,
}

/// Quotas of what is served, each once.
fn plans(porch: &CompiledPorch) -> Vec<(&CompiledFacade, &LimitPlan)> {
    let mut seen = HashSet::new();
    let all = porch.facades.iter().flat_map(|facade| {
        let operations = facade.operations.iter();
        let plans = operations.flat_map(|o| &o.admission.limits.asked);
        plans.map(move |plan| (&**facade, &**plan))
    });
    all.filter(|(_, plan)| matches!(plan.time, Time::Period(..)) && seen.insert(plan.id))
        .collect()
}

/// What a consumer has agreed to that holds now, for a facade or a part of it.
pub(crate) fn agreement_of<'c>(consumer: &'c Consumer, facade: &str) -> Option<&'c Agreement> {
    let now = now_ms() / 1000;
    let mut all = consumer.agreements.iter();
    all.find(|a| a.is_now(now) && a.reaches(facade))
}

pub(super) async fn consumers_of(app: &App) -> Result<Vec<Arc<Consumer>>, ApiError> {
    let store = app.database.store()?;
    let agreements = store.agreements_of(None).await?;
    let rows = ConsumerRow::all(store.consumers().await?, agreements);
    Ok(rows.into_iter().map(ConsumerRow::consumer).collect())
}

pub(super) fn whose(per: &Who, consumer: &Consumer, agreement: Option<&Agreement>) -> String {
    match per {
        Who::Consumer => consumer.name.clone(),
        Who::Agreement => match agreement {
            Some(a) => format!("{} ({})", consumer.name, a.offer),
            None => consumer.name.clone(),
        },
        Who::Account if !consumer.account.is_empty() => format!("account {}", consumer.account),
        Who::Account => consumer.name.clone(),
        Who::Everyone | Who::Facade => "everyone".to_owned(),
        Who::Key | Who::Address | Who::Value(_) => String::new(),
    }
}

/// How far the quotas are used, of what is served now, by whoever has called in their periods.
#[utoipa::path(get, path = "/api/quotas", responses((status = 200, body = Vec<QuotaView>)))]
pub(crate) async fn quotas(State(app): State<Arc<App>>) -> Result<Json<Vec<QuotaView>>, ApiError> {
    let porch = app.publication.porch();
    let plans = plans(&porch);
    if plans.is_empty() {
        return Ok(Json(Vec::new()));
    }
    let consumers = consumers_of(&app).await?;
    let shared = app.publication.shared();
    let mut counted: HashMap<u64, Vec<(u64, u64, u64)>> = HashMap::new();
    let periods = shared.periods(MOST).await.map_err(|away| {
        ApiError::new(
            503,
            "What is used is counted elsewhere",
            format!("There is no answer: {}.", away.0),
        )
    })?;
    for (limit, subject, from, used) in periods {
        counted
            .entry(limit)
            .or_default()
            .push((subject, from, used));
    }
    let additions = shared.additions.load_full();
    let mut views = Vec::new();
    for (facade, plan) in plans {
        let own = |c: &'_ Arc<Consumer>| {
            let agreement = agreement_of(c, &facade.name);
            let subject = counted_for(&plan.per, c, agreement, &facade.name)?;
            Some((subject, c.clone()))
        };
        let known: HashMap<u64, Arc<Consumer>> = consumers.iter().filter_map(own).collect();
        for (subject, from, used) in counted.remove(&plan.id).unwrap_or_default() {
            let consumer = known.get(&subject);
            let agreement = consumer.and_then(|c| agreement_of(c, &facade.name));
            let now = period_of(plan, agreement, now_ms());
            let Some((from_at, until_at)) = now.filter(|(at, _)| *at == from as i64) else {
                continue;
            };
            let added = additions
                .get(&(plan.id, subject, from))
                .copied()
                .unwrap_or(0);
            views.push(QuotaView {
                rule: plan.place.rule.to_string(),
                reach: plan.place.reach.to_string(),
                facade: facade.name.clone(),
                whose: consumer.map_or_else(String::new, |c| whose(&plan.per, c, agreement)),
                used,
                most: agreed(&plan.most, agreement).map(|most| most.saturating_add(added)),
                added,
                from_at,
                until_at,
            });
        }
    }
    views.sort_by(|a, b| (&a.facade, &a.rule, &a.whose).cmp(&(&b.facade, &b.rule, &b.whose)));
    Ok(Json(views))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct AddToQuota {
    consumer: String,
    /// A facade that the quota is of.
    facade: String,
    /// One of its operations, where not all have the same quota.
    operation: Option<String>,
    /// How much is added to the period that runs now.
    amount: u64,
    /// Why; it stands in the audit.
    why: String,
}

/// Adds something to a consumer's quota, once: for the period that runs now.
#[utoipa::path(post, path = "/api/quotas", request_body = AddToQuota, responses((status = 204), (status = 400), (status = 404)))]
pub(crate) async fn add(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Json(body): Json<AddToQuota>,
) -> Result<StatusCode, ApiError> {
    let why = body.why.trim();
    if why.is_empty() || why.chars().count() > 500 {
        return Err(ApiError::new(400, "Say why, in at most 500 characters", ""));
    }
    if body.amount == 0 || body.amount > 1 << 50 {
        return Err(ApiError::new(
            400,
            "Nothing can be added of that amount",
            "",
        ));
    }
    let porch = app.publication.porch();
    let (facade, plan) = the_only(&porch, &body.facade, body.operation.as_deref())?;
    let store = app.database.store()?;
    let found = store.consumer(&body.consumer).await?;
    let agreements = store.agreements_of(Some(&[found.id])).await?;
    let consumer = ConsumerRow::of(found, agreements).consumer();
    let agreement = agreement_of(&consumer, &facade.name);
    let subject = counted_for(&plan.per, &consumer, agreement, &facade.name);
    let (Some(subject), Some(period)) = (subject, period_of(plan, agreement, now_ms())) else {
        let title = format!("“{}” is not counted by consumer", plan.place.rule);
        return Err(ApiError::new(400, title, ""));
    };
    let new = NewAddition {
        quota: plan.id,
        subject,
        period,
        amount: body.amount as i64,
        told: format!(
            "{} of {} for {}",
            plan.place.rule,
            facade.name,
            whose(&plan.per, &consumer, agreement)
        ),
        why: why.to_owned(),
    };
    app.directory.add_to_quota(&publisher.name, &new).await?;
    app.publication.write_snapshot().await;
    Ok(StatusCode::NO_CONTENT)
}

/// The only quota of a facade, or of one of its operations.
fn the_only<'p>(
    porch: &'p CompiledPorch,
    name: &str,
    operation: Option<&str>,
) -> Result<(&'p CompiledFacade, &'p LimitPlan), ApiError> {
    let facade = porch.facades.iter().find(|f| f.name == name);
    let missing = || ApiError::new(404, format!("Nothing of “{name}” is served"), "");
    let facade = facade.ok_or_else(missing)?;
    let operations = facade.operations.iter();
    let mut operations = operations
        .filter(|o| operation.is_none_or(|id| o.id == id))
        .peekable();
    if operations.peek().is_none() {
        let title = format!(
            "“{name}” has no operation “{}”",
            operation.unwrap_or_default()
        );
        return Err(ApiError::new(404, title, ""));
    }
    let mut seen: HashMap<u64, &LimitPlan> = HashMap::new();
    for plan in operations.flat_map(|o| &o.admission.limits.asked) {
        if matches!(plan.time, Time::Period(..)) {
            seen.insert(plan.id, plan);
        }
    }
    let mut all = seen.into_values();
    match (all.next(), all.next()) {
        (Some(plan), None) => Ok((facade, plan)),
        (None, _) => Err(ApiError::new(404, format!("“{name}” has no quota"), "")),
        _ => {
            let help = "Name one of its operations that has one quota only.";
            Err(ApiError::new(
                400,
                format!("“{name}” has several quotas"),
                help,
            ))
        }
    }
}

#[derive(Deserialize, IntoParams)]
pub(crate) struct EventFilter {
    /// Only what a consumer is told; all unless given.
    #[serde(default)]
    consumer: String,
    /// At most so many; 50 unless given, 500 at most.
    most: Option<u64>,
}

#[derive(Serialize, ToSchema)]
pub(crate) struct EventView {
    at: i64,
    /// `quota`: a share of a quota is used.
    kind: String,
    facade: String,
    consumer: String,
    /// What is told, by its kind.
    detail: Value,
}

/// What publishers and consumers were told, the newest first.
#[utoipa::path(get, path = "/api/events", params(EventFilter), responses((status = 200, body = Vec<EventView>)))]
pub(crate) async fn events(
    State(app): State<Arc<App>>,
    Query(filter): Query<EventFilter>,
) -> Result<Json<Vec<EventView>>, ApiError> {
    let most = filter.most.unwrap_or(50).clamp(1, 500);
    let store = app.database.store()?;
    let found = store.events(&filter.consumer, most).await?.into_iter();
    let views = found.map(|e| EventView {
        at: e.at,
        kind: e.kind,
        facade: e.facade,
        consumer: e.consumer,
        detail: e.detail,
    });
    Ok(Json(views.collect()))
}
