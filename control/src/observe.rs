//! What happens: overview, traces, usage, audit, health.

use std::collections::BTreeMap;
use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, Query, State};
use porch_contract::Severity;
use porch_gateway::{Trace, latency_bucket_us};
use porch_store::{Store, TraceQuery, UsageTotals};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use utoipa::{IntoParams, ToSchema};

use crate::app::App;
use crate::compare::{Difference, differences};
use crate::error::ApiError;

/// Whether the service is up, and what it serves.
pub(crate) async fn health(State(app): State<Arc<App>>) -> Json<Value> {
    let served = app.served.load();
    let database = match app.store.load_full() {
        Some(store) => store.is_up().await,
        None => false,
    };
    Json(
        json!({ "ok": true, "environment": app.config.environment, "release": served.number, "from_disk": served.from_disk, "database": database }),
    )
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

/// Traffic of one hour.
#[derive(Default, Serialize, ToSchema)]
pub(crate) struct Traffic {
    calls: i64,
    /// Replies with a status from 400 to 499.
    refused: i64,
    /// Replies with a status from 500 on.
    failed: i64,
    /// Half of the calls took at most so many microseconds.
    p50_us: u64,
    p99_us: u64,
}

#[derive(Serialize, ToSchema)]
pub(crate) struct Minute {
    /// Minutes since 1970.
    minute: i64,
    calls: i64,
    refused: i64,
    failed: i64,
}

/// The upper edge of the bucket that holds a share of the calls.
fn percentile(latency: &[i64], share: f64) -> u64 {
    let total: i64 = latency.iter().sum();
    let mut seen = 0;
    for (bucket, count) in latency.iter().enumerate() {
        seen += count;
        if total > 0 && seen as f64 >= total as f64 * share {
            return latency_bucket_us(bucket);
        }
    }
    0
}

fn traffic<'a>(rows: impl Iterator<Item = (&'a i32, &'a UsageTotals)>) -> Traffic {
    let mut traffic = Traffic::default();
    let mut latency: Vec<i64> = Vec::new();
    for (status, total) in rows {
        traffic.calls += total.calls;
        match status / 100 {
            4 => traffic.refused += total.calls,
            5 => traffic.failed += total.calls,
            _ => {}
        }
        latency.resize(latency.len().max(total.latency.len()), 0);
        latency
            .iter_mut()
            .zip(&total.latency)
            .for_each(|(a, b)| *a += b);
    }
    traffic.p50_us = percentile(&latency, 0.5);
    traffic.p99_us = percentile(&latency, 0.99);
    traffic
}

