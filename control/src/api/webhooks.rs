//! Webhooks of the publishers: where they are told what callers do. Viewers do not see them: an address may hold a secret.

use std::sync::Arc;

use axum::extract::{Extension, State};
use axum::http::StatusCode;

use super::extract::{Json, Path, Query};
use super::offers::Before;
use super::session::Publisher;
use crate::app::App;
use crate::error::ApiError;
use crate::hooks::{self, DeliveryView, NewWebhook, Owner, WebhookPause, WebhookView};

fn own(publisher: &Publisher) -> Owner<'_> {
    Owner {
        who: &publisher.name,
        team: None,
    }
}

/// Webhooks to which the publishers' messages are sent as events (CloudEvents), signed by RFC 9421.
#[utoipa::path(get, path = "/api/webhooks", responses((status = 200, body = Vec<WebhookView>)))]
pub(crate) async fn webhooks(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
) -> Result<Json<Vec<WebhookView>>, ApiError> {
    hooks::list(&app, &own(&publisher)).await.map(Json)
}

/// Adds a webhook.
#[utoipa::path(post, path = "/api/webhooks", request_body = NewWebhook, responses((status = 201, body = WebhookView), (status = 409)))]
pub(crate) async fn add_webhook(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Json(new): Json<NewWebhook>,
) -> Result<(StatusCode, Json<WebhookView>), ApiError> {
    let made = hooks::add(&app, &own(&publisher), &new).await?;
    Ok((StatusCode::CREATED, Json(made)))
}

/// Pauses a webhook or lets it go on; its events wait meanwhile.
#[utoipa::path(put, path = "/api/webhooks/{webhook}/pause", params(("webhook" = i64, Path)), request_body = WebhookPause, responses((status = 200, body = WebhookView), (status = 404)))]
pub(crate) async fn pause_webhook(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Path(id): Path<i64>,
    Json(body): Json<WebhookPause>,
) -> Result<Json<WebhookView>, ApiError> {
    let own = own(&publisher);
    hooks::pause(&app, &own, id, body.paused).await.map(Json)
}

/// Removes a webhook, with what became of its events.
#[utoipa::path(delete, path = "/api/webhooks/{webhook}", params(("webhook" = i64, Path)), responses((status = 204), (status = 404)))]
pub(crate) async fn remove_webhook(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Path(id): Path<i64>,
) -> Result<StatusCode, ApiError> {
    hooks::remove(&app, &own(&publisher), id).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Events of a webhook and what became of them, the newest first, a hundred at a time; they are kept for 30 days.
#[utoipa::path(get, path = "/api/webhooks/{webhook}/events", params(("webhook" = i64, Path), ("before" = Option<i64>, Query, description = "Only those with a smaller number: the next page.")), responses((status = 200, body = Vec<DeliveryView>), (status = 404)))]
pub(crate) async fn webhook_events(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Path(id): Path<i64>,
    Query(page): Query<Before>,
) -> Result<Json<Vec<DeliveryView>>, ApiError> {
    let own = own(&publisher);
    hooks::events(&app, &own, id, page.before).await.map(Json)
}

/// Sends an event once more.
#[utoipa::path(post, path = "/api/webhooks/{webhook}/events/{event}/again", params(("webhook" = i64, Path), ("event" = i64, Path)), responses((status = 204), (status = 404)))]
pub(crate) async fn send_event_again(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Path(ids): Path<(i64, i64)>,
) -> Result<StatusCode, ApiError> {
    hooks::again(&app, &own(&publisher), ids).await?;
    Ok(StatusCode::NO_CONTENT)
}
