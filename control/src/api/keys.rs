//! What consumers show: keys, and names with passwords.

use std::sync::Arc;

use axum::extract::{Extension, State};
use axum::http::StatusCode;
use porch_store::entity::credential;
use porch_store::{CredentialChange, now_ms};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::consumers::tidy_name;
use super::extract::{Json, Path};
use super::session::Publisher;
use crate::app::App;
use crate::directory::{NewKeyOf, Renewal};
use crate::error::ApiError;

#[derive(Serialize, ToSchema)]
pub(crate) struct KeyView {
    /// What the key is known by.
    prefix: String,
    label: String,
    /// Milliseconds since 1970; none: it does not end.
    ends_at: Option<i64>,
    paused: bool,
    created_at: i64,
    /// Milliseconds since 1970, to the minute; none: it was not used yet.
    last_used_at: Option<i64>,
    /// The facades that it opens; none: every one.
    facades: Option<Vec<String>>,
    /// Numbers of the agreements that it is for; none: all of its consumer's.
    agreements: Option<Vec<i64>>,
    /// The whole key: shown once, when it is made.
    #[serde(skip_serializing_if = "Option::is_none")]
    key: Option<String>,
}

pub(crate) fn key_view(k: credential::Model, key: Option<String>) -> KeyView {
    KeyView {
        facades: k.opens(),
        agreements: k.agreements(),
        prefix: k.prefix,
        label: k.label,
        ends_at: k.ends_at,
        paused: k.paused,
        created_at: k.created_at,
        last_used_at: k.last_used_at,
        key,
    }
}

#[derive(Serialize, ToSchema)]
pub(crate) struct PasswordView {
    /// The name that the password belongs to.
    name: String,
    created_at: i64,
    /// Milliseconds since 1970, to the minute; none: it was not used yet.
    last_used_at: Option<i64>,
}

