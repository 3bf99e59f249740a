//! Jobs behind the API: reaching the database, writing down what the gateway hands out.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::Duration;

use porch_gateway::{Record, Trace, UsageRow};
use porch_store::entity::{trace, usage};
use porch_store::{Role, Store, now_ms};
use sea_orm::Set;
use tokio::sync::mpsc;
use tokio::time::MissedTickBehavior;

use crate::app::App;
use crate::publish::{load_snapshot, reload};

/// Traces that are kept.
const KEEP_TRACES: u64 = 20_000;
/// Records that wait for the database, at most; beyond that the oldest traces are dropped.
const MAX_WAITING: usize = 20_000;

/// The first administrator, made when there is no account yet.
pub struct FirstAccount {
    /// Name.
    pub name: String,
    /// Password.
    pub password: String,
}

/// Starts the jobs. Returns when the database has been reached, or when it was found not to answer and the last release
/// is served from disk.
///
/// # Errors
/// When neither is possible: why.
pub async fn start(
    app: Arc<App>,
    records: mpsc::Receiver<Record>,
    first: Option<FirstAccount>,
) -> Result<(), String> {
    let connected = connect(&app, first.as_ref()).await;
    tokio::spawn(write_records(app.clone(), records));
    tokio::spawn(sweep(app.clone()));
    match connected {
        Ok(()) => Ok(()),
        Err(why) => {
            let number = load_snapshot(&app).map_err(|e| format!("the database does not answer ({why}), and there is no release on disk to serve: {e}"))?;
            app.set_trouble(format!(
                "the database does not answer; release {number} is served from disk"
            ));
            tracing::warn!(
                "the database does not answer ({why}); release {number} is served from disk"
            );
            tokio::spawn(reconnect(app, first));
            Ok(())
        }
    }
}

async fn connect(app: &App, first: Option<&FirstAccount>) -> Result<(), String> {
    let store = Store::open(&app.config.database, app.seal.clone())
        .await
        .map_err(|e| e.to_string())?;
    if let Some(first) = first
        && !store.has_accounts().await.map_err(|e| e.to_string())?
    {
        store
            .create_account(
                first.name.trim(),
                first.password.trim(),
                Role::Administrator,
            )
            .await
            .map_err(|e| e.to_string())?;
        tracing::info!("made the first administrator, {}", first.name);
    }
    app.store.store(Some(Arc::new(store)));
    reload(app)
        .await
        .map_err(|e| format!("what was released cannot be served: {e:?}"))
}

async fn reconnect(app: Arc<App>, first: Option<FirstAccount>) {
    loop {
        tokio::time::sleep(Duration::from_secs(2)).await;
        match connect(&app, first.as_ref()).await {
            Ok(()) => {
                app.set_trouble("");
                tracing::info!("the database answers again");
                return;
            }
            Err(why) => tracing::debug!("the database still does not answer: {why}"),
        }
    }
}

async fn sweep(app: Arc<App>) {
    loop {
        tokio::time::sleep(Duration::from_secs(30)).await;
        app.shared.windows.sweep(app.shared.now_ms());
    }
}

type UsageKey = (i64, String, String, i64, u16);

/// Adds up usage by minute and writes it, with the traces, every half second.
async fn write_records(app: Arc<App>, mut records: mpsc::Receiver<Record>) {
    let boot = now_ms();
    let mut minutes: HashMap<UsageKey, UsageRow> = HashMap::new();
    let mut dirty: Vec<UsageKey> = Vec::new();
    let mut traces: Vec<Trace> = Vec::new();
    let mut tick = tokio::time::interval(Duration::from_millis(500));
    tick.set_missed_tick_behavior(MissedTickBehavior::Delay);
    let mut failing = false;
    loop {
        tokio::select! {
            record = records.recv() => match record {
                Some(Record::Usage(rows)) => rows.into_iter().for_each(|row| take_in(&mut minutes, &mut dirty, row)),
                Some(Record::Trace(trace)) => {
                    if traces.len() < MAX_WAITING {
                        traces.push(*trace);
                    }
                }
                None => return,
            },
            _ = tick.tick() => {
                let Ok(store) = app.store() else { continue };
                dirty.sort();
                dirty.dedup();
                let rows = dirty.iter().filter_map(|k| minutes.get(k).map(|r| usage_model(k, r, boot))).collect();
                let models: Vec<_> = traces.iter().map(trace_model).collect();
                let written = match store.write_usage(rows).await {
                    Ok(()) => store.write_traces(models, KEEP_TRACES).await,
                    Err(e) => Err(e),
                };
                match written {
                    Ok(()) => {
                        dirty.clear();
                        traces.clear();
                        let now = now_ms() / 60_000;
                        minutes.retain(|k, _| k.0 + 2 > now);
                        if std::mem::take(&mut failing) {
                            app.set_trouble("");
                            tracing::info!("the database answers again");
                        }
                    }
                    Err(e) => {
                        if !std::mem::replace(&mut failing, true) {
                            app.set_trouble("the database does not answer; callers are served, changes are not possible");
                            tracing::warn!("records cannot be written: {e}");
                        }
                    }
                }
            }
        }
    }
}

fn take_in(minutes: &mut HashMap<UsageKey, UsageRow>, dirty: &mut Vec<UsageKey>, row: UsageRow) {
    let key = (
        now_ms() / 60_000,
        row.facade.clone(),
        row.operation.clone(),
        row.consumer,
        row.status,
    );
    match minutes.get_mut(&key) {
        Some(sum) => {
            sum.calls += row.calls;
            sum.bytes_in += row.bytes_in;
            sum.bytes_out += row.bytes_out;
            sum.latency
                .iter_mut()
                .zip(&row.latency)
                .for_each(|(a, b)| *a += b);
        }
        None => drop(minutes.insert(key.clone(), row)),
    }
    dirty.push(key);
}

fn usage_model(key: &UsageKey, row: &UsageRow, boot: i64) -> usage::ActiveModel {
    usage::ActiveModel {
        minute: Set(key.0),
        facade: Set(key.1.clone()),
        operation: Set(key.2.clone()),
        consumer: Set(key.3),
        status: Set(i32::from(key.4)),
        boot: Set(boot),
        calls: Set(row.calls as i64),
        bytes_in: Set(row.bytes_in as i64),
        bytes_out: Set(row.bytes_out as i64),
        latency: Set(serde_json::json!(row.latency)),
    }
}

fn trace_model(trace: &Trace) -> trace::ActiveModel {
    trace::ActiveModel {
        trace_id: Set(trace.id.clone()),
        at: Set(trace.at),
        facade: Set(trace.facade.clone()),
        operation: Set(trace.operation.clone()),
        consumer: Set(trace.consumer_name.clone()),
        status: Set(i32::from(trace.status)),
        us: Set(trace.us as i64),
        method: Set(trace.method.clone()),
        target: Set(trace.target.replace('\0', "")),
        why: Set(trace
            .refusal
            .as_ref()
            .map_or_else(String::new, |r| r.why.replace('\0', ""))),
        content: Set(without_nul(serde_json::to_value(trace).unwrap_or_default())),
        ..Default::default()
    }
}

/// PostgreSQL's texts hold no NUL.
fn without_nul(value: serde_json::Value) -> serde_json::Value {
    use serde_json::Value;
    match value {
        Value::String(text) if text.contains('\0') => Value::String(text.replace('\0', "\u{fffd}")),
        Value::Array(items) => items.into_iter().map(without_nul).collect(),
        Value::Object(map) => {
            Value::Object(map.into_iter().map(|(k, v)| (k, without_nul(v))).collect())
        }
        other => other,
    }
}
