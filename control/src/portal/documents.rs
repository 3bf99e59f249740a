//! What is shown, as machines read it: OpenAPI documents, and the list of them (RFC 9727).

use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;

use axum::extract::State;
use axum::http::{HeaderName, header};
use axum::response::{IntoResponse, Response};
use porch_contract::Contract;
use serde_json::{Value, json};

use super::catalogue::{OperationLine, Shown, visible};
use super::looking::Looking;
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
    let at = Looking::of(&app, &anybody).await?;
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
    let groups = visible(&at, &anybody);
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

/// The contract as others may have it: with where it is called, and with what must be shown where it does not say so itself.
pub(super) fn published(contract: &Contract, address: &str, operations: &[OperationLine]) -> Value {
    let mut document = contract.document.clone();
    document["servers"] = json!([{ "url": address }]);
    deprecate(&mut document, operations);
    let says = |d: &Value| d.pointer("/components/securitySchemes").is_some();
    if says(&document) {
        return document;
    }
    let ways: BTreeSet<(&str, Option<&str>, Option<&str>)> = operations
        .iter()
        .flat_map(|o| &o.credentials)
        .map(|w| (w.kind, w.place, w.name.as_deref()))
        .collect();
    let mut schemes = serde_json::Map::new();
    for (kind, place, name) in ways {
        let scheme = match kind {
            "key" => json!({ "type": "apiKey", "in": place, "name": name }),
            "basic" => json!({ "type": "http", "scheme": "basic" }),
            "token" | "key-as-token" => json!({ "type": "http", "scheme": "bearer" }),
            "certificate" => json!({ "type": "mutualTLS" }),
            _ => continue,
        };
        schemes.insert(kind.to_owned(), scheme);
    }
    if !schemes.is_empty() {
        let by_id = operations.iter().map(|o| (o.id.as_str(), o));
        let by_id: HashMap<&str, &OperationLine> = by_id.collect();
        document["components"]["securitySchemes"] = Value::Object(schemes);
        let paths = document["paths"].as_object_mut().into_iter().flatten();
        for (_, operation) in paths.flat_map(|(_, item)| item.as_object_mut().into_iter().flatten())
        {
            let id = operation["operationId"].as_str().unwrap_or_default();
            let Some(of) = by_id.get(id) else {
                continue;
            };
            let shown = of.credentials.iter().filter(|w| w.kind != "signature");
            operation["security"] = shown.map(|w| json!({ w.kind: [] })).collect();
        }
    }
    document
}

/// Says of operations that they are deprecated where the facade's document does.
fn deprecate(document: &mut Value, operations: &[OperationLine]) {
    let ids: BTreeSet<&str> = operations
        .iter()
        .filter(|o| o.deprecation.is_some())
        .map(|o| o.id.as_str())
        .collect();
    if ids.is_empty() {
        return;
    }
    let paths = document["paths"].as_object_mut().into_iter().flatten();
    for (_, operation) in paths.flat_map(|(_, item)| item.as_object_mut().into_iter().flatten()) {
        if operation["operationId"]
            .as_str()
            .is_some_and(|id| ids.contains(id))
        {
            operation["deprecated"] = json!(true);
        }
    }
}
