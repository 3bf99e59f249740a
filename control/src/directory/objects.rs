//! Changes of consumers, keys, pauses and accounts: each one change with its line in the audit, and one entry in the table.

use std::sync::Arc;

use porch_rules::key::{KeyHash, new_key, prefix};
use porch_store::entity::{account, api_key, consumer};
use porch_store::{Change, Role, Topic, now_ms};
use serde_json::json;

use super::{Directory, GrantRow, grants, pauses_of};
use crate::error::ApiError;

/// A key that is to be made.
pub(crate) struct NewKeyOf<'a> {
    pub(crate) consumer: &'a str,
    pub(crate) label: &'a str,
    pub(crate) ends_at: Option<i64>,
    /// The facades that it opens; none: every one.
    pub(crate) facades: Option<&'a [String]>,
}

/// What is paused or resumed: a facade, or one of its operations.
pub(crate) struct Pausing<'a> {
    pub(crate) facade: &'a str,
    /// Empty: the whole facade.
    pub(crate) operation: &'a str,
    pub(crate) paused: bool,
}

impl Pausing<'_> {
    fn what(&self) -> &'static str {
        what(self.paused)
    }
}

fn what(paused: bool) -> &'static str {
    if paused { "paused" } else { "resumed" }
}

impl Directory {
    pub(crate) async fn create_consumer(
        &self,
        who: &str,
        name: &str,
        owner: &str,
    ) -> Result<consumer::Model, ApiError> {
        let change = self.database.store()?.change(who).await?;
        let made = change.create_consumer(name, owner).await?;
        let object = format!("consumer {name}");
        let detail = json!({ "owner": owner });
        change.audit("registered", &object, detail).await?;
        change.commit().await?;
        Ok(made)
    }

    /// Stops a consumer with all its keys at once, or ends that.
    pub(crate) async fn pause_consumer(
        &self,
        who: &str,
        name: &str,
        paused: bool,
    ) -> Result<(), ApiError> {
        let mut known = self.revision.lock().await;
        let store = self.database.store()?;
        let change = store.change(who).await?;
        let of = change.pause_consumer(name, paused).await?;
        let object = format!("consumer {name}");
        change.audit(what(paused), &object, json!({})).await?;
        self.commit(&mut known, change).await?;
        let own = store.keys_of(of.id).await?.into_iter();
        self.replace(of, own.map(GrantRow::from));
        Ok(())
    }

    /// Makes a key; gives it whole, which is the only time that it is known.
    pub(crate) async fn create_key(
        &self,
        who: &str,
        new: &NewKeyOf<'_>,
    ) -> Result<(api_key::Model, String), ApiError> {
        if new.ends_at.is_some_and(|at| at <= now_ms()) {
            return Err(ApiError::new(
                400,
                "The key would have ended already",
                "Give a time to come, or none.",
            ));
        }
        let mut random = [0u8; 25];
        getrandom::fill(&mut random)
            .map_err(|_| ApiError::new(500, "The system gives no random bytes", ""))?;
        let key = new_key(&random);
        let (known_by, hash) = (prefix(&key).unwrap_or(&key), KeyHash::of(&key).to_hex());
        let mut known = self.revision.lock().await;
        let store = self.database.store()?;
        let change = store.change(who).await?;
        let made = change
            .create_key(
                new.consumer,
                new.label,
                known_by,
                &hash,
                new.ends_at,
                new.facades,
            )
            .await?;
        let object = format!("consumer {}", new.consumer);
        let detail = json!({ "key": known_by, "label": new.label, "facades": new.facades });
        change.audit("made a key", &object, detail).await?;
        self.commit(&mut known, change).await?;
        let of = store.consumer(new.consumer).await?;
        self.replace(of, [GrantRow::from(made.clone())].into_iter());
        Ok((made, key))
    }

