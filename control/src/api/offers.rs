//! Offers that are served, requests for them, and what publishers are told.

use std::collections::BTreeMap;
use std::sync::Arc;

use axum::extract::{Extension, State};
use axum::http::StatusCode;
use porch_store::RequestQuery;
use porch_store::entity::{consumer, message, offer_request};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value, json};
use utoipa::ToSchema;

use super::extract::{Json, Path, Query};
use super::session::Publisher;
use crate::app::App;
use crate::error::ApiError;
use crate::publication::{Offer, Offering};

/// An offer, as it is served.
#[derive(Serialize, ToSchema)]
pub(crate) struct ServedOffer {
    name: String,
    title: String,
    summary: String,
    /// What an agreement opens, `sailings` for a facade and `sailings/quoteFare` for one of its operations.
    opens: Vec<String>,
    /// Named whole numbers, texts and truth values that rules read.
    terms: Map<String, Value>,
    /// Who sees it, in words.
    seen_by: String,
    /// Who may ask for it, in words.
    asked_by: String,
    /// `at-once` or `by-person`.
    granted: String,
    /// How long an agreement lasts, in milliseconds; none: without end.
    lasts: Option<u64>,
    /// `by-asking`, `by-itself` or `never`.
    renewed: String,
    /// How long it goes on after it is ended with notice, in milliseconds; none: not at all.
    notice: Option<u64>,
    /// Version of the text that must be accepted; none: nothing must be.
    accept: Option<String>,
    /// That text, in Markdown.
    text: Option<String>,
    /// What it costs, in words.
    price: String,
    /// What becomes of agreements when it changes: `keep` or `follow`.
    when_changed: String,
    /// The limits and quotas of what it opens, in words, with its terms in them; only the portal says so.
    #[serde(skip_serializing_if = "Option::is_none")]
    limits: Option<Vec<String>>,
    /// How many agreements hold, or will; only publishers are told.
    #[serde(skip_serializing_if = "Option::is_none")]
    agreements: Option<i64>,
}

impl ServedOffer {
    /// The same with what it allows, in words.
    pub(crate) fn allowing(self, limits: Vec<String>) -> Self {
        Self {
            limits: Some(limits),
            ..self
        }
    }

    pub(crate) fn of(offer: &Offer) -> Self {
        let doc = &offer.doc;
        let ms = |span: porch_facade::Span| u64::try_from(span.0.as_millis()).unwrap_or(u64::MAX);
        let word = |value: Value| value.as_str().unwrap_or_default().to_owned();
        Self {
            name: doc.name.clone(),
            title: offer.title().to_owned(),
            summary: doc.summary.clone(),
            opens: offer.opens.clone(),
            terms: doc.terms.clone().into_iter().collect(),
            seen_by: doc.see.in_words(),
            asked_by: doc.ask.in_words(),
            granted: word(json!(doc.granted)),
            lasts: doc.lasts.map(ms),
            renewed: word(json!(doc.renewed)),
            notice: doc.notice.map(ms),
            accept: doc.accept.as_ref().map(|a| a.version.clone()),
            text: offer.text.clone(),
            price: doc.price.clone(),
            when_changed: word(json!(doc.when_changed)),
            limits: None,
            agreements: None,
        }
    }
}

/// The offers that are served.
#[utoipa::path(get, path = "/api/offers", responses((status = 200, body = Vec<ServedOffer>)))]
pub(crate) async fn offers(
    State(app): State<Arc<App>>,
) -> Result<Json<Vec<ServedOffer>>, ApiError> {
    let counts = app.database.store()?.agreements_by_offer().await?;
    let counts: BTreeMap<String, i64> = counts.into_iter().collect();
    let offered = app.publication.offered();
    let all = offered.offers.values().map(|offer| {
        let count = counts.get(&offer.doc.name).copied().unwrap_or(0);
        ServedOffer {
            agreements: Some(count),
            ..ServedOffer::of(offer)
        }
    });
    Ok(Json(all.collect()))
}

