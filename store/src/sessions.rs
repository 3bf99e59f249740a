//! Sessions of people, and tokens of machines.

use sea_orm::ActiveValue::NotSet;
use sea_orm::sea_query::Expr;
use sea_orm::{
    ActiveModelTrait, ColumnTrait, EntityTrait, QueryFilter, QueryOrder, QuerySelect, Set,
    TransactionTrait,
};

use crate::entity::{account, machine_token, session};
use crate::{Change, Result, Role, Store, StoreError, now_ms};

/// A token of a machine, once it is made.
pub struct NewToken<'t> {
    /// The token itself, of which only a hash is kept.
    pub token: &'t str,
    /// How it begins.
    pub prefix: &'t str,
    /// What it is for.
    pub label: &'t str,
    /// What it may do at most.
    pub role: Role,
    /// When it ends.
    pub expires_at: i64,
}

pub(crate) fn hash_token(token: &str) -> String {
    blake3::hash(token.as_bytes()).to_hex().to_string()
}

/// A use is noted when the last one is so long ago.
const MINUTE: i64 = 60_000;
/// Tokens that have ended are shown for so long.
const TOLD: i64 = 90 * 24 * 60 * MINUTE;
/// Tokens of one account, those that have not ended.
const MOST_TOKENS: usize = 100;

impl Store {
    /// Keeps a session for an account as it was when its password was checked: one whose password has changed since, or that
    /// has ended, gets none.
    ///
    /// # Errors
    /// When the account is another now, or the database fails.
    pub async fn create_session(
        &self,
        token: &str,
        account: &account::Model,
        label: &str,
        lasts_ms: i64,
    ) -> Result<()> {
        let now = now_ms();
        let transaction = self.db.begin().await?;
        let same = account::Entity::find_by_id(account.id)
            .filter(account::Column::PasswordHash.eq(&*account.password_hash))
            .lock_shared()
            .one(&transaction)
            .await?;
        if same.is_none() {
            return Err(StoreError::Stale(format!("the account {}", account.name)));
        }
        let model = session::ActiveModel {
            token_hash: Set(hash_token(token)),
            id: NotSet,
            account_id: Set(account.id),
            label: Set(label.into()),
            created_at: Set(now),
            expires_at: Set(now + lasts_ms),
        };
        session::Entity::insert(model)
            .exec_without_returning(&transaction)
            .await?;
        session::Entity::delete_many()
            .filter(session::Column::ExpiresAt.lt(now))
            .exec(&transaction)
            .await?;
        Ok(transaction.commit().await?)
    }

    /// The account of a session that is still good.
    ///
    /// # Errors
    /// When the database does.
    pub async fn session(&self, token: &str) -> Result<Option<account::Model>> {
        let Some(found) = session::Entity::find_by_id(hash_token(token))
            .one(&self.db)
            .await?
        else {
            return Ok(None);
        };
        if found.expires_at < now_ms() {
            return Ok(None);
        }
        Ok(account::Entity::find_by_id(found.account_id)
            .one(&self.db)
            .await?)
    }

    /// Ends a session.
    ///
    /// # Errors
    /// When the database does.
    pub async fn end_session(&self, token: &str) -> Result<()> {
        session::Entity::delete_by_id(hash_token(token))
            .exec(&self.db)
            .await?;
        Ok(())
    }

    /// The sessions of an account that are still good, the newest first.
    ///
    /// # Errors
    /// When the database does.
    pub async fn sessions(&self, account: &str) -> Result<Vec<session::Model>> {
        let Some(account) = self.account_named(account).await? else {
            return Ok(Vec::new());
        };
        let all = session::Entity::find()
            .filter(session::Column::AccountId.eq(account.id))
            .filter(session::Column::ExpiresAt.gte(now_ms()))
            .order_by_desc(session::Column::Id);
        Ok(all.all(&self.db).await?)
    }

    /// Whether a session is the one with this token.
    pub fn is_session(session: &session::Model, token: &str) -> bool {
        session.token_hash == hash_token(token)
    }

    /// The account of a name.
    ///
    /// # Errors
    /// When the database does.
    pub async fn account_named(&self, name: &str) -> Result<Option<account::Model>> {
        let found = account::Entity::find().filter(account::Column::Name.eq(name));
        Ok(found.one(&self.db).await?)
    }

    /// The account of somebody from elsewhere.
    ///
    /// # Errors
    /// When the database does.
    pub async fn account_known_as(&self, subject: &str) -> Result<Option<account::Model>> {
        let found = account::Entity::find().filter(account::Column::Subject.eq(subject));
        Ok(found.one(&self.db).await?)
    }

