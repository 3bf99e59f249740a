//! The draft: files pushed and pulled, and checked.

use std::collections::BTreeMap;
use std::sync::Arc;

use axum::extract::{Extension, State};
use porch_contract::Finding;
use porch_facade::is_file_name;
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use utoipa::ToSchema;

use super::extract::Json;
use super::session::Publisher;
use crate::app::App;
use crate::compute::compute;
use crate::error::ApiError;
use crate::publication::Pushed;

#[derive(Serialize, ToSchema)]
pub(crate) struct DraftFile {
    path: String,
    text: String,
    /// Grows with each change; give it back when pushing to be told of changes in the meantime.
    revision: i64,
    changed_by: String,
    /// Milliseconds since 1970.
    changed_at: i64,
}

/// The draft's files.
#[utoipa::path(get, path = "/api/draft", responses((status = 200, body = Vec<DraftFile>)))]
pub(crate) async fn pull(State(app): State<Arc<App>>) -> Result<Json<Vec<DraftFile>>, ApiError> {
    let files = app.database.store()?.draft().await?;
    Ok(Json(
        files
            .into_iter()
            .map(|f| DraftFile {
                path: f.path,
                text: f.text,
                revision: f.revision,
                changed_by: f.changed_by,
                changed_at: f.changed_at,
            })
            .collect(),
    ))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct Push {
    /// Files to write, by path.
    files: BTreeMap<String, String>,
    /// Files to remove.
    #[serde(default)]
    remove: Vec<String>,
    /// Revisions that the files must still have.
    #[serde(default)]
    revisions: BTreeMap<String, i64>,
}

/// Puts files into the draft. Nothing that callers see changes.
#[utoipa::path(put, path = "/api/draft", request_body = Push, responses((status = 200, body = Pushed), (status = 409)))]
pub(crate) async fn push(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Json(push): Json<Push>,
) -> Result<Json<Pushed>, ApiError> {
    if let Some(bad) = push.files.keys().find(|p| !is_file_name(p)) {
        return Err(ApiError::new(
            400,
            format!("“{bad}” is no path for a file of the draft"),
            "Paths are relative, with “/” between folders, and no part of them begins with a dot.",
        ));
    }
    let who = &publisher.name;
    let pushed = app
        .publication
        .push(who, push.files, &push.remove, &push.revisions)
        .await?;
    Ok(Json(pushed))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct CheckRequest {
    /// Files to put over the draft's before checking; nothing is kept.
    #[serde(default)]
    files: BTreeMap<String, String>,
}

#[derive(Serialize, ToSchema)]
pub(crate) struct Checked {
    ok: bool,
    findings: Vec<Finding>,
}

/// Checks the draft, with or without changes that are not kept.
#[utoipa::path(post, path = "/api/check", request_body = CheckRequest, responses((status = 200, body = Checked)))]
pub(crate) async fn check(
    State(app): State<Arc<App>>,
    Json(request): Json<CheckRequest>,
) -> Result<Json<Checked>, ApiError> {
    let model = app.publication.model_with(request.files).await?;
    let findings = compute(move || model.findings().to_vec()).await?;
    Ok(Json(Checked {
        ok: !porch_contract::has_errors(&findings),
        findings,
    }))
}

/// JSON Schemas of the documents, by kind.
#[utoipa::path(get, path = "/api/schemas", responses((status = 200, body = Object)))]
pub(crate) async fn schemas() -> Json<Value> {
    Json(json!(porch_facade::json_schemas()))
}
