//! Changes: each with its line in the audit, all or nothing, and told to everybody who keeps in memory what was changed.

use std::collections::HashMap;

use sea_orm::sqlx::postgres::PgListener;
use sea_orm::{
    ActiveModelTrait, ConnectionTrait, DatabaseTransaction, DbBackend, DbErr, Set, Statement,
    TransactionTrait,
};
use serde_json::Value;

use crate::entity::audit;
use crate::{Result, Store, now_ms};

/// The channel that changes are told on (PostgreSQL's `NOTIFY`).
const CHANNEL: &str = "elm_porch";

/// What is kept in memory besides the database.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Topic {
    /// The draft's files.
    Draft,
    /// What an environment serves.
    Served(String),
    /// An environment's secrets.
    Secrets(String),
    /// Consumers, keys and pauses.
    Grants,
    /// Replies that were let go.
    Kept,
}

impl Topic {
    /// As the database has it.
    pub fn name(&self) -> String {
        match self {
            Topic::Draft => "draft".into(),
            Topic::Served(environment) => format!("served/{environment}"),
            Topic::Secrets(environment) => format!("secrets/{environment}"),
            Topic::Grants => "grants".into(),
            Topic::Kept => "kept".into(),
        }
    }
}

/// A change that is being made. Dropped before [`Change::commit`], it has not happened.
pub struct Change {
    pub(crate) transaction: DatabaseTransaction,
    pub(crate) seal: crate::Seal,
    pub(crate) who: String,
}

impl Store {
    /// Begins a change.
    ///
    /// # Errors
    /// When the database does.
    pub async fn change(&self, who: &str) -> Result<Change> {
        Ok(Change {
            transaction: self.db.begin().await?,
            seal: self.seal.clone(),
            who: who.to_owned(),
        })
    }

    /// How often each topic was changed, by its name.
    ///
    /// # Errors
    /// When the database does.
    pub async fn revisions(&self) -> Result<HashMap<String, i64>> {
        let all = "select topic, number from revision";
        let rows = self
            .db
            .query_all_raw(Statement::from_string(DbBackend::Postgres, all))
            .await?;
        rows.into_iter()
            .map(|row| Ok((row.try_get("", "topic")?, row.try_get("", "number")?)))
            .collect()
    }

    /// Listens for changes, also those that other services make.
    ///
    /// # Errors
    /// When the database does.
    pub async fn listen(&self) -> Result<Listener> {
        let pool = self.db.get_postgres_connection_pool();
        let failed = |e: sea_orm::sqlx::Error| DbErr::Custom(e.to_string());
        let mut inner = PgListener::connect_with(pool).await.map_err(failed)?;
        inner.listen(CHANNEL).await.map_err(failed)?;
        Ok(Listener { inner })
    }
}

/// Hears of changes.
pub struct Listener {
    inner: PgListener,
}

impl Listener {
    /// Waits for the next change; gives the name of its topic.
    ///
    /// # Errors
    /// When the connection is lost.
    pub async fn next(&mut self) -> Result<String> {
        match self.inner.recv().await {
            Ok(told) => Ok(told.payload().to_owned()),
            Err(e) => Err(DbErr::Custom(e.to_string()).into()),
        }
    }
}

impl Change {
    /// Notes down who did what to which object.
    ///
    /// # Errors
    /// When the database does.
    pub async fn audit(&self, what: &str, object: &str, detail: Value) -> Result<()> {
        let line = audit::ActiveModel {
            at: Set(now_ms()),
            who: Set(self.who.clone()),
            what: Set(what.into()),
            object: Set(object.into()),
            detail: Set(detail),
            ..Default::default()
        };
        line.insert(&self.transaction).await?;
        Ok(())
    }

    /// Tells everybody, once the change has happened, that a topic was changed.
    ///
    /// # Errors
    /// When the database does.
    pub async fn touch(&self, topic: &Topic) -> Result<()> {
        let grow = "insert into revision (topic, number) values ($1, 1) on conflict (topic) do update set number = revision.number + 1";
        for (statement, values) in [
            (grow, vec![topic.name()]),
            (
                "select pg_notify($1, $2)",
                vec![CHANNEL.into(), topic.name()],
            ),
        ] {
            let values = values.into_iter().map(Into::into);
            let statement = Statement::from_sql_and_values(DbBackend::Postgres, statement, values);
            self.transaction.execute_raw(statement).await?;
        }
        Ok(())
    }

    /// Makes it happen.
    ///
    /// # Errors
    /// When the database does; then nothing has happened.
    pub async fn commit(self) -> Result<()> {
        Ok(self.transaction.commit().await?)
    }
}
