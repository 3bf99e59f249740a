//! Consumers: who calls, and who looks after them.

use std::collections::HashMap;
use std::sync::Arc;

use axum::extract::{Extension, State};
use axum::http::StatusCode;
use porch_store::ConsumerChange;
use porch_store::entity::{agreement, consumer, credential};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use super::agreements::{AgreementView, agreement_view};
use super::certificates::CallersCertificateView;
use super::clients::{ClientView, SigningKeyView};
use super::extract::{Json, Path, Query};
use super::keys::{KeyView, PasswordView, key_view};
use super::session::Publisher;
use crate::app::App;
use crate::error::ApiError;

#[derive(Serialize, ToSchema)]
pub(crate) struct ConsumerView {
    name: String,
    /// The account that looks after it.
    owner: String,
    /// What it may be, for operations that take only some.
    roles: Vec<String>,
    /// What people sort consumers by.
    labels: Vec<String>,
    paused: bool,
    /// Whether it may call what it has agreed to and nothing else.
    bound: bool,
    created_at: i64,
    keys: Vec<KeyView>,
    /// Names that it shows with a password.
    passwords: Vec<PasswordView>,
    /// Clients of issuers whose tokens it shows.
    clients: Vec<ClientView>,
    /// Keys that it signs requests with.
    signing_keys: Vec<SigningKeyView>,
    /// Certificates that it shows by TLS.
    certificates: Vec<CallersCertificateView>,
    agreements: Vec<AgreementView>,
}

fn view(
    c: consumer::Model,
    credentials: Vec<credential::Model>,
    agreements: Vec<agreement::Model>,
) -> ConsumerView {
    let (keys, others): (Vec<_>, Vec<_>) = credentials.into_iter().partition(|c| c.kind == "key");
    let (clients, others): (Vec<_>, Vec<_>) = others.into_iter().partition(|c| c.kind == "token");
    let (signing, others): (Vec<_>, Vec<_>) =
        others.into_iter().partition(|c| c.kind == "signature");
    let (certificates, passwords): (Vec<_>, Vec<_>) =
        others.into_iter().partition(|c| c.kind == "certificate");
    ConsumerView {
        roles: c.roles(),
        labels: c.labels(),
        keys: keys.into_iter().map(|k| key_view(k, None)).collect(),
        passwords: passwords.into_iter().map(PasswordView::from).collect(),
        clients: clients.into_iter().map(ClientView::from).collect(),
        signing_keys: signing.into_iter().map(SigningKeyView::from).collect(),
        certificates: certificates
            .into_iter()
            .map(CallersCertificateView::from)
            .collect(),
        agreements: agreements
            .into_iter()
            .map(|a| agreement_view(a, &c.name))
            .collect(),
        name: c.name,
        owner: c.owner,
        paused: c.paused,
        bound: c.bound,
        created_at: c.created_at,
    }
}

#[derive(Deserialize, IntoParams)]
pub(crate) struct ConsumerFilter {
    /// A text within the name, the owner or a label.
    #[serde(default)]
    search: String,
    /// The name behind which the list goes on.
    #[serde(default)]
    after: String,
    /// At most so many; 200 unless given, 1000 at most.
    most: Option<u64>,
}

/// Consumers by name, with what they show and have agreed to. A list of as many as were asked for may go on behind its last.
#[utoipa::path(get, path = "/api/consumers", params(ConsumerFilter), responses((status = 200, body = Vec<ConsumerView>)))]
pub(crate) async fn consumers(
    State(app): State<Arc<App>>,
    Query(filter): Query<ConsumerFilter>,
) -> Result<Json<Vec<ConsumerView>>, ApiError> {
    let store = app.database.store()?;
    let most = filter.most.unwrap_or(200).clamp(1, 1000);
    let search = filter.search.trim();
    let found = store.consumers_behind(&filter.after, search, most).await?;
    let ids: Vec<i64> = found.iter().map(|c| c.id).collect();
    let mut credentials: HashMap<i64, Vec<credential::Model>> = HashMap::new();
    for credential in store.credentials_of(&ids).await? {
        let own = credentials.entry(credential.consumer_id).or_default();
        own.push(credential);
    }
    let mut agreements: HashMap<i64, Vec<agreement::Model>> = HashMap::new();
    for agreement in store.agreements_of(Some(&ids)).await? {
        let own = agreements.entry(agreement.consumer_id).or_default();
        own.push(agreement);
    }
    let all = found.into_iter().map(|c| {
        let id = c.id;
        let own = credentials.remove(&id).unwrap_or_default();
        view(c, own, agreements.remove(&id).unwrap_or_default())
    });
    Ok(Json(all.collect()))
}

/// What a consumer calls lately: what would break if it could not.
#[derive(Serialize, ToSchema)]
pub(crate) struct CallsOf {
    facade: String,
    operation: String,
    calls: i64,
}

#[derive(Serialize, ToSchema)]
pub(crate) struct OneConsumer {
    #[serde(flatten)]
    consumer: ConsumerView,
    /// Calls of the last seven days, the most first.
    calls: Vec<CallsOf>,
}

