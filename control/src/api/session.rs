//! Who may do what: sessions, tokens and roles, all decided here.

use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;
use std::time::Duration;

use axum::extract::{ConnectInfo, Extension, Request, State};
use axum::http::{HeaderMap, Method, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use porch_store::Role;
use porch_store::entity::account;
use serde::{Deserialize, Serialize};
use serde_json::json;
use utoipa::ToSchema;

use super::extract::Json;
use crate::app::App;
use crate::error::ApiError;

/// Who is asking.
#[derive(Clone, Debug)]
pub(crate) struct Publisher {
    pub(crate) name: String,
    pub(crate) role: Role,
    /// Where the request comes from.
    pub(crate) address: IpAddr,
    /// Whether it is a machine, with a token of the account.
    pub(crate) by_machine: bool,
}

impl Publisher {
    /// Whether it is a person: what gives power over an account, a token that was lost must not do.
    pub(crate) fn is_a_person(&self, to: &str) -> Result<(), ApiError> {
        if !self.by_machine {
            return Ok(());
        }
        let title = format!("Machines do not {to}");
        Err(ApiError::new(403, title, "Sign in as a person."))
    }

    /// Whose things are shown: one's own, unless one administrates.
    pub(crate) fn whose(&self) -> Option<&str> {
        (self.role < Role::Administrator).then_some(&*self.name)
    }

    /// Whether the role is enough for what not everybody may do who may call the route.
    pub(crate) fn needs(&self, role: Role, why: &str) -> Result<(), ApiError> {
        if self.role >= role {
            return Ok(());
        }
        Err(ApiError::new(
            403,
            format!("This needs the role {}", role.name()),
            format!(
                "{why}; {} is {} {}.",
                self.name,
                an(self.role),
                self.role.name()
            ),
        ))
    }
}

fn an(role: Role) -> &'static str {
    match role {
        Role::Administrator => "an",
        Role::Viewer | Role::Publisher => "a",
    }
}

const COOKIE: &str = "porch-session";
const SECURE_COOKIE: &str = "__Host-porch-session";
const HOUR: i64 = 3_600_000;

/// The token of a request: `Authorization: Bearer` (RFC 6750 §2.1), or the console's cookie.
fn token(headers: &HeaderMap) -> Option<(String, bool)> {
    if let Some(value) = headers
        .get(header::AUTHORIZATION)
        .and_then(|v| v.to_str().ok())
    {
        return value
            .strip_prefix("Bearer ")
            .map(|t| (t.trim().to_owned(), false));
    }
    let cookies = headers.get(header::COOKIE)?.to_str().ok()?;
    let value = |name: &str| {
        let mut all = cookies.split(';');
        all.find_map(|c| c.trim().strip_prefix(name)?.strip_prefix('='))
    };
    let value = value(SECURE_COOKIE).or_else(|| value(COOKIE))?;
    Some((value.to_owned(), true))
}

/// The token of a request, wherever it stands.
pub(super) fn token_of(headers: &HeaderMap) -> Option<String> {
    token(headers).map(|(token, _)| token)
}

/// Lets a request pass when its account's role is enough; the role stands beside the routes.
pub(crate) async fn guard(
    State(role): State<Role>,
    Extension(app): Extension<Arc<App>>,
    mut request: Request,
    next: Next,
) -> Response {
    let (method, headers) = (request.method().clone(), request.headers().clone());
    let peer = request.extensions().get::<ConnectInfo<SocketAddr>>();
    let peer = peer.map_or(IpAddr::from([0, 0, 0, 0]), |ConnectInfo(peer)| peer.ip());
    match publisher(&app, &method, &headers, role, peer).await {
        Ok(publisher) => {
            request.extensions_mut().insert(publisher);
            next.run(request).await
        }
        Err(e) => {
            let mut response = e.into_response();
            if response.status() == 401 {
                response.headers_mut().insert(
                    header::WWW_AUTHENTICATE,
                    header::HeaderValue::from_static("Bearer realm=\"elm-porch\""),
                );
            }
            response
        }
    }
}

/// Whether a browser sent a request for the console's own page: by `Sec-Fetch-Site` (Fetch Metadata Request Headers §2.2),
/// or, where there is none, as by plain HTTP, by an `Origin` (RFC 6454 §7) that is the host asked for.
pub(crate) fn is_of_own_page(headers: &HeaderMap) -> bool {
    let text = |name: &str| headers.get(name).and_then(|v| v.to_str().ok());
    if let Some(site) = text("sec-fetch-site") {
        return matches!(site, "same-origin" | "none");
    }
    let (Some(origin), Some(host)) = (text("origin"), text("host")) else {
        return false;
    };
    let own = origin
        .strip_prefix("http://")
        .or_else(|| origin.strip_prefix("https://"));
    own.is_some_and(|own| own.eq_ignore_ascii_case(host))
}

