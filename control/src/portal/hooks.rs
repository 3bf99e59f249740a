//! Webhooks of one's team.

use std::sync::Arc;

use axum::extract::State;
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};

use super::session::Caller;
use crate::api::{Before, Json, Path, Query};
use crate::app::App;
use crate::error::ApiError;
use crate::hooks::{self, DeliveryView, NewWebhook, Owner, WebhookPause, WebhookView};

fn own(caller: &Caller) -> Owner<'_> {
    Owner {
        who: caller.who(),
        team: Some(caller.0.team.id),
    }
}

/// Whoever manages the team says where it is told.
fn managing(caller: &Caller) -> Result<Owner<'_>, ApiError> {
    super::team::manages(caller)?;
    Ok(own(caller))
}

/// Webhooks to which one's team's messages are sent as events (CloudEvents), signed by RFC 9421.
#[utoipa::path(get, path = "/api/webhooks", operation_id = "own_webhooks", responses((status = 200, body = Vec<WebhookView>), (status = 401)))]
pub(crate) async fn webhooks(
    State(app): State<Arc<App>>,
    caller: Caller,
) -> Result<Json<Vec<WebhookView>>, ApiError> {
    hooks::list(&app, &own(&caller)).await.map(Json)
}

/// Adds a webhook. Whoever is there is asked whether they agree (CloudEvents HTTP Webhook §4).
#[utoipa::path(post, path = "/api/webhooks", operation_id = "add_own_webhook", request_body = NewWebhook, responses((status = 201, body = WebhookView), (status = 401), (status = 403), (status = 409), (status = 429)))]
pub(crate) async fn add(
    State(app): State<Arc<App>>,
    caller: Caller,
    Json(new): Json<NewWebhook>,
) -> Result<(StatusCode, Json<WebhookView>), ApiError> {
    let made = hooks::add(&app, &managing(&caller)?, &new).await?;
    Ok((StatusCode::CREATED, Json(made)))
}

/// Asks whoever is there once more whether they agree.
#[utoipa::path(post, path = "/api/webhooks/{webhook}/ask", operation_id = "ask_own_webhook", params(("webhook" = i64, Path)), responses((status = 200, body = WebhookView), (status = 401), (status = 403), (status = 404), (status = 429)))]
pub(crate) async fn ask(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(id): Path<i64>,
) -> Result<Json<WebhookView>, ApiError> {
    hooks::ask_again(&app, &managing(&caller)?, id)
        .await
        .map(Json)
}

/// Pauses a webhook or lets it go on; its events wait meanwhile.
#[utoipa::path(put, path = "/api/webhooks/{webhook}/pause", operation_id = "pause_own_webhook", params(("webhook" = i64, Path)), request_body = WebhookPause, responses((status = 200, body = WebhookView), (status = 401), (status = 403), (status = 404)))]
pub(crate) async fn pause(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(id): Path<i64>,
    Json(body): Json<WebhookPause>,
) -> Result<Json<WebhookView>, ApiError> {
    let own = managing(&caller)?;
    hooks::pause(&app, &own, id, body.paused).await.map(Json)
}

/// Removes a webhook, with what became of its events.
#[utoipa::path(delete, path = "/api/webhooks/{webhook}", operation_id = "remove_own_webhook", params(("webhook" = i64, Path)), responses((status = 204), (status = 401), (status = 403), (status = 404)))]
pub(crate) async fn remove(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(id): Path<i64>,
) -> Result<StatusCode, ApiError> {
    hooks::remove(&app, &managing(&caller)?, id).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Events of a webhook and what became of them, the newest first, a hundred at a time; they are kept for 30 days.
#[utoipa::path(get, path = "/api/webhooks/{webhook}/events", operation_id = "own_webhook_events", params(("webhook" = i64, Path), ("before" = Option<i64>, Query, description = "Only those with a smaller number: the next page.")), responses((status = 200, body = Vec<DeliveryView>), (status = 401), (status = 404)))]
pub(crate) async fn events(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(id): Path<i64>,
    Query(page): Query<Before>,
) -> Result<Json<Vec<DeliveryView>>, ApiError> {
    let own = own(&caller);
    hooks::events(&app, &own, id, page.before).await.map(Json)
}

/// Sends an event once more.
#[utoipa::path(post, path = "/api/webhooks/{webhook}/events/{event}/again", operation_id = "send_own_event_again", params(("webhook" = i64, Path), ("event" = i64, Path)), responses((status = 204), (status = 401), (status = 403), (status = 404)))]
pub(crate) async fn again(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(ids): Path<(i64, i64)>,
) -> Result<StatusCode, ApiError> {
    hooks::again(&app, &managing(&caller)?, ids).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// The keys by which events are signed (RFC 7517 §5, RFC 8037).
pub(super) async fn keys(State(app): State<Arc<App>>) -> Result<Response, ApiError> {
    let set = hooks::key_set(&app).await?;
    let fields = [
        (header::CONTENT_TYPE, "application/jwk-set+json"),
        (header::CACHE_CONTROL, "public, max-age=3600"),
    ];
    Ok((fields, set.to_string()).into_response())
}
