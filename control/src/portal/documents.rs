//! What is shown, as machines read it: OpenAPI documents, and the list of them (RFC 9727).

use std::sync::Arc;

use axum::extract::State;
use axum::http::{HeaderName, header};
use axum::response::{IntoResponse, Response};
use serde_json::{Value, json};

use super::catalogue::{Shown, visible};
use super::session::Anybody;
use crate::api::Path;
use crate::app::App;
use crate::error::ApiError;

/// The profile of a list of APIs (RFC 9727 §3 and §7.3).
const PROFILE: &str = "https://www.rfc-editor.org/info/rfc9727";

/// What is shown, as a set of links (RFC 9727 §2; RFC 9264 §4.2).
pub(crate) async fn api_catalog(
    State(app): State<Arc<App>>,
    anybody: Anybody,
) -> Result<Response, ApiError> {
    let shown = super::catalogue::current(&app).await?;
    let portal = &app.config.portal;
    let of = |facade: &Arc<Shown>| {
        json!({
            "anchor": facade.address,
            "service-desc": [{
                "href": format!("{portal}/facades/{}/openapi.json", facade.name),
                "type": "application/openapi+json;version=3.1",
            }],
            "service-doc": [{
                "href": format!("{portal}/facades/{}", facade.name),
                "type": "text/html",
            }],
        })
    };
    let groups = visible(&app, &shown, &anybody);
    let all: Vec<Value> = groups.iter().flat_map(|g| &g.facades).map(of).collect();
    let kind = format!("application/linkset+json; profile=\"{PROFILE}\"");
    // RFC 9727 §2: the list says of itself what it is.
    let link = format!("<{portal}/.well-known/api-catalog>; rel=\"api-catalog\"");
    let fields: [(HeaderName, String); 4] = [
        (header::CONTENT_TYPE, kind),
        (header::LINK, link),
        (header::CACHE_CONTROL, "private, no-cache".into()),
        (header::VARY, "cookie".into()),
    ];
    Ok((fields, json!({ "linkset": all }).to_string()).into_response())
}

/// The OpenAPI document of a facade, with where it is called and what must be shown.
pub(crate) async fn openapi(
    State(app): State<Arc<App>>,
    anybody: Anybody,
    Path(facade): Path<String>,
) -> Result<Response, ApiError> {
    let shown = super::catalogue::one(&app, &anybody, &facade).await?;
    let fields = [
        (header::CONTENT_TYPE, "application/openapi+json;version=3.1"),
        (header::CACHE_CONTROL, "private, no-cache"),
        (header::X_CONTENT_TYPE_OPTIONS, "nosniff"),
    ];
    Ok((fields, shown.openapi.to_string()).into_response())
}
