//! What browsers are sent away with, and must come back with.

use axum::http::{HeaderMap, HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use serde::Deserialize;
use utoipa::IntoParams;

use super::{Came, OpenId, Person};
use crate::api::short;
use crate::error::ApiError;

/// Seconds that somebody may take to sign in elsewhere.
const LASTS: u32 = 600;

/// A way out to the provider and back.
pub(crate) struct Way {
    /// Name of the cookie with which a browser that is away has to come back.
    pub(crate) cookie: &'static str,
    /// Path to which it comes back.
    pub(crate) back: &'static str,
}

/// What the provider sends the browser back with.
#[derive(Deserialize, IntoParams)]
pub(crate) struct Returned {
    code: Option<String>,
    state: Option<String>,
    iss: Option<String>,
    error: Option<String>,
}

/// Why nobody came.
pub(crate) enum Lost {
    /// It is not what this browser was sent away for, or too long ago.
    Other,
    /// The provider, or whoever sat there, did not want it.
    Denied(String),
    /// What the provider says does not hold.
    Unproven(String),
}

impl Way {
    /// The cookie; of an empty value and no time: none any more.
    pub(crate) fn cookie(&self, origin: &str, value: &str) -> String {
        let secure = match origin.starts_with("https://") {
            true => " Secure;",
            false => "",
        };
        let lasts = if value.is_empty() { 0 } else { LASTS };
        let Self { cookie, back } = self;
        // It comes along when the provider sends the browser back, which is another site (RFC 6265bis §5.2).
        format!("{cookie}={value}; Path={back}; HttpOnly;{secure} SameSite=Lax; Max-Age={lasts}")
    }

    /// Sends the browser to the provider (OpenID Connect Core 1.0 §3.1.2.1).
    pub(crate) async fn away(&self, openid: &OpenId, origin: &str) -> Result<Response, ApiError> {
        let begun = openid.begin(&format!("{origin}{}", self.back)).await;
        let begun = begun.map_err(|why| {
            tracing::warn!("signing in by OpenID: {why}");
            ApiError::new(502, "The provider does not answer as it should", why)
        })?;
        let value = format!("{}.{}.{}", begun.state, begun.nonce, begun.verifier);
        let fields = [
            (header::LOCATION, begun.address),
            (header::SET_COOKIE, self.cookie(origin, &value)),
            (header::CACHE_CONTROL, "no-store".to_owned()),
        ];
        Ok((StatusCode::SEE_OTHER, fields).into_response())
    }

    /// Who came back (Core §3.1.2.5).
    pub(crate) async fn came(
        &self,
        openid: &OpenId,
        headers: &HeaderMap,
        origin: &str,
        returned: Returned,
    ) -> Result<Person, Lost> {
        let cookies = headers.get(header::COOKIE).and_then(|c| c.to_str().ok());
        let mut cookies = cookies.unwrap_or_default().split(';');
        let own = cookies.find_map(|c| c.trim().strip_prefix(self.cookie)?.strip_prefix('='));
        let mut parts = own.unwrap_or_default().split('.');
        let (Some(state), Some(nonce), Some(verifier)) = (parts.next(), parts.next(), parts.next())
        else {
            return Err(Lost::Other);
        };
        // What somebody else began is not ended here (RFC 6749 §10.12).
        if state.is_empty() || returned.state.as_deref() != Some(state) {
            return Err(Lost::Other);
        }
        if let Some(error) = returned.error {
            return Err(Lost::Denied(short(&error)));
        }
        let came = Came {
            code: returned.code.as_deref().unwrap_or_default(),
            issuer: returned.iss.as_deref(),
            nonce,
            verifier,
            to: &format!("{origin}{}", self.back),
        };
        let person = openid.finish(&came, chrono::Utc::now().timestamp()).await;
        person.map_err(Lost::Unproven)
    }
}

impl Lost {
    /// The word that pages have a sentence for; what only those who look after the service need is logged.
    pub(crate) fn word(self) -> &'static str {
        match self {
            Self::Other => "other",
            Self::Denied(why) => {
                tracing::info!("signing in by OpenID was refused there: {why}");
                "denied"
            }
            Self::Unproven(why) => {
                tracing::warn!("signing in by OpenID: {why}");
                "unproven"
            }
        }
    }
}

/// Leads on by a page of its own: cookies that are for this site alone do not come along where another site sent the browser
/// (RFC 6265bis §5.2).
pub(crate) fn arrived(cookies: [String; 2]) -> Response {
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
