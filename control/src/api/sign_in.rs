//! Signing in by OpenID, as browsers do it: away to the provider, and back.

use std::net::SocketAddr;
use std::sync::Arc;

use axum::extract::{ConnectInfo, State};
use axum::http::{HeaderMap, HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use porch_store::entity::account;
use serde::{Deserialize, Serialize};
use serde_json::json;
use utoipa::{IntoParams, ToSchema};

use super::extract::{Json, Query};
use super::session::{begun, short, too_many};
use crate::app::App;
use crate::error::ApiError;
use crate::openid::{Came, OpenId, Person};

/// What a browser that is away has to come back with.
const COOKIE: &str = "porch-signing-in";
const RETURN: &str = "/api/session/openid/return";
/// Seconds that somebody may take to sign in elsewhere.
const LASTS: u32 = 600;

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

fn cookie(origin: &str, value: &str, lasts: u32) -> String {
    let secure = match origin.starts_with("https://") {
        true => " Secure;",
        false => "",
    };
    // It comes along when the provider sends the browser back, which is another site (RFC 6265bis §5.2).
    format!("{COOKIE}={value}; Path={RETURN}; HttpOnly;{secure} SameSite=Lax; Max-Age={lasts}")
}

/// Sends the browser to the provider (OpenID Connect Core 1.0 §3.1.2.1).
#[utoipa::path(get, path = "/api/session/openid", responses((status = 303), (status = 404), (status = 502)))]
pub(crate) async fn away(
    State(app): State<Arc<App>>,
    headers: HeaderMap,
) -> Result<Response, ApiError> {
    let openid = openid(&app)?;
    let origin = openid.origin(host(&headers));
    let begun = openid.begin(&format!("{origin}{RETURN}")).await;
    let begun = begun.map_err(|why| {
        tracing::warn!("signing in by OpenID: {why}");
        ApiError::new(502, "The provider does not answer as it should", why)
    })?;
    let value = format!("{}.{}.{}", begun.state, begun.nonce, begun.verifier);
    let fields = [
        (header::LOCATION, begun.address),
        (header::SET_COOKIE, cookie(&origin, &value, LASTS)),
        (header::CACHE_CONTROL, "no-store".to_owned()),
    ];
    Ok((StatusCode::SEE_OTHER, fields).into_response())
}

#[derive(Deserialize, IntoParams)]
pub(crate) struct Returned {
    code: Option<String>,
    state: Option<String>,
    iss: Option<String>,
    error: Option<String>,
}

/// Why nobody is signed in, as the console's page has words for it.
enum Refused {
    /// It is not what this browser was sent away for, or too long ago.
    Other,
    /// The provider, or whoever sat there, did not want it.
    Denied(String),
    /// What the provider says does not hold.
    Unproven(String),
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
    let over = cookie(&origin, "", 0);
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
        Err(Refused::Other) => ("other", String::new()),
        Err(Refused::Denied(why)) => {
            tracing::info!("signing in by OpenID was refused there: {why}");
            ("denied", String::new())
        }
        Err(Refused::Unproven(why)) => {
            tracing::warn!("signing in by OpenID: {why}");
            ("unproven", String::new())
        }
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

/// Leads to the console by a page of its own: cookies that are for this site alone do not come along where another site sent
/// the browser (RFC 6265bis §5.2).
fn arrived(cookies: [String; 2]) -> Response {
    let page = "<!doctype html><html lang=\"en\"><meta charset=\"utf-8\"><meta http-equiv=\"refresh\" content=\"0;url=/\"><title>Signed in</title><p><a href=\"/\">You are signed in</a></p></html>";
    let fields = [
        (header::CONTENT_TYPE, "text/html; charset=utf-8"),
        (
            header::CONTENT_SECURITY_POLICY,
            "default-src 'none'; frame-ancestors 'none'; base-uri 'none'",
        ),
        (header::CACHE_CONTROL, "no-store"),
        (header::REFERRER_POLICY, "no-referrer"),
    ];
    let mut response = (fields, page).into_response();
    for cookie in cookies {
        if let Ok(value) = HeaderValue::from_str(&cookie) {
            response.headers_mut().append(header::SET_COOKIE, value);
        }
    }
    response
}

async fn signed_in(
    app: &App,
    openid: &OpenId,
    headers: &HeaderMap,
    origin: &str,
    returned: Returned,
) -> Result<account::Model, Refused> {
    let cookies = headers.get(header::COOKIE).and_then(|c| c.to_str().ok());
    let mut cookies = cookies.unwrap_or_default().split(';');
    let own = cookies.find_map(|c| c.trim().strip_prefix(COOKIE)?.strip_prefix('='));
    let mut parts = own.unwrap_or_default().split('.');
    let (Some(state), Some(nonce), Some(verifier)) = (parts.next(), parts.next(), parts.next())
    else {
        return Err(Refused::Other);
    };
    // What somebody else began is not ended here (RFC 6749 §10.12).
    if state.is_empty() || returned.state.as_deref() != Some(state) {
        return Err(Refused::Other);
    }
    if let Some(error) = returned.error {
        return Err(Refused::Denied(short(&error)));
    }
    let came = Came {
        code: returned.code.as_deref().unwrap_or_default(),
        issuer: returned.iss.as_deref(),
        nonce,
        verifier,
        to: &format!("{origin}{RETURN}"),
    };
    let person = openid.finish(&came, chrono::Utc::now().timestamp()).await;
    account_of(app, openid, person.map_err(Refused::Unproven)?).await
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