    /// Ends, pauses or resumes a key.
    pub(crate) async fn change_key(
        &self,
        who: &str,
        known_by: &str,
        ends_at: Option<Option<i64>>,
        paused: Option<bool>,
    ) -> Result<api_key::Model, ApiError> {
        let mut known = self.revision.lock().await;
        let store = self.database.store()?;
        let change = store.change(who).await?;
        let changed = change.change_key(known_by, ends_at, paused).await?;
        let detail = json!({ "ends_at": changed.ends_at, "paused": changed.paused });
        let object = format!("key {known_by}");
        change.audit("changed a key", &object, detail).await?;
        self.commit(&mut known, change).await?;
        let consumers = store.consumers().await?;
        if let Some(of) = consumers.into_iter().find(|c| c.id == changed.consumer_id) {
            self.replace(of, [GrantRow::from(changed.clone())].into_iter());
        }
        Ok(changed)
    }

    /// Stops a facade or an operation at once, or ends that.
    pub(crate) async fn pause(&self, who: &str, pausing: &Pausing<'_>) -> Result<(), ApiError> {
        let mut known = self.revision.lock().await;
        let store = self.database.store()?;
        let change = store.change(who).await?;
        change
            .set_pause(pausing.facade, pausing.operation, pausing.paused)
            .await?;
        let object = match pausing.operation {
            "" => format!("facade {}", pausing.facade),
            operation => format!("operation {}/{operation}", pausing.facade),
        };
        change.audit(pausing.what(), &object, json!({})).await?;
        self.commit(&mut known, change).await?;
        let pauses = store.pauses().await?.into_iter();
        let pauses = pauses_of(pauses.map(|p| (p.facade, p.operation)));
        self.shared.pauses.store(Arc::new(pauses));
        Ok(())
    }

    pub(crate) async fn create_account(
        &self,
        who: &str,
        name: &str,
        password: &str,
        role: Role,
    ) -> Result<account::Model, ApiError> {
        let change = self.database.store()?.change(who).await?;
        let made = change.create_account(name, password, role).await?;
        let detail = json!({ "role": made.role });
        change.audit("made an account", name, detail).await?;
        change.commit().await?;
        Ok(made)
    }

    pub(crate) async fn change_account(
        &self,
        who: &str,
        name: &str,
        role: Option<Role>,
        password: Option<&str>,
    ) -> Result<account::Model, ApiError> {
        let change = self.database.store()?.change(who).await?;
        let changed = change.change_account(name, role, password).await?;
        let detail = json!({ "role": changed.role, "new password": password.is_some() });
        change.audit("changed an account", name, detail).await?;
        change.commit().await?;
        Ok(changed)
    }

    pub(crate) async fn end_account(&self, who: &str, name: &str) -> Result<(), ApiError> {
        let change = self.database.store()?.change(who).await?;
        change.end_account(name).await?;
        change.audit("ended an account", name, json!({})).await?;
        change.commit().await.map_err(ApiError::from)
    }

    /// Commits a change of what is in memory, too; the caller changes that.
    async fn commit(&self, known: &mut i64, change: Change) -> Result<(), ApiError> {
        change.touch(&Topic::Grants).await?;
        change.commit().await?;
        let store = self.database.store()?;
        let revision = store.revisions().await?.get(&Topic::Grants.name()).copied();
        let revision = revision.unwrap_or(0);
        // More than one step: another service has changed something too, which is read in a moment.
        if revision == *known + 1 {
            *known = revision;
        }
        Ok(())
    }

    /// Replaces grants of a consumer in the table, one entry at a time.
    fn replace(&self, of: consumer::Model, rows: impl Iterator<Item = GrantRow>) {
        let of = grants::consumer(of.id, of.name, of.owner, of.paused);
        let mut table = (*self.shared.grants.load_full()).clone();
        for (hash, grant) in rows.filter_map(|row| row.grant(&of)) {
            table = table.with(hash, Some(grant));
        }
        self.shared.grants.store(Arc::new(table));
    }
}
