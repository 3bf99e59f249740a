//! Consumers and keys, secrets and pauses.

use std::collections::HashMap;

use sea_orm::sea_query::OnConflict;
use sea_orm::{
    ActiveModelTrait, ColumnTrait, ConnectionTrait, EntityTrait, IntoActiveModel, QueryFilter,
    QueryOrder, QuerySelect, Set,
};

use crate::entity::{api_key, consumer, pause, secret};
use crate::{Change, Result, Store, StoreError, now_ms, taken};

async fn consumer_of(db: &impl ConnectionTrait, name: &str) -> Result<consumer::Model> {
    let found = consumer::Entity::find()
        .filter(consumer::Column::Name.eq(name))
        .one(db)
        .await?;
    found.ok_or_else(|| StoreError::Missing(format!("consumer “{name}”")))
}

impl Store {
    /// All consumers by name.
    ///
    /// # Errors
    /// When the database does.
    pub async fn consumers(&self) -> Result<Vec<consumer::Model>> {
        Ok(consumer::Entity::find()
            .order_by_asc(consumer::Column::Name)
            .all(&self.db)
            .await?)
    }

    /// The consumer of a name.
    ///
    /// # Errors
    /// When there is none.
    pub async fn consumer(&self, name: &str) -> Result<consumer::Model> {
        consumer_of(&self.db, name).await
    }

    /// All keys.
    ///
    /// # Errors
    /// When the database does.
    pub async fn keys(&self) -> Result<Vec<api_key::Model>> {
        Ok(api_key::Entity::find()
            .order_by_asc(api_key::Column::Id)
            .all(&self.db)
            .await?)
    }

    /// So many keys behind the one with a number, in the order of their numbers: for those who need not hold all of them at once.
    ///
    /// # Errors
    /// When the database does.
    pub async fn keys_behind(&self, number: i64, most: u64) -> Result<Vec<api_key::Model>> {
        Ok(api_key::Entity::find()
            .filter(api_key::Column::Id.gt(number))
            .order_by_asc(api_key::Column::Id)
            .limit(most)
            .all(&self.db)
            .await?)
    }

    /// The keys of one consumer.
    ///
    /// # Errors
    /// When the database does.
    pub async fn keys_of(&self, consumer: i64) -> Result<Vec<api_key::Model>> {
        Ok(api_key::Entity::find()
            .filter(api_key::Column::ConsumerId.eq(consumer))
            .order_by_asc(api_key::Column::Id)
            .all(&self.db)
            .await?)
    }

    /// The names of an environment's secrets, with who changed them last and when.
    ///
    /// # Errors
    /// When the database does.
    pub async fn secret_names(&self, environment: &str) -> Result<Vec<secret::Model>> {
        Ok(secret::Entity::find()
            .filter(secret::Column::Environment.eq(environment))
            .order_by_asc(secret::Column::Name)
            .all(&self.db)
            .await?)
    }

    /// An environment's secrets, opened.
    ///
    /// # Errors
    /// When one was sealed with another key.
    pub async fn secrets(&self, environment: &str) -> Result<HashMap<String, String>> {
        let all = self.secret_names(environment).await?;
        all.into_iter()
            .map(|s| {
                Ok((
                    s.name.clone(),
                    self.seal
                        .open(&format!("{environment}/{}", s.name), &s.sealed)?,
                ))
            })
            .collect()
    }

    /// What is paused.
    ///
    /// # Errors
    /// When the database does.
    pub async fn pauses(&self) -> Result<Vec<pause::Model>> {
        Ok(pause::Entity::find().all(&self.db).await?)
    }
}

impl Change {
    /// Registers a consumer.
    ///
    /// # Errors
    /// When the name is taken.
    pub async fn create_consumer(&self, name: &str, owner: &str) -> Result<consumer::Model> {
        let model = consumer::ActiveModel {
            name: Set(name.into()),
            owner: Set(owner.into()),
            paused: Set(false),
            created_at: Set(now_ms()),
            ..Default::default()
        };
        model.insert(&self.transaction).await.map_err(taken(name))
    }

