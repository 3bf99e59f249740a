//! Accounts of publishers.

use std::sync::Arc;

use axum::extract::{Extension, State};
use axum::http::StatusCode;
use porch_store::Role;
use porch_store::entity::account;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::consumers::tidy_name;
use super::extract::{Json, Path};
use super::session::Publisher;
use crate::app::App;
use crate::error::ApiError;

#[derive(Serialize, ToSchema)]
pub(crate) struct AccountView {
    name: String,
    role: String,
    created_at: i64,
}

impl From<account::Model> for AccountView {
    fn from(account: account::Model) -> Self {
        Self {
            name: account.name,
            role: account.role,
            created_at: account.created_at,
        }
    }
}

/// All accounts.
#[utoipa::path(get, path = "/api/accounts", responses((status = 200, body = Vec<AccountView>)))]
pub(crate) async fn accounts(
    State(app): State<Arc<App>>,
) -> Result<Json<Vec<AccountView>>, ApiError> {
    let all = app.database.store()?.accounts().await?;
    Ok(Json(all.into_iter().map(AccountView::from).collect()))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct NewAccount {
    name: String,
    /// At least 8 characters; white space around it is taken away. None: it signs in by OpenID alone.
    password: Option<String>,
    /// `viewer`, `publisher` or `administrator`.
    role: String,
}

pub(super) fn role_of(text: &str) -> Result<Role, ApiError> {
    Role::parse(text).ok_or_else(|| {
        ApiError::new(
            400,
            format!("“{text}” is no role"),
            "Roles are viewer, publisher and administrator.",
        )
    })
}

/// A password without the white space that was pasted with it.
fn tidy_password(text: &str) -> Result<&str, ApiError> {
    let password = text.trim();
    match password.chars().count() {
        0..8 => Err(ApiError::new(
            400,
            "The password is too short",
            "Take at least 8 characters.",
        )),
        8..=1000 => Ok(password),
        _ => Err(ApiError::new(
            400,
            "The password is too long",
            "Take at most 1000 characters.",
        )),
    }
}

/// Makes an account.
#[utoipa::path(post, path = "/api/accounts", request_body = NewAccount, responses((status = 201, body = AccountView), (status = 409)))]
pub(crate) async fn create_account(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Json(body): Json<NewAccount>,
) -> Result<(StatusCode, Json<AccountView>), ApiError> {
    publisher.is_a_person("make accounts")?;
    let role = role_of(&body.role)?;
    let password = body.password.as_deref().map(tidy_password).transpose()?;
    let name = tidy_name(&body.name)?;
    let directory = &app.directory;
    let made = directory
        .create_account(&publisher.name, &name, password, role)
        .await?;
    Ok((StatusCode::CREATED, Json(made.into())))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct AccountChange {
    /// `viewer`, `publisher` or `administrator`; the same as before unless given.
    role: Option<String>,
    /// A new password, at least 8 characters: the account's sessions end. The same as before unless given.
    password: Option<String>,
}

/// Changes an account's role or password.
#[utoipa::path(patch, path = "/api/accounts/{name}", request_body = AccountChange, params(("name" = String, Path)), responses((status = 200, body = AccountView), (status = 404), (status = 409)))]
pub(crate) async fn change_account(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Path(name): Path<String>,
    Json(body): Json<AccountChange>,
) -> Result<Json<AccountView>, ApiError> {
    publisher.is_a_person("change accounts")?;
    let role = body.role.as_deref().map(role_of).transpose()?;
    let password = body.password.as_deref().map(tidy_password).transpose()?;
    let directory = &app.directory;
    let changed = directory
        .change_account(&publisher.name, &name, role, password)
        .await?;
    Ok(Json(changed.into()))
}

/// Ends an account and its sessions. What it did stays in the audit.
#[utoipa::path(delete, path = "/api/accounts/{name}", params(("name" = String, Path)), responses((status = 204), (status = 404), (status = 409)))]
pub(crate) async fn end_account(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Path(name): Path<String>,
) -> Result<StatusCode, ApiError> {
    publisher.is_a_person("end accounts")?;
    let directory = &app.directory;
    directory.end_account(&publisher.name, &name).await?;
    Ok(StatusCode::NO_CONTENT)
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct OwnPassword {
    /// The password until now.
    old: String,
    /// The new one, at least 8 characters.
    new: String,
}

/// Changes one's own password. All of the account's sessions end, this one too.
#[utoipa::path(put, path = "/api/session/password", request_body = OwnPassword, responses((status = 204), (status = 403), (status = 429)))]
pub(crate) async fn change_own_password(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Json(body): Json<OwnPassword>,
) -> Result<StatusCode, ApiError> {
    publisher.is_a_person("change passwords")?;
    let new = tidy_password(&body.new)?;
    let store = app.database.store()?;
    let attempt = app.attempts.begin(&publisher.name, publisher.address);
    let attempt = attempt.map_err(super::session::too_many)?;
    let turn = app.attempts.turn().await;
    let known = store.sign_in(&publisher.name, body.old.trim()).await?;
    drop(turn);
    if known.is_none() {
        return Err(ApiError::new(403, "The old password is wrong", ""));
    }
    app.attempts.succeeded(&attempt);
    let (directory, name) = (&app.directory, &publisher.name);
    directory
        .change_account(name, name, None, Some(new))
        .await?;
    Ok(StatusCode::NO_CONTENT)
}
