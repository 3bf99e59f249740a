//! Comparing, releasing and rolling back.

use std::sync::Arc;

use axum::extract::{Extension, State};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::extract::{Json, Path, Query};
use super::session::Publisher;
use crate::app::App;
use crate::error::ApiError;
use crate::publication::{Difference, Offering, Released, Taking, add_users};

/// The draft against what is served.
#[utoipa::path(get, path = "/api/compare", responses((status = 200, body = Vec<Difference>)))]
pub(crate) async fn compare(
    State(app): State<Arc<App>>,
) -> Result<Json<Vec<Difference>>, ApiError> {
    let mut list = app.publication.summary().await?.differences.clone();
    add_users(&*app.database.store()?, &mut list).await?;
    Ok(Json(list))
}

#[derive(Serialize, ToSchema)]
pub(crate) struct Release {
    number: i64,
    environment: String,
    /// Facades taken from the draft, or from an older release.
    taken: Vec<String>,
    /// All facades that it holds.
    facades: Vec<String>,
    note: String,
    made_by: String,
    made_at: i64,
    served: bool,
}

/// The latest releases, the newest first.
#[utoipa::path(get, path = "/api/releases", operation_id = "releases", responses((status = 200, body = Vec<Release>)))]
pub(crate) async fn list(State(app): State<Arc<App>>) -> Result<Json<Vec<Release>>, ApiError> {
    let environment = app.publication.environment();
    let releases = app.database.store()?.releases(environment, 100).await?;
    let served = app.publication.served().number;
    Ok(Json(
        releases.into_iter().map(|r| view(r, served)).collect(),
    ))
}

fn view(r: porch_store::entity::release::Model, served: i64) -> Release {
    let facades = r
        .content
        .get("facades")
        .and_then(|f| f.as_object())
        .map_or_else(Vec::new, |f| f.keys().cloned().collect());
    Release {
        served: r.number == served,
        number: r.number,
        environment: r.environment,
        taken: names(&r.taken),
        facades,
        note: r.note,
        made_by: r.made_by,
        made_at: r.made_at,
    }
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct ReleaseRequest {
    /// Facades to take from the draft. One that is not in the draft any more is no longer served.
    #[serde(default)]
    facades: Vec<String>,
    /// Offers to take from the draft. One that is not in the draft any more is no longer offered.
    #[serde(default)]
    offers: Vec<String>,
    /// Whether the portal's document is taken from the draft too.
    #[serde(default)]
    portal: bool,
    #[serde(default)]
    note: String,
}

/// Makes the draft's facades what callers are served.
#[utoipa::path(post, path = "/api/releases", request_body = ReleaseRequest, responses((status = 200, body = Released), (status = 409), (status = 422)))]
pub(crate) async fn release(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Json(request): Json<ReleaseRequest>,
) -> Result<Json<Released>, ApiError> {
    let taking = Taking {
        facades: request.facades,
        offers: request.offers,
        portal: request.portal,
    };
    if taking.facades.is_empty() && taking.offers.is_empty() && !taking.portal {
        return Err(ApiError::new(
            400,
            "Nothing was named",
            "Name the facades and offers to release.",
        ));
    }
    let publication = &app.publication;
    let (who, note) = (&publisher.name, request.note);
    let released = publication.release(who, taking, note).await?;
    app.told();
    app.directory.catch_up().await?;
    Ok(Json(released))
}

/// A release against what is served.
#[derive(Serialize, ToSchema)]
pub(crate) struct Back {
    /// The release that is served.
    served: i64,
    /// What serving the other one again would change, facade by facade.
    differences: Vec<Difference>,
    /// What would be offered otherwise.
    offering: Offering,
}

#[derive(Deserialize)]
pub(crate) struct Only {
    #[serde(default)]
    facade: String,
}

/// What making an older release what callers are served would change.
#[utoipa::path(get, path = "/api/releases/{number}/compare", operation_id = "compare_with_release", params(("number" = i64, Path), ("facade" = Option<String>, Query, description = "Only this facade.")), responses((status = 200, body = Back), (status = 404)))]
pub(crate) async fn compare_with(
    State(app): State<Arc<App>>,
    Path(number): Path<i64>,
    Query(only): Query<Only>,
) -> Result<Json<Back>, ApiError> {
    let facades = Some(only.facade).filter(|f| !f.is_empty());
    let found = app
        .publication
        .compare_with(number, facades.into_iter().collect());
    let (served, mut differences, mut offering) = found.await?;
    offering.add_agreements(&*app.database.store()?).await?;
    add_users(&*app.database.store()?, &mut differences).await?;
    Ok(Json(Back {
        served,
        differences,
        offering,
    }))
}

#[derive(Default, Deserialize, ToSchema)]
pub(crate) struct RollbackRequest {
    /// Only these facades; everything else is carried over. All of the release unless given.
    #[serde(default)]
    facades: Vec<String>,
    /// The release that is served, as the comparison told: another one in the meantime is a conflict.
    served: Option<i64>,
}

/// Makes an older release what callers are served, as a new release.
#[utoipa::path(post, path = "/api/releases/{number}/rollback", params(("number" = i64, Path)), request_body = Option<RollbackRequest>, responses((status = 200, body = Released), (status = 404), (status = 409)))]
pub(crate) async fn rollback(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Path(number): Path<i64>,
    request: Option<Json<RollbackRequest>>,
) -> Result<Json<Released>, ApiError> {
    let request = request.map(|Json(r)| r).unwrap_or_default();
    let who = &publisher.name;
    let released = app
        .publication
        .rollback(who, number, request.facades, request.served)
        .await?;
    app.told();
    app.directory.catch_up().await?;
    Ok(Json(released))
}

fn names(list: &serde_json::Value) -> Vec<String> {
    let names = list.as_array().into_iter().flatten();
    names
        .filter_map(|n| n.as_str().map(str::to_owned))
        .collect()
}
