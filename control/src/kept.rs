//! What the gateway keeps in mind: replies, which are let go on all services, and backends that are left alone.

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

/// What the gateway keeps in mind.
pub(crate) struct KeptInMind {
    shared: Arc<Shared>,
    database: Database,
    /// The revision, and the last line of the audit, that were taken up; held by whoever takes up more.
    known: Mutex<Option<(i64, i64)>>,
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
        let Some((old, last)) = *known else {
            *known = Some((revision, store.last_audit().await?));
            return Ok(());
        };
        if old == revision {
            return Ok(());
        }
        let lines = store.audit_behind(last, PURGED).await?;
        let last = lines.last().map_or(last, |line| line.id);
        let others = lines.iter();
        let others = others.filter(|l| l.detail["service"] != self.service.as_str());
        for line in others {
            self.shared.cache.purge(&purge_of(&line.detail));
        }
        *known = Some((revision, last));
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