/// One consumer, with what it has called in the last seven days.
#[utoipa::path(get, path = "/api/consumers/{consumer}", params(("consumer" = String, Path)), responses((status = 200, body = OneConsumer), (status = 404)))]
pub(crate) async fn consumer(
    State(app): State<Arc<App>>,
    Path(name): Path<String>,
) -> Result<Json<OneConsumer>, ApiError> {
    let store = app.database.store()?;
    let found = store.consumer(&name).await?;
    let id = found.id;
    let credentials = store.credentials_of(&[id]).await?;
    let agreements = store.agreements_of(Some(&[id])).await?;
    let since = porch_store::now_ms() / 60_000 - 7 * 24 * 60;
    let calls = store.calls_of(id, since).await?.into_iter();
    let calls = calls.map(|(facade, operation, calls)| CallsOf {
        facade,
        operation,
        calls,
    });
    Ok(Json(OneConsumer {
        consumer: view(found, credentials, agreements),
        calls: calls.collect(),
    }))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct NewConsumer {
    name: String,
    /// The account that looks after it.
    #[serde(default)]
    owner: String,
    /// What it may be.
    #[serde(default)]
    roles: Vec<String>,
    /// What people sort consumers by.
    #[serde(default)]
    labels: Vec<String>,
}

pub(crate) fn tidy_name(name: &str) -> Result<String, ApiError> {
    let name = name.trim();
    if name.is_empty() || name.chars().count() > 80 || name.chars().any(char::is_control) {
        return Err(ApiError::new(400, "A name has 1 to 80 characters", ""));
    }
    Ok(name.to_owned())
}

/// Roles, each of which operations can ask for.
pub(super) fn tidy_roles(roles: &[String]) -> Result<Vec<String>, ApiError> {
    let mut tidy: Vec<String> = roles.iter().map(|r| r.trim().to_owned()).collect();
    tidy.sort_unstable();
    tidy.dedup();
    if let Some(wrong) = tidy.iter().find(|r| !porch_facade::is_role(r)) {
        let help = "Roles have 1 to 64 letters, digits, dots, colons, hyphens and underscores.";
        return Err(ApiError::new(
            400,
            format!("“{wrong}” is no name of a role"),
            help,
        ));
    }
    if tidy.len() > 100 {
        return Err(ApiError::new(400, "A consumer has at most 100 roles", ""));
    }
    Ok(tidy)
}

fn tidy_labels(labels: &[String]) -> Result<Vec<String>, ApiError> {
    let tidy: Result<Vec<String>, ApiError> = labels.iter().map(|l| tidy_name(l)).collect();
    let mut tidy = tidy?;
    tidy.sort_unstable();
    tidy.dedup();
    if tidy.len() > 100 {
        return Err(ApiError::new(400, "A consumer has at most 100 labels", ""));
    }
    Ok(tidy)
}

/// Registers a consumer.
#[utoipa::path(post, path = "/api/consumers", request_body = NewConsumer, responses((status = 201, body = ConsumerView), (status = 409)))]
pub(crate) async fn create_consumer(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Json(body): Json<NewConsumer>,
) -> Result<(StatusCode, Json<ConsumerView>), ApiError> {
    let (name, owner) = (tidy_name(&body.name)?, body.owner.trim());
    let (roles, labels) = (tidy_roles(&body.roles)?, tidy_labels(&body.labels)?);
    let (directory, who) = (&app.directory, &publisher.name);
    let mut made = directory.create_consumer(who, &name, owner).await?;
    if !roles.is_empty() || !labels.is_empty() {
        let change = ConsumerChange {
            owner: None,
            roles: Some(roles),
            labels: Some(labels),
            bound: None,
        };
        made = directory.change_consumer(who, &name, &change).await?;
    }
    Ok((
        StatusCode::CREATED,
        Json(view(made, Vec::new(), Vec::new())),
    ))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct ChangedConsumer {
    owner: Option<String>,
    roles: Option<Vec<String>>,
    labels: Option<Vec<String>>,
    /// Whether it may call what it has agreed to and nothing else.
    bound: Option<bool>,
}

/// Changes a consumer; what is not said stays as it is.
#[utoipa::path(patch, path = "/api/consumers/{consumer}", params(("consumer" = String, Path)), request_body = ChangedConsumer, responses((status = 204), (status = 404)))]
pub(crate) async fn change_consumer(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Path(name): Path<String>,
    Json(body): Json<ChangedConsumer>,
) -> Result<StatusCode, ApiError> {
    let change = ConsumerChange {
        owner: body.owner.map(|o| o.trim().to_owned()),
        roles: body.roles.as_deref().map(tidy_roles).transpose()?,
        labels: body.labels.as_deref().map(tidy_labels).transpose()?,
        bound: body.bound,
    };
    let directory = &app.directory;
    directory
        .change_consumer(&publisher.name, &name, &change)
        .await?;
    app.publication.write_snapshot().await;
    Ok(StatusCode::NO_CONTENT)
}

/// Takes a consumer away, with all that it shows and has agreed to.
#[utoipa::path(delete, path = "/api/consumers/{consumer}", params(("consumer" = String, Path)), responses((status = 204), (status = 404)))]
pub(crate) async fn delete_consumer(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Path(name): Path<String>,
) -> Result<StatusCode, ApiError> {
    app.directory
        .delete_consumer(&publisher.name, &name)
        .await?;
    app.publication.write_snapshot().await;
    Ok(StatusCode::NO_CONTENT)
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
