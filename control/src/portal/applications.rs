//! One's applications: consumers, their keys, and what they have agreed to.

use std::sync::Arc;

use axum::extract::State;
use axum::http::StatusCode;
use porch_store::entity::consumer;
use porch_store::{CredentialChange, RequestQuery, now_ms};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::credentials::OwnCredentialView;
use super::session::Caller;
use crate::api::{
    AgreementView, Json, KeyView, Path, RequestView, agreement_view, key_view, tidy_label,
    tidy_name,
};
use crate::app::App;
use crate::directory::{NewKeyOf, Renewal};
use crate::error::ApiError;

/// An application has at most so many keys that have not ended.
const MOST_KEYS: usize = 20;

/// An application: a consumer of one's team.
#[derive(Serialize, ToSchema)]
pub(crate) struct Application {
    name: String,
    created_at: i64,
    /// Whether a publisher has stopped it.
    paused: bool,
    keys: Vec<KeyView>,
    /// Public keys, certificates and what else a publisher noted.
    credentials: Vec<OwnCredentialView>,
    agreements: Vec<AgreementView>,
    requests: Vec<RequestView>,
}

/// A consumer of one's team. What is another team's is not there.
pub(super) async fn own(
    app: &App,
    caller: &Caller,
    name: &str,
) -> Result<consumer::Model, ApiError> {
    let missing = || ApiError::missing(format!("application “{name}”"));
    let found = app
        .database
        .store()?
        .consumer(name)
        .await
        .map_err(|_| missing())?;
    match found.team_id == Some(caller.0.team.id) {
        true => Ok(found),
        false => Err(missing()),
    }
}

