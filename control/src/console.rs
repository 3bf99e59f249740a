//! The console's files, built by Vite and kept inside the program.

use axum::http::{HeaderMap, HeaderValue, StatusCode, Uri, header};
use axum::response::{IntoResponse, Response};
use rust_embed::RustEmbed;

#[derive(RustEmbed)]
#[folder = "../console/dist"]
#[allow_missing = true]
pub(crate) struct Built;

/// An exact file, else 404 below `assets/`, else the console's page: its addresses are resolved in the browser.
pub(crate) async fn serve(uri: Uri, headers: HeaderMap) -> Response {
    let path = uri.path().trim_start_matches('/');
    if path.starts_with("api/") {
        return crate::ApiError::missing(format!("{} in the API", uri.path())).into_response();
    }
    let is_page = path.ends_with(".html") || path.is_empty();
    if let Some(found) = Built::get(path).filter(|_| !is_page) {
        return file(found);
    }
    if path.starts_with("assets/") {
        return StatusCode::NOT_FOUND.into_response();
    }
    page(&headers)
}

/// A file, which is never another one under the same name.
pub(crate) fn file(found: rust_embed::EmbeddedFile) -> Response {
    let kind = found.metadata.mimetype().to_owned();
    let lasts = "public, max-age=31536000, immutable".to_owned();
    (
        [
            (header::CONTENT_TYPE, kind),
            (header::CACHE_CONTROL, lasts),
            (header::X_CONTENT_TYPE_OPTIONS, "nosniff".into()),
        ],
        found.data,
    )
        .into_response()
}

fn page(headers: &HeaderMap) -> Response {
    let Some(file) = Built::get("index.html") else {
        return (
            StatusCode::SERVICE_UNAVAILABLE,
            "The console is not built: run `cargo xtask console`.",
        )
            .into_response();
    };
    let _ = headers;
    let mut random = [0u8; 16];
    if getrandom::fill(&mut random).is_err() {
        return StatusCode::INTERNAL_SERVER_ERROR.into_response();
    }
    let nonce: String = random.iter().map(|b| format!("{b:02x}")).collect();
    let html = String::from_utf8_lossy(&file.data).replace("NONCE", &nonce);
    let policy = format!(
        "default-src 'self'; style-src 'self' 'nonce-{nonce}'; img-src 'self' data:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'"
    );
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
    if let Ok(value) = HeaderValue::from_str(&policy) {
        response
            .headers_mut()
            .insert(header::CONTENT_SECURITY_POLICY, value);
    }
    response
}
