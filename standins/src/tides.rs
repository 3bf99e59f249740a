//! Tides: small and quick; asked before ships sail.

use axum::Router;
use axum::extract::{Path, Query};
use axum::http::{HeaderValue, StatusCode};
use axum::middleware::map_response;
use axum::response::{IntoResponse, Response};
use axum::routing::get;
use serde::Deserialize;
use serde_json::{Value, json};

pub(crate) fn routes() -> Router {
    Router::new()
        .route("/harbours", get(harbours))
        .route("/harbours/{name}", get(harbour))
        .route("/levels/{code}", get(level))
        .route("/openapi.json", get(description))
        .layer(map_response(old_habit))
}

/// Every answer says what it was made with.
async fn old_habit(mut response: Response) -> Response {
    let made = HeaderValue::from_static("tide table 4");
    response.headers_mut().insert("x-powered-by", made);
    response
}

/// Harbours: code, name, and the metres of water at low tide.
const HARBOURS: [(&str, &str, f64); 5] = [
    ("FAR", "Farholt", 3.4),
    ("MAR", "Maren Quay", 2.1),
    ("TER", "Tern Rock", 0.3),
    ("HOL", "Hollow Bay", 1.2),
    ("OSP", "Osprey Sound", 4.8),
];

fn unknown(what: &str) -> Response {
    let told = json!({ "error": format!("nobody measures at {what}") });
    (StatusCode::NOT_FOUND, axum::Json(told)).into_response()
}

#[derive(Deserialize)]
struct Asked {
    after: Option<String>,
}

/// Two at a time, those behind a code: it is small.
async fn harbours(Query(asked): Query<Asked>) -> Response {
    let after = asked.after.as_deref();
    let from = after.map_or(Some(0), |code| {
        HARBOURS.iter().position(|h| h.0 == code).map(|at| at + 1)
    });
    let Some(from) = from else {
        return unknown(after.unwrap_or_default());
    };
    let page = HARBOURS.iter().skip(from).take(2);
    let harbours: Vec<Value> = page
        .map(|(code, name, _)| json!({ "code": code, "name": name }))
        .collect();
    let next = HARBOURS.get(from + 2).and(HARBOURS.get(from + 1));
    let next = next.map(|(code, ..)| code);
    axum::Json(json!({ "harbours": harbours, "next": next })).into_response()
}

async fn harbour(Path(name): Path<String>) -> Response {
    let found = HARBOURS.iter().find(|h| h.1.eq_ignore_ascii_case(&name));
    match found {
        Some((code, name, _)) => axum::Json(json!({ "code": code, "name": name })).into_response(),
        None => unknown(&name),
    }
}

async fn level(Path(code): Path<String>) -> Response {
    match HARBOURS.iter().find(|h| h.0 == code) {
        Some((code, _, metres)) => {
            axum::Json(json!({ "code": code, "metres": metres, "falling": *metres < 1.0 }))
                .into_response()
        }
        None => unknown(&code),
    }
}

async fn description() -> axum::Json<Value> {
    let text = || json!({ "type": "string" });
    let path =
        |name: &str| json!([{ "name": name, "in": "path", "required": true, "schema": text() }]);
    let answers = |schema: &str| {
        json!({
            "200": { "description": "What is known.", "content": { "application/json": { "schema": { "$ref": format!("#/components/schemas/{schema}") } } } },
            "404": { "description": "Nobody measures there." },
        })
    };
    axum::Json(json!({
        "openapi": "3.1.0",
        "info": { "title": "Tides", "version": "4" },
        "servers": [{ "url": "/" }],
        "paths": {
            "/harbours": { "get": { "operationId": "harbours", "summary": "Harbours, two at a time", "parameters": [{ "name": "after", "in": "query", "schema": text() }], "responses": answers("Page") } },
            "/harbours/{name}": { "get": { "operationId": "harbour", "summary": "A harbour by its name", "parameters": path("name"), "responses": answers("Harbour") } },
            "/levels/{code}": { "get": { "operationId": "level", "summary": "How much water there is at a harbour", "parameters": path("code"), "responses": answers("Level") } },
        },
        "components": { "schemas": {
            "Harbour": { "type": "object", "required": ["code", "name"], "properties": { "code": text(), "name": text() } },
            "Page": { "type": "object", "required": ["harbours", "next"], "properties": { "harbours": { "type": "array", "items": { "$ref": "#/components/schemas/Harbour" } }, "next": { "type": ["string", "null"] } } },
            "Level": { "type": "object", "required": ["code", "metres"], "properties": { "code": text(), "metres": { "type": "number" }, "falling": { "type": "boolean" } } },
        } },
    }))
}
