//! Changes of accounts, each with its line in the audit.

use porch_store::Role;
use porch_store::entity::account;
use serde_json::json;

use super::Directory;
use crate::error::ApiError;

impl Directory {
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
}
