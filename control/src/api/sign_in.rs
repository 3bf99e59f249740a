//! Signing in by OpenID, as browsers do it: away to the provider, and back.

use std::net::SocketAddr;
use std::sync::Arc;

use axum::extract::{ConnectInfo, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use porch_store::entity::account;
use serde::Serialize;
use serde_json::json;
use utoipa::ToSchema;

use super::extract::{Json, Query};
use super::session::{begun, short, too_many};
use crate::app::App;
use crate::error::ApiError;
use crate::openid::{Lost, OpenId, Person, Returned, Way, arrived};

/// How browsers go away and come back.
const WAY: Way = Way {
    cookie: "porch-signing-in",
    back: "/api/session/openid/return",
};

#[derive(Serialize, ToSchema)]
pub(crate) struct Ways {
    /// The provider's name, where people can sign in by OpenID.
    openid: Option<String>,
}

/// How people can sign in besides name and password.
#[utoipa::path(get, path = "/api/session/ways", responses((status = 200, body = Ways)))]
pub(crate) async fn ways(State(app): State<Arc<App>>) -> Json<Ways> {
    let openid = app.config.openid.as_ref();
    Json(Ways {
        openid: openid.map(|o| o.title().to_owned()),
    })
}

fn openid(app: &App) -> Result<&OpenId, ApiError> {
    let none = || ApiError::missing("way to sign in by OpenID here".to_owned());
    app.config.openid.as_deref().ok_or_else(none)
}

fn host(headers: &HeaderMap) -> &str {
    let host = headers.get(header::HOST).and_then(|h| h.to_str().ok());
    host.unwrap_or("127.0.0.1")
}

/// Sends the browser to the provider (OpenID Connect Core 1.0 §3.1.2.1).
#[utoipa::path(get, path = "/api/session/openid", responses((status = 303), (status = 404), (status = 502)))]
pub(crate) async fn away(
    State(app): State<Arc<App>>,
    headers: HeaderMap,
) -> Result<Response, ApiError> {
    let openid = openid(&app)?;
    WAY.away(openid, &openid.origin(host(&headers))).await
}

/// Why nobody is signed in, as the console's page has words for it.
enum Refused {
    /// Nobody came back.
    Lost(Lost),
    /// There is no account for them.
    NoAccount(Person),
    /// None of their groups has a role.
    NoRole(Person),
    /// The account of their name is somebody else's.
    Taken(Person),
    Failed(ApiError),
}

impl From<ApiError> for Refused {
    fn from(e: ApiError) -> Self {
        Self::Failed(e)
    }
}

impl From<porch_store::StoreError> for Refused {
    fn from(e: porch_store::StoreError) -> Self {
        Self::Failed(e.into())
    }
}

/// The browser comes back (Core §3.1.2.5): a session begins, or the page to sign in says why not.
#[utoipa::path(get, path = "/api/session/openid/return", params(Returned), responses((status = 200), (status = 303), (status = 404)))]
pub(crate) async fn back(
    State(app): State<Arc<App>>,
    ConnectInfo(peer): ConnectInfo<SocketAddr>,
    headers: HeaderMap,
    Query(returned): Query<Returned>,
) -> Result<Response, ApiError> {
    let openid = openid(&app)?;
    let origin = openid.origin(host(&headers));
    let over = WAY.cookie(&origin, "");
    // Each answer is held against the provider once: whoever makes them up waits.
    let name = format!("openid {}", peer.ip());
    let attempt = app.attempts.begin(&name, peer.ip()).map_err(too_many)?;
    tokio::time::sleep(attempt.wait).await;
    let (why, who) = match signed_in(&app, openid, &headers, &origin, returned).await {
        Ok(account) => {
            app.attempts.succeeded(&attempt);
            let (_, own) = begun(&app, &headers, &account, "OpenID").await?;
            return Ok(arrived([over, own]));
        }
        Err(Refused::Failed(e)) => return Err(e),
        Err(Refused::Lost(lost)) => (lost.word(), String::new()),
        Err(Refused::NoAccount(person)) => ("no-account", person.name),
        Err(Refused::NoRole(person)) => ("no-role", person.name),
        Err(Refused::Taken(person)) => ("taken", person.name),
    };
    if app.attempts.is_told() {
        let detail = json!({ "address": peer.ip().to_string(), "by": "OpenID", "why": why });
        let who = match who.as_str() {
            "" => "somebody".to_owned(),
            name => short(name),
        };
        let change = app.database.store()?.change(&who).await?;
        change.audit("failed to sign in", "session", detail).await?;
        change.commit().await?;
    }
    let fields = [
        (header::LOCATION, format!("/#not-signed-in={why}")),
        (header::SET_COOKIE, over),
    ];
    Ok((StatusCode::SEE_OTHER, fields).into_response())
}

async fn signed_in(
    app: &App,
    openid: &OpenId,
    headers: &HeaderMap,
    origin: &str,
    returned: Returned,
) -> Result<account::Model, Refused> {
    let person = WAY.came(openid, headers, origin, returned).await;
    account_of(app, openid, person.map_err(Refused::Lost)?).await
}

/// The account of somebody: theirs since they came first; the one that an administrator made for them; or a new one, where groups
/// say which role they have. An account with a password is nobody's from elsewhere, whatever they are called there.
async fn account_of(app: &App, openid: &OpenId, person: Person) -> Result<account::Model, Refused> {
    let store = app.database.store()?;
    if openid.says_roles() && person.role.is_none() {
        return Err(Refused::NoRole(person));
    }
    let known = store.account_known_as(&person.subject).await?;
    let account = match known {
        Some(account) => account,
        None => match store.account_named(&person.name).await? {
            Some(own) if own.password_hash.is_empty() && own.subject.is_none() => {
                app.directory
                    .know_account_as(&own.name, &person.subject)
                    .await?
            }
            Some(_) => return Err(Refused::Taken(person)),
            None => match person.role {
                None => return Err(Refused::NoAccount(person)),
                Some(role) => {
                    let (directory, name) = (&app.directory, &person.name);
                    directory.create_account(name, name, None, role).await?;
                    directory.know_account_as(name, &person.subject).await?
                }
            },
        },
    };
    match person.role {
        // Groups may have changed since.
        Some(role) if role.name() != account.role => {
            let (directory, name) = (&app.directory, &account.name);
            Ok(directory
                .change_account(name, name, Some(role), None)
                .await?)
        }
        _ => Ok(account),
    }
}
