//! The reference for SOAP: what a team would write by hand for one operation, with typed structures.
//!
//! `bench-converter PORT BACKEND-PORT`: `GET /harbours/{harbour}/sailings?on=…`

use porch_bench::port;
use std::collections::HashMap;

use axum::extract::{Path, Query, State};
use axum::http::StatusCode;
use axum::response::{IntoResponse, Response};
use axum::routing::get;
use axum::{Json, Router};
use bytes::Bytes;
use http_body_util::{BodyExt, Full};
use hyper::Request;
use hyper_util::client::legacy::Client;
use hyper_util::client::legacy::connect::HttpConnector;
use hyper_util::rt::TokioExecutor;
use serde::{Deserialize, Serialize};

#[derive(Deserialize)]
struct Envelope {
    #[serde(rename = "Body")]
    body: Body,
}

#[derive(Deserialize)]
struct Body {
    #[serde(rename = "SearchSailingsResponse")]
    response: Answer,
}

#[derive(Deserialize, Serialize)]
struct Answer {
    #[serde(rename = "Sailings", deserialize_with = "sailings")]
    sailings: Vec<Sailing>,
}

#[derive(Deserialize)]
struct Sailings {
    #[serde(rename = "Sailing", default)]
    list: Vec<Sailing>,
}

fn sailings<'de, D: serde::Deserializer<'de>>(d: D) -> Result<Vec<Sailing>, D::Error> {
    Ok(Sailings::deserialize(d)?.list)
}

#[derive(Deserialize, Serialize)]
#[serde(rename_all = "PascalCase")]
struct Sailing {
    id: String,
    route_code: String,
    departs: String,
    #[serde(deserialize_with = "legs")]
    legs: Vec<Leg>,
    seats_left: Option<i32>,
    vessel: Option<String>,
    #[serde(default)]
    remark: Vec<String>,
}

#[derive(Deserialize)]
struct Legs {
    #[serde(rename = "Leg", default)]
    list: Vec<Leg>,
}

fn legs<'de, D: serde::Deserializer<'de>>(d: D) -> Result<Vec<Leg>, D::Error> {
    Ok(Legs::deserialize(d)?.list)
}

#[derive(Deserialize, Serialize)]
#[serde(rename_all = "PascalCase")]
struct Leg {
    from: String,
    to: String,
    minutes: i32,
}

#[derive(Serialize)]
#[serde(rename = "r:SearchSailings")]
struct Search<'a> {
    #[serde(rename = "@xmlns:r")]
    namespace: &'static str,
    #[serde(rename = "r:From")]
    from: &'a str,
    #[serde(rename = "r:On")]
    on: &'a str,
}

#[derive(Clone)]
struct Shared {
    client: Client<HttpConnector, Full<Bytes>>,
    backend: String,
}

async fn search(
    State(shared): State<Shared>,
    Path(harbour): Path<String>,
    Query(query): Query<HashMap<String, String>>,
) -> Response {
    let Some(on) = query.get("on") else {
        return StatusCode::BAD_REQUEST.into_response();
    };
    let Ok(body) = quick_xml::se::to_string(&Search {
        namespace: "urn:skerry-line:reservations:3",
        from: &harbour,
        on,
    }) else {
        return StatusCode::BAD_REQUEST.into_response();
    };
    let envelope = format!(
        "<s:Envelope xmlns:s=\"http://schemas.xmlsoap.org/soap/envelope/\"><s:Body>{body}</s:Body></s:Envelope>"
    );
    let request = Request::post(&shared.backend)
        .header("content-type", "text/xml; charset=utf-8")
        .header(
            "soapaction",
            "\"urn:skerry-line:reservations:3/SearchSailings\"",
        )
        .body(Full::new(envelope.into()));
    let Ok(request) = request else {
        return StatusCode::INTERNAL_SERVER_ERROR.into_response();
    };
    let Ok(answer) = shared.client.request(request).await else {
        return StatusCode::BAD_GATEWAY.into_response();
    };
    let Ok(bytes) = answer.into_body().collect().await else {
        return StatusCode::BAD_GATEWAY.into_response();
    };
    let bytes = bytes.to_bytes();
    let Ok(text) = std::str::from_utf8(&bytes) else {
        return StatusCode::BAD_GATEWAY.into_response();
    };
    match quick_xml::de::from_str::<Envelope>(text) {
        Ok(envelope) => Json(envelope.body.response).into_response(),
        Err(_) => StatusCode::BAD_GATEWAY.into_response(),
    }
}

#[tokio::main(flavor = "current_thread")]
async fn main() -> std::io::Result<()> {
    let (own, backend) = (port(1, 3872), port(2, 3870));
    let mut connector = HttpConnector::new();
    connector.set_nodelay(true);
    let shared = Shared {
        client: Client::builder(TokioExecutor::new()).build(connector),
        backend: format!("http://127.0.0.1:{backend}/reservations"),
    };
    let app = Router::new()
        .route("/harbours/{harbour}/sailings", get(search))
        .with_state(shared);
    let listener = tokio::net::TcpListener::bind(("127.0.0.1", own)).await?;
    use axum::serve::ListenerExt;
    axum::serve(listener.tap_io(|s| drop(s.set_nodelay(true))), app).await
}