/// Where things stand.
#[utoipa::path(get, path = "/api/overview", responses((status = 200, body = Overview)))]
pub(crate) async fn overview(State(app): State<Arc<App>>) -> Result<Json<Overview>, ApiError> {
    let store = app.store()?;
    let files = app.draft_files().await?;
    let errors = porch_facade::check(&files, &app.config.environment)
        .iter()
        .filter(|f| f.severity == Severity::Error)
        .count();
    let now = porch_store::now_ms() / 60_000;
    let rows = store.usage_since(now - 119).await?;
    let (early, late): (Vec<_>, Vec<_>) = rows.into_iter().partition(|r| r.minute <= now - 60);
    let by_minute = Store::add_up(&late, |r| (r.minute, r.status / 100));
    let minutes = (now - 59..=now).map(|minute| {
        let of = |class: i32| by_minute.get(&(minute, class)).map_or(0, |t| t.calls);
        Minute {
            minute,
            calls: (1..6).map(of).sum(),
            refused: of(4),
            failed: of(5),
        }
    });
    let served = app.served.load();
    let pauses = app.shared.pauses.load();
    let mut paused: Vec<(String, String)> = pauses
        .facades
        .iter()
        .map(|f| (f.clone(), String::new()))
        .chain(pauses.operations.iter().cloned())
        .collect();
    paused.sort();
    Ok(Json(Overview {
        environment: app.config.environment.clone(),
        release: served.number,
        made_by: served.made_by.clone(),
        made_at: served.made_at,
        gateway: app.config.gateway.clone(),
        from_disk: served.from_disk,
        trouble: app.trouble(),
        unreleased: differences(&app, &files)
            .into_iter()
            .filter(|d| d.status != "same")
            .collect(),
        errors,
        now: traffic(Store::add_up(&late, |r| r.status).iter()),
        before: traffic(Store::add_up(&early, |r| r.status).iter()),
        minutes: minutes.collect(),
        paused,
        lost_records: app
            .shared
            .lost_records
            .load(std::sync::atomic::Ordering::Relaxed),
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
    let rows = app.store()?.traces(&query).await?;
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
    #[schema(value_type = Object)]
    trace: Trace,
}

/// One exchange by its id, or the beginning of it, with why it got the reply it got.
#[utoipa::path(get, path = "/api/traces/{id}", params(("id" = String, Path)), responses((status = 200, body = Explained), (status = 404)))]
pub(crate) async fn trace(
    State(app): State<Arc<App>>,
    Path(id): Path<String>,
) -> Result<Json<Explained>, ApiError> {
    let id = id
        .trim()
        .trim_start_matches("urn:elm-porch:exchange:")
        .to_ascii_lowercase();
    let rows = app.store()?.trace(&id).await?;
    let row = rows.into_iter().next().ok_or_else(|| {
        ApiError::new(
            404,
            format!("No trace of the exchange “{id}” is kept"),
            "Traces are kept of what failed or was refused, and of a sample of the rest.",
        )
    })?;
    let trace: Trace = serde_json::from_value(row.content)
        .map_err(|e| ApiError::new(500, "The trace cannot be read", e.to_string()))?;
    Ok(Json(Explained {
        explanation: explain(&trace),
        trace,
    }))
}

fn explain(trace: &Trace) -> Vec<String> {
    let mut lines = Vec::new();
    let who = match (trace.consumer_name.as_str(), trace.key.as_str()) {
        ("", _) => format!("A caller at {}", trace.address),
        (name, key) => format!("The consumer “{name}” (key {key}…, at {})", trace.address),
    };
    lines.push(format!(
        "{who} sent {} {} and got {}.",
        trace.method, trace.target, trace.status
    ));
    if !trace.operation.is_empty() {
        let served = if trace.release == 0 {
            "a trial run of the draft".to_owned()
        } else {
            format!("release {}", trace.release)
        };
        lines.push(format!(
            "It is the operation “{}” of the facade “{}”, in {served}.",
            trace.operation, trace.facade
        ));
    }
    match &trace.refusal {
        Some(refusal) => {
            lines.push(format!("The stage “{}” ended it: {}.", refusal.stage, refusal.why.trim_end_matches('.')));
            if !refusal.rule.is_empty() {
                let place = if refusal.file.is_empty() { "built in".to_owned() } else { format!("{}:{}", refusal.file, refusal.line) };
                lines.push(format!("The rule is “{}”, its reach {}, written in {place}.", refusal.rule, refusal.reach));
            }
        }
        None => lines.push(format!("Nothing refused it; it took {} µs, and the backend's part can be seen in the stage “call”.", trace.us)),
    }
    lines
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
    p50_us: u64,
    p99_us: u64,
}

/// Who calls what, how often, how fast.
#[utoipa::path(get, path = "/api/usage", params(UsageFilter), responses((status = 200, body = Vec<UsageLine>)))]
pub(crate) async fn usage(
    State(app): State<Arc<App>>,
    Query(f): Query<UsageFilter>,
) -> Result<Json<Vec<UsageLine>>, ApiError> {
    let store = app.store()?;
    let rows = store
        .usage_since(porch_store::now_ms() / 60_000 - f.minutes.unwrap_or(60).clamp(1, 100_000))
        .await?;
    let names: BTreeMap<i64, String> = store
        .consumers()
        .await?
        .into_iter()
        .map(|c| (c.id, c.name))
        .collect();
    let mut groups: BTreeMap<(String, String, i64), BTreeMap<i32, UsageTotals>> = BTreeMap::new();
    for ((key, status), total) in Store::add_up(&rows, |r| {
        (
            (r.facade.clone(), r.operation.clone(), r.consumer),
            r.status,
        )
    }) {
        groups.entry(key).or_default().insert(status, total);
    }
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
                p50_us: t.p50_us,
                p99_us: t.p99_us,
            }
        })
        .collect();
    lines.sort_by_key(|l| -l.calls);
    Ok(Json(lines))
}

/// Who changed what, the newest first.
#[utoipa::path(get, path = "/api/audit", responses((status = 200, body = Vec<Object>)))]
pub(crate) async fn audit(State(app): State<Arc<App>>) -> Result<Json<Value>, ApiError> {
    Ok(Json(json!(app.store()?.audit_lines(500).await?)))
}
