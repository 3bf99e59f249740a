//! What consumers have agreed to: terms that rules read, from when, until when.

use std::sync::Arc;

use axum::extract::{Extension, State};
use axum::http::StatusCode;
use porch_store::entity::agreement;
use porch_store::{AgreementChange, NewAgreement, now_ms};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use utoipa::ToSchema;

use super::consumers::tidy_name;
use super::extract::{Json, Path};
use super::keys::known_facades;
use super::session::Publisher;
use crate::app::App;
use crate::error::ApiError;

#[derive(Serialize, ToSchema)]
pub(crate) struct AgreementView {
    id: i64,
    consumer: String,
    /// Name of what was offered.
    offer: String,
    /// Named numbers and texts that rules read.
    terms: Map<String, Value>,
    /// The facades that it opens; none: every one.
    facades: Option<Vec<String>>,
    /// Milliseconds since 1970.
    from_at: i64,
    /// Milliseconds since 1970; none: without end.
    until_at: Option<i64>,
    paused: bool,
}

pub(super) fn agreement_view(a: agreement::Model, consumer: &str) -> AgreementView {
    AgreementView {
        facades: a.opens(),
        id: a.id,
        consumer: consumer.to_owned(),
        offer: a.offer,
        terms: match a.terms {
            Value::Object(terms) => terms,
            _ => Map::new(),
        },
        from_at: a.from_at,
        until_at: a.until_at,
        paused: a.paused,
    }
}

/// Terms: named whole numbers, texts and truth values.
fn tidy_terms(terms: Map<String, Value>) -> Result<Value, ApiError> {
    let is_name = |name: &str| {
        let fits = |c: char| c.is_ascii_alphanumeric() || c == '_';
        let first = name.starts_with(|c: char| c.is_ascii_alphabetic());
        first && name.len() <= 64 && name.chars().all(fits)
    };
    for (name, value) in &terms {
        let help =
            "Terms are named as in `requests=7`, with a whole number, a text, or true or false.";
        if !is_name(name) {
            return Err(ApiError::new(
                400,
                format!("“{name}” is no name of a term"),
                help,
            ));
        }
        let fits = match value {
            Value::Number(n) => n.as_i64().is_some(),
            Value::String(text) => text.len() <= 1000,
            Value::Bool(_) => true,
            _ => false,
        };
        if !fits {
            return Err(ApiError::new(
                400,
                format!("“{name}” is no value of a term"),
                help,
            ));
        }
    }
    if terms.len() > 100 {
        return Err(ApiError::new(400, "An agreement has at most 100 terms", ""));
    }
    Ok(Value::Object(terms))
}

/// The last moment of the year 9999, in milliseconds since 1970: the last that RFC 3339 can say.
const LAST: i64 = 253_402_300_799_999;

/// Whether it begins and ends at times that there are.
fn within_time(from: i64, until: Option<i64>) -> Result<(), ApiError> {
    let can_be = |at: i64| (0..=LAST).contains(&at);
    let title = match until {
        _ if !can_be(from) => "It begins at no time that there is",
        Some(until) if !can_be(until) => "It ends at no time that there is",
        _ => return Ok(()),
    };
    let help = "Times are milliseconds since 1970, up to the year 9999.";
    Err(ApiError::new(400, title, help))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct NewTerms {
    /// Name of what was offered.
    offer: String,
    /// Named whole numbers, texts and truth values.
    #[serde(default)]
    terms: Map<String, Value>,
    /// The facades that it opens; none: every one.
    facades: Option<Vec<String>>,
    /// From when, in milliseconds since 1970; from now on unless given.
    from_at: Option<i64>,
    /// Until when; without end unless given.
    until_at: Option<i64>,
}

/// Notes what a consumer has agreed to.
#[utoipa::path(post, path = "/api/consumers/{consumer}/agreements", params(("consumer" = String, Path)), request_body = NewTerms, responses((status = 201, body = AgreementView), (status = 404)))]
pub(crate) async fn create_agreement(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Path(consumer): Path<String>,
    Json(body): Json<NewTerms>,
) -> Result<(StatusCode, Json<AgreementView>), ApiError> {
    if let Some(facades) = &body.facades {
        known_facades(&app, facades).await?;
    }
    let from_at = body.from_at.unwrap_or_else(now_ms);
    within_time(from_at, body.until_at)?;
    let new = NewAgreement {
        consumer: consumer.clone(),
        offer: tidy_name(&body.offer)?,
        terms: tidy_terms(body.terms)?,
        facades: body.facades,
        from_at,
        until_at: body.until_at,
    };
    let made = app
        .directory
        .create_agreement(&publisher.name, &new)
        .await?;
    app.publication.write_snapshot().await;
    Ok((StatusCode::CREATED, Json(agreement_view(made, &consumer))))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct ChangedTerms {
    /// All terms from now on.
    terms: Option<Map<String, Value>>,
    /// The facades that it opens; an empty list: every one.
    facades: Option<Vec<String>>,
    /// Until when, in milliseconds since 1970; 0: until now.
    until_at: Option<i64>,
    paused: Option<bool>,
}

/// Changes an agreement; what is not said stays as it is.
#[utoipa::path(put, path = "/api/agreements/{agreement}", params(("agreement" = i64, Path)), request_body = ChangedTerms, responses((status = 204), (status = 404)))]
pub(crate) async fn change_agreement(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Path(id): Path<i64>,
    Json(body): Json<ChangedTerms>,
) -> Result<StatusCode, ApiError> {
    let facades = body.facades.map(|all| Some(all).filter(|f| !f.is_empty()));
    if let Some(Some(facades)) = &facades {
        known_facades(&app, facades).await?;
    }
    let at = |at| Some(if at == 0 { now_ms() } else { at });
    // One that ends before it began has ended.
    within_time(0, body.until_at.filter(|at| *at != 0))?;
    let change = AgreementChange {
        terms: body.terms.map(tidy_terms).transpose()?,
        facades,
        until_at: body.until_at.map(at),
        paused: body.paused,
    };
    let directory = &app.directory;
    directory
        .change_agreement(&publisher.name, id, &change)
        .await?;
    app.publication.write_snapshot().await;
    Ok(StatusCode::NO_CONTENT)
}

/// Takes an agreement away.
#[utoipa::path(delete, path = "/api/agreements/{agreement}", params(("agreement" = i64, Path)), responses((status = 204), (status = 404)))]
pub(crate) async fn delete_agreement(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Path(id): Path<i64>,
) -> Result<StatusCode, ApiError> {
    app.directory.delete_agreement(&publisher.name, id).await?;
    app.publication.write_snapshot().await;
    Ok(StatusCode::NO_CONTENT)
}