/// One's applications.
#[utoipa::path(get, path = "/api/applications", responses((status = 200, body = Vec<Application>), (status = 401)))]
pub(crate) async fn list(
    State(app): State<Arc<App>>,
    caller: Caller,
) -> Result<Json<Vec<Application>>, ApiError> {
    let store = app.database.store()?;
    let consumers = store.consumers_of_team(caller.0.team.id).await?;
    let ids: Vec<i64> = consumers.iter().map(|c| c.id).collect();
    let query = RequestQuery {
        consumers: Some(ids.clone()),
        most: 1000,
        ..RequestQuery::default()
    };
    let mut requests = store.requests(&query).await?;
    let mut agreements = store.agreements_of(Some(&ids)).await?;
    let mut credentials = store.credentials_of(&ids).await?;
    let mut all = Vec::new();
    for c in consumers {
        let (own, others): (Vec<_>, Vec<_>) =
            credentials.into_iter().partition(|k| k.consumer_id == c.id);
        credentials = others;
        let (agreed, others): (Vec<_>, Vec<_>) =
            agreements.into_iter().partition(|a| a.consumer_id == c.id);
        agreements = others;
        let (asked, others): (Vec<_>, Vec<_>) = requests
            .into_iter()
            .partition(|(r, _)| r.consumer_id == c.id);
        requests = others;
        let (keys, others): (Vec<_>, Vec<_>) = own.into_iter().partition(|k| k.kind == "key");
        all.push(Application {
            credentials: others.into_iter().map(OwnCredentialView::from).collect(),
            keys: keys.into_iter().map(|k| key_view(k, None)).collect(),
            agreements: agreed
                .into_iter()
                .map(|a| agreement_view(a, &c.name))
                .collect(),
            requests: asked
                .into_iter()
                .map(|(r, c)| RequestView::of(r, &c))
                .collect(),
            name: c.name,
            created_at: c.created_at,
            paused: c.paused,
        });
    }
    Ok(Json(all))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct NewApplication {
    name: String,
}

/// Registers an application. It opens nothing until it has agreed to an offer.
#[utoipa::path(post, path = "/api/applications", request_body = NewApplication, responses((status = 201, body = Application), (status = 401), (status = 409)))]
pub(crate) async fn register(
    State(app): State<Arc<App>>,
    caller: Caller,
    Json(body): Json<NewApplication>,
) -> Result<(StatusCode, Json<Application>), ApiError> {
    let name = tidy_name(&body.name)?;
    let made = app
        .directory
        .register(caller.who(), &caller.0.team, &name)
        .await?;
    let made = Application {
        name: made.name,
        created_at: made.created_at,
        paused: false,
        keys: Vec::new(),
        credentials: Vec::new(),
        agreements: Vec::new(),
        requests: Vec::new(),
    };
    Ok((StatusCode::CREATED, Json(made)))
}

#[derive(Default, Deserialize, ToSchema)]
pub(crate) struct KeyWanted {
    /// What it is for.
    #[serde(default)]
    label: String,
    /// When it ends, in milliseconds since 1970; none: it does not.
    ends_at: Option<i64>,
}

/// Makes a key. The answer is the only place where it is shown whole.
#[utoipa::path(post, path = "/api/applications/{application}/keys", operation_id = "create_own_key", params(("application" = String, Path)), request_body = KeyWanted, responses((status = 201, body = KeyView), (status = 401), (status = 404), (status = 409)))]
pub(crate) async fn create_key(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(name): Path<String>,
    Json(body): Json<KeyWanted>,
) -> Result<(StatusCode, Json<KeyView>), ApiError> {
    let consumer = own(&app, &caller, &name).await?;
    let new = NewKeyOf {
        consumer: &consumer.name,
        label: tidy_label(&body.label)?,
        ends_at: body.ends_at,
        facades: None,
        agreements: None,
        most: Some(MOST_KEYS),
    };
    let (made, key) = app.directory.create_key(caller.who(), &new).await?;
    app.publication.write_snapshot().await;
    Ok((StatusCode::CREATED, Json(key_view(made, Some(key)))))
}

/// A key of one of one's applications.
async fn own_key(app: &App, caller: &Caller, prefix: &str) -> Result<(), ApiError> {
    let missing = || ApiError::missing(format!("key “{prefix}”"));
    let store = app.database.store()?;
    let key = store
        .credential("key", prefix)
        .await
        .map_err(|_| missing())?;
    let of = store.consumer_of_number(key.consumer_id).await?;
    match of.is_some_and(|c| c.team_id == Some(caller.0.team.id)) {
        true => Ok(()),
        false => Err(missing()),
    }
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct Renewing {
    /// Until when the old key is good, in milliseconds since 1970; 0: until now.
    old_until: i64,
}

/// A key in another one's place.
#[derive(Serialize, ToSchema)]
pub(crate) struct RenewedKey {
    /// The new key, shown whole this once.
    new: KeyView,
    /// The one whose place it takes.
    old: KeyView,
}

/// Makes a key that opens what another one opens; both are good until the old one ends.
#[utoipa::path(post, path = "/api/keys/{prefix}/renew", operation_id = "renew_own_key", params(("prefix" = String, Path)), request_body = Renewing, responses((status = 201, body = RenewedKey), (status = 401), (status = 404), (status = 409)))]
pub(crate) async fn renew_key(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(prefix): Path<String>,
    Json(body): Json<Renewing>,
) -> Result<(StatusCode, Json<RenewedKey>), ApiError> {
    own_key(&app, &caller, &prefix).await?;
    let renewal = Renewal {
        known_by: &prefix,
        label: None,
        ends_at: None,
        old_until: match body.old_until {
            0 => now_ms(),
            at => at,
        },
    };
    let (made, old, key) = app.directory.renew_key(caller.who(), &renewal).await?;
    app.publication.write_snapshot().await;
    let (new, old) = (key_view(made, Some(key)), key_view(old, None));
    Ok((StatusCode::CREATED, Json(RenewedKey { new, old })))
}

/// Ends a key now.
#[utoipa::path(delete, path = "/api/keys/{prefix}", operation_id = "end_own_key", params(("prefix" = String, Path)), responses((status = 204), (status = 401), (status = 404)))]
pub(crate) async fn end_key(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(prefix): Path<String>,
) -> Result<StatusCode, ApiError> {
    own_key(&app, &caller, &prefix).await?;
    let change = CredentialChange {
        ends_at: Some(Some(now_ms())),
        ..CredentialChange::default()
    };
    let key = ("key", prefix.as_str());
    app.directory
        .change_credential(caller.who(), key, &change)
        .await?;
    app.publication.write_snapshot().await;
    Ok(StatusCode::NO_CONTENT)
}
