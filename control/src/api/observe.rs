//! What happens: overview, traces, usage, audit, health.

use std::collections::BTreeMap;
use std::sync::Arc;

use axum::extract::State;
use porch_gateway::{CommonState, Trace};
use porch_store::{TraceQuery, UsageTotals};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use utoipa::{IntoParams, ToSchema};

use super::extract::{Json, Path, Query};
use crate::app::App;
use crate::error::ApiError;
use crate::observatory::{Minute, Traffic, explain, traffic, words};
use crate::publication::Difference;

/// So many lines of the audit are shown.
const AUDIT_LINES: u64 = 500;

/// Whether the service is up, and what it serves.
pub(crate) async fn health(State(app): State<Arc<App>>) -> Json<Value> {
    let served = app.publication.served();
    let database = app.database.is_up().await;
    let counts =
        counts(&app).map(|s| json!({ "place": s.place, "nodes": s.nodes, "away": s.away }));
    Json(
        json!({ "ok": true, "environment": app.config.environment, "release": served.number, "from_disk": served.from_disk, "database": database, "counts": counts }),
    )
}

/// How things stand where several nodes count, where they do.
fn counts(app: &App) -> Option<CommonState> {
    let shared = app.publication.shared();
    shared.common.as_ref().map(|common| common.state())
}

/// What went wrong lately: that of the counts too.
fn trouble(app: &App) -> String {
    let trouble = app.trouble.get();
    let away = counts(app).and_then(|s| Some(format!("{} is away: {}", s.place, s.away?)));
    match (trouble.as_str(), away) {
        ("", Some(away)) => away,
        (trouble, Some(away)) => format!("{trouble}; {away}"),
        (trouble, None) => trouble.to_owned(),
    }
}

#[derive(Serialize, ToSchema)]
pub(crate) struct Overview {
    environment: String,
    /// Number of the release that is served; 0: none.
    release: i64,
    made_by: String,
    made_at: i64,
    /// Where callers reach the gateway.
    gateway: String,
    /// Whether the release came from disk, because the database did not answer.
    from_disk: bool,
    /// What went wrong lately; empty when nothing did.
    trouble: String,
    /// Facades whose draft differs from what is served.
    unreleased: Vec<Difference>,
    /// Offers whose draft differs from what is served, and `the portal`.
    unreleased_offers: Vec<String>,
    /// Requests for offers that nobody has decided yet.
    open_requests: u64,
    /// Errors in the draft.
    errors: usize,
    now: Traffic,
    before: Traffic,
    /// Calls, refusals and failures of each of the last sixty minutes.
    minutes: Vec<Minute>,
    /// What is paused: facade and operation.
    paused: Vec<(String, String)>,
    lost_records: u64,
}

/// Where things stand.
#[utoipa::path(get, path = "/api/overview", responses((status = 200, body = Overview)))]
pub(crate) async fn overview(State(app): State<Arc<App>>) -> Result<Json<Overview>, ApiError> {
    let summary = app.publication.summary().await?;
    let lately = app.observatory.lately().await?;
    let served = app.publication.served();
    Ok(Json(Overview {
        environment: app.config.environment.clone(),
        release: served.number,
        made_by: served.made_by.clone(),
        made_at: served.made_at,
        gateway: app.config.gateway.clone(),
        from_disk: served.from_disk,
        trouble: trouble(&app),
        unreleased: summary.unreleased().cloned().collect(),
        unreleased_offers: summary.offering.unreleased().map(Into::into).collect(),
        open_requests: app.database.store()?.open_requests().await?,
        errors: summary.errors(),
        now: lately.now,
        before: lately.before,
        minutes: lately.minutes,
        paused: app.observatory.paused(),
        lost_records: app.observatory.lost_records(),
    }))
}

#[derive(Deserialize, IntoParams)]
pub(crate) struct TraceFilter {
    #[serde(default)]
    facade: String,
    #[serde(default)]
    operation: String,
    #[serde(default)]
    consumer: String,
    /// `refused` (4xx), `failed` (5xx) or a status.
    #[serde(default)]
    status: String,
    /// At most so many; 50 unless given, 500 at most.
    most: Option<u64>,
}

#[derive(Serialize, ToSchema)]
pub(crate) struct TraceLine {
    id: String,
    at: i64,
    facade: String,
    operation: String,
    consumer: String,
    status: i32,
    us: i64,
    method: String,
    target: String,
    /// Why there was no normal reply.
    why: String,
}

/// Recent exchanges, the newest first.
#[utoipa::path(get, path = "/api/traces", params(TraceFilter), responses((status = 200, body = Vec<TraceLine>)))]
pub(crate) async fn traces(
    State(app): State<Arc<App>>,
    Query(f): Query<TraceFilter>,
) -> Result<Json<Vec<TraceLine>>, ApiError> {
    let (status_from, status_to) = match f.status.as_str() {
        "" => (0, 0),
        "refused" => (400, 499),
        "failed" => (500, 599),
        text => text.parse().map(|s: i32| (s, s)).map_err(|_| {
            ApiError::new(
                400,
                format!("“{text}” is no status"),
                "Write refused, failed or a number.",
            )
        })?,
    };
    let query = TraceQuery {
        facade: f.facade,
        operation: f.operation,
        consumer: f.consumer,
        status_from,
        status_to,
        most: f.most.unwrap_or(50),
    };
    let rows = app.observatory.traces(&query).await?;
    Ok(Json(
        rows.into_iter()
            .map(|t| TraceLine {
                id: t.trace_id,
                at: t.at,
                facade: t.facade,
                operation: t.operation,
                consumer: t.consumer,
                status: t.status,
                us: t.us,
                method: t.method,
                target: t.target,
                why: t.why,
            })
            .collect(),
    ))
}

