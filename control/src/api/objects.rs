//! Consumers, keys, secrets, accounts.

use std::collections::HashMap;
use std::sync::Arc;

use axum::extract::{Extension, State};
use axum::http::StatusCode;
use porch_store::entity::consumer;
use porch_store::now_ms;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::extract::{Json, Path};
use super::session::Publisher;
use crate::app::App;
use crate::directory::NewKeyOf;
use crate::error::ApiError;

#[derive(Serialize, ToSchema)]
pub(crate) struct ConsumerView {
    name: String,
    owner: String,
    paused: bool,
    created_at: i64,
    keys: Vec<KeyView>,
}

#[derive(Serialize, ToSchema)]
pub(crate) struct KeyView {
    /// What the key is known by.
    prefix: String,
    label: String,
    /// Milliseconds since 1970; none: it does not end.
    ends_at: Option<i64>,
    paused: bool,
    created_at: i64,
    /// The facades that it opens; none: every one.
    facades: Option<Vec<String>>,
    /// The whole key: shown once, when it is made.
    #[serde(skip_serializing_if = "Option::is_none")]
    key: Option<String>,
}

fn key_view(k: porch_store::entity::api_key::Model, key: Option<String>) -> KeyView {
    KeyView {
        facades: k.opens(),
        prefix: k.prefix,
        label: k.label,
        ends_at: k.ends_at,
        paused: k.paused,
        created_at: k.created_at,
        key,
    }
}

/// All consumers with their keys.
#[utoipa::path(get, path = "/api/consumers", responses((status = 200, body = Vec<ConsumerView>)))]
pub(crate) async fn consumers(
    State(app): State<Arc<App>>,
) -> Result<Json<Vec<ConsumerView>>, ApiError> {
    let store = app.database.store()?;
    let mut keys: HashMap<i64, Vec<KeyView>> = HashMap::new();
    for key in store.keys().await? {
        let own = keys.entry(key.consumer_id).or_default();
        own.push(key_view(key, None));
    }
    let view = |c: consumer::Model| ConsumerView {
        keys: keys.remove(&c.id).unwrap_or_default(),
        name: c.name,
        owner: c.owner,
        paused: c.paused,
        created_at: c.created_at,
    };
    let consumers = store.consumers().await?.into_iter();
    Ok(Json(consumers.map(view).collect()))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct NewConsumer {
    name: String,
    /// Who looks after it.
    #[serde(default)]
    owner: String,
}

pub(super) fn tidy_name(name: &str) -> Result<String, ApiError> {
    let name = name.trim();
    if name.is_empty() || name.chars().count() > 80 || name.chars().any(char::is_control) {
        return Err(ApiError::new(400, "A name has 1 to 80 characters", ""));
    }
    Ok(name.to_owned())
}

/// Registers a consumer.
#[utoipa::path(post, path = "/api/consumers", request_body = NewConsumer, responses((status = 201, body = ConsumerView), (status = 409)))]
pub(crate) async fn create_consumer(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Json(body): Json<NewConsumer>,
) -> Result<(StatusCode, Json<ConsumerView>), ApiError> {
    let (name, owner) = (tidy_name(&body.name)?, body.owner.trim());
    let directory = &app.directory;
    let c = directory
        .create_consumer(&publisher.name, &name, owner)
        .await?;
    Ok((
        StatusCode::CREATED,
        Json(ConsumerView {
            name: c.name,
            owner: c.owner,
            paused: false,
            created_at: c.created_at,
            keys: Vec::new(),
        }),
    ))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct Paused {
    paused: bool,
}

/// Stops a consumer at once, or ends that.
#[utoipa::path(put, path = "/api/consumers/{consumer}/pause", params(("consumer" = String, Path)), request_body = Paused, responses((status = 204), (status = 404)))]
pub(crate) async fn pause_consumer(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Path(name): Path<String>,
    Json(body): Json<Paused>,
) -> Result<StatusCode, ApiError> {
    app.directory
        .pause_consumer(&publisher.name, &name, body.paused)
        .await?;
    app.publication.write_snapshot().await;
    Ok(StatusCode::NO_CONTENT)
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct NewKey {
    #[serde(default)]
    label: String,
    /// Milliseconds since 1970; none: it does not end.
    ends_at: Option<i64>,
    /// Names of the facades that it opens; none: every one.
    facades: Option<Vec<String>>,
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
        label: body.label.trim(),
        ends_at: body.ends_at,
        facades: body.facades.as_deref(),
    };
    if let Some(facades) = new.facades {
        known_facades(&app, facades).await?;
    }
    let (made, key) = app.directory.create_key(&publisher.name, &new).await?;
    app.publication.write_snapshot().await;
    Ok((StatusCode::CREATED, Json(key_view(made, Some(key)))))
}

/// Whether there are facades of these names: in the draft, or served.
async fn known_facades(app: &App, names: &[String]) -> Result<(), ApiError> {
    if names.is_empty() {
        let help = "Name the facades that it opens, or leave them out: then it opens every one.";
        return Err(ApiError::new(400, "The key would open nothing", help));
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
    paused: Option<bool>,
}

/// Ends, pauses or resumes a key.
#[utoipa::path(put, path = "/api/keys/{prefix}", params(("prefix" = String, Path)), request_body = KeyChange, responses((status = 200, body = KeyView), (status = 404)))]
pub(crate) async fn change_key(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Path(known_by): Path<String>,
    Json(body): Json<KeyChange>,
) -> Result<Json<KeyView>, ApiError> {
    let ends_at = body
        .ends_at
        .map(|at| Some(if at == 0 { now_ms() } else { at }));
    let directory = &app.directory;
    let changed = directory
        .change_key(&publisher.name, &known_by, ends_at, body.paused)
        .await?;
    app.publication.write_snapshot().await;
    Ok(Json(key_view(changed, None)))
}

#[derive(Serialize, ToSchema)]
pub(crate) struct SecretView {
    name: String,
    changed_by: String,
    changed_at: i64,
}

/// The names of the environment's secrets.
#[utoipa::path(get, path = "/api/secrets", responses((status = 200, body = Vec<SecretView>)))]
pub(crate) async fn secrets(
    State(app): State<Arc<App>>,
) -> Result<Json<Vec<SecretView>>, ApiError> {
    let environment = app.publication.environment();
    let list = app.database.store()?.secret_names(environment).await?;
    Ok(Json(
        list.into_iter()
            .map(|s| SecretView {
                name: s.name,
                changed_by: s.changed_by,
                changed_at: s.changed_at,
            })
            .collect(),
    ))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct NewSecret {
    name: String,
    /// White space around it is taken away.
    value: String,
}

#[derive(Serialize, ToSchema)]
pub(crate) struct SecretSet {
    name: String,
    /// Whether white space was taken away.
    trimmed: bool,
}

/// Sets a secret of the environment; it acts at once.
#[utoipa::path(put, path = "/api/secrets", request_body = NewSecret, responses((status = 200, body = SecretSet)))]
pub(crate) async fn set_secret(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Json(body): Json<NewSecret>,
) -> Result<Json<SecretSet>, ApiError> {
    let name = body.name.trim();
    if name.is_empty()
        || !name
            .bytes()
            .all(|b| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'-')
    {
        return Err(ApiError::new(
            400,
            format!("“{name}” is no name for a secret"),
            "Names have lower-case letters, digits and hyphens.",
        ));
    }
    let value = body.value.trim();
    app.publication
        .set_secret(&publisher.name, name, value)
        .await?;
    Ok(Json(SecretSet {
        name: name.to_owned(),
        trimmed: value != body.value,
    }))
}
