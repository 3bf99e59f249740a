//! The portal: what those who call find, read, ask for and see of themselves, at an origin of its own.
//!
//! Nothing of the console is reachable here: routes, sessions and accounts are others, and what they do goes through the same
//! services. Who may call a route stands in its arguments: `Caller` is somebody who is signed in, `Anybody` visitors too.

mod account;
mod applications;
mod asking;
mod catalogue;
mod changes;
mod credentials;
mod documents;
mod factor;
mod files;
mod hooks;
mod left;
mod life;
mod limits;
mod looking;
mod markdown;
mod openid;
mod passwords;
mod problems;
mod search;
mod session;
mod team;
mod ways;

use std::sync::Arc;

use axum::extract::DefaultBodyLimit;
use axum::{Extension, Router};
use serde_json::{Value, json};
use tower_http::compression::CompressionLayer;
use utoipa::OpenApi;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

pub(crate) use self::catalogue::Catalogue;
pub(crate) use self::looking::DraftShown;
use crate::app::App;

/// A request's body may have at most so many bytes.
const MAX_BODY: usize = 64 << 10;

#[derive(OpenApi)]
#[openapi(info(
    title = "Elm Porch portal API",
    description = "Everything that the portal's pages do. Errors are problem documents (RFC 9457).",
    license(name = "MIT", identifier = "MIT")
))]
struct Api;

fn routes() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::with_openapi(Api::openapi())
        .routes(routes!(catalogue::portal))
        .routes(routes!(catalogue::page))
        .routes(routes!(catalogue::catalogue))
        .routes(routes!(catalogue::facade))
        .routes(routes!(changes::changes))
        .routes(routes!(changes::news))
        .routes(routes!(problems::problems))
        .routes(routes!(session::begin, session::who, session::end))
        .routes(routes!(account::sign_up))
        .routes(routes!(account::confirm))
        .routes(routes!(account::forgotten))
        .routes(routes!(account::reset))
        .routes(routes!(account::change_password))
        .routes(routes!(account::data))
        .routes(routes!(account::leave))
        .routes(routes!(looking::begin, looking::end))
        .routes(routes!(openid::ways))
        .routes(routes!(openid::away))
        .routes(routes!(openid::back))
        .routes(routes!(factor::begin, factor::set, factor::remove))
        .routes(routes!(team::team))
        .routes(routes!(team::teams))
        .routes(routes!(team::act))
        .routes(routes!(team::invite))
        .routes(routes!(team::withdraw_invitation))
        .routes(routes!(team::change_member, team::remove_member))
        .routes(routes!(team::invitation))
        .routes(routes!(team::join))
        .routes(routes!(hooks::webhooks, hooks::add))
        .routes(routes!(hooks::ask))
        .routes(routes!(hooks::pause))
        .routes(routes!(hooks::remove))
        .routes(routes!(hooks::events))
        .routes(routes!(hooks::again))
        .routes(routes!(asking::offers))
        .routes(routes!(asking::ask))
        .routes(routes!(asking::withdraw))
        .routes(routes!(asking::end))
        .routes(routes!(applications::list, applications::register))
        .routes(routes!(applications::create_key))
        .routes(routes!(applications::renew_key))
        .routes(routes!(applications::end_key))
        .routes(routes!(credentials::create_signing_key))
        .routes(routes!(credentials::create_certificate))
        .routes(routes!(credentials::delete))
        .routes(routes!(life::usage))
        .routes(routes!(left::limits))
        .routes(routes!(life::refusals))
        .routes(routes!(life::messages))
        .routes(routes!(life::read))
}

/// The OpenAPI document of the portal's API.
pub(crate) fn document() -> Result<Value, serde_json::Error> {
    let mut document = serde_json::to_value(routes().into_openapi())?;
    document["servers"] =
        json!([{ "url": "/", "description": "The portal that has this document." }]);
    Ok(document)
}

/// The whole of the portal's HTTP service.
pub(crate) fn router(app: Arc<App>) -> Router {
    let (api, _) = routes().split_for_parts();
    Router::new()
        .merge(api)
        .route(
            "/.well-known/api-catalog",
            axum::routing::get(documents::api_catalog),
        )
        .route(
            "/facades/{facade}/openapi.json",
            axum::routing::get(documents::openapi),
        )
        .route("/event-keys.json", axum::routing::get(hooks::keys))
        .route("/logo.svg", axum::routing::get(files::logo))
        .fallback(files::serve)
        .layer(DefaultBodyLimit::max(MAX_BODY))
        .layer(CompressionLayer::new())
        .layer(Extension(app.clone()))
        .with_state(app)
}
