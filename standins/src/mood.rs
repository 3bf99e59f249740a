//! Misbehaviour on demand.

use std::sync::{Arc, Mutex};
use std::time::Duration;

use axum::body::{Body, Bytes};
use axum::extract::{Request, State};
use axum::http::StatusCode;
use axum::middleware::{self, Next};
use axum::response::{IntoResponse, Response};
use axum::routing::put;
use axum::{Json, Router};
use serde::{Deserialize, Serialize};

/// How a stand-in behaves; all off is well.
#[derive(Clone, Debug, Default, Deserialize, Serialize)]
#[serde(default, deny_unknown_fields)]
pub struct Mood {
    /// Wait this many milliseconds before each answer.
    pub slow_ms: u64,
    /// Break off in the middle of each answer.
    pub break_off: bool,
    /// Send half of each answer and fall silent.
    pub hang_half_way: bool,
    /// Answer this text with status 200 and an HTML content type.
    pub garbage: Option<String>,
    /// Answer 503 with a web page to every n-th call.
    pub fail_every: u64,
}

/// The mood of one stand-in.
#[derive(Clone, Default)]
pub struct Moods(Arc<Mutex<(Mood, u64)>>);

pub(crate) fn with(routes: Router, moods: Moods) -> Router {
    routes
        .layer(middleware::from_fn_with_state(moods.clone(), misbehave))
        .route("/_mood", put(set).with_state(moods))
}

async fn set(State(moods): State<Moods>, Json(mood): Json<Mood>) -> Json<Mood> {
    let mut now = moods
        .0
        .lock()
        .unwrap_or_else(std::sync::PoisonError::into_inner);
    *now = (mood.clone(), 0);
    Json(mood)
}

async fn misbehave(State(moods): State<Moods>, request: Request, next: Next) -> Response {
    let (mood, count) = {
        let mut now = moods
            .0
            .lock()
            .unwrap_or_else(std::sync::PoisonError::into_inner);
        now.1 += 1;
        now.clone()
    };
    if mood.slow_ms > 0 {
        tokio::time::sleep(Duration::from_millis(mood.slow_ms)).await;
    }
    if let Some(text) = mood.garbage {
        return ([("content-type", "text/html")], text).into_response();
    }
    if mood.fail_every > 0 && count.is_multiple_of(mood.fail_every) {
        return (
            StatusCode::SERVICE_UNAVAILABLE,
            [("content-type", "text/html")],
            "<html><body>Down for maintenance</body></html>",
        )
            .into_response();
    }
    let response = next.run(request).await;
    if !mood.break_off && !mood.hang_half_way {
        return response;
    }
    let (mut head, body) = response.into_parts();
    head.headers.remove("content-length");
    let bytes = axum::body::to_bytes(body, 64 << 20)
        .await
        .unwrap_or_default();
    let half = bytes.slice(..bytes.len() / 2);
    let (sender, receiver) = tokio::sync::mpsc::channel::<Result<Bytes, std::io::Error>>(2);
    tokio::spawn(async move {
        let _ = sender.send(Ok(half)).await;
        if mood.hang_half_way {
            // The caller is the one to lose patience; a minute bounds it.
            let _ = tokio::time::timeout(Duration::from_secs(60), sender.closed()).await;
        } else {
            let _ = sender
                .send(Err(std::io::Error::other("broken off on purpose")))
                .await;
        }
    });
    Response::from_parts(head, Body::new(ChannelBody(receiver)))
}

struct ChannelBody(tokio::sync::mpsc::Receiver<Result<Bytes, std::io::Error>>);

impl axum::body::HttpBody for ChannelBody {
    type Data = Bytes;
    type Error = std::io::Error;

    fn poll_frame(
        mut self: std::pin::Pin<&mut Self>,
        cx: &mut std::task::Context<'_>,
    ) -> std::task::Poll<Option<Result<http_body::Frame<Bytes>, std::io::Error>>> {
        self.0
            .poll_recv(cx)
            .map(|item| item.map(|result| result.map(http_body::Frame::data)))
    }
}
