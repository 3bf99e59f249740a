//! Directory: accounts, consumers, keys and pauses, and the table of grants that follows from them.

mod accounts;
mod attempts;
mod ending;
mod grants;
mod objects;
mod offers;
mod people;

use std::collections::HashMap;
use std::sync::Arc;
use std::time::Instant;

use porch_gateway::Shared;
use porch_rules::grant::{Consumer, Grants};
use porch_rules::key::KeyHash;
use porch_store::{GrantChange, Seal, Store, Topic};
use tokio::sync::Mutex;

pub(crate) use attempts::Attempts;
pub(crate) use grants::{ConsumerRow, GrantRow, from_hex, grants_of, pauses_of, to_hex};
pub(crate) use objects::{NewKeyOf, Pausing, Renewal};
pub(crate) use offers::{Asking, Ending};
pub(crate) use people::OwnCredential;

use crate::database::Database;
use crate::error::ApiError;

/// Accounts, consumers, keys and pauses.
pub(crate) struct Directory {
    shared: Arc<Shared>,
    database: Database,
    seal: Seal,
    /// The revision that the table in memory has; held by whoever changes it.
    revision: Mutex<i64>,
    /// Held by whoever changes what is in the table, from before it takes a connection until the table has it.
    turn: Arc<Mutex<()>>,
    /// When it was looked at last who uses what will be gone.
    looked: std::sync::Mutex<HashMap<String, Instant>>,
}

impl Directory {
    pub(crate) fn new(shared: Arc<Shared>, database: Database, seal: Seal) -> Self {
        Self {
            shared,
            database,
            seal,
            revision: Mutex::new(-1),
            turn: Arc::default(),
            looked: std::sync::Mutex::default(),
        }
    }

    /// Reads what the store has, when that is not what is in memory: after a start, and after another service's change.
    pub(crate) async fn catch_up(&self) -> Result<bool, ApiError> {
        let mut known = self.revision.lock().await;
        self.follow(&mut known).await
    }

    /// The same while the revision is held: what has changed of a few consumers is read alone.
    async fn follow(&self, known: &mut i64) -> Result<bool, ApiError> {
        let store = self.database.store()?;
        let revision = store.revisions().await?.get(&Topic::Grants.name()).copied();
        let revision = revision.unwrap_or(0);
        if *known == revision {
            return Ok(false);
        }
        match store.grant_changes(*known, revision).await? {
            Some(changes) => self.take_up(&store, &changes).await?,
            None => {
                let consumers = store.consumers().await?;
                let agreements = store.agreements_of(None).await?;
                let rows = ConsumerRow::all(consumers, agreements).into_iter();
                let by_id = rows.map(|row| (row.id, row.consumer())).collect();
                let grants = read_grants(&store, &by_id, &self.seal).await?;
                self.shared.grants.store(Arc::new(grants));
                self.read_the_rest(&store).await?;
            }
        }
        *known = revision;
        Ok(true)
    }

    /// Puts what has changed into the table, one entry at a time.
    async fn take_up(&self, store: &Store, changes: &[GrantChange]) -> Result<(), ApiError> {
        let mut ids: Vec<i64> = changes.iter().map(|c| c.consumer).collect();
        ids.sort_unstable();
        ids.dedup();
        if ids.contains(&0) {
            self.read_the_rest(store).await?;
        }
        ids.retain(|id| *id != 0);
        let gone = changes.iter().filter_map(|c| c.gone.as_deref());
        let gone = gone.filter_map(KeyHash::from_hex).map(|hash| (hash, None));
        let mut consumers = HashMap::new();
        for id in &ids {
            if let Some(found) = store.consumer_of_number(*id).await? {
                let agreements = store.agreements_of(Some(&[*id])).await?;
                consumers.insert(*id, ConsumerRow::of(found, agreements).consumer());
            }
        }
        let rows = store.credentials_of(&ids).await?.into_iter();
        let there = grants::each(&consumers, rows.map(GrantRow::from), &self.seal);
        let there = there.map(|(hash, grant)| (hash, Some(grant)));
        // All at once: a consumer may have very many.
        let table = self.shared.grants.load().with_all(gone.chain(there));
        self.shared.grants.store(Arc::new(table));
        Ok(())
    }

    /// What is paused, and what was added to quotas.
    async fn read_the_rest(&self, store: &Store) -> Result<(), ApiError> {
        let pauses = store.pauses().await?.into_iter();
        let pauses = pauses_of(pauses.map(|p| (p.facade, p.operation)));
        self.shared.pauses.store(Arc::new(pauses));
        let mut additions = HashMap::new();
        for a in store.additions().await? {
            let from = u64::try_from(a.from_at).unwrap_or(0);
            let key = (a.quota.cast_unsigned(), a.subject.cast_unsigned(), from);
            let sum: &mut u64 = additions.entry(key).or_default();
            *sum = sum.saturating_add(u64::try_from(a.amount).unwrap_or(0));
        }
        self.shared.additions.store(Arc::new(additions));
        Ok(())
    }
}

/// Keys that are read at once.
const PAGE: u64 = 5000;

/// The table of all keys, read a page at a time: a million rows take many times the memory of the table that they become.
async fn read_grants(
    store: &Store,
    consumers: &HashMap<i64, Arc<Consumer>>,
    seal: &Seal,
) -> Result<Grants, ApiError> {
    let (mut grants, mut last) = (Grants::default(), i64::MIN);
    loop {
        let page = store.credentials_behind(last, PAGE).await?;
        let Some(end) = page.last() else {
            grants.shrink();
            return Ok(grants);
        };
        last = end.id;
        let rows = page.into_iter().map(GrantRow::from);
        grants.extend(grants::each(consumers, rows, seal));
    }
}
