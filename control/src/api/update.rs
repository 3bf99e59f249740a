//! What is in the draft, brought up to a definition or a contract that changed. Nothing is kept.

use std::collections::BTreeMap;
use std::sync::Arc;

use axum::extract::{Extension, State};
use porch_contract::Finding;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::extract::Json;
use super::look::{LookRequest, unreadable};
use super::session::Publisher;
use crate::app::App;
use crate::compute::compute;
use crate::error::ApiError;

#[derive(Deserialize, ToSchema)]
pub(crate) struct UpdateRequest {
    #[serde(flatten)]
    source: LookRequest,
    /// Name of the backend and its facade, or of the facade whose contract was edited elsewhere.
    name: String,
}

/// What becomes of the draft's files.
#[derive(Serialize, ToSchema)]
pub(crate) struct UpdatedDocuments {
    /// The files to write, by path.
    files: BTreeMap<String, String>,
    /// Files that the new definition no longer has.
    removed: Vec<String>,
    /// The differences, in words.
    changes: Vec<String>,
    findings: Vec<Finding>,
    /// Revisions that the draft's files had; give them back when the files are put into it.
    revisions: BTreeMap<String, i64>,
}

/// Brings documents of the draft up to a definition that changed, or to a contract that was edited elsewhere. Edits stay, and
/// nothing is kept.
#[utoipa::path(post, path = "/api/update", request_body = UpdateRequest, responses((status = 200, body = UpdatedDocuments), (status = 403), (status = 422), (status = 502)))]
pub(crate) async fn update(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Json(request): Json<UpdateRequest>,
) -> Result<Json<UpdatedDocuments>, ApiError> {
    let source = request.source.one(&publisher).await?;
    let draft = app.database.store()?.draft().await?;
    let (mut files, mut revisions) = (BTreeMap::new(), BTreeMap::new());
    for file in draft {
        revisions.insert(file.path.clone(), file.revision);
        files.insert(file.path, file.text);
    }
    let name = request.name.trim().to_owned();
    let updated = compute(move || porch_facade::update(&files, &name, &source)).await?;
    let updated = updated.map_err(|f| unreadable(&f))?;
    revisions.retain(|path, _| updated.files.contains_key(path) || updated.removed.contains(path));
    Ok(Json(UpdatedDocuments {
        files: updated.files,
        removed: updated.removed,
        changes: updated.changes,
        findings: updated.findings,
        revisions,
    }))
}