    /// Pauses a consumer, or ends its pause.
    ///
    /// # Errors
    /// When there is none.
    pub async fn pause_consumer(&self, name: &str, paused: bool) -> Result<consumer::Model> {
        let mut model = consumer_of(&self.transaction, name)
            .await?
            .into_active_model();
        model.paused = Set(paused);
        Ok(model.update(&self.transaction).await?)
    }

    /// Keeps the hash of a new key.
    ///
    /// # Errors
    /// When there is no such consumer.
    pub async fn create_key(
        &self,
        consumer: &str,
        label: &str,
        prefix: &str,
        hash: &str,
        ends_at: Option<i64>,
        opens: Option<&[String]>,
    ) -> Result<api_key::Model> {
        let owner = consumer_of(&self.transaction, consumer).await?;
        let model = api_key::ActiveModel {
            consumer_id: Set(owner.id),
            label: Set(label.into()),
            prefix: Set(prefix.into()),
            hash: Set(hash.into()),
            ends_at: Set(ends_at),
            paused: Set(false),
            created_at: Set(now_ms()),
            facades: Set(opens.map(|all| all.join(","))),
            ..Default::default()
        };
        model.insert(&self.transaction).await.map_err(taken(prefix))
    }

    /// Changes a key that is known by its prefix: when it ends, whether it is paused.
    ///
    /// # Errors
    /// When there is none.
    pub async fn change_key(
        &self,
        prefix: &str,
        ends_at: Option<Option<i64>>,
        paused: Option<bool>,
    ) -> Result<api_key::Model> {
        let found = api_key::Entity::find()
            .filter(api_key::Column::Prefix.eq(prefix))
            .one(&self.transaction)
            .await?;
        let mut model = found
            .ok_or_else(|| StoreError::Missing(format!("key “{prefix}…”")))?
            .into_active_model();
        if let Some(ends_at) = ends_at {
            model.ends_at = Set(ends_at);
        }
        if let Some(paused) = paused {
            model.paused = Set(paused);
        }
        Ok(model.update(&self.transaction).await?)
    }

    /// Sets a secret.
    ///
    /// # Errors
    /// When the database does.
    pub async fn set_secret(&self, environment: &str, name: &str, text: &str) -> Result<()> {
        let sealed = self.seal.seal(&format!("{environment}/{name}"), text)?;
        let model = secret::ActiveModel {
            environment: Set(environment.into()),
            name: Set(name.into()),
            sealed: Set(sealed),
            changed_by: Set(self.who.clone()),
            changed_at: Set(now_ms()),
        };
        let conflict = OnConflict::columns([secret::Column::Environment, secret::Column::Name])
            .update_columns([
                secret::Column::Sealed,
                secret::Column::ChangedBy,
                secret::Column::ChangedAt,
            ])
            .to_owned();
        secret::Entity::insert(model)
            .on_conflict(conflict)
            .exec_without_returning(&self.transaction)
            .await?;
        Ok(())
    }

    /// Pauses a facade (`operation` empty) or an operation, or ends the pause.
    ///
    /// # Errors
    /// When the database does.
    pub async fn set_pause(&self, facade: &str, operation: &str, paused: bool) -> Result<()> {
        if !paused {
            pause::Entity::delete_by_id((facade.to_owned(), operation.to_owned()))
                .exec(&self.transaction)
                .await?;
            return Ok(());
        }
        let model = pause::ActiveModel {
            facade: Set(facade.into()),
            operation: Set(operation.into()),
            paused_by: Set(self.who.clone()),
            paused_at: Set(now_ms()),
        };
        let conflict = OnConflict::columns([pause::Column::Facade, pause::Column::Operation])
            .update_columns([pause::Column::PausedBy, pause::Column::PausedAt])
            .to_owned();
        pause::Entity::insert(model)
            .on_conflict(conflict)
            .exec_without_returning(&self.transaction)
            .await?;
        Ok(())
    }
}
