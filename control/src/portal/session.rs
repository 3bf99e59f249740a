//! Who is asking, in the portal: sessions of their own, which open no door of the console.

use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;

use axum::extract::{ConnectInfo, FromRequestParts, State};
use axum::http::request::Parts;
use axum::http::{HeaderMap, HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use porch_store::SignedIn;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::factor;
use super::looking::is_preview;
use crate::api::{Json, drawn, is_of_own_page, too_many};
use crate::app::App;
use crate::error::ApiError;

const COOKIE: &str = "porch-portal";
const SECURE_COOKIE: &str = "__Host-porch-portal";
/// How long a browser keeps the cookie, in seconds.
const LASTS: u32 = 14 * 24 * 3600;

/// Somebody who is signed in. A route that takes it is closed to visitors.
#[derive(Clone, Debug)]
pub(crate) struct Caller(pub(crate) SignedIn);

impl Caller {
    /// Under which name it stands in the audit.
    pub(crate) fn who(&self) -> &str {
        &self.0.person.email
    }

    /// Whether somebody is meant by what offers and the portal say.
    pub(crate) fn roles(&self) -> Vec<String> {
        self.0.team.roles()
    }
}

/// Somebody who is signed in, or a visitor.
pub(crate) struct Anybody {
    pub(crate) caller: Option<Caller>,
    /// Whether it is a publisher who looks at the draft: all of it is seen.
    pub(super) preview: bool,
}

impl Anybody {
    /// Whether somebody may see or do something.
    pub(crate) fn is(&self, audience: &porch_facade::Audience) -> bool {
        if self.preview {
            return true;
        }
        let Some(caller) = &self.caller else {
            return audience.is(None);
        };
        let roles = caller.roles();
        audience.is(Some((&roles, &[caller.who()])))
    }
}

/// The value of a cookie.
pub(super) fn cookie_of<'h>(headers: &'h HeaderMap, name: &str) -> Option<&'h str> {
    let cookies = headers.get(header::COOKIE)?.to_str().ok()?;
    let mut all = cookies.split(';');
    all.find_map(|c| c.trim().strip_prefix(name)?.strip_prefix('='))
}

fn token(headers: &HeaderMap) -> Option<&str> {
    cookie_of(headers, SECURE_COOKIE).or_else(|| cookie_of(headers, COOKIE))
}

async fn signed_in(parts: &Parts, app: &App) -> Result<Option<Caller>, ApiError> {
    // A page of another origin must not act in the name of whoever is signed in here.
    if !parts.method.is_safe() && !is_of_own_page(&parts.headers) {
        return Err(ApiError::new(
            403,
            "This request comes from another site",
            "Use the portal itself.",
        ));
    }
    let Some(token) = token(&parts.headers) else {
        return Ok(None);
    };
    let found = app.database.store()?.person_of_session(token).await?;
    Ok(found.map(Caller))
}

impl FromRequestParts<Arc<App>> for Caller {
    type Rejection = ApiError;

    async fn from_request_parts(parts: &mut Parts, app: &Arc<App>) -> Result<Self, ApiError> {
        let found = signed_in(parts, app).await?;
        found.ok_or_else(|| ApiError::new(401, "Sign in first", ""))
    }
}

impl FromRequestParts<Arc<App>> for Anybody {
    type Rejection = ApiError;

    async fn from_request_parts(parts: &mut Parts, app: &Arc<App>) -> Result<Self, ApiError> {
        Ok(Self {
            caller: signed_in(parts, app).await?,
            preview: is_preview(app, &parts.headers).await?,
        })
    }
}

/// The session's cookie. Where the portal is reached by TLS, it has the name that no other host and no page
/// without TLS can set (RFC 6265bis §4.1.3.2).
fn cookie(app: &App, headers: &HeaderMap, token: &str, lasts: u32) -> String {
    let origin = headers.get(header::ORIGIN).and_then(|v| v.to_str().ok());
    let is_secure = |o: &str| o.starts_with("https://");
    let (name, secure) = match is_secure(&app.config.portal) || origin.is_some_and(is_secure) {
        true => (SECURE_COOKIE, " Secure;"),
        false => (COOKIE, ""),
    };
    format!("{name}={token}; Path=/; HttpOnly;{secure} SameSite=Strict; Max-Age={lasts}")
}

/// Who is signed in.
#[derive(Serialize, ToSchema)]
pub(crate) struct Account {
    email: String,
    name: String,
    /// The team that is acted for.
    team: String,
    /// What offers may ask for; publishers give it.
    roles: Vec<String>,
    /// Whether members may be invited and taken out.
    manages: bool,
    /// Whether a second factor is asked for.
    factor: bool,
    /// Whether there is a password; none: one signs in by OpenID alone.
    password: bool,
}

