//! Signing in to the portal by OpenID: away to the provider, and back.

use std::net::SocketAddr;
use std::sync::Arc;

use axum::extract::{ConnectInfo, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use porch_facade::SignUp;
use porch_store::NewPerson;
use porch_store::entity::person;
use serde::Serialize;
use serde_json::json;
use utoipa::ToSchema;

use super::account::tidy_email;
use super::session::begun_with;
use crate::api::{Json, Query, too_many};
use crate::app::App;
use crate::error::ApiError;
use crate::openid::{Lost, OpenId, Person, Returned, Way, arrived};

/// How browsers go away and come back.
const WAY: Way = Way {
    cookie: "porch-portal-signing-in",
    back: "/api/session/openid/return",
};

/// How one can sign in besides address and password.
#[derive(Serialize, ToSchema)]
pub(crate) struct PortalWays {
    /// The provider's name, where one can sign in by OpenID.
    openid: Option<String>,
}

/// How one can sign in besides address and password.
#[utoipa::path(get, path = "/api/session/ways", operation_id = "ways_into_portal", responses((status = 200, body = PortalWays)))]
pub(crate) async fn ways(State(app): State<Arc<App>>) -> Json<PortalWays> {
    let openid = app.config.portal_openid.as_ref();
    Json(PortalWays {
        openid: openid.map(|o| o.title().to_owned()),
    })
}

fn openid(app: &App) -> Result<&OpenId, ApiError> {
    let none = || ApiError::missing("way to sign in by OpenID here");
    app.config.portal_openid.as_deref().ok_or_else(none)
}

/// Sends the browser to the provider (OpenID Connect Core 1.0 §3.1.2.1).
#[utoipa::path(get, path = "/api/session/openid", operation_id = "away_from_portal", responses((status = 303), (status = 404), (status = 502)))]
pub(crate) async fn away(State(app): State<Arc<App>>) -> Result<Response, ApiError> {
    WAY.away(openid(&app)?, &app.config.portal).await
}

/// The browser comes back (Core §3.1.2.5): a session begins, or the page to sign in says why not.
#[utoipa::path(get, path = "/api/session/openid/return", operation_id = "back_to_portal", params(Returned), responses((status = 200), (status = 303), (status = 404)))]
pub(crate) async fn back(
    State(app): State<Arc<App>>,
    ConnectInfo(peer): ConnectInfo<SocketAddr>,
    headers: HeaderMap,
    Query(returned): Query<Returned>,
) -> Result<Response, ApiError> {
    let openid = openid(&app)?;
    let over = WAY.cookie(&app.config.portal, "");
    // Each answer is held against the provider once: whoever makes them up waits.
    let name = format!("openid {}", peer.ip());
    let attempt = app.people.begin(&name, peer.ip()).map_err(too_many)?;
    tokio::time::sleep(attempt.wait).await;
    let came = WAY
        .came(openid, &headers, &app.config.portal, returned)
        .await;
    let why = match came.map_err(Lost::word) {
        Ok(person) => match person_of(&app, person).await? {
            Ok(person) => {
                app.people.succeeded(&attempt);
                let (_, own) = begun_with(&app, &headers, person.id, None).await?;
                return Ok(arrived([over, own]));
            }
            Err(why) => why,
        },
        Err(why) => why,
    };
    let fields = [
        (header::LOCATION, format!("/sign-in#not-signed-in={why}")),
        (header::SET_COOKIE, over),
    ];
    Ok((StatusCode::SEE_OTHER, fields).into_response())
}

/// The account of somebody: theirs since they came first; the one of their address, which the provider says is theirs; or a new
/// one, where everybody may make one. Otherwise the word for why not.
async fn person_of(
    app: &App,
    person: Person,
) -> Result<Result<person::Model, &'static str>, ApiError> {
    let store = app.database.store()?;
    if let Some(known) = store.person_known_as(&person.subject).await? {
        return Ok(if known.paused {
            Err("paused")
        } else {
            Ok(known)
        });
    }
    // What a letter cannot be sent to is no address, whoever says so.
    let email = person.email.as_deref();
    let Some(email) = email.and_then(|e| tidy_email(e).ok()) else {
        return Ok(Err("no-address"));
    };
    let change = store.change(&email).await?;
    let object = format!("person {email}");
    let detail = json!({ "by": "OpenID" });
    let there = change.held_person(&email).await?;
    let made = match there.filter(|p| p.confirmed_at.is_some()) {
        Some(own) if own.paused => return Ok(Err("paused")),
        // Another one of the provider's is theirs already, or a second factor would be left out.
        Some(own) if own.subject.is_some() || own.factor.is_some() => return Ok(Err("taken")),
        Some(own) => {
            change.audit("is known by OpenID", &object, detail).await?;
            change.know_person_as(own, &person.subject).await?
        }
        None => {
            let offered = app.publication.offered();
            let rule = offered.portal.as_ref().map(|p| p.doc.sign_up);
            if rule == Some(SignUp::Invited) {
                return Ok(Err("invited"));
            }
            let new = NewPerson {
                email: &email,
                name: &person.name,
                password_hash: "",
                subject: Some(&person.subject),
            };
            let made = change.create_known_person(&new).await?;
            change.team_of_their_own(&made).await?;
            change.audit("signed up", &object, detail).await?;
            made
        }
    };
    change.commit().await?;
    Ok(Ok(made))
}
