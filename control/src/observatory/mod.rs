//! Observatory: usage, traces, audit.

mod copies;
mod explain;
mod traffic;
mod words;
mod writer;

use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::Ordering;

use porch_gateway::{Shared, Trace};
use porch_store::entity::{audit, trace};
use porch_store::{Store, TraceQuery, UsageTotals};

pub(crate) use explain::explain;
pub(crate) use words::words;

pub(crate) use traffic::{Minute, Traffic, traffic};

use crate::database::Database;
use crate::error::ApiError;

/// Usage, traces, audit.
pub(crate) struct Observatory {
    shared: Arc<Shared>,
    database: Database,
}

/// The last hour, the one before, and the minutes of the last.
pub(crate) struct Lately {
    pub(crate) now: Traffic,
    pub(crate) before: Traffic,
    pub(crate) minutes: Vec<Minute>,
}

/// Facade, operation, consumer.
type Who = (String, String, i64);

impl Observatory {
    pub(crate) fn new(shared: Arc<Shared>, database: Database) -> Self {
        Self { shared, database }
    }

    /// Records that were dropped because nobody took them in time.
    pub(crate) fn lost_records(&self) -> u64 {
        self.shared.lost_records.load(Ordering::Relaxed)
    }

    /// What is paused: facade and operation, sorted.
    pub(crate) fn paused(&self) -> Vec<(String, String)> {
        let pauses = self.shared.pauses.load();
        let facades = pauses.facades.iter().map(|f| (f.clone(), String::new()));
        let mut paused: Vec<_> = facades.chain(pauses.operations.iter().cloned()).collect();
        paused.sort();
        paused
    }

    /// Whether a facade, or one of its operations, is paused.
    pub(crate) fn is_paused(&self, facade: &str, operation: Option<&str>) -> bool {
        let pauses = self.shared.pauses.load();
        match operation {
            Some(operation) => pauses.stops(facade, operation),
            None => pauses.facades.contains(facade),
        }
    }

    pub(crate) async fn lately(&self) -> Result<Lately, ApiError> {
        let now = minute();
        let rows = self.database.store()?.usage_since(now - 119).await?;
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
        Ok(Lately {
            minutes: minutes.collect(),
            now: traffic(Store::add_up(&late, |r| r.status).iter()),
            before: traffic(Store::add_up(&early, |r| r.status).iter()),
        })
    }

    /// Calls of the last hour by facade.
    pub(crate) async fn calls_by_facade(&self) -> Result<BTreeMap<String, i64>, ApiError> {
        let usage = self.database.store()?.usage_since(minute() - 60).await?;
        let totals = Store::add_up(&usage, |r| r.facade.clone());
        Ok(totals.into_iter().map(|(f, t)| (f, t.calls)).collect())
    }

    /// Calls of the last hour of one facade, by operation and class of status.
    pub(crate) async fn calls_of(
        &self,
        facade: &str,
    ) -> Result<BTreeMap<(String, i32), i64>, ApiError> {
        let mut usage = self.database.store()?.usage_since(minute() - 60).await?;
        usage.retain(|r| r.facade == facade);
        let totals = Store::add_up(&usage, |r| (r.operation.clone(), r.status / 100));
        Ok(totals.into_iter().map(|(k, t)| (k, t.calls)).collect())
    }

    /// Usage of the last minutes by facade, operation and consumer, then by status; and the consumers' names.
    pub(crate) async fn usage(
        &self,
        minutes: i64,
    ) -> Result<
        (
            BTreeMap<Who, BTreeMap<i32, UsageTotals>>,
            BTreeMap<i64, String>,
        ),
        ApiError,
    > {
        let store = self.database.store()?;
        let rows = store.usage_since(minute() - minutes).await?;
        let names = store.consumers().await?.into_iter();
        let names = names.map(|c| (c.id, c.name)).collect();
        let mut groups: BTreeMap<Who, BTreeMap<i32, UsageTotals>> = BTreeMap::new();
        let totals = Store::add_up(&rows, |r| {
            let who = (r.facade.clone(), r.operation.clone(), r.consumer);
            (who, r.status)
        });
        for ((who, status), total) in totals {
            groups.entry(who).or_default().insert(status, total);
        }
        Ok((groups, names))
    }

    pub(crate) async fn traces(&self, query: &TraceQuery) -> Result<Vec<trace::Model>, ApiError> {
        Ok(self.database.store()?.traces(query).await?)
    }

    /// One exchange by its id, or the beginning of it.
    pub(crate) async fn trace(&self, id: &str) -> Result<Trace, ApiError> {
        let id = id
            .trim()
            .trim_start_matches("urn:elm-porch:exchange:")
            .to_ascii_lowercase();
        let rows = self.database.store()?.trace(&id).await?;
        let row = rows.into_iter().next().ok_or_else(|| {
            ApiError::new(
                404,
                format!("No trace of the exchange “{id}” is kept"),
                "Traces are kept of what failed or was refused, and of a sample of the rest.",
            )
        })?;
        serde_json::from_value(row.content)
            .map_err(|e| ApiError::new(500, "The trace cannot be read", e.to_string()))
    }

    pub(crate) async fn audit(&self, most: u64) -> Result<Vec<audit::Model>, ApiError> {
        Ok(self.database.store()?.audit_lines(most).await?)
    }
}

/// The minute since 1970.
fn minute() -> i64 {
    porch_store::now_ms() / 60_000
}
