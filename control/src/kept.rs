//! What the gateway keeps in mind: replies, which are let go on all services, and backends that are left alone.

use std::collections::BTreeSet;
use std::sync::Arc;
use std::time::Duration;

use porch_facade::CompiledBackend;
use porch_gateway::{Kept, Purge, Shared};
use porch_store::Topic;
use serde_json::{Value, json};
use tokio::sync::Mutex;

use crate::database::Database;
use crate::error::ApiError;

/// What the audit calls it.
pub(crate) const PURGED: &str = "let go of kept replies";

/// What was taken up of what others let go.
struct Known {
    revision: i64,
    /// The last line of the audit that was looked at.
    last: i64,
    /// Lines that were taken up, of those that are looked at once more.
    taken: BTreeSet<i64>,
}

/// Changes that are made at the same time may be seen in another order than their lines have: so many lines are looked at once
/// more.
const AGAIN: i64 = 100;

/// What the gateway keeps in mind.
pub(crate) struct KeptInMind {
    shared: Arc<Shared>,
    database: Database,
    /// What was taken up; held by whoever takes up more.
    known: Mutex<Option<Known>>,
    /// What this service is known by in its own lines: what it did itself is done already.
    service: String,
}

impl KeptInMind {
    pub(crate) fn new(shared: Arc<Shared>, database: Database) -> Self {
        Self {
            shared,
            database,
            known: Mutex::new(None),
            service: format!("{}-{}", std::process::id(), porch_store::now_ms()),
        }
    }

    /// How long a backend is left alone still, where it is.
    pub(crate) fn resting(&self, backend: &CompiledBackend) -> Option<Duration> {
        self.shared.resting(backend)
    }

    /// What was found of an address that is left alone, since it is not well.
    pub(crate) fn not_well(&self, backend: &CompiledBackend, at: usize) -> Option<Arc<str>> {
        self.shared.watched.told(backend, at)
    }

    pub(crate) fn kept(&self) -> Kept {
        self.shared.cache.kept()
    }

    /// Lets go of them here at once, and tells the other services.
    pub(crate) async fn purge(&self, who: &str, purge: &Purge) -> Result<usize, ApiError> {
        let number = self.shared.cache.purge(purge);
        let change = self.database.store()?.change(who).await?;
        let detail = json!({
            "facade": purge.facade,
            "operation": purge.operation,
            "path": purge.path,
            "tag": purge.tag,
            "service": self.service,
        });
        change.audit(PURGED, "cache", detail).await?;
        change.touch(&Topic::Kept).await?;
        change.commit().await?;
        Ok(number)
    }

    /// Takes up what other services let go of; what was before this one began is nothing to it.
    pub(crate) async fn catch_up(&self) -> Result<(), ApiError> {
        let mut known = self.known.lock().await;
        let store = self.database.store()?;
        let revisions = store.revisions().await?;
        let revision = revisions.get(&Topic::Kept.name()).copied().unwrap_or(0);
        let Some(known) = known.as_mut() else {
            let last = store.last_audit().await?;
            let lines = store.audit_behind(last - AGAIN, PURGED).await?;
            *known = Some(Known {
                revision,
                last,
                taken: lines.iter().map(|line| line.id).collect(),
            });
            return Ok(());
        };
        if known.revision == revision {
            return Ok(());
        }
        let from = known.last - AGAIN;
        for line in store.audit_behind(from, PURGED).await? {
            known.last = known.last.max(line.id);
            let is_own = line.detail["service"] == self.service.as_str();
            if known.taken.insert(line.id) && !is_own {
                self.shared.cache.purge(&purge_of(&line.detail));
            }
        }
        known.revision = revision;
        known.taken = known.taken.split_off(&(known.last - AGAIN));
        Ok(())
    }
}

fn purge_of(detail: &Value) -> Purge {
    let text = |name: &str| detail[name].as_str().unwrap_or_default().to_owned();
    Purge {
        facade: text("facade"),
        operation: text("operation"),
        path: text("path"),
        tag: text("tag"),
    }
}
