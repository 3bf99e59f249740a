//! The members' programme: plain HTTP, and nothing but XML.

use axum::Router;
use axum::extract::{Path, Query};
use axum::http::{HeaderMap, StatusCode};
use axum::response::{IntoResponse, Response};
use axum::routing::{get, post};
use roxmltree::Document;
use serde::Deserialize;

const NS: &str = "urn:skerry-line:loyalty";

pub(crate) fn routes() -> Router {
    Router::new()
        .route("/members", get(members))
        .route("/members/{number}", get(member))
        .route("/members/{number}/points", post(points))
}

fn xml(status: StatusCode, text: String) -> Response {
    (
        status,
        [("content-type", "application/xml"), ("etag", "\"m-3\"")],
        format!("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n{text}"),
    )
        .into_response()
}

/// Who there is: number, name, tier, points, trips.
type Member = (
    &'static str,
    &'static str,
    &'static str,
    u32,
    &'static [(&'static str, &'static str)],
);

const MEMBERS: [Member; 3] = [
    (
        "L-0007",
        "Ines Tarrant",
        "gold",
        1240,
        &[("FAR-MAR", "2027-05-02"), ("MAR-TER", "2027-05-03")],
    ),
    (
        "L-0012",
        "Odd Fjelde",
        "gold",
        905,
        &[("TER-HOL", "2027-04-11")],
    ),
    ("L-0015", "Bo & Kit Marsh", "blue", 0, &[]),
];

fn one(m: &Member) -> String {
    let trips: String =
        m.4.iter()
            .map(|(route, on)| format!("<trip route=\"{route}\" on=\"{on}\"/>"))
            .collect();
    let name = m.1.replace('&', "&amp;");
    format!(
        "<member xmlns=\"{NS}\" number=\"{}\" tier=\"{}\"><name>{name}</name><points>{}</points><trips>{trips}</trips></member>",
        m.0, m.2, m.3
    )
}

fn unknown(number: &str) -> Response {
    let number = number.replace('&', "&amp;").replace('<', "&lt;");
    xml(
        StatusCode::NOT_FOUND,
        format!(
            "<error xmlns=\"{NS}\" code=\"unknown-member\">There is no member {number}</error>"
        ),
    )
}

async fn member(Path(number): Path<String>) -> Response {
    match MEMBERS.iter().find(|m| m.0 == number) {
        Some(found) => xml(StatusCode::OK, one(found)),
        None => unknown(&number),
    }
}

#[derive(Deserialize)]
struct Asked {
    tier: Option<String>,
}

async fn members(Query(asked): Query<Asked>) -> Response {
    let found: String = MEMBERS
        .iter()
        .filter(|m| asked.tier.as_deref().is_none_or(|t| t == m.2))
        .map(|m| one(m).replace(&format!(" xmlns=\"{NS}\""), ""))
        .collect();
    xml(
        StatusCode::OK,
        format!("<members xmlns=\"{NS}\">{found}</members>"),
    )
}

async fn points(Path(number): Path<String>, headers: HeaderMap, body: String) -> Response {
    let kind = headers
        .get("content-type")
        .and_then(|h| h.to_str().ok())
        .unwrap_or_default();
    if kind != "application/xml" {
        return xml(
            StatusCode::UNSUPPORTED_MEDIA_TYPE,
            format!("<error xmlns=\"{NS}\" code=\"media-type\">{kind}</error>"),
        );
    }
    let Some(found) = MEMBERS.iter().find(|m| m.0 == number) else {
        return unknown(&number);
    };
    let parsed = Document::parse(&body).ok().and_then(|d| {
        let root = d.root_element();
        let reason = root.attribute("reason")?.to_owned();
        let amount: u32 = root.text()?.trim().parse().ok()?;
        root.has_tag_name("points").then_some((amount, reason))
    });
    match parsed {
        Some((amount, _)) => xml(
            StatusCode::OK,
            format!(
                "<balance xmlns=\"{NS}\" number=\"{number}\">{}</balance>",
                found.3 + amount
            ),
        ),
        None => xml(
            StatusCode::BAD_REQUEST,
            format!(
                "<error xmlns=\"{NS}\" code=\"points\">points with a reason are expected</error>"
            ),
        ),
    }
}
