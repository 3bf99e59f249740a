//! The timetable: old, but quick; everything in the query string.

use axum::Router;
use axum::body::Bytes;
use axum::extract::Query;
use axum::http::{HeaderMap, HeaderValue, StatusCode};
use axum::middleware::map_response;
use axum::response::{IntoResponse, Response};
use axum::routing::{get, post};
use serde::Deserialize;
use serde_json::json;

#[derive(Deserialize)]
struct Asked {
    r: String,
    d: String,
}

pub(crate) fn routes() -> Router {
    Router::new()
        .route("/tt", get(timetable))
        .route("/notices", post(notice))
        .route("/large", get(large))
        .route("/echo", get(echo))
        .route("/.well-known/api-catalog", get(catalogue))
        .route("/openapi.json", get(description))
        .layer(map_response(named))
}

/// It says what it is made with, as old services do.
async fn named(mut answer: Response) -> Response {
    let made_with = HeaderValue::from_static("timetable/1.4 (2009)");
    answer.headers_mut().insert("server", made_with);
    answer
}

/// The timetable that will take its place: quays are told too, and a late ship more is known.
pub(crate) fn next_routes() -> Router {
    Router::new()
        .route("/tt", get(next_timetable))
        .route("/health", get(async || "all is well"))
}

fn departures(route: &str) -> Result<&'static [&'static str], Box<Response>> {
    match route {
        "FAR-MAR" => Ok(&["06:40", "08:30", "12:15", "17:50"]),
        "MAR-TER" => Ok(&["07:20", "13:05"]),
        "TER-HOL" => Ok(&["09:00"]),
        _ => {
            let told = json!({ "error": format!("no route {route}") });
            let answer = (StatusCode::NOT_FOUND, axum::Json(told));
            Err(Box::new(answer.into_response()))
        }
    }
}

async fn next_timetable(Query(asked): Query<Asked>) -> Response {
    let mut all = match departures(&asked.r) {
        Ok(all) => all.to_vec(),
        Err(answer) => return *answer,
    };
    if asked.r == "TER-HOL" {
        all.push("21:15");
    }
    let told = json!({ "route": asked.r, "date": asked.d, "departures": all, "quay": 2 });
    (
        [("content-type", "application/json"), ("etag", "\"next-1\"")],
        told.to_string(),
    )
        .into_response()
}

async fn timetable(Query(asked): Query<Asked>) -> Response {
    let departures = match departures(&asked.r) {
        Ok(all) => all,
        Err(answer) => return *answer,
    };
    (
        [("content-type", "application/json"), ("etag", "\"tt-7\"")],
        json!({ "route": asked.r, "date": asked.d, "departures": departures }).to_string(),
    )
        .into_response()
}

/// What there is to publish here (RFC 9727, as a linkset of RFC 9264).
async fn catalogue() -> Response {
    let kind = "application/linkset+json; profile=\"https://www.rfc-editor.org/info/rfc9727\"";
    let linkset = json!({ "linkset": [{
        "anchor": "/tt",
        "service-desc": [{ "href": "/openapi.json", "type": "application/openapi+json", "title": "Timetable" }],
    }] });
    ([("content-type", kind)], linkset.to_string()).into_response()
}

async fn description() -> axum::Json<serde_json::Value> {
    let text = |name: &str, schema: serde_json::Value| json!({ "name": name, "in": "query", "required": true, "schema": schema });
    axum::Json(json!({
        "openapi": "3.0.3",
        "info": { "title": "Timetable", "version": "7" },
        "servers": [{ "url": "/" }],
        "paths": { "/tt": { "get": {
            "operationId": "tt",
            "summary": "Departures of a route on a day",
            "parameters": [text("r", json!({ "type": "string" })), text("d", json!({ "type": "string", "format": "date" }))],
            "responses": {
                "200": { "description": "Departures.", "content": { "application/json": { "schema": { "$ref": "#/components/schemas/Day" } } } },
                "404": { "description": "No such route." },
            },
        } } },
        "components": { "schemas": { "Day": { "type": "object", "properties": {
            "route": { "type": "string" },
            "date": { "type": "string", "format": "date" },
            "departures": { "type": "array", "items": { "type": "string" } },
        } } } },
    }))
}

/// What was sent, for tests of what arrives.
async fn echo(headers: HeaderMap, uri: axum::http::Uri) -> Response {
    let headers: serde_json::Map<_, _> = headers
        .iter()
        .map(|(k, v)| (k.to_string(), json!(String::from_utf8_lossy(v.as_bytes()))))
        .collect();
    axum::Json(json!({ "uri": uri.to_string(), "headers": headers })).into_response()
}

async fn notice(headers: HeaderMap, body: Bytes) -> Response {
    let host = headers
        .get("host")
        .and_then(|h| h.to_str().ok())
        .unwrap_or_default();
    (
        StatusCode::CREATED,
        [("location", format!("http://{host}/notices/{}", body.len()))],
        axum::Json(json!({ "bytes": body.len() })),
    )
        .into_response()
}

/// A large answer.
async fn large() -> Vec<u8> {
    b"0123456789abcdef".repeat(1 << 18)
}
