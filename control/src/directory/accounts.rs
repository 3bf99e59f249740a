//! Changes of accounts, each with its line in the audit.

use porch_store::entity::{account, machine_token};
use porch_store::{NewToken, Role};
use serde_json::json;

use super::Directory;
use crate::error::ApiError;

/// What was ended.
pub(crate) struct EndedSessions {
    pub(crate) sessions: u64,
    pub(crate) tokens: u64,
}

impl Directory {
    pub(crate) async fn create_account(
        &self,
        who: &str,
        name: &str,
        password: Option<&str>,
        role: Role,
    ) -> Result<account::Model, ApiError> {
        let change = self.database.store()?.change(who).await?;
        let made = change.create_account(name, password, role).await?;
        let detail = json!({ "role": made.role, "by OpenID alone": password.is_none() });
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

    /// Notes who an account is elsewhere, where nobody has been noted yet.
    pub(crate) async fn know_account_as(
        &self,
        name: &str,
        subject: &str,
    ) -> Result<account::Model, ApiError> {
        let change = self.database.store()?.change(name).await?;
        let known = change.know_account_as(name, subject).await?;
        let detail = json!({ "as": subject });
        change.audit("is known by OpenID", name, detail).await?;
        change.commit().await?;
        Ok(known)
    }

    /// Ends sessions of an account: one, or all, with or without the tokens of its machines.
    pub(crate) async fn end_sessions(
        &self,
        who: &str,
        name: &str,
        only: Option<i64>,
        tokens: bool,
    ) -> Result<EndedSessions, ApiError> {
        let change = self.database.store()?.change(who).await?;
        let sessions = change.end_sessions(name, only).await?;
        let tokens = match tokens {
            true => change.end_machines(name).await?,
            false => 0,
        };
        let detail = json!({ "sessions": sessions, "tokens": tokens });
        change.audit("ended sessions of", name, detail).await?;
        change.commit().await?;
        Ok(EndedSessions { sessions, tokens })
    }

    /// Makes a token with which a machine acts in an account's name.
    pub(crate) async fn create_machine(
        &self,
        who: &str,
        new: &NewToken<'_>,
    ) -> Result<machine_token::Model, ApiError> {
        let change = self.database.store()?.change(who).await?;
        let made = change.create_machine(who, new).await?;
        let detail = json!({ "role": made.role, "ends_at": made.expires_at });
        let what = format!("token {} ({})", made.prefix, made.label);
        change.audit("made", &what, detail).await?;
        change.commit().await?;
        Ok(made)
    }

    /// Takes a machine's token away: one of an account, or whosever it is.
    pub(crate) async fn end_machine(
        &self,
        who: &str,
        id: i64,
        of: Option<&str>,
    ) -> Result<(), ApiError> {
        let change = self.database.store()?.change(who).await?;
        let ended = change.end_machine(id, of).await?;
        let what = format!("token {} ({})", ended.prefix, ended.label);
        change.audit("ended", &what, json!({})).await?;
        change.commit().await.map_err(ApiError::from)
    }

    pub(crate) async fn end_account(&self, who: &str, name: &str) -> Result<(), ApiError> {
        let change = self.database.store()?.change(who).await?;
        change.end_account(name).await?;
        change.audit("ended an account", name, json!({})).await?;
        change.commit().await.map_err(ApiError::from)
    }
}
