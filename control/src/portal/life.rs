//! Living with it: what one's applications called, what was refused and why, and what one was told.

use std::collections::BTreeMap;
use std::sync::Arc;

use axum::extract::State;
use axum::http::StatusCode;
use porch_store::entity::consumer;
use porch_store::{TraceQuery, now_ms};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use super::applications::own;
use super::session::Caller;
use crate::api::{Before, Json, MessageView, Query, ReadUntil};
use crate::app::App;
use crate::error::ApiError;

/// So many rows of usage are added up: sixty parts of so many operations and statuses.
const MOST_ROWS: i64 = 60_000;

#[derive(Deserialize, IntoParams)]
pub(crate) struct Past {
    /// Name of one's application.
    application: String,
    /// The last so many hours; 24 unless given, 2160 (90 days) at most.
    hours: Option<i64>,
}

/// Calls of an operation with a status.
#[derive(Serialize, ToSchema)]
pub(crate) struct Called {
    facade: String,
    operation: String,
    status: i32,
    calls: i64,
    /// Of request bodies.
    bytes_in: i64,
    /// Of reply bodies.
    bytes_out: i64,
}

/// Calls in a part of the time.
#[derive(Default, Serialize, ToSchema)]
pub(crate) struct Part {
    /// When it begins, in milliseconds since 1970.
    at: i64,
    /// Calls that went well.
    good: i64,
    /// Those that were refused (4xx).
    refused: i64,
    /// Those that failed (5xx).
    failed: i64,
}

/// What an application called.
#[derive(Serialize, ToSchema)]
pub(crate) struct OwnUsage {
    calls: Vec<Called>,
    /// Sixty parts of the time, the oldest first.
    parts: Vec<Part>,
}

/// What one of one's applications called, by operation and status, and over the time.
#[utoipa::path(get, path = "/api/usage", operation_id = "own_usage", params(Past), responses((status = 200, body = OwnUsage), (status = 401), (status = 404)))]
pub(crate) async fn usage(
    State(app): State<Arc<App>>,
    caller: Caller,
    Query(past): Query<Past>,
) -> Result<Json<OwnUsage>, ApiError> {
    let of: consumer::Model = own(&app, &caller, &past.application).await?;
    let minutes = past.hours.unwrap_or(24).clamp(1, 2160) * 60;
    let (now, step) = (now_ms() / 60_000, (minutes / 60).max(1));
    let since = now - minutes + 1;
    let store = app.database.store()?;
    let rows = store.usage_of(of.id, (since, step), MOST_ROWS).await?;
    let mut parts: Vec<Part> = (0..60)
        .map(|i| Part {
            at: (since + i * step) * 60_000,
            ..Part::default()
        })
        .collect();
    let mut calls: BTreeMap<(String, String, i32), (i64, i64, i64)> = BTreeMap::new();
    for row in rows {
        let at = usize::try_from(row.part).unwrap_or(0);
        if let Some(part) = parts.get_mut(at.min(59)) {
            match row.status {
                400..500 => part.refused += row.calls,
                500.. => part.failed += row.calls,
                _ => part.good += row.calls,
            }
        }
        let own = calls
            .entry((row.facade, row.operation, row.status))
            .or_default();
        own.0 += row.calls;
        own.1 += row.bytes_in;
        own.2 += row.bytes_out;
    }
    let calls = calls.into_iter().map(
        |((facade, operation, status), (calls, bytes_in, bytes_out))| Called {
            facade,
            operation,
            status,
            calls,
            bytes_in,
            bytes_out,
        },
    );
    Ok(Json(OwnUsage {
        calls: calls.collect(),
        parts,
    }))
}

/// A call that was refused.
#[derive(Serialize, ToSchema)]
pub(crate) struct Refusal {
    /// Id of the exchange, as in `traceparent`.
    id: String,
    /// Milliseconds since 1970.
    at: i64,
    facade: String,
    operation: String,
    method: String,
    status: i32,
    /// In plain words.
    why: String,
}

#[derive(Deserialize, IntoParams)]
pub(crate) struct OfApplication {
    /// Name of one's application.
    pub(super) application: String,
}

/// What a status means for whoever called: what stands in traces tells of backends, and is not for them.
fn in_words(status: i32) -> &'static str {
    match status {
        400 => "Something of the request could not be read, or did not fit the contract.",
        401 => "No credential was shown, or one that is not good.",
        403 => "The credential is good, but no agreement, role or network opens this operation.",
        404 => "There is no such operation or thing.",
        405 => "The path is known, the method is not.",
        406 => "None of the media types that were asked for can be given.",
        409 => "It cannot be done as things stand now.",
        413 => "The body was too large.",
        415 => "The body's media type is not taken.",
        429 => {
            "A limit or quota was used up; Retry-After said when the next call would be possible."
        }
        _ => "It was refused; the reply said why.",
    }
}

/// The latest calls of one of one's applications that were refused, as far as they are kept.
#[utoipa::path(get, path = "/api/refusals", params(OfApplication), responses((status = 200, body = Vec<Refusal>), (status = 401), (status = 404)))]
pub(crate) async fn refusals(
    State(app): State<Arc<App>>,
    caller: Caller,
    Query(of): Query<OfApplication>,
) -> Result<Json<Vec<Refusal>>, ApiError> {
    let of = own(&app, &caller, &of.application).await?;
    let query = TraceQuery {
        consumer: of.name,
        status_from: 400,
        status_to: 499,
        most: 50,
        ..TraceQuery::default()
    };
    // A name that was another consumer's before: what came before this one was registered is not its own.
    let found = app.database.store()?.traces(&query).await?.into_iter();
    let own = found.filter(|t| t.at >= of.created_at);
    let all = own.map(|t| Refusal {
        id: t.trace_id,
        at: t.at,
        facade: t.facade,
        operation: t.operation,
        method: t.method,
        status: t.status,
        why: in_words(t.status).to_owned(),
    });
    Ok(Json(all.collect()))
}

/// What one's team was told, the newest first.
#[utoipa::path(get, path = "/api/messages", operation_id = "own_messages", params(("before" = Option<i64>, Query, description = "Only those with a smaller number: the next page.")), responses((status = 200, body = Vec<MessageView>), (status = 401)))]
pub(crate) async fn messages(
    State(app): State<Arc<App>>,
    caller: Caller,
    Query(page): Query<Before>,
) -> Result<Json<Vec<MessageView>>, ApiError> {
    let team = Some(caller.0.team.id);
    let found = app
        .database
        .store()?
        .messages(team, page.before, 100)
        .await?;
    Ok(Json(found.into_iter().map(MessageView::from).collect()))
}

/// Notes that what one's team was told has been read.
#[utoipa::path(post, path = "/api/messages/read", operation_id = "read_own_messages", request_body = ReadUntil, responses((status = 204), (status = 401)))]
pub(crate) async fn read(
    State(app): State<Arc<App>>,
    caller: Caller,
    Json(body): Json<ReadUntil>,
) -> Result<StatusCode, ApiError> {
    let team = Some(caller.0.team.id);
    app.database
        .store()?
        .messages_read(team, body.until)
        .await?;
    Ok(StatusCode::NO_CONTENT)
}
