//! The portal's page and its files, built by Vite beside the console's.

use std::sync::Arc;

use axum::extract::State;
use axum::http::{HeaderValue, StatusCode, Uri, header};
use axum::response::{IntoResponse, Response};

use super::looking::Looking;
use super::session::Anybody;
use crate::app::App;
use crate::console::{Built, file};
use crate::error::ApiError;

/// An exact file, else 404 below `assets/`, else the portal's page: its addresses are resolved in the browser.
pub(crate) async fn serve(State(app): State<Arc<App>>, uri: Uri) -> Response {
    let path = uri.path().trim_start_matches('/');
    if path.starts_with("api/") || path.starts_with(".well-known/") {
        return ApiError::missing(format!("{} in the portal", uri.path())).into_response();
    }
    if path.starts_with("assets/") {
        return match Built::get(path) {
            Some(found) => file(found),
            None => StatusCode::NOT_FOUND.into_response(),
        };
    }
    page(&app)
}

/// What the page may load: its own files, and answers of itself and of the gateway (Content Security Policy Level 3).
fn policy(nonce: &str, gateway: &str) -> String {
    format!(
        "default-src 'self'; style-src 'self' 'nonce-{nonce}'; script-src 'self'; img-src 'self' data: blob:; connect-src 'self' {gateway}; object-src 'none'; frame-ancestors 'none'; base-uri 'none'; form-action 'self'"
    )
}

fn page(app: &App) -> Response {
    let Some(file) = Built::get("portal.html") else {
        return (
            StatusCode::SERVICE_UNAVAILABLE,
            "The portal is not built: run `cargo xtask console`.",
        )
            .into_response();
    };
    let mut random = [0u8; 16];
    if getrandom::fill(&mut random).is_err() {
        return StatusCode::INTERNAL_SERVER_ERROR.into_response();
    }
    let nonce: String = random.iter().map(|b| format!("{b:02x}")).collect();
    let html = String::from_utf8_lossy(&file.data).replace("NONCE", &nonce);
    let mut response = (
        [
            (header::CONTENT_TYPE, "text/html; charset=utf-8"),
            (header::CACHE_CONTROL, "no-cache"),
            (header::X_CONTENT_TYPE_OPTIONS, "nosniff"),
            (header::REFERRER_POLICY, "no-referrer"),
        ],
        html,
    )
        .into_response();
    if let Ok(value) = HeaderValue::from_str(&policy(&nonce, &app.config.gateway)) {
        let headers = response.headers_mut();
        headers.insert(header::CONTENT_SECURITY_POLICY, value);
    }
    response
}

/// The logo. As a picture of a page it runs nothing; opened by itself, its own policy keeps it from that.
pub(crate) async fn logo(State(app): State<Arc<App>>, anybody: Anybody) -> Response {
    let Ok(at) = Looking::of(&app, &anybody).await else {
        return StatusCode::NOT_FOUND.into_response();
    };
    let Some(logo) = at.offered.portal.as_ref().and_then(|p| p.logo.clone()) else {
        return StatusCode::NOT_FOUND.into_response();
    };
    (
        [
            (header::CONTENT_TYPE, "image/svg+xml"),
            (header::CACHE_CONTROL, "no-cache"),
            (header::X_CONTENT_TYPE_OPTIONS, "nosniff"),
            (
                header::CONTENT_SECURITY_POLICY,
                "default-src 'none'; style-src 'unsafe-inline'; sandbox",
            ),
        ],
        logo,
    )
        .into_response()
}
