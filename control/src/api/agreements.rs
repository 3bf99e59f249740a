//! What consumers have agreed to: terms that rules read, from when, until when.

use std::sync::Arc;

use axum::extract::{Extension, State};
use axum::http::StatusCode;
use porch_facade::{is_term, is_value_of_term};
use porch_store::entity::agreement;
use porch_store::{AgreementChange, AgreementQuery, NewAgreement, now_ms};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use utoipa::ToSchema;

use super::consumers::tidy_name;
use super::extract::{Json, Path, Query};
use super::keys::known_facades;
use super::offers::tidy_text;
use super::session::Publisher;
use crate::app::App;
use crate::directory::Ending;
use crate::error::ApiError;

#[derive(Serialize, ToSchema)]
pub(crate) struct AgreementView {
    id: i64,
    consumer: String,
    /// Name of what was offered.
    offer: String,
    /// Named numbers and texts that rules read.
    terms: Map<String, Value>,
    /// What it opens, `sailings` for a facade and `sailings/quoteFare` for one of its operations; none: every facade.
    opens: Option<Vec<String>>,
    /// Milliseconds since 1970.
    from_at: i64,
    /// Milliseconds since 1970; none: without end.
    until_at: Option<i64>,
    paused: bool,
    /// Number of the request that it follows from; none: a publisher noted it.
    request: Option<i64>,
    /// Which text was accepted: `version`, `digest` (BLAKE3), `by` and `at`.
    #[schema(value_type = Option<Object>)]
    accepted: Option<Value>,
    /// Who ended it, when and why: `by`, `at`, `why`.
    #[schema(value_type = Option<Object>)]
    ended: Option<Value>,
}

