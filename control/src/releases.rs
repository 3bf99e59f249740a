//! Comparing and releasing.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Extension, Path, State};
use porch_contract::{Finding, has_errors};
use porch_facade::Documents;
use serde::{Deserialize, Serialize};
use serde_json::json;
use utoipa::ToSchema;

use crate::app::App;
use crate::auth::Publisher;
use crate::compare::{Difference, add_users, differences};
use crate::error::ApiError;
use crate::publish::{compile, reload};
use crate::served::{Content, take};

/// The draft against what is served.
#[utoipa::path(get, path = "/api/compare", responses((status = 200, body = Vec<Difference>)))]
pub(crate) async fn compare(
    State(app): State<Arc<App>>,
) -> Result<Json<Vec<Difference>>, ApiError> {
    let mut list = differences(&app, &app.draft_files().await?);
    add_users(&*app.store()?, &mut list).await?;
    Ok(Json(list))
}

#[derive(Serialize, ToSchema)]
pub(crate) struct Release {
    number: i64,
    environment: String,
    /// Facades taken from the draft, or from an older release.
    #[schema(value_type = Vec<String>)]
    taken: serde_json::Value,
    /// All facades that it holds.
    facades: Vec<String>,
    note: String,
    made_by: String,
    made_at: i64,
    served: bool,
}

/// The latest releases, the newest first.
#[utoipa::path(get, path = "/api/releases", responses((status = 200, body = Vec<Release>)))]
pub(crate) async fn list(State(app): State<Arc<App>>) -> Result<Json<Vec<Release>>, ApiError> {
    let releases = app.store()?.releases(&app.config.environment, 100).await?;
    let served = app.served.load().number;
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
        taken: r.taken,
        facades,
        note: r.note,
        made_by: r.made_by,
        made_at: r.made_at,
    }
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct ReleaseRequest {
    /// Facades to take from the draft. One that is not in the draft any more is no longer served.
    facades: Vec<String>,
    #[serde(default)]
    note: String,
}

#[derive(Serialize, ToSchema)]
pub(crate) struct Released {
    number: i64,
    taken: Vec<String>,
    carried_over: Vec<String>,
    removed: Vec<String>,
    #[schema(value_type = Vec<Object>)]
    findings: Vec<Finding>,
}

/// Makes the draft's facades what callers are served.
#[utoipa::path(post, path = "/api/releases", request_body = ReleaseRequest, responses((status = 200, body = Released), (status = 409), (status = 422)))]
pub(crate) async fn release(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Json(request): Json<ReleaseRequest>,
) -> Result<Json<Released>, ApiError> {
    if request.facades.is_empty() {
        return Err(ApiError::new(
            400,
            "No facade was named",
            "Name the facades to release.",
        ));
    }
    let files = app.draft_files().await?;
    let documents = Documents::read(&files);
    let mut content = app.served.load().content.clone();
    let (mut taken, mut removed) = (Vec::new(), Vec::new());
    for name in &request.facades {
        match take(&files, &documents, &app.config.environment, name) {
            Some(facade) => {
                content.facades.insert(name.clone(), facade);
                taken.push(name.clone());
            }
            None if content.facades.remove(name).is_some() => removed.push(name.clone()),
            None => {
                // A facade whose document has errors is not among the documents read.
                let findings: Vec<Finding> = documents.findings.clone();
                let near =
                    porch_contract::suggest(name, documents.facades.keys().map(String::as_str))
                        .map_or_else(String::new, |n| format!("Did you mean “{n}”?"));
                return Err(ApiError::new(
                    if findings.is_empty() { 404 } else { 422 },
                    format!("There is no facade “{name}” in the draft"),
                    near,
                )
                .with(findings));
            }
        }
    }
    let carried_over = content
        .facades
        .keys()
        .filter(|n| !taken.contains(n))
        .cloned()
        .collect();
    let findings = put_live(
        &app,
        content,
        json!(request.facades),
        &request.note,
        &publisher,
    )
    .await?;
    Ok(Json(Released {
        number: app.served.load().number,
        taken,
        carried_over,
        removed,
        findings,
    }))
}

/// Checks the content of a release with the environment's secrets, keeps it and serves it.
async fn put_live(
    app: &App,
    content: Content,
    taken: serde_json::Value,
    note: &str,
    publisher: &Publisher,
) -> Result<Vec<Finding>, ApiError> {
    let _one_at_a_time = app.publishing.lock().await;
    let store = app.store()?;
    let environment = &app.config.environment;
    let secrets = store.secrets(environment).await?;
    let (_, findings) = compile(&content, environment, Some(&secrets), 0);
    if has_errors(&findings) {
        return Err(ApiError::new(
            422,
            "The release has errors, and nothing was changed",
            "Mend what is listed, push, and release again.",
        )
        .with(findings));
    }
    let after = store.served(environment).await?.map_or(0, |r| r.number);
    if after != app.served.load().number {
        return Err(ApiError::new(
            409,
            format!("{environment} was released by another service in the meantime"),
            "Look at the comparison again.",
        ));
    }
    let json = serde_json::to_value(&content)
        .map_err(|e| ApiError::new(500, "The release cannot be kept", e.to_string()))?;
    let release = store
        .create_release(
            environment,
            after,
            taken.clone(),
            json,
            note,
            &publisher.name,
        )
        .await?;
    store
        .audit(
            &publisher.name,
            "released",
            &format!("{environment} {}", release.number),
            json!({ "facades": taken, "note": note }),
        )
        .await?;
    reload(app).await?;
    Ok(findings)
}

/// Makes an older release what callers are served, as a new release.
#[utoipa::path(post, path = "/api/releases/{number}/rollback", params(("number" = i64, Path)), responses((status = 200, body = Released), (status = 404)))]
pub(crate) async fn rollback(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Path(number): Path<i64>,
) -> Result<Json<Released>, ApiError> {
    let old = app
        .store()?
        .release(&app.config.environment, number)
        .await?;
    let content: Content = serde_json::from_value(old.content)
        .map_err(|e| ApiError::new(500, "The release cannot be read", e.to_string()))?;
    let taken: Vec<String> = content.facades.keys().cloned().collect();
    let findings = put_live(
        &app,
        content,
        json!(taken),
        &format!("back to release {number}"),
        &publisher,
    )
    .await?;
    Ok(Json(Released {
        number: app.served.load().number,
        taken,
        carried_over: Vec::new(),
        removed: Vec::new(),
        findings,
    }))
}