async fn publisher(
    app: &App,
    method: &Method,
    headers: &HeaderMap,
    role: Role,
    address: IpAddr,
) -> Result<Publisher, ApiError> {
    let (token, by_cookie) = token(headers)
        .ok_or_else(|| ApiError::new(401, "Sign in first", "Use the console, or `porch login`."))?;
    // A page of another origin must not act in the name of whoever is signed in here.
    if by_cookie && !method.is_safe() && !is_of_own_page(headers) {
        return Err(ApiError::new(
            403,
            "This request comes from another site",
            "Use the console itself.",
        ));
    }
    let store = app.database.store()?;
    let role_in = |text: &str| Role::parse(text).unwrap_or(Role::Viewer);
    // Tokens of machines are drawn as keys are; those of sessions have no dash.
    let machine = match !by_cookie && token.contains('-') {
        true => store.machine(&token).await?,
        false => None,
    };
    let (account, own) = match machine {
        Some((machine, account)) => {
            let own = role_in(&machine.role).min(role_in(&account.role));
            (account, (own, Some(machine.label)))
        }
        None => {
            let account = store.session(&token).await?;
            let over = || ApiError::new(401, "The session is over", "Sign in again.");
            let account = account.ok_or_else(over)?;
            let own = role_in(&account.role);
            (account, (own, None))
        }
    };
    let (own, machine) = own;
    if own < role {
        let who = match &machine {
            Some(label) => format!("The token “{label}” of {}", account.name),
            None => account.name.clone(),
        };
        return Err(ApiError::new(
            403,
            format!("This needs the role {}", role.name()),
            format!("{who} is {} {}.", an(own), own.name()),
        ));
    }
    Ok(Publisher {
        name: account.name,
        role: own,
        address,
        by_machine: machine.is_some(),
    })
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct SignIn {
    name: String,
    password: String,
    /// What the session is for, to tell it from others.
    #[serde(default)]
    label: String,
}

#[derive(Serialize, ToSchema)]
pub(crate) struct Session {
    /// For `Authorization: Bearer`; only given when signing in.
    #[serde(skip_serializing_if = "Option::is_none")]
    token: Option<String>,
    name: String,
    role: String,
}

/// Sign in.
#[utoipa::path(post, path = "/api/session", request_body = SignIn, responses((status = 200, body = Session), (status = 401), (status = 429)))]
pub(crate) async fn sign_in(
    State(app): State<Arc<App>>,
    ConnectInfo(peer): ConnectInfo<SocketAddr>,
    headers: HeaderMap,
    Json(body): Json<SignIn>,
) -> Result<Response, ApiError> {
    // Pasted white space is not part of a name or password.
    let (name, password) = (body.name.trim(), body.password.trim());
    let attempt = app.attempts.begin(name, peer.ip()).map_err(too_many)?;
    tokio::time::sleep(attempt.wait).await;
    let store = app.database.store()?;
    let turn = app.attempts.turn().await;
    let found = store.sign_in(name, password).await?;
    drop(turn);
    let Some(account) = found else {
        if app.attempts.is_told() {
            let (name, detail) = (short(name), json!({ "address": peer.ip().to_string() }));
            let change = store.change(&name).await?;
            change.audit("failed to sign in", "session", detail).await?;
            change.commit().await?;
        }
        return Err(ApiError::new(401, "Name or password is wrong", ""));
    };
    app.attempts.succeeded(&attempt);
    let label = short(body.label.trim());
    let (token, cookie) = begun(&app, &headers, &account, &label).await?;
    Ok((
        [(header::SET_COOKIE, cookie)],
        Json(Session {
            token: Some(token),
            name: account.name,
            role: account.role,
        }),
    )
        .into_response())
}

/// A session that begins, and its cookie.
pub(super) async fn begun(
    app: &App,
    headers: &HeaderMap,
    account: &account::Model,
    label: &str,
) -> Result<(String, String), ApiError> {
    let token = drawn()?;
    let store = app.database.store()?;
    store
        .create_session(&token, account, label, 30 * 24 * HOUR)
        .await?;
    let change = store.change(&account.name).await?;
    let detail = json!({ "label": label });
    change.audit("signed in", "session", detail).await?;
    change.commit().await?;
    let cookie = cookie(headers, &token, 30 * 24 * 3600);
    Ok((token, cookie))
}

/// What nobody guesses: 256 bits in hexadecimal.
pub(crate) fn drawn() -> Result<String, ApiError> {
    let mut random = [0u8; 32];
    getrandom::fill(&mut random)
        .map_err(|_| ApiError::new(500, "The system gives no random bytes", ""))?;
    Ok(random.iter().map(|b| format!("{b:02x}")).collect())
}

/// As much of a text as can be read in a line of the audit.
pub(crate) fn short(text: &str) -> String {
    let plain = |c: char| if c.is_control() { ' ' } else { c };
    text.chars().take(80).map(plain).collect()
}

pub(crate) fn too_many(wait: Duration) -> ApiError {
    let detail = format!("Try again in {} seconds.", wait.as_secs() + 1);
    ApiError::new(429, "Too many attempts to sign in", detail)
}

/// The session's cookie. Where the browser says that its page came by TLS, it has the name that no other host and no page
/// without TLS can set (RFC 6265bis §4.1.3.2).
fn cookie(headers: &HeaderMap, token: &str, lasts: u32) -> String {
    let origin = headers.get(header::ORIGIN).and_then(|v| v.to_str().ok());
    let (name, secure) = match origin.is_some_and(|o| o.starts_with("https://")) {
        true => (SECURE_COOKIE, " Secure;"),
        false => (COOKIE, ""),
    };
    format!("{name}={token}; Path=/; HttpOnly;{secure} SameSite=Strict; Max-Age={lasts}")
}

/// Who is signed in.
#[utoipa::path(get, path = "/api/session", responses((status = 200, body = Session), (status = 401)))]
pub(crate) async fn who(Extension(publisher): Extension<Publisher>) -> Json<Session> {
    Json(Session {
        token: None,
        name: publisher.name,
        role: publisher.role.name().into(),
    })
}

/// Sign out.
#[utoipa::path(delete, path = "/api/session", responses((status = 204)))]
pub(crate) async fn sign_out(
    State(app): State<Arc<App>>,
    headers: HeaderMap,
) -> Result<Response, ApiError> {
    if let Some((token, _)) = token(&headers) {
        app.database.store()?.end_session(&token).await?;
    }
    Ok(signed_out(&headers).into_response())
}

/// Nothing, and a cookie that is over.
pub(super) fn signed_out(headers: &HeaderMap) -> impl IntoResponse {
    let cookie = cookie(headers, "", 0);
    let status = axum::http::StatusCode::NO_CONTENT;
    (status, [(header::SET_COOKIE, cookie)])
}

#[cfg(test)]
mod tests {
    use super::*;

    fn headers(fields: &[(&str, &str)]) -> HeaderMap {
        let pairs = fields.iter().map(|(name, value)| {
            let name: header::HeaderName = name.parse().unwrap();
            (name, value.parse().unwrap())
        });
        pairs.collect()
    }

    #[test]
    fn only_the_console_s_own_page_acts_for_whoever_is_signed_in() {
        let host = ("host", "console.example:3820");
        for (own, fields) in [
            (true, vec![("sec-fetch-site", "same-origin")]),
            (true, vec![("sec-fetch-site", "none")]),
            (false, vec![("sec-fetch-site", "same-site")]),
            (false, vec![("sec-fetch-site", "cross-site")]),
            (false, vec![("sec-fetch-site", "nonsense")]),
            // What the browser says itself comes before what a page can choose.
            (
                false,
                vec![
                    ("sec-fetch-site", "cross-site"),
                    ("origin", "http://console.example:3820"),
                ],
            ),
            (true, vec![("origin", "http://console.example:3820")]),
            (true, vec![("origin", "https://CONSOLE.example:3820")]),
            (false, vec![("origin", "http://console.example:3821")]),
            (false, vec![("origin", "http://console.example")]),
            (false, vec![("origin", "http://evil.example")]),
            (
                false,
                vec![("origin", "http://console.example:3820.evil.example")],
            ),
            (false, vec![("origin", "null")]),
            (false, vec![("origin", "")]),
            (false, vec![]),
        ] {
            let mut all = fields.clone();
            all.push(host);
            assert_eq!(is_of_own_page(&headers(&all)), own, "{fields:?}");
        }
        assert!(!is_of_own_page(&headers(&[("origin", "http://x")])));
    }

    #[test]
    fn a_token_is_found_where_it_may_stand() {
        let of = |fields: &[(&str, &str)]| token(&headers(fields));
        let bearer = Some(("abc".to_owned(), false));
        assert_eq!(of(&[("authorization", "Bearer abc")]), bearer);
        assert_eq!(of(&[("authorization", "Bearer  abc ")]), bearer);
        let cookie = Some(("abc".to_owned(), true));
        assert_eq!(of(&[("cookie", "porch-session=abc")]), cookie);
        assert_eq!(of(&[("cookie", "a=1; porch-session=abc; b=2")]), cookie);
        // Another scheme is no token, and the cookie does not stand in for it.
        let both = [
            ("authorization", "Basic abc"),
            ("cookie", "porch-session=abc"),
        ];
        assert_eq!(of(&both), None);
        for none in [
            "porch-sessions=abc",
            "xporch-session=abc",
            "porch-session",
            "",
        ] {
            assert_eq!(of(&[("cookie", none)]), None, "{none}");
        }
    }
}
