//! Accounts and sessions.

use argon2::Argon2;
use argon2::password_hash::{PasswordHasher, PasswordVerifier};
use sea_orm::{
    ActiveModelTrait, ColumnTrait, EntityTrait, PaginatorTrait, QueryFilter, QueryOrder,
    QuerySelect, Set, TransactionTrait,
};

use crate::entity::{account, session};
use crate::{Change, Result, Store, StoreError, now_ms, taken};

/// What an account may do; each may do what those before it may.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Role {
    /// Look at everything but secrets.
    Viewer,
    /// Change facades, backends, consumers and keys; release.
    Publisher,
    /// Also change accounts and secrets.
    Administrator,
}

impl Role {
    /// The role of a name.
    pub fn parse(text: &str) -> Option<Self> {
        match text {
            "viewer" => Some(Self::Viewer),
            "publisher" => Some(Self::Publisher),
            "administrator" => Some(Self::Administrator),
            _ => None,
        }
    }

    /// Its name.
    pub fn name(self) -> &'static str {
        match self {
            Self::Viewer => "viewer",
            Self::Publisher => "publisher",
            Self::Administrator => "administrator",
        }
    }
}

/// The argon2id hash of a password; takes some ten milliseconds of a core.
pub fn hash_password(password: &str) -> Option<String> {
    Argon2::default()
        .hash_password(password.as_bytes())
        .ok()
        .map(|h| h.to_string())
}

fn hash_token(token: &str) -> String {
    blake3::hash(token.as_bytes()).to_hex().to_string()
}

impl Store {
    /// Whether there is any account.
    ///
    /// # Errors
    /// When the database does.
    pub async fn has_accounts(&self) -> Result<bool> {
        Ok(account::Entity::find().count(&self.db).await? > 0)
    }

    /// All accounts by name.
    ///
    /// # Errors
    /// When the database does.
    pub async fn accounts(&self) -> Result<Vec<account::Model>> {
        Ok(account::Entity::find()
            .order_by_asc(account::Column::Name)
            .all(&self.db)
            .await?)
    }

    /// The account of a name and password. An unknown name takes as long as a wrong password.
    ///
    /// # Errors
    /// When the database does.
    pub async fn sign_in(&self, name: &str, password: &str) -> Result<Option<account::Model>> {
        let found = account::Entity::find()
            .filter(account::Column::Name.eq(name))
            .one(&self.db)
            .await?;
        let hash = found.as_ref().map_or_else(|| "$argon2id$v=19$m=19456,t=2,p=1$AAAAAAAAAAAAAAAAAAAAAA$AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA".to_owned(), |a| a.password_hash.clone());
        let password = password.to_owned();
        let fits = tokio::task::spawn_blocking(move || {
            Argon2::default()
                .verify_password(password.as_bytes(), hash.as_str())
                .is_ok()
        })
        .await
        .unwrap_or(false);
        Ok(found.filter(|_| fits))
    }

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
}

impl Change {
    /// Makes an account.
    ///
    /// # Errors
    /// When the name is taken.
    pub async fn create_account(
        &self,
        name: &str,
        password: &str,
        role: Role,
    ) -> Result<account::Model> {
        let hash = hashed(password).await?;
        let model = account::ActiveModel {
            name: Set(name.into()),
            password_hash: Set(hash),
            role: Set(role.name().into()),
            created_at: Set(now_ms()),
            ..Default::default()
        };
        model.insert(&self.transaction).await.map_err(taken(name))
    }

    /// Changes an account's role or password; a new password ends its sessions.
    ///
    /// # Errors
    /// When there is no such account, or no administrator would be left.
    pub async fn change_account(
        &self,
        name: &str,
        role: Option<Role>,
        password: Option<&str>,
    ) -> Result<account::Model> {
        let found = self.account(name, role).await?;
        let id = found.id;
        let mut model: account::ActiveModel = found.into();
        if let Some(role) = role {
            model.role = Set(role.name().into());
        }
        if let Some(password) = password {
            model.password_hash = Set(hashed(password).await?);
            session::Entity::delete_many()
                .filter(session::Column::AccountId.eq(id))
                .exec(&self.transaction)
                .await?;
        }
        Ok(model.update(&self.transaction).await?)
    }

    /// Ends an account; its sessions end with it.
    ///
    /// # Errors
    /// When there is no such account, or no administrator would be left.
    pub async fn end_account(&self, name: &str) -> Result<()> {
        let found = self.account(name, Some(Role::Viewer)).await?;
        account::Entity::delete_by_id(found.id)
            .exec(&self.transaction)
            .await?;
        Ok(())
    }

    /// An account that is about to get a role. All administrators are locked meanwhile, so that two of them cannot undo each
    /// other at the same time.
    async fn account(&self, name: &str, role: Option<Role>) -> Result<account::Model> {
        let administrators = account::Entity::find()
            .filter(account::Column::Role.eq(Role::Administrator.name()))
            .order_by_asc(account::Column::Id)
            .lock_exclusive()
            .all(&self.transaction)
            .await?;
        let last = matches!(administrators.as_slice(), [only] if only.name == name);
        if last && role.is_some_and(|role| role != Role::Administrator) {
            return Err(StoreError::LastAdministrator(name.into()));
        }
        account::Entity::find()
            .filter(account::Column::Name.eq(name))
            .lock_exclusive()
            .one(&self.transaction)
            .await?
            .ok_or_else(|| StoreError::Missing(format!("account “{name}”")))
    }
}

async fn hashed(password: &str) -> Result<String> {
    let password = password.to_owned();
    let hash = tokio::task::spawn_blocking(move || hash_password(&password))
        .await
        .ok()
        .flatten();
    hash.ok_or_else(|| StoreError::Missing("way to hash the password".into()))
}