    /// A machine's token that is still good, with its account; its use is noted, to the minute.
    ///
    /// # Errors
    /// When the database does.
    pub async fn machine(
        &self,
        token: &str,
    ) -> Result<Option<(machine_token::Model, account::Model)>> {
        let found = machine_token::Entity::find()
            .filter(machine_token::Column::TokenHash.eq(hash_token(token)))
            .one(&self.db)
            .await?;
        let now = now_ms();
        let Some(found) = found.filter(|t| t.expires_at > now) else {
            return Ok(None);
        };
        if found.used_at < now - MINUTE {
            machine_token::Entity::update_many()
                .col_expr(machine_token::Column::UsedAt, Expr::value(now))
                .filter(machine_token::Column::Id.eq(found.id))
                .exec(&self.db)
                .await?;
        }
        let account = account::Entity::find_by_id(found.account_id)
            .one(&self.db)
            .await?;
        Ok(account.map(|account| (found, account)))
    }

    /// Tokens of machines with the names of their accounts, those of one account or all, the newest first; ended ones too.
    ///
    /// # Errors
    /// When the database does.
    pub async fn machines(
        &self,
        account: Option<&str>,
    ) -> Result<Vec<(machine_token::Model, String)>> {
        let accounts = self.accounts().await?;
        let all = machine_token::Entity::find().order_by_desc(machine_token::Column::Id);
        let all = all.all(&self.db).await?;
        let of = |token: machine_token::Model| {
            let owner = accounts.iter().find(|a| a.id == token.account_id)?;
            account
                .is_none_or(|name| owner.name == name)
                .then(|| (token, owner.name.clone()))
        };
        Ok(all.into_iter().filter_map(of).collect())
    }
}

impl Change {
    /// Makes a token with which a machine acts in an account's name.
    ///
    /// # Errors
    /// When there is no such account, or it has too many.
    pub async fn create_machine(
        &self,
        account: &str,
        new: &NewToken<'_>,
    ) -> Result<machine_token::Model> {
        let account = self.owner(account).await?;
        let now = now_ms();
        let of_account = || machine_token::Column::AccountId.eq(account.id);
        // What ended long ago tells nobody anything any more.
        machine_token::Entity::delete_many()
            .filter(of_account())
            .filter(machine_token::Column::ExpiresAt.lt(now - TOLD))
            .exec(&self.transaction)
            .await?;
        let own = machine_token::Entity::find()
            .filter(of_account())
            .filter(machine_token::Column::ExpiresAt.gt(now))
            .all(&self.transaction)
            .await?;
        if own.len() >= MOST_TOKENS {
            let what = format!("{MOST_TOKENS} tokens of {}", account.name);
            return Err(StoreError::Full(what));
        }
        let model = machine_token::ActiveModel {
            token_hash: Set(hash_token(new.token)),
            prefix: Set(new.prefix.into()),
            account_id: Set(account.id),
            label: Set(new.label.into()),
            role: Set(new.role.name().into()),
            created_at: Set(now),
            expires_at: Set(new.expires_at),
            used_at: Set(0),
            ..Default::default()
        };
        Ok(model.insert(&self.transaction).await?)
    }

    /// Takes a machine's token away: one of an account, or whosever it is.
    ///
    /// # Errors
    /// When there is none.
    pub async fn end_machine(
        &self,
        id: i64,
        account: Option<&str>,
    ) -> Result<machine_token::Model> {
        let missing = || StoreError::Missing(format!("token {id}"));
        let mut found = machine_token::Entity::find_by_id(id);
        if let Some(name) = account {
            let owner = self.owner(name).await?;
            found = found.filter(machine_token::Column::AccountId.eq(owner.id));
        }
        let found = found.one(&self.transaction).await?.ok_or_else(missing)?;
        machine_token::Entity::delete_by_id(id)
            .exec(&self.transaction)
            .await?;
        Ok(found)
    }

    /// Ends sessions of an account: one, or all. How many there were.
    ///
    /// # Errors
    /// When there is no such account, or no such session of it.
    pub async fn end_sessions(&self, account: &str, only: Option<i64>) -> Result<u64> {
        let owner = self.owner(account).await?;
        let mut these =
            session::Entity::delete_many().filter(session::Column::AccountId.eq(owner.id));
        if let Some(id) = only {
            these = these.filter(session::Column::Id.eq(id));
        }
        let ended = these.exec(&self.transaction).await?.rows_affected;
        match (only, ended) {
            (Some(id), 0) => Err(StoreError::Missing(format!("session {id}"))),
            _ => Ok(ended),
        }
    }

    /// Takes all tokens of machines away from an account. How many there were.
    ///
    /// # Errors
    /// When there is no such account.
    pub async fn end_machines(&self, account: &str) -> Result<u64> {
        let owner = self.owner(account).await?;
        let these = machine_token::Entity::delete_many()
            .filter(machine_token::Column::AccountId.eq(owner.id));
        Ok(these.exec(&self.transaction).await?.rows_affected)
    }

    /// An account, which is not changed meanwhile.
    async fn owner(&self, name: &str) -> Result<account::Model> {
        let found = account::Entity::find()
            .filter(account::Column::Name.eq(name))
            .lock_exclusive();
        let found = found.one(&self.transaction).await?;
        found.ok_or_else(|| StoreError::Missing(format!("account “{name}”")))
    }
}
