//! Consumers and keys, secrets and pauses.

use std::collections::HashMap;

use sea_orm::sea_query::{Expr, OnConflict};
use sea_orm::{
    ActiveModelTrait, ColumnTrait, Condition, ConnectionTrait, EntityTrait, IntoActiveModel,
    QueryFilter, QueryOrder, QuerySelect, Set,
};

use serde_json::json;

use crate::entity::{consumer, pause, secret};
use crate::{Change, Result, Store, StoreError, now_ms, taken};

pub(crate) async fn consumer_of(db: &impl ConnectionTrait, name: &str) -> Result<consumer::Model> {
    let found = consumer::Entity::find()
        .filter(consumer::Column::Name.eq(name))
        .one(db)
        .await?;
    found.ok_or_else(|| StoreError::Missing(format!("consumer “{name}”")))
}

/// What is changed of a consumer; what is none stays as it is.
#[derive(Clone, Debug, Default)]
pub struct ConsumerChange {
    /// The account that looks after it.
    pub owner: Option<String>,
    /// What it may be.
    pub roles: Option<Vec<String>>,
    /// What people sort it by.
    pub labels: Option<Vec<String>>,
    /// Whether it may call what it has agreed to and nothing else.
    pub bound: Option<bool>,
}

impl Store {
    /// So many consumers by name behind a name, those with a text in their names, owners or labels.
    ///
    /// # Errors
    /// When the database does.
    pub async fn consumers_behind(
        &self,
        name: &str,
        search: &str,
        most: u64,
    ) -> Result<Vec<consumer::Model>> {
        let mut found = consumer::Entity::find()
            .filter(consumer::Column::Name.gt(name))
            .order_by_asc(consumer::Column::Name)
            .limit(most);
        if !search.is_empty() {
            // A text within another, whatever its characters mean to patterns.
            let within = |column: &str| {
                let sql = format!("strpos(lower({column}::text), lower($1)) > 0");
                Expr::cust_with_values(sql, [search])
            };
            let any = ["name", "owner", "labels"].map(within);
            found = found.filter(any.into_iter().fold(Condition::any(), Condition::add));
        }
        Ok(found.all(&self.db).await?)
    }

    /// The consumer of a number, where there is one.
    ///
    /// # Errors
    /// When the database does.
    pub async fn consumer_of_number(&self, id: i64) -> Result<Option<consumer::Model>> {
        Ok(consumer::Entity::find_by_id(id).one(&self.db).await?)
    }

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
            roles: Set(json!([])),
            labels: Set(json!([])),
            bound: Set(false),
            team_id: Set(None),
            ..Default::default()
        };
        model.insert(&self.transaction).await.map_err(taken(name))
    }

    /// Changes a consumer.
    ///
    /// # Errors
    /// When there is none.
    pub async fn change_consumer(
        &self,
        name: &str,
        change: &ConsumerChange,
    ) -> Result<consumer::Model> {
        let found = consumer_of(&self.transaction, name).await?;
        let mut model = found.into_active_model();
        if let Some(owner) = &change.owner {
            model.owner = Set(owner.clone());
        }
        if let Some(roles) = &change.roles {
            model.roles = Set(json!(roles));
        }
        if let Some(labels) = &change.labels {
            model.labels = Set(json!(labels));
        }
        if let Some(bound) = change.bound {
            model.bound = Set(bound);
        }
        Ok(model.update(&self.transaction).await?)
    }

    /// Takes a consumer away with its credentials and agreements.
    ///
    /// # Errors
    /// When there is none.
    pub async fn delete_consumer(&self, name: &str) -> Result<consumer::Model> {
        let found = consumer_of(&self.transaction, name).await?;
        consumer::Entity::delete_by_id(found.id)
            .exec(&self.transaction)
            .await?;
        Ok(found)
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
