//! Offers that one sees, asking for them, and ending what was agreed.

use std::sync::Arc;

use axum::extract::State;
use axum::http::StatusCode;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::applications::own;
use super::looking::Looking;
use super::markdown::to_html;
use super::session::{Anybody, Caller};
use crate::api::{
    AgreementView, Json, Notice, Path, RequestView, ServedOffer, agreement_view, end_of, tidy_text,
};
use crate::app::App;
use crate::directory::{Asking, Ending};
use crate::error::ApiError;

/// An offer that one sees.
#[derive(Serialize, ToSchema)]
pub(crate) struct SeenOffer {
    offer: ServedOffer,
    /// The text that must be accepted, in HTML.
    text: Option<String>,
    /// Whether one may ask for it.
    may_ask: bool,
}

/// Offers that one sees.
#[utoipa::path(get, path = "/api/offers", operation_id = "seen_offers", responses((status = 200, body = Vec<SeenOffer>)))]
pub(crate) async fn offers(
    State(app): State<Arc<App>>,
    anybody: Anybody,
) -> Result<Json<Vec<SeenOffer>>, ApiError> {
    let at = Looking::of(&app, &anybody).await?;
    let seen = at
        .offered
        .offers
        .values()
        .filter(|o| anybody.is(&o.doc.see));
    let all = seen.map(|o| SeenOffer {
        offer: ServedOffer::of(o).allowing(super::limits::of_offer(&at.porch, o)),
        text: o.text.as_deref().map(to_html),
        may_ask: anybody.caller.is_some() && !anybody.preview && anybody.is(&o.doc.ask),
    });
    Ok(Json(all.collect()))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct Wish {
    offer: String,
    /// What it is for: whoever decides reads it.
    #[serde(default)]
    why: String,
    /// The version of the text that is accepted.
    accept: Option<String>,
}

/// Asks for an offer. Where nobody need say yes, it is granted at once.
#[utoipa::path(post, path = "/api/applications/{application}/requests", params(("application" = String, Path)), request_body = Wish, responses((status = 201, body = RequestView), (status = 401), (status = 403), (status = 404), (status = 409)))]
pub(crate) async fn ask(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(name): Path<String>,
    Json(wish): Json<Wish>,
) -> Result<(StatusCode, Json<RequestView>), ApiError> {
    let consumer = own(&app, &caller, &name).await?;
    let offered = app.publication.offered();
    let who = caller.who().to_owned();
    let anybody = Anybody {
        caller: Some(caller),
        preview: false,
    };
    let offer = offered.offers.get(wish.offer.trim());
    let Some(offer) = offer.filter(|o| anybody.is(&o.doc.see)) else {
        return Err(ApiError::missing(format!("offer “{}”", wish.offer)));
    };
    if !anybody.is(&offer.doc.ask) {
        let title = format!("{} is not for everybody", offer.title());
        let help = "Ask whoever looks after this portal.";
        return Err(ApiError::new(403, title, help));
    }
    let asking = Asking {
        consumer: consumer.id,
        offer,
        why: tidy_text(&wish.why)?,
        accepted: wish.accept.as_deref(),
    };
    let (made, consumer) = app.directory.ask(&who, &asking).await?;
    app.publication.write_snapshot().await;
    app.told();
    Ok((StatusCode::CREATED, Json(RequestView::of(made, &consumer))))
}

/// A request of one's own.
async fn own_request(app: &App, caller: &Caller, id: i64) -> Result<(), ApiError> {
    let store = app.database.store()?;
    let missing = || ApiError::missing(format!("request {id}"));
    let request = store.request(id).await.map_err(|_| missing())?;
    let of = store.consumer_of_number(request.consumer_id).await?;
    match of.is_some_and(|c| c.team_id == Some(caller.0.team.id)) {
        true => Ok(()),
        false => Err(missing()),
    }
}

/// Withdraws a request that is open.
#[utoipa::path(delete, path = "/api/requests/{request}", params(("request" = i64, Path)), responses((status = 204), (status = 401), (status = 404), (status = 409)))]
pub(crate) async fn withdraw(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(id): Path<i64>,
) -> Result<StatusCode, ApiError> {
    own_request(&app, &caller, id).await?;
    app.directory
        .decline(caller.who(), id, ("withdrawn", ""))
        .await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Ends an agreement of one's own, at once or with notice.
#[utoipa::path(post, path = "/api/agreements/{agreement}/end", operation_id = "end_own_agreement", params(("agreement" = i64, Path)), request_body = Option<Notice>, responses((status = 200, body = AgreementView), (status = 401), (status = 404), (status = 409)))]
pub(crate) async fn end(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(id): Path<i64>,
    body: Option<Json<Notice>>,
) -> Result<Json<AgreementView>, ApiError> {
    let notice = body.map(|Json(n)| n).unwrap_or_default();
    let store = app.database.store()?;
    let missing = || ApiError::missing(format!("agreement {id}"));
    let known = store.agreement(id).await.map_err(|_| missing())?;
    let of = store.consumer_of_number(known.consumer_id).await?;
    let of = of.filter(|c| c.team_id == Some(caller.0.team.id));
    let of = of.ok_or_else(missing)?;
    let ending = Ending {
        agreement: id,
        at: end_of(&app, &known.offer, notice.with_notice)?,
        why: tidy_text(&notice.why)?,
        by_caller: true,
    };
    let ended = app.directory.end_agreement(caller.who(), &ending).await?;
    app.publication.write_snapshot().await;
    Ok(Json(agreement_view(ended, &of.name)))
}
