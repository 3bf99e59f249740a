//! Accounts and sessions.

use argon2::Argon2;
use argon2::password_hash::{PasswordHasher, PasswordVerifier};
use sea_orm::{
    ActiveModelTrait, ColumnTrait, EntityTrait, PaginatorTrait, QueryFilter, QueryOrder,
    QuerySelect, Set,
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

/// A hash that no password has, to be compared with where there is none: that takes as long.
pub(crate) const NOBODY: &str = "$argon2id$v=19$m=19456,t=2,p=1$AAAAAAAAAAAAAAAAAAAAAA$AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA";

/// The argon2id hash of a password; takes some ten milliseconds of a core.
pub fn hash_password(password: &str) -> Option<String> {
    Argon2::default()
        .hash_password(password.as_bytes())
        .ok()
        .map(|h| h.to_string())
}

/// Whether a password is the one of a hash; none is that of an empty one.
pub async fn is_password(hash: &str, password: &str) -> bool {
    let hash = match hash {
        "" => NOBODY,
        hash => hash,
    };
    let (hash, password) = (hash.to_owned(), password.to_owned());
    let fits = tokio::task::spawn_blocking(move || {
        let argon = Argon2::default();
        argon
            .verify_password(password.as_bytes(), hash.as_str())
            .is_ok()
    });
    fits.await.unwrap_or(false)
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
        let hash = match &found {
            Some(account) if !account.password_hash.is_empty() => account.password_hash.clone(),
            _ => NOBODY.to_owned(),
        };
        let fits = is_password(&hash, password).await;
        Ok(found.filter(|_| fits))
    }
}

impl Change {
    /// Makes an account; without a password, one that signs in by OpenID alone.
    ///
    /// # Errors
    /// When the name is taken.
    pub async fn create_account(
        &self,
        name: &str,
        password: Option<&str>,
        role: Role,
    ) -> Result<account::Model> {
        let hash = match password {
            Some(password) => hashed(password).await?,
            None => String::new(),
        };
        let model = account::ActiveModel {
            name: Set(name.into()),
            password_hash: Set(hash),
            subject: Set(None),
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

    /// Notes who an account is elsewhere, where nobody has been noted yet.
    ///
    /// # Errors
    /// When there is no such account, it is somebody already, or somebody else is.
    pub async fn know_account_as(&self, name: &str, subject: &str) -> Result<account::Model> {
        let found = self.account(name, None).await?;
        if found.subject.as_deref().is_some_and(|own| own != subject) {
            return Err(StoreError::Taken(name.into()));
        }
        let mut model: account::ActiveModel = found.into();
        model.subject = Set(Some(subject.into()));
        model.update(&self.transaction).await.map_err(taken(name))
    }

    /// Ends an account; its sessions and tokens end with it.
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