/// How offers and the portal differ between the draft and what is served.
#[utoipa::path(get, path = "/api/offers/compare", responses((status = 200, body = Offering)))]
pub(crate) async fn compare_offers(
    State(app): State<Arc<App>>,
) -> Result<Json<Offering>, ApiError> {
    let mut offering = app.publication.summary().await?.offering.clone();
    offering.add_agreements(&*app.database.store()?).await?;
    Ok(Json(offering))
}

/// A request for an offer.
#[derive(Serialize, ToSchema)]
pub(crate) struct RequestView {
    id: i64,
    consumer: String,
    owner: String,
    offer: String,
    /// `open`, `granted`, `turned-down` or `withdrawn`.
    state: String,
    /// What whoever asked wrote.
    why: String,
    asked_by: String,
    /// Milliseconds since 1970.
    asked_at: i64,
    /// Empty while it is open.
    decided_by: String,
    decided_at: Option<i64>,
    /// What whoever decided wrote.
    reason: String,
    /// Which text was accepted: `version`, `digest` (BLAKE3), `by` and `at`.
    #[schema(value_type = Option<Object>)]
    accepted: Option<Value>,
    /// Number of the agreement that followed.
    agreement: Option<i64>,
}

impl RequestView {
    pub(crate) fn of(r: offer_request::Model, c: &consumer::Model) -> Self {
        Self {
            id: r.id,
            consumer: c.name.clone(),
            owner: c.owner.clone(),
            offer: r.offer,
            state: r.state,
            why: r.why,
            asked_by: r.asked_by,
            asked_at: r.asked_at,
            decided_by: r.decided_by,
            decided_at: r.decided_at,
            reason: r.reason,
            accepted: r.accepted,
            agreement: r.agreement_id,
        }
    }
}

#[derive(Deserialize)]
pub(crate) struct Searched {
    #[serde(default)]
    search: String,
    state: Option<String>,
    offer: Option<String>,
    before: Option<i64>,
    most: Option<u64>,
}

/// Requests for offers, the newest first.
#[utoipa::path(get, path = "/api/requests", params(("search" = Option<String>, Query, description = "Only those with this text in the names of offer or consumer, its owner, who asked or what was written."), ("state" = Option<String>, Query, description = "Only those that are `open`, `granted`, `turned-down` or `withdrawn`."), ("offer" = Option<String>, Query, description = "Only those for this offer."), ("before" = Option<i64>, Query, description = "Only those with a smaller number: the next page."), ("most" = Option<u64>, Query, description = "At most so many; 100 unless given, 500 at most.")), responses((status = 200, body = Vec<RequestView>)))]
pub(crate) async fn requests(
    State(app): State<Arc<App>>,
    Query(searched): Query<Searched>,
) -> Result<Json<Vec<RequestView>>, ApiError> {
    let query = RequestQuery {
        state: searched.state.filter(|s| !s.is_empty()),
        offer: searched.offer.filter(|o| !o.is_empty()),
        consumers: None,
        search: searched.search,
        before: searched.before,
        most: searched.most.unwrap_or(100).clamp(1, 500),
    };
    let found = app.database.store()?.requests(&query).await?;
    let all = found.into_iter().map(|(r, c)| RequestView::of(r, &c));
    Ok(Json(all.collect()))
}

/// A text that somebody else reads.
pub(crate) fn tidy_text(text: &str) -> Result<&str, ApiError> {
    let text = text.trim();
    let is_odd = |c: char| c.is_control() && c != '\n' && c != '\t';
    if text.chars().count() > 2000 || text.chars().any(is_odd) {
        let title = "A text has at most 2000 characters, and no control characters";
        return Err(ApiError::new(400, title, ""));
    }
    Ok(text)
}

#[derive(Default, Deserialize, ToSchema)]
pub(crate) struct Yes {
    /// What those who asked are told besides.
    #[serde(default)]
    reason: String,
}

