//! Directory: accounts, consumers, keys and pauses, and the table of grants that follows from them.

mod attempts;
mod grants;
mod objects;

use std::collections::HashMap;
use std::sync::Arc;

use porch_gateway::Shared;
use porch_rules::grant::{Consumer, Grants};
use porch_store::{Store, Topic};
use tokio::sync::Mutex;

pub(crate) use attempts::Attempts;
pub(crate) use grants::{GrantRow, grants_of, pauses_of};
pub(crate) use objects::{NewKeyOf, Pausing};

use crate::database::Database;
use crate::error::ApiError;

/// Accounts, consumers, keys and pauses.
pub(crate) struct Directory {
    shared: Arc<Shared>,
    database: Database,
    /// The revision that the table in memory has; held by whoever changes it.
    revision: Mutex<i64>,
}

impl Directory {
    pub(crate) fn new(shared: Arc<Shared>, database: Database) -> Self {
        Self {
            shared,
            database,
            revision: Mutex::new(-1),
        }
    }

    /// Reads what the store has, when that is not what is in memory: after a start, and after another service's change.
    pub(crate) async fn catch_up(&self) -> Result<bool, ApiError> {
        let mut known = self.revision.lock().await;
        let store = self.database.store()?;
        let revision = store.revisions().await?.get(&Topic::Grants.name()).copied();
        if *known == revision.unwrap_or(0) {
            return Ok(false);
        }
        let consumers = store.consumers().await?;
        let by_id: HashMap<i64, _> = consumers
            .into_iter()
            .map(|c| (c.id, grants::consumer(c.id, c.name, c.owner, c.paused)))
            .collect();
        self.shared
            .grants
            .store(Arc::new(read_grants(&store, &by_id).await?));
        let pauses = store.pauses().await?.into_iter();
        let pauses = pauses_of(pauses.map(|p| (p.facade, p.operation)));
        self.shared.pauses.store(Arc::new(pauses));
        *known = revision.unwrap_or(0);
        Ok(true)
    }
}

/// Keys that are read at once.
const PAGE: u64 = 5000;

/// The table of all keys, read a page at a time: a million rows take many times the memory of the table that they become.
async fn read_grants(
    store: &Store,
    consumers: &HashMap<i64, Arc<Consumer>>,
) -> Result<Grants, ApiError> {
    let (mut grants, mut last) = (Grants::default(), i64::MIN);
    loop {
        let page = store.keys_behind(last, PAGE).await?;
        let Some(end) = page.last() else {
            grants.shrink();
            return Ok(grants);
        };
        last = end.id;
        let rows = page.into_iter().map(GrantRow::from);
        grants.extend(grants::each(consumers, rows));
    }
}