impl Account {
    pub(super) fn of(of: &SignedIn) -> Self {
        Self {
            email: of.person.email.clone(),
            name: of.person.name.clone(),
            team: of.team.name.clone(),
            roles: of.team.roles(),
            manages: of.manages,
            factor: of.person.factor.is_some(),
            password: !of.person.password_hash.is_empty(),
        }
    }
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct SigningIn {
    email: String,
    password: String,
    /// The code of the second factor, where there is one.
    #[serde(default)]
    code: String,
}

/// Signs in.
#[utoipa::path(post, path = "/api/session", operation_id = "sign_in_to_portal", request_body = SigningIn, responses((status = 200, body = Account), (status = 401), (status = 429)))]
pub(crate) async fn begin(
    State(app): State<Arc<App>>,
    ConnectInfo(peer): ConnectInfo<SocketAddr>,
    headers: HeaderMap,
    Json(body): Json<SigningIn>,
) -> Result<Response, ApiError> {
    own_page(&headers)?;
    let email = body.email.trim().to_lowercase();
    let of = with_password(&app, &email, body.password.trim(), peer.ip()).await?;
    let Some(person) = of else {
        return Err(ApiError::new(401, "Address or password is wrong", ""));
    };
    factor::shown(&app, &person, &body.code, peer.ip()).await?;
    begun(&app, &headers, person.id).await
}

/// The person of an address and password, slowly where somebody guesses.
pub(super) async fn with_password(
    app: &App,
    email: &str,
    password: &str,
    address: IpAddr,
) -> Result<Option<porch_store::entity::person::Model>, ApiError> {
    let attempt = app.people.begin(email, address).map_err(too_many)?;
    tokio::time::sleep(attempt.wait).await;
    let store = app.database.store()?;
    let turn = app.attempts.turn().await;
    let found = store.person_signs_in(email, password).await?;
    drop(turn);
    if found.is_some() {
        app.people.succeeded(&attempt);
    }
    Ok(found)
}

/// A request that begins something must come from the portal's own page, signed in or not.
pub(super) fn own_page(headers: &HeaderMap) -> Result<(), ApiError> {
    match is_of_own_page(headers) {
        true => Ok(()),
        false => Err(ApiError::new(
            403,
            "This request comes from another site",
            "Use the portal itself.",
        )),
    }
}

/// A session that begins: a token that nobody had before, whoever was signed in.
pub(super) async fn begun(
    app: &App,
    headers: &HeaderMap,
    person: i64,
) -> Result<Response, ApiError> {
    begun_for(app, headers, person, None).await
}

/// The same for one of the person's teams; none: the first one.
pub(super) async fn begun_for(
    app: &App,
    headers: &HeaderMap,
    person: i64,
    team: Option<i64>,
) -> Result<Response, ApiError> {
    let (of, cookie) = begun_with(app, headers, person, team).await?;
    Ok(([(header::SET_COOKIE, cookie)], Json(of)).into_response())
}

/// Who is signed in, and the cookie that says so.
pub(super) async fn begun_with(
    app: &App,
    headers: &HeaderMap,
    person: i64,
    team: Option<i64>,
) -> Result<(Account, String), ApiError> {
    let store = app.database.store()?;
    if let Some(old) = token(headers) {
        store.end_person_session(old).await?;
    }
    let new = drawn()?;
    store.begin_person_session(person, team, &new).await?;
    let of = store.person_of_session(&new).await?;
    let of = of.ok_or_else(|| ApiError::new(401, "The account is of no team", ""))?;
    let cookie = cookie(app, headers, &new, LASTS);
    Ok((Account::of(&of), cookie))
}

/// Who is signed in; nobody: 204.
#[utoipa::path(get, path = "/api/session", operation_id = "who_is_in_portal", responses((status = 200, body = Account), (status = 204)))]
pub(crate) async fn who(of: Anybody) -> Response {
    match &of.caller {
        Some(caller) => Json(Account::of(&caller.0)).into_response(),
        None => StatusCode::NO_CONTENT.into_response(),
    }
}

/// Signs out.
#[utoipa::path(delete, path = "/api/session", operation_id = "sign_out_of_portal", responses((status = 204)))]
pub(crate) async fn end(
    State(app): State<Arc<App>>,
    headers: HeaderMap,
) -> Result<Response, ApiError> {
    own_page(&headers)?;
    if let Some(token) = token(&headers) {
        app.database.store()?.end_person_session(token).await?;
    }
    let over = HeaderValue::from_str(&cookie(&app, &headers, "", 0));
    let mut response = StatusCode::NO_CONTENT.into_response();
    if let Ok(over) = over {
        response.headers_mut().insert(header::SET_COOKIE, over);
    }
    Ok(response)
}