/// Grants a request: an agreement follows, with the terms that the offer has now.
#[utoipa::path(post, path = "/api/requests/{request}/grant", params(("request" = i64, Path)), request_body = Option<Yes>, responses((status = 200, body = RequestView), (status = 404), (status = 409)))]
pub(crate) async fn grant_request(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Path(id): Path<i64>,
    body: Option<Json<Yes>>,
) -> Result<Json<RequestView>, ApiError> {
    let yes = body.map(|Json(y)| y).unwrap_or_default();
    let asked = app.database.store()?.request(id).await?;
    let offered = app.publication.offered();
    let Some(offer) = offered.offers.get(&asked.offer) else {
        let title = format!("{} is offered no more", asked.offer);
        return Err(ApiError::new(409, title, "Turn the request down."));
    };
    let reason = tidy_text(&yes.reason)?;
    let (granted, consumer) = app
        .directory
        .grant(&publisher.name, id, offer, reason)
        .await?;
    app.publication.write_snapshot().await;
    app.told();
    Ok(Json(RequestView::of(granted, &consumer)))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct No {
    /// Why; those who asked are told.
    reason: String,
}

/// Turns a request down, with a reason.
#[utoipa::path(post, path = "/api/requests/{request}/turn-down", params(("request" = i64, Path)), request_body = No, responses((status = 200, body = RequestView), (status = 404), (status = 409)))]
pub(crate) async fn turn_down_request(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Path(id): Path<i64>,
    Json(no): Json<No>,
) -> Result<Json<RequestView>, ApiError> {
    let reason = tidy_text(&no.reason)?;
    if reason.is_empty() {
        let help = "Whoever asked wants to know what to do better.";
        return Err(ApiError::new(400, "A reason is needed", help));
    }
    let (decided, consumer) = app
        .directory
        .decline(&publisher.name, id, ("turned-down", reason))
        .await?;
    app.told();
    Ok(Json(RequestView::of(decided, &consumer)))
}

/// Something that people are told.
#[derive(Serialize, ToSchema)]
pub(crate) struct MessageView {
    id: i64,
    /// Milliseconds since 1970.
    at: i64,
    /// As in `request-granted`.
    kind: String,
    subject: String,
    text: String,
    /// The same for machines.
    #[schema(value_type = Object)]
    detail: Value,
    read: bool,
}

impl From<message::Model> for MessageView {
    fn from(m: message::Model) -> Self {
        Self {
            id: m.id,
            at: m.at,
            kind: m.kind,
            subject: m.subject,
            text: m.text,
            detail: m.detail,
            read: m.read_at.is_some(),
        }
    }
}

#[derive(Deserialize)]
pub(crate) struct Before {
    pub(crate) before: Option<i64>,
}

/// What publishers were told, the newest first.
#[utoipa::path(get, path = "/api/messages", params(("before" = Option<i64>, Query, description = "Only those with a smaller number: the next page.")), responses((status = 200, body = Vec<MessageView>)))]
pub(crate) async fn messages(
    State(app): State<Arc<App>>,
    Query(page): Query<Before>,
) -> Result<Json<Vec<MessageView>>, ApiError> {
    let store = app.database.store()?;
    let found = store.messages(None, page.before, 100).await?;
    let all = found.into_iter().map(MessageView::from);
    Ok(Json(all.collect()))
}

#[derive(Deserialize, ToSchema)]
#[serde(try_from = "Map<String, Value>")]
pub(crate) struct ReadUntil {
    /// Number of the last message that was read.
    pub(crate) until: i64,
}

/// Of an object alone: a list of one number would be taken for one otherwise.
impl TryFrom<Map<String, Value>> for ReadUntil {
    type Error = &'static str;

    fn try_from(body: Map<String, Value>) -> Result<Self, Self::Error> {
        let until = body.get("until").and_then(Value::as_i64);
        let missing = "`until` is missing: the number of the last message that was read";
        until.map(|until| Self { until }).ok_or(missing)
    }
}

/// Notes that what publishers were told has been read.
#[utoipa::path(post, path = "/api/messages/read", request_body = ReadUntil, responses((status = 204)))]
pub(crate) async fn read_messages(
    State(app): State<Arc<App>>,
    Json(read): Json<ReadUntil>,
) -> Result<StatusCode, ApiError> {
    app.database
        .store()?
        .messages_read(None, read.until)
        .await?;
    Ok(StatusCode::NO_CONTENT)
}