pub(crate) fn agreement_view(a: agreement::Model, consumer: &str) -> AgreementView {
    AgreementView {
        opens: a.opens(),
        request: a.request_id,
        accepted: a.accepted,
        ended: a.ended,
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
    for (name, value) in &terms {
        let help =
            "Terms are named as in `requests=7`, with a whole number, a text, or true or false.";
        if !is_term(name) {
            return Err(ApiError::new(
                400,
                format!("“{name}” is no name of a term"),
                help,
            ));
        }
        let fits = is_value_of_term(value);
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
    /// What it opens, facades or `FACADE/OPERATION`; none: every facade.
    opens: Option<Vec<String>>,
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
    if let Some(opens) = &body.opens {
        known_openings(&app, opens).await?;
    }
    let from_at = body.from_at.unwrap_or_else(now_ms);
    within_time(from_at, body.until_at)?;
    let offered = app.publication.offered();
    let offer = offered.offers.get(body.offer.trim());
    let (mut terms, mut opens, mut until_at) = (tidy_terms(body.terms)?, body.opens, body.until_at);
    // What is not said is as the offer has it, where there is one of this name.
    if let Some(offer) = offer {
        if terms.as_object().is_none_or(Map::is_empty) {
            terms = serde_json::json!(offer.doc.terms);
        }
        opens = opens.or_else(|| Some(offer.opens.clone()));
        let lasts = offer.doc.lasts.map(|span| span.0.as_millis());
        let end = lasts.map(|ms| from_at.saturating_add(i64::try_from(ms).unwrap_or(i64::MAX)));
        until_at = until_at.or(end);
    }
    let new = NewAgreement {
        consumer: consumer.clone(),
        offer: tidy_name(&body.offer)?,
        terms,
        opens,
        from_at,
        until_at,
        request_id: None,
        accepted: None,
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
    /// What it opens, facades or `FACADE/OPERATION`; an empty list: every facade.
    opens: Option<Vec<String>>,
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
    let opens = body.opens.map(|all| Some(all).filter(|f| !f.is_empty()));
    if let Some(Some(opens)) = &opens {
        known_openings(&app, opens).await?;
    }
    let at = |at| Some(if at == 0 { now_ms() } else { at });
    // One that ends before it began has ended.
    within_time(0, body.until_at.filter(|at| *at != 0))?;
    let change = AgreementChange {
        terms: body.terms.map(tidy_terms).transpose()?,
        opens,
        until_at: body.until_at.map(at),
        paused: body.paused,
        ended: None,
    };
    let directory = &app.directory;
    directory
        .change_agreement(&publisher.name, id, &change)
        .await?;
    app.publication.write_snapshot().await;
    Ok(StatusCode::NO_CONTENT)
}

/// Whether there are these facades, and these operations of them.
async fn known_openings(app: &App, opens: &[String]) -> Result<(), ApiError> {
    if opens.len() > 1000 {
        return Err(ApiError::new(
            400,
            "An agreement opens at most 1000 things",
            "",
        ));
    }
    let facade = |entry: &String| entry.split('/').next().unwrap_or_default().to_owned();
    let facades: Vec<String> = opens.iter().map(facade).collect();
    known_facades(app, &facades).await?;
    let summary = app.publication.summary().await?;
    let porch = app.publication.porch();
    for entry in opens {
        let Some((facade, id)) = entry.split_once('/') else {
            continue;
        };
        let draft = summary.facades.get(facade);
        let draft = draft.into_iter().flat_map(|f| &f.operations);
        let served = porch.facades.iter().filter(|f| f.name == facade);
        let served = served.flat_map(|f| f.operations.iter().map(|o| &o.id));
        let known: Vec<&str> = draft.chain(served).map(String::as_str).collect();
        if !known.contains(&id) {
            let near = porch_contract::suggest(id, known);
            let help = near.map_or_else(String::new, |n| format!("Did you mean “{n}”?"));
            let title = format!("{facade} has no operation “{id}”");
            return Err(ApiError::new(400, title, help));
        }
    }
    Ok(())
}

#[derive(Deserialize)]
pub(crate) struct Wanted {
    #[serde(default)]
    search: String,
    offer: Option<String>,
    #[serde(default)]
    holding: bool,
    before: Option<i64>,
    most: Option<u64>,
}

/// Agreements, the newest first.
#[utoipa::path(get, path = "/api/agreements", params(("search" = Option<String>, Query, description = "Only those with this text in the names of offer or consumer, or in its owner."), ("offer" = Option<String>, Query, description = "Only those of this offer."), ("holding" = Option<bool>, Query, description = "Only those that have not ended."), ("before" = Option<i64>, Query, description = "Only those with a smaller number: the next page."), ("most" = Option<u64>, Query, description = "At most so many; 100 unless given, 500 at most.")), responses((status = 200, body = Vec<AgreementView>)))]
pub(crate) async fn agreements(
    State(app): State<Arc<App>>,
    Query(wanted): Query<Wanted>,
) -> Result<Json<Vec<AgreementView>>, ApiError> {
    let query = AgreementQuery {
        offer: wanted.offer.filter(|o| !o.is_empty()),
        search: wanted.search,
        holding: wanted.holding,
        before: wanted.before,
        most: wanted.most.unwrap_or(100).clamp(1, 500),
    };
    let found = app.database.store()?.agreements(&query).await?;
    let all = found.into_iter().map(|(a, c)| agreement_view(a, &c.name));
    Ok(Json(all.collect()))
}

#[derive(Default, Deserialize, ToSchema)]
pub(crate) struct Notice {
    /// Whether it goes on for as long as its offer says that notice takes; it ends at once otherwise.
    #[serde(default)]
    pub(crate) with_notice: bool,
    /// Why; the other side is told.
    #[serde(default)]
    pub(crate) why: String,
}

/// When an agreement of an offer ends that is ended now.
pub(crate) fn end_of(app: &App, offer: &str, with_notice: bool) -> Result<i64, ApiError> {
    let now = now_ms();
    if !with_notice {
        return Ok(now);
    }
    let offered = app.publication.offered();
    let notice = offered.offers.get(offer).and_then(|o| o.doc.notice);
    let Some(notice) = notice else {
        let title = format!("The offer {offer} knows no notice");
        let help = "End it at once, or say in the offer how long `notice` takes.";
        return Err(ApiError::new(409, title, help));
    };
    let ms = i64::try_from(notice.0.as_millis()).unwrap_or(i64::MAX);
    Ok(now.saturating_add(ms))
}

/// Ends an agreement, at once or with notice, and tells those who call.
#[utoipa::path(post, path = "/api/agreements/{agreement}/end", params(("agreement" = i64, Path)), request_body = Option<Notice>, responses((status = 200, body = AgreementView), (status = 404), (status = 409)))]
pub(crate) async fn end_agreement(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Path(id): Path<i64>,
    body: Option<Json<Notice>>,
) -> Result<Json<AgreementView>, ApiError> {
    let notice = body.map(|Json(n)| n).unwrap_or_default();
    let store = app.database.store()?;
    let known = store.agreement(id).await?;
    let ending = Ending {
        agreement: id,
        at: end_of(&app, &known.offer, notice.with_notice)?,
        why: tidy_text(&notice.why)?,
        by_caller: false,
    };
    let ended = app
        .directory
        .end_agreement(&publisher.name, &ending)
        .await?;
    app.publication.write_snapshot().await;
    app.told();
    let of = store.consumer_of_number(ended.consumer_id).await?;
    let name = of.map_or_else(String::new, |c| c.name);
    Ok(Json(agreement_view(ended, &name)))
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
