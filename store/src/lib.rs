//! What is kept: PostgreSQL through SeaORM.
//!
//! [`Store`] has one method for each thing that the control plane wants kept or known. Keys are kept as hashes, passwords as
//! argon2id hashes, secrets sealed with a key that is not in the database ([`Seal`]).
#![warn(missing_docs)]

mod accounts;
mod changes;
mod consumers;
mod counts;
mod credentials;
#[expect(missing_docs, reason = "columns say what they hold")]
pub mod entity;
mod files;
mod history;
mod messages;
mod migrate;
mod observed;
mod offers;
mod people;
mod quotas;
mod seal;
mod sessions;
mod teams;
mod webhooks;

use std::time::Duration;

use sea_orm::{ConnectOptions, Database, DatabaseConnection, DbErr, RuntimeErr, SqlErr};
use sea_orm_migration::MigratorTrait;

pub use accounts::{Role, hash_password, is_password};
pub use changes::{Change, Listener, Topic};
pub use consumers::ConsumerChange;
pub use counts::{CountKey, CountRow};
pub use credentials::{
    AgreementChange, CredentialChange, GrantChange, NewAgreement, NewCredential,
};
pub use history::NewHistory;
pub use messages::{MOST_ATTEMPTS, NewMessage};
pub use observed::{TraceQuery, UsagePart, UsageTotals};
pub use offers::{AgreementQuery, NewRequest, RequestQuery};
pub use people::{Purpose, SignedIn};
pub use quotas::NewAddition;
pub use seal::{Seal, SealError};
pub use sessions::NewToken;
pub use teams::{Invitation, NewPerson};
pub use webhooks::{Due, Fate, MOST_DELIVERIES};

/// What can go wrong with the store.
#[derive(Debug, thiserror::Error)]
pub enum StoreError {
    /// The database does not answer, or refuses.
    #[error("the database: {0}")]
    Database(DbErr),
    /// A text that PostgreSQL cannot hold: it has no character NUL.
    #[error("a text holds the character NUL (U+0000), which cannot be kept")]
    Nul,
    /// Something of this name is there already.
    #[error("“{0}” is there already")]
    Taken(String),
    /// There are too many already.
    #[error("there are {0} already, and no more can be")]
    Full(String),
    /// There is no such thing.
    #[error("there is no {0}")]
    Missing(String),
    /// Nobody would be left who may change accounts.
    #[error("{0} is the only administrator")]
    LastAdministrator(String),
    /// Nobody would be left who manages the team.
    #[error("{0} is the only one who manages the team")]
    LastManager(String),
    /// Somebody else changed it in the meantime.
    #[error("{0} was changed by somebody else in the meantime")]
    Stale(String),
    /// A secret cannot be sealed or opened.
    #[error(transparent)]
    Seal(#[from] SealError),
}

impl From<DbErr> for StoreError {
    fn from(e: DbErr) -> Self {
        // SQLSTATE 22021, character_not_in_repertoire, and 22P05, untranslatable_character.
        match sql_state(&e).as_deref() {
            Some("22021" | "22P05") => Self::Nul,
            _ => Self::Database(e),
        }
    }
}

/// The code of PostgreSQL's for what went wrong (its documentation, appendix A).
fn sql_state(e: &DbErr) -> Option<String> {
    let (DbErr::Exec(RuntimeErr::SqlxError(inner)) | DbErr::Query(RuntimeErr::SqlxError(inner))) =
        e
    else {
        return None;
    };
    let told = inner.as_database_error()?;
    told.code().map(|code| code.into_owned())
}

/// What the store's methods give.
pub type Result<T> = std::result::Result<T, StoreError>;

/// The store. Cloning is cheap.
#[derive(Clone)]
pub struct Store {
    pub(crate) db: DatabaseConnection,
    pub(crate) seal: Seal,
}

impl Store {
    /// Connects and migrates.
    ///
    /// # Errors
    /// When the database does not answer, or a migration fails.
    pub async fn open(url: &str, seal: Seal) -> Result<Self> {
        let mut options = ConnectOptions::new(url);
        options
            .max_connections(10)
            .connect_timeout(Duration::from_secs(5))
            .acquire_timeout(Duration::from_secs(5))
            .sqlx_logging(false);
        let db = Database::connect(options).await?;
        migrate::Migrator::up(&db, None).await?;
        Ok(Self { db, seal })
    }

    /// Whether the database answers.
    pub async fn is_up(&self) -> bool {
        tokio::time::timeout(Duration::from_secs(2), self.db.ping())
            .await
            .is_ok_and(|r| r.is_ok())
    }

    /// The latest changes, the newest first.
    ///
    /// # Errors
    /// When the database does.
    pub async fn audit_lines(&self, most: u64) -> Result<Vec<entity::audit::Model>> {
        use sea_orm::{EntityTrait, QueryOrder, QuerySelect};
        Ok(entity::audit::Entity::find()
            .order_by_desc(entity::audit::Column::Id)
            .limit(most)
            .all(&self.db)
            .await?)
    }

    /// Number of the latest change; 0 where there is none.
    ///
    /// # Errors
    /// When the database does.
    pub async fn last_audit(&self) -> Result<i64> {
        let last = self.audit_lines(1).await?;
        Ok(last.first().map_or(0, |line| line.id))
    }

    /// What was done behind one change, the oldest first; a thousand of them at most.
    ///
    /// # Errors
    /// When the database does.
    pub async fn audit_behind(&self, last: i64, what: &str) -> Result<Vec<entity::audit::Model>> {
        use entity::audit::{Column, Entity};
        use sea_orm::{ColumnTrait, EntityTrait, QueryFilter, QueryOrder, QuerySelect};
        Ok(Entity::find()
            .filter(Column::Id.gt(last))
            .filter(Column::What.eq(what))
            .order_by_asc(Column::Id)
            .limit(1_000)
            .all(&self.db)
            .await?)
    }
}

/// Milliseconds since 1970.
pub fn now_ms() -> i64 {
    chrono::Utc::now().timestamp_millis()
}

/// A unique violation told as such.
pub(crate) fn taken(name: &str) -> impl FnOnce(DbErr) -> StoreError + '_ {
    move |e| match e.sql_err() {
        Some(SqlErr::UniqueConstraintViolation(_)) => StoreError::Taken(name.to_owned()),
        _ => StoreError::from(e),
    }
}