#[derive(Serialize, ToSchema)]
pub(crate) struct Explained {
    /// Why the reply was what it was, in sentences.
    explanation: Vec<String>,
    trace: Trace,
}

/// One exchange by its id, or the beginning of it, with why it got the reply it got.
#[utoipa::path(get, path = "/api/traces/{id}", params(("id" = String, Path)), responses((status = 200, body = Explained), (status = 404)))]
pub(crate) async fn trace(
    State(app): State<Arc<App>>,
    Path(id): Path<String>,
) -> Result<Json<Explained>, ApiError> {
    let trace = app.observatory.trace(&id).await?;
    Ok(Json(Explained {
        explanation: explain(&trace),
        trace,
    }))
}

#[derive(Deserialize, IntoParams)]
pub(crate) struct UsageFilter {
    /// The last so many minutes; 60 unless given.
    minutes: Option<i64>,
}

#[derive(Serialize, ToSchema)]
pub(crate) struct UsageLine {
    facade: String,
    operation: String,
    consumer: String,
    calls: i64,
    refused: i64,
    failed: i64,
    bytes_in: i64,
    bytes_out: i64,
    /// Replies that did not fit the contract, where that is looked at.
    misfits: i64,
    p50_us: u64,
    p99_us: u64,
}

/// Who calls what, how often, how fast.
#[utoipa::path(get, path = "/api/usage", params(UsageFilter), responses((status = 200, body = Vec<UsageLine>)))]
pub(crate) async fn usage(
    State(app): State<Arc<App>>,
    Query(f): Query<UsageFilter>,
) -> Result<Json<Vec<UsageLine>>, ApiError> {
    let minutes = f.minutes.unwrap_or(60).clamp(1, 100_000);
    let (groups, names) = app.observatory.usage(minutes).await?;
    let mut lines: Vec<UsageLine> = groups
        .into_iter()
        .map(|((facade, operation, consumer), by_status)| {
            let t = traffic(by_status.iter());
            let sum = |f: fn(&UsageTotals) -> i64| by_status.values().map(f).sum();
            UsageLine {
                facade,
                operation,
                consumer: names.get(&consumer).cloned().unwrap_or_default(),
                calls: t.calls,
                refused: t.refused,
                failed: t.failed,
                bytes_in: sum(|t| t.bytes_in),
                bytes_out: sum(|t| t.bytes_out),
                misfits: sum(|t| t.misfits),
                p50_us: t.p50_us,
                p99_us: t.p99_us,
            }
        })
        .collect();
    lines.sort_by_key(|l| -l.calls);
    Ok(Json(lines))
}

/// What copies of an operation's calls to another backend gave.
#[derive(Serialize, ToSchema)]
pub(crate) struct CopyLine {
    facade: String,
    operation: String,
    /// The backend that got the copies.
    backend: String,
    /// Copies whose answers were the same in all that is compared.
    same: u64,
    /// Copies whose answers were not.
    different: u64,
    /// Copies that were not answered.
    failed: u64,
    /// Calls that were not copied, since there were too many at the same time.
    left_out: u64,
    /// Microseconds of an exchange that was copied, in the middle.
    mean_us: u64,
    /// The same of the copies.
    copies_mean_us: u64,
    /// What was different, or failed, last.
    told: String,
}

/// What copies of calls to other backends gave.
#[utoipa::path(get, path = "/api/copies", params(UsageFilter), responses((status = 200, body = Vec<CopyLine>)))]
pub(crate) async fn copies(
    State(app): State<Arc<App>>,
    Query(f): Query<UsageFilter>,
) -> Result<Json<Vec<CopyLine>>, ApiError> {
    let minutes = f.minutes.unwrap_or(60).clamp(1, 100_000);
    let rows = app.observatory.copies(minutes).await?.into_iter();
    let line = |row: porch_gateway::CopyRow| {
        let answered = (row.same + row.different).max(1);
        CopyLine {
            mean_us: row.us / answered,
            copies_mean_us: row.copies_us / answered,
            facade: row.facade,
            operation: row.operation,
            backend: row.backend,
            same: row.same,
            different: row.different,
            failed: row.failed,
            left_out: row.left_out,
            told: row.told,
        }
    };
    Ok(Json(rows.map(line).collect()))
}

/// One change.
#[derive(Serialize, ToSchema)]
pub(crate) struct AuditLine {
    id: i64,
    /// Milliseconds since 1970.
    at: i64,
    who: String,
    what: String,
    object: String,
    /// The change as a sentence, without who made it.
    words: String,
    detail: BTreeMap<String, Value>,
}

/// Who changed what, the newest first.
#[utoipa::path(get, path = "/api/audit", responses((status = 200, body = Vec<AuditLine>)))]
pub(crate) async fn audit(State(app): State<Arc<App>>) -> Result<Json<Vec<AuditLine>>, ApiError> {
    let lines = app.observatory.audit(AUDIT_LINES).await?.into_iter();
    let line = |l: porch_store::entity::audit::Model| AuditLine {
        id: l.id,
        at: l.at,
        who: l.who,
        words: words(&l.what, &l.object, &l.detail),
        what: l.what,
        object: l.object,
        detail: match l.detail {
            Value::Object(map) => map.into_iter().collect(),
            _ => BTreeMap::new(),
        },
    };
    Ok(Json(lines.map(line).collect()))
}
