//! The console API: the handlers, and what role each of their routes needs.

mod accounts;
mod agreements;
mod backends;
mod backtests;
mod certificates;
mod clients;
mod consumers;
mod document;
mod draft;
mod extract;
mod facades;
mod kept;
mod keys;
mod look;
mod observe;
mod offers;
mod quotas;
mod releases;
mod rules;
mod secrets;
mod session;
mod sign_in;
mod teams;
mod tokens;
mod trials;
mod update;
mod webhooks;

use std::sync::Arc;

use axum::extract::DefaultBodyLimit;
use axum::middleware;
use porch_store::Role;
use utoipa::OpenApi;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

pub(crate) use agreements::{AgreementView, Notice, agreement_view, end_of};
pub(crate) use certificates::read_certificate;
pub(crate) use clients::read_public_key;
pub(crate) use consumers::tidy_name;
pub(crate) use extract::{Json, Path, Query};
pub(crate) use keys::{KeyView, key_view, tidy_label};
pub(crate) use observe::health;
pub(crate) use offers::{Before, MessageView, ReadUntil, RequestView, ServedOffer, tidy_text};
pub(crate) use quotas::agreement_of;
pub(crate) use session::{drawn, is_of_own_page, short, too_many};

use crate::app::App;

#[derive(OpenApi)]
#[openapi(info(
    title = "Elm Porch console API",
    description = "Everything that the console and the client do. Errors are problem documents (RFC 9457).",
    license(name = "MIT", identifier = "MIT")
))]
struct Api;

/// All routes; whoever calls one must be signed in with the role that stands beside it.
pub(crate) fn routes() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::with_openapi(Api::openapi())
        .merge(strangers())
        .merge(whoever_has(Role::Viewer, viewers()))
        .merge(whoever_has(Role::Publisher, publishers()))
        .merge(whoever_has(Role::Administrator, administrators()))
}

/// The OpenAPI document of all routes.
pub(crate) fn document() -> Result<serde_json::Value, serde_json::Error> {
    let of = |routes: OpenApiRouter<Arc<App>>| serde_json::to_value(routes.into_openapi());
    let of_role = [
        (Role::Viewer, document::routes_of(&of(viewers())?)),
        (Role::Publisher, document::routes_of(&of(publishers())?)),
        (
            Role::Administrator,
            document::routes_of(&of(administrators())?),
        ),
    ];
    let needs = |route: &str| {
        let mut roles = of_role.iter();
        roles
            .find(|(_, all)| all.contains(route))
            .map(|(role, _)| *role)
    };
    Ok(document::complete(of(routes())?, &needs))
}

fn whoever_has(role: Role, routes: OpenApiRouter<Arc<App>>) -> OpenApiRouter<Arc<App>> {
    routes.route_layer(middleware::from_fn_with_state(role, session::guard))
}

/// What changes nothing.
fn viewers() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(session::who, session::sign_out))
        .routes(routes!(observe::overview))
        .routes(routes!(draft::pull))
        .routes(routes!(draft::check))
        .routes(routes!(draft::schemas))
        .routes(routes!(look::look))
        .routes(routes!(look::derive))
        .routes(routes!(update::update))
        .routes(routes!(releases::compare))
        .routes(routes!(releases::list))
        .routes(routes!(releases::compare_with))
        .routes(routes!(facades::list))
        .routes(routes!(facades::find))
        .routes(routes!(facades::facade))
        .routes(routes!(facades::operation))
        .routes(routes!(trials::run))
        .routes(routes!(backtests::backtest))
        .routes(routes!(backends::list))
        .routes(routes!(backends::probe))
        .routes(routes!(rules::list))
        .routes(routes!(observe::traces))
        .routes(routes!(observe::trace))
        .routes(routes!(observe::usage))
        .routes(routes!(observe::copies))
        .routes(routes!(observe::audit))
        .routes(routes!(kept::show))
        .routes(routes!(consumers::consumers))
        .routes(routes!(consumers::consumer))
        .routes(routes!(quotas::quotas))
        .routes(routes!(quotas::events))
        .routes(routes!(offers::offers))
        .routes(routes!(offers::compare_offers))
        .routes(routes!(offers::requests))
        .routes(routes!(offers::messages))
        .routes(routes!(teams::teams))
        .routes(routes!(agreements::agreements))
        .routes(routes!(accounts::change_own_password))
        .routes(routes!(tokens::sessions, tokens::end_all_sessions))
        .routes(routes!(tokens::end_session))
        .routes(routes!(tokens::tokens, tokens::create_token))
        .routes(routes!(tokens::end_token))
}

/// What everybody may do who reaches the console: little is read of them.
fn strangers() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(session::sign_in))
        .routes(routes!(sign_in::ways))
        .routes(routes!(sign_in::away))
        .routes(routes!(sign_in::back))
        .layer(DefaultBodyLimit::max(16 << 10))
}

/// What changes the draft, what callers are served, and who may call.
fn publishers() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(draft::push))
        .routes(routes!(releases::release))
        .routes(routes!(releases::rollback))
        .routes(routes!(facades::pause, facades::delete))
        .routes(routes!(kept::purge))
        .routes(routes!(consumers::create_consumer))
        .routes(routes!(
            consumers::change_consumer,
            consumers::delete_consumer
        ))
        .routes(routes!(consumers::pause_consumer))
        .routes(routes!(keys::create_key))
        .routes(routes!(keys::change_key, keys::delete_key))
        .routes(routes!(keys::renew_key))
        .routes(routes!(keys::set_password))
        .routes(routes!(keys::delete_password))
        .routes(routes!(clients::create_client))
        .routes(routes!(clients::delete_client))
        .routes(routes!(clients::create_signing_key))
        .routes(routes!(clients::delete_signing_key))
        .routes(routes!(certificates::create_certificate))
        .routes(routes!(certificates::delete_certificate))
        .routes(routes!(agreements::create_agreement))
        .routes(routes!(
            agreements::change_agreement,
            agreements::delete_agreement
        ))
        .routes(routes!(agreements::end_agreement))
        .routes(routes!(offers::grant_request))
        .routes(routes!(offers::turn_down_request))
        .routes(routes!(offers::read_messages))
        .routes(routes!(teams::change_team))
        .routes(routes!(teams::announce))
        .routes(routes!(teams::preview))
        .routes(routes!(webhooks::webhooks, webhooks::add_webhook))
        .routes(routes!(webhooks::webhook_events))
        .routes(routes!(webhooks::remove_webhook))
        .routes(routes!(webhooks::pause_webhook))
        .routes(routes!(webhooks::send_event_again))
        .routes(routes!(quotas::add))
}

/// Accounts and secrets.
fn administrators() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(secrets::secrets, secrets::set_secret))
        .routes(routes!(accounts::accounts, accounts::create_account))
        .routes(routes!(accounts::change_account, accounts::end_account))
        .routes(routes!(tokens::end_account_sessions))
}
