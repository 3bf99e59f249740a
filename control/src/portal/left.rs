//! What is left of limits and quotas, for one of one's applications.

use std::collections::HashSet;
use std::sync::Arc;

use axum::extract::State;
use porch_facade::{CompiledPorch, LimitPlan, Time, Who};
use porch_gateway::{Ask, agreed, counted_for, limit_in, period_of};
use porch_rules::grant::Consumer;
use porch_rules::limit::Limit;
use porch_store::now_ms;
use serde::Serialize;
use utoipa::ToSchema;

use super::applications::own;
use super::life::OfApplication;
use super::limits::words;
use super::session::Caller;
use crate::api::{Json, Query, agreement_of};
use crate::app::App;
use crate::directory::ConsumerRow;
use crate::error::ApiError;

/// So many are looked at.
const MOST: usize = 50;

/// A limit or quota, and what of it is left.
#[derive(Serialize, ToSchema)]
pub(crate) struct LeftView {
    facade: String,
    /// The limit in words.
    rule: String,
    most: u64,
    left: u64,
    /// Whether it is of bytes, and not of calls.
    bytes: bool,
    /// When all of it is free again, if nobody calls, in milliseconds since 1970.
    free_at: i64,
}

/// A limit as it is for an application now.
struct Own<'p> {
    facade: &'p str,
    plan: &'p LimitPlan,
    most: u64,
    ask: Ask,
}

/// The limits of what an application has agreed to that count for it, its agreement or its account.
fn own_limits<'p>(app: &App, porch: &'p CompiledPorch, consumer: &Consumer) -> Vec<Own<'p>> {
    let additions = app.publication.shared().additions.load_full();
    let (mut seen, mut all) = (HashSet::new(), Vec::new());
    for facade in &porch.facades {
        let Some(agreement) = agreement_of(consumer, &facade.name) else {
            continue;
        };
        let operations = facade.operations.iter();
        let opened = operations.filter(|o| agreement.is_open(&facade.name, &o.id));
        let limits = opened.map(|o| &o.admission.limits);
        let plans = limits.flat_map(|l| l.plain.iter().chain(&l.asked));
        for plan in plans {
            if all.len() >= MOST || !seen.insert(plan.id) {
                continue;
            }
            // What others use up too says nothing of one's own.
            if !matches!(plan.per, Who::Consumer | Who::Agreement | Who::Account) {
                continue;
            }
            let subject = counted_for(&plan.per, consumer, Some(agreement), &facade.name);
            let most = agreed(&plan.most, Some(agreement));
            let (Some(subject), Some(most)) = (subject, most) else {
                continue;
            };
            let rule = match &plan.time {
                Time::Window(window, form) => Limit {
                    most,
                    window: *window,
                    form: *form,
                },
                Time::Period(..) => {
                    let Some(period) = period_of(plan, Some(agreement), now_ms()) else {
                        continue;
                    };
                    let from = u64::try_from(period.0).unwrap_or(0);
                    let added = additions.get(&(plan.id, subject, from));
                    limit_in(period, most.saturating_add(added.copied().unwrap_or(0)))
                }
            };
            let ask = Ask {
                limit: plan.id,
                subject,
                rule,
                weight: 0,
            };
            all.push(Own {
                facade: &facade.name,
                plan,
                most: rule.most,
                ask,
            });
        }
    }
    all
}

/// What is left of the limits and quotas of what one of one's applications has agreed to.
#[utoipa::path(get, path = "/api/limits", operation_id = "own_limits", params(OfApplication), responses((status = 200, body = Vec<LeftView>), (status = 401), (status = 404), (status = 503)))]
pub(crate) async fn limits(
    State(app): State<Arc<App>>,
    caller: Caller,
    Query(of): Query<OfApplication>,
) -> Result<Json<Vec<LeftView>>, ApiError> {
    let of = own(&app, &caller, &of.application).await?;
    let agreements = app.database.store()?.agreements_of(Some(&[of.id])).await?;
    let consumer = ConsumerRow::of(of, agreements).consumer();
    let porch = app.publication.porch();
    let own = own_limits(&app, &porch, &consumer);
    let asks = own.iter().map(|o| o.ask).collect();
    let left = app.publication.shared().left(asks).await;
    let left = left.map_err(|away| {
        tracing::warn!("what is left cannot be told: {}", away.0);
        ApiError::new(503, "What is left is counted elsewhere", "Try again later.")
    })?;
    let views = own.iter().zip(left).map(|(o, decision)| LeftView {
        facade: o.facade.to_owned(),
        rule: words(o.plan, o.most),
        most: o.most,
        left: decision.remaining,
        bytes: o.plan.bytes,
        free_at: now_ms().saturating_add(i64::try_from(decision.reset.as_millis()).unwrap_or(0)),
    });
    Ok(Json(views.collect()))
}