impl From<credential::Model> for PasswordView {
    fn from(c: credential::Model) -> Self {
        Self {
            name: c.prefix,
            created_at: c.created_at,
            last_used_at: c.last_used_at,
        }
    }
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct NewKey {
    #[serde(default)]
    label: String,
    /// Milliseconds since 1970; none: it does not end.
    ends_at: Option<i64>,
    /// Names of the facades that it opens; none: every one.
    facades: Option<Vec<String>>,
    /// Numbers of the agreements that it is for; none: all of its consumer's.
    agreements: Option<Vec<i64>>,
}

pub(crate) fn tidy_label(label: &str) -> Result<&str, ApiError> {
    let label = label.trim();
    if label.chars().count() > 200 || label.chars().any(char::is_control) {
        return Err(ApiError::new(400, "A label has at most 200 characters", ""));
    }
    Ok(label)
}

/// Makes a key. The answer is the only place where it is shown whole.
#[utoipa::path(post, path = "/api/consumers/{consumer}/keys", params(("consumer" = String, Path)), request_body = NewKey, responses((status = 201, body = KeyView), (status = 404)))]
pub(crate) async fn create_key(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Path(consumer): Path<String>,
    Json(body): Json<NewKey>,
) -> Result<(StatusCode, Json<KeyView>), ApiError> {
    let new = NewKeyOf {
        consumer: &consumer,
        label: tidy_label(&body.label)?,
        ends_at: body.ends_at,
        facades: body.facades.as_deref(),
        agreements: body.agreements.as_deref(),
        most: None,
    };
    if let Some(facades) = new.facades {
        known_facades(&app, facades).await?;
    }
    if let Some(agreements) = new.agreements {
        own_agreements(&app, &consumer, agreements).await?;
    }
    let (made, key) = app.directory.create_key(&publisher.name, &new).await?;
    app.publication.write_snapshot().await;
    Ok((StatusCode::CREATED, Json(key_view(made, Some(key)))))
}

/// Whether agreements are those of a consumer.
async fn own_agreements(app: &App, consumer: &str, numbers: &[i64]) -> Result<(), ApiError> {
    let store = app.database.store()?;
    let of = store.consumer(consumer).await?;
    let own = store.agreements_of(Some(&[of.id])).await?;
    match numbers.iter().find(|n| !own.iter().any(|a| a.id == **n)) {
        _ if numbers.is_empty() => {
            let help = "Name agreements, or leave them out: then it is for all of them.";
            Err(ApiError::new(400, "The key would open nothing", help))
        }
        None => Ok(()),
        Some(n) => {
            let title = format!("{consumer} has no agreement {n}");
            let help = "List them with `porch agreement list`.";
            Err(ApiError::new(400, title, help))
        }
    }
}

/// Whether there are facades of these names: in the draft, or served.
pub(super) async fn known_facades(app: &App, names: &[String]) -> Result<(), ApiError> {
    if names.is_empty() {
        let help = "Name the facades that it opens, or leave them out: then it opens every one.";
        return Err(ApiError::new(400, "It would open nothing", help));
    }
    let (draft, porch) = (app.publication.summary().await?, app.publication.porch());
    let served = porch.facades.iter().map(|f| f.name.as_str());
    let known: Vec<&str> = draft
        .facades
        .keys()
        .map(String::as_str)
        .chain(served)
        .collect();
    match names.iter().find(|name| !known.contains(&name.as_str())) {
        None => Ok(()),
        Some(stranger) => {
            let near = porch_contract::suggest(stranger, known.iter().copied());
            let help = near.map_or_else(String::new, |n| format!("Did you mean “{n}”?"));
            let title = format!("There is no facade “{stranger}”");
            Err(ApiError::new(400, title, help))
        }
    }
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct KeyChange {
    /// When it ends, in milliseconds since 1970; 0: now.
    ends_at: Option<i64>,
    /// Whether it ends no more.
    #[serde(default)]
    endless: bool,
    paused: Option<bool>,
    label: Option<String>,
    /// Names of the facades that it opens; an empty list: every one.
    facades: Option<Vec<String>>,
    /// Numbers of the agreements that it is for; an empty list: all of its consumer's.
    agreements: Option<Vec<i64>>,
}

/// Changes a key: its label, what it opens, when it ends, whether it is paused. What is not said stays as it is.
#[utoipa::path(put, path = "/api/keys/{prefix}", params(("prefix" = String, Path)), request_body = KeyChange, responses((status = 200, body = KeyView), (status = 404)))]
pub(crate) async fn change_key(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Path(known_by): Path<String>,
    Json(body): Json<KeyChange>,
) -> Result<Json<KeyView>, ApiError> {
    let at = |at| Some(if at == 0 { now_ms() } else { at });
    let facades = body.facades.map(|all| Some(all).filter(|f| !f.is_empty()));
    if let Some(Some(facades)) = &facades {
        known_facades(&app, facades).await?;
    }
    let agreements = body
        .agreements
        .map(|all| Some(all).filter(|a| !a.is_empty()));
    if let Some(Some(numbers)) = &agreements {
        let store = app.database.store()?;
        let key = store.credential("key", &known_by).await?;
        if let Some(of) = store.consumer_of_number(key.consumer_id).await? {
            own_agreements(&app, &of.name, numbers).await?;
        }
    }
    let change = CredentialChange {
        ends_at: match body.endless {
            true => Some(None),
            false => body.ends_at.map(at),
        },
        paused: body.paused,
        label: match &body.label {
            Some(label) => Some(tidy_label(label)?.to_owned()),
            None => None,
        },
        facades,
        agreements,
        proof: None,
    };
    let changed = app
        .directory
        .change_credential(&publisher.name, ("key", &known_by), &change)
        .await?;
    app.publication.write_snapshot().await;
    Ok(Json(key_view(changed, None)))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct NewForOld {
    /// Until when the old key is good, in milliseconds since 1970; 0: until now.
    old_until: i64,
    /// When the new key ends; none: it does not.
    ends_at: Option<i64>,
    /// What the new key is for; as the old one unless given.
    label: Option<String>,
}

#[derive(Serialize, ToSchema)]
pub(crate) struct Renewed {
    /// The new key, shown whole this once.
    new: KeyView,
    /// The one whose place it takes.
    old: KeyView,
}

/// Makes a key that opens what another one opens; both are good until the old one ends.
#[utoipa::path(post, path = "/api/keys/{prefix}/renew", params(("prefix" = String, Path)), request_body = NewForOld, responses((status = 201, body = Renewed), (status = 404), (status = 409)))]
pub(crate) async fn renew_key(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Path(known_by): Path<String>,
    Json(body): Json<NewForOld>,
) -> Result<(StatusCode, Json<Renewed>), ApiError> {
    let label = body.label.as_deref().map(tidy_label).transpose()?;
    let renewal = Renewal {
        known_by: &known_by,
        label,
        ends_at: body.ends_at,
        old_until: match body.old_until {
            0 => now_ms(),
            at => at,
        },
    };
    let (made, old, key) = app.directory.renew_key(&publisher.name, &renewal).await?;
    app.publication.write_snapshot().await;
    let (new, old) = (key_view(made, Some(key)), key_view(old, None));
    Ok((StatusCode::CREATED, Json(Renewed { new, old })))
}

/// Takes away a key that has ended.
#[utoipa::path(delete, path = "/api/keys/{prefix}", params(("prefix" = String, Path)), responses((status = 204), (status = 404), (status = 409)))]
pub(crate) async fn delete_key(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Path(known_by): Path<String>,
) -> Result<StatusCode, ApiError> {
    let key = ("key", known_by.as_str());
    app.directory
        .delete_credential(&publisher.name, key)
        .await?;
    app.publication.write_snapshot().await;
    Ok(StatusCode::NO_CONTENT)
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct NewPassword {
    /// The name that is shown with it; that of the consumer unless given.
    name: Option<String>,
    /// At least 12 characters; white space around it is taken away.
    password: String,
}

/// Gives a consumer a name and password, or another password for a name that it has.
#[utoipa::path(put, path = "/api/consumers/{consumer}/password", params(("consumer" = String, Path)), request_body = NewPassword, responses((status = 200, body = PasswordView), (status = 404), (status = 409)))]
pub(crate) async fn set_password(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Path(consumer): Path<String>,
    Json(body): Json<NewPassword>,
) -> Result<Json<PasswordView>, ApiError> {
    let name = tidy_name(body.name.as_deref().unwrap_or(&consumer))?;
    if name.contains(':') {
        let help = "What stands before the colon is the name (RFC 7617 §2).";
        return Err(ApiError::new(400, "A name has no colon", help));
    }
    let password = body.password.trim();
    let sound = (12..=200).contains(&password.chars().count());
    if !sound || password.chars().any(char::is_control) {
        let title = "A password has 12 to 200 characters";
        return Err(ApiError::new(400, title, "Several words are easy to keep."));
    }
    let set = (name.as_str(), password);
    let made = app
        .directory
        .set_password(&publisher.name, &consumer, set)
        .await?;
    app.publication.write_snapshot().await;
    Ok(Json(PasswordView::from(made)))
}

/// Takes a name and its password away.
#[utoipa::path(delete, path = "/api/passwords/{name}", params(("name" = String, Path)), responses((status = 204), (status = 404)))]
pub(crate) async fn delete_password(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Path(name): Path<String>,
) -> Result<StatusCode, ApiError> {
    let password = ("password", name.as_str());
    let directory = &app.directory;
    directory
        .delete_credential(&publisher.name, password)
        .await?;
    app.publication.write_snapshot().await;
    Ok(StatusCode::NO_CONTENT)
}
