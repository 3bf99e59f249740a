//! The control plane: the publisher's HTTP API, the console's files, and the jobs behind them.
//!
//! The console, the client and other tools all use this one API; its OpenAPI 3.1 document is generated from the handlers
//! ([`openapi`]). What callers are served is changed in one place only ([`publish`]).

mod app;
mod auth;
mod compare;
mod console;
mod draft;
mod error;
mod facades;
mod jobs;
mod objects;
mod observe;
mod publish;
mod releases;
mod served;
mod trials;

use std::net::SocketAddr;
use std::sync::Arc;

use axum::extract::DefaultBodyLimit;
use axum::{Router, middleware};
use tower_http::compression::CompressionLayer;
use utoipa::OpenApi;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

pub use app::{App, AppConfig};
pub use error::ApiError;
pub use jobs::{FirstAccount, start as start_jobs};
pub use publish::load_snapshot;

#[derive(OpenApi)]
#[openapi(info(
    title = "Elm Porch publisher's API",
    description = "Everything that the console and the client do. Errors are problem documents (RFC 9457).",
    license(name = "MIT")
))]
struct Api;

fn api() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::with_openapi(Api::openapi())
        .routes(routes!(auth::sign_in, auth::who, auth::sign_out))
        .routes(routes!(observe::overview))
        .routes(routes!(draft::pull, draft::push))
        .routes(routes!(draft::check))
        .routes(routes!(draft::look))
        .routes(routes!(draft::derive))
        .routes(routes!(draft::schemas))
        .routes(routes!(releases::compare))
        .routes(routes!(releases::list, releases::release))
        .routes(routes!(releases::rollback))
        .routes(routes!(facades::list))
        .routes(routes!(facades::facade))
        .routes(routes!(facades::operation))
        .routes(routes!(facades::pause))
        .routes(routes!(trials::run))
        .routes(routes!(observe::traces))
        .routes(routes!(observe::trace))
        .routes(routes!(observe::usage))
        .routes(routes!(observe::audit))
        .routes(routes!(objects::consumers, objects::create_consumer))
        .routes(routes!(objects::pause_consumer))
        .routes(routes!(objects::create_key))
        .routes(routes!(objects::change_key))
        .routes(routes!(objects::secrets, objects::set_secret))
        .routes(routes!(objects::accounts, objects::create_account))
}

/// The OpenAPI 3.1 document of the API.
pub fn openapi() -> String {
    api().into_openapi().to_pretty_json().unwrap_or_default()
}

/// The whole of the control plane's HTTP service.
pub fn router(app: Arc<App>) -> Router {
    let (api, document) = api().split_for_parts();
    let document = Arc::new(document.to_pretty_json().unwrap_or_default());
    Router::new()
        .merge(api)
        .layer(middleware::from_fn_with_state(app.clone(), auth::authorize))
        .route(
            "/api/openapi.json",
            axum::routing::get(move || async move {
                (
                    [("content-type", "application/json")],
                    document.as_str().to_owned(),
                )
            }),
        )
        .route("/health", axum::routing::get(observe::health))
        .fallback(console::serve)
        .layer(DefaultBodyLimit::max(32 << 20))
        .layer(CompressionLayer::new())
        .with_state(app)
}

/// Serves the control plane until `stop` is done.
///
/// # Errors
/// When serving fails.
pub async fn serve(
    listener: tokio::net::TcpListener,
    app: Arc<App>,
    stop: impl Future<Output = ()> + Send + 'static,
) -> std::io::Result<()> {
    let service = router(app).into_make_service_with_connect_info::<SocketAddr>();
    axum::serve(listener, service)
        .with_graceful_shutdown(stop)
        .await
}
