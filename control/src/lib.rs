//! The control plane: the console API, the console's files, and the services and jobs behind them.
//!
//! The console, the client and other tools all use this one API; its OpenAPI 3.1 document is generated from the handlers
//! ([`openapi`]). Handlers call services, services call the store; what callers are served is changed by one of them only.

mod api;
mod app;
mod compute;
mod config;
mod console;
mod database;
mod directory;
mod error;
mod hooks;
mod jobs;
mod kept;
mod listen;
mod mail;
mod memory;
mod observatory;
mod openid;
mod portal;
mod publication;
mod target;
mod trouble;
mod watching;

use std::sync::Arc;

use axum::extract::DefaultBodyLimit;
use axum::{Extension, Router};
use tower_http::compression::CompressionLayer;

pub use app::App;
pub use config::AppConfig;
pub use error::ApiError;
pub use jobs::{FirstAccount, JobError, start as start_jobs};
pub use mail::{Mail, MailConfig};
pub use openid::{OpenId, OpenIdConfig};

/// A request's body may have at most so many bytes.
const MAX_BODY: usize = 32 << 20;

/// The OpenAPI 3.1 document of the API.
///
/// # Errors
/// When it cannot be written.
pub fn openapi() -> Result<String, serde_json::Error> {
    serde_json::to_string_pretty(&api::document()?)
}

/// The OpenAPI 3.1 document of the portal's API.
///
/// # Errors
/// When it cannot be written.
pub fn portal_openapi() -> Result<String, serde_json::Error> {
    serde_json::to_string_pretty(&portal::document()?)
}

/// The whole of the control plane's HTTP service.
fn router(app: Arc<App>) -> Router {
    let (api, _) = api::routes().split_for_parts();
    let document: Arc<str> = openapi().unwrap_or_default().into();
    let document = move || async move {
        let json = [("content-type", "application/json")];
        (json, document.to_string())
    };
    Router::new()
        .merge(api)
        .route("/api/openapi.json", axum::routing::get(document))
        .route("/health", axum::routing::get(api::health))
        .fallback(console::serve)
        .layer(DefaultBodyLimit::max(MAX_BODY))
        .layer(CompressionLayer::new())
        .layer(Extension(app.clone()))
        .with_state(app)
}

/// Serves the portal until `stop` is done, at most so many connections at the same time.
pub async fn serve_portal(
    listener: tokio::net::TcpListener,
    app: Arc<App>,
    connections: usize,
    stop: impl Future<Output = ()>,
) {
    listen::serve(listener, portal::router(app), connections, stop).await;
}

/// Serves the control plane until `stop` is done, at most so many connections at the same time.
pub async fn serve(
    listener: tokio::net::TcpListener,
    app: Arc<App>,
    connections: usize,
    stop: impl Future<Output = ()>,
) {
    listen::serve(listener, router(app), connections, stop).await;
}
