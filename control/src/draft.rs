//! The draft: files pushed and pulled, checked, looked at, derived.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;

use axum::Json;
use axum::extract::{Extension, State};
use http_body_util::BodyExt;
use porch_contract::Finding;
use porch_facade::{Files, Source};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use utoipa::ToSchema;

use crate::app::App;
use crate::auth::Publisher;
use crate::error::ApiError;

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
    let files = app.store()?.draft().await?;
    Ok(Json(files.into_iter().map(|f| DraftFile { path: f.path, text: f.text, revision: f.revision, changed_by: f.changed_by, changed_at: f.changed_at }).collect()))
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

#[derive(Serialize, ToSchema)]
pub(crate) struct Pushed {
    /// Paths that were new or different.
    changed: Vec<String>,
    removed: Vec<String>,
    /// Paths of the draft that were not among the files pushed.
    kept: Vec<String>,
    /// What the check of the whole draft finds now.
    #[schema(value_type = Vec<Object>)]
    findings: Vec<Finding>,
    /// Names of facades whose draft differs from what is served.
    unreleased: Vec<String>,
}

/// Puts files into the draft. Nothing that callers see changes.
#[utoipa::path(put, path = "/api/draft", request_body = Push, responses((status = 200, body = Pushed), (status = 409)))]
pub(crate) async fn push(State(app): State<Arc<App>>, Extension(publisher): Extension<Publisher>, Json(push): Json<Push>) -> Result<Json<Pushed>, ApiError> {
    if let Some(bad) = push.files.keys().find(|p| !is_path(p)) {
        return Err(ApiError::new(400, format!("“{bad}” is no path for a file of the draft"), "Paths are relative, with “/” between folders, and without “..”."));
    }
    let store = app.store()?;
    let before = app.draft_files().await?;
    let changed: Vec<String> = push.files.iter().filter(|(p, t)| before.get(*p) != Some(*t)).map(|(p, _)| p.clone()).collect();
    let removed: Vec<String> = push.remove.iter().filter(|p| before.contains_key(*p)).cloned().collect();
    let write: Vec<_> = push.files.iter().map(|(p, t)| (p.clone(), t.clone(), push.revisions.get(p).copied())).collect();
    store.write_draft(&write, &removed, &publisher.name).await?;
    if !changed.is_empty() || !removed.is_empty() {
        store.audit(&publisher.name, "changed the draft", "draft", json!({ "changed": changed, "removed": removed })).await?;
    }
    let after = app.draft_files().await?;
    let kept = before.keys().filter(|p| !push.files.contains_key(*p) && !removed.contains(p)).cloned().collect();
    let findings = porch_facade::check(&after, &app.config.environment);
    let unreleased = crate::compare::differences(&app, &after).into_iter().filter(|d| d.status != "same").map(|d| d.facade).collect();
    Ok(Json(Pushed { changed, removed, kept, findings, unreleased }))
}

fn is_path(path: &str) -> bool {
    !path.is_empty() && path.len() < 300 && !path.starts_with('/') && !path.contains(['\\', '\0']) && path.split('/').all(|s| !s.is_empty() && s != "." && s != "..")
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
    #[schema(value_type = Vec<Object>)]
    findings: Vec<Finding>,
}

/// Checks the draft, with or without changes that are not kept.
#[utoipa::path(post, path = "/api/check", request_body = CheckRequest, responses((status = 200, body = Checked)))]
pub(crate) async fn check(State(app): State<Arc<App>>, Json(request): Json<CheckRequest>) -> Result<Json<Checked>, ApiError> {
    let mut all = app.draft_files().await?;
    all.extend(request.files);
    let findings = porch_facade::check(&all, &app.config.environment);
    Ok(Json(Checked { ok: !porch_contract::has_errors(&findings), findings }))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct LookRequest {
    /// Address of a definition.
    #[serde(default)]
    url: String,
    /// Or its files, by name.
    #[serde(default)]
    files: BTreeMap<String, String>,
    /// The main one of the files.
    #[serde(default)]
    main: String,
}

const MAX_DEFINITION: usize = 16 << 20;

impl LookRequest {
    async fn source(self) -> Result<Source, ApiError> {
        if self.url.is_empty() {
            let main = if self.main.is_empty() { self.files.keys().next().cloned().unwrap_or_default() } else { self.main };
            return Ok(Source { files: self.files, main });
        }
        let url = self.url.trim();
        let unreachable = |e: String| ApiError::new(502, format!("{url} cannot be read"), e);
        if !url.starts_with("http://") {
            return Err(unreachable("Only http:// addresses are read so far.".into()));
        }
        let client = reqwest::Client::builder().timeout(Duration::from_secs(10)).redirect(reqwest::redirect::Policy::limited(3)).build().map_err(|e| unreachable(e.to_string()))?;
        let answer = client.get(url).send().await.map_err(|e| unreachable(format!("It does not answer: {e}")))?;
        if !answer.status().is_success() {
            return Err(unreachable(format!("It answers {}.", answer.status())));
        }
        let body = http_body_util::Limited::new(reqwest::Body::from(answer), MAX_DEFINITION);
        let bytes = body.collect().await.map_err(|e| unreachable(e.to_string()))?.to_bytes();
        let text = String::from_utf8(bytes.to_vec()).map_err(|_| unreachable("It is not UTF-8.".into()))?;
        Ok(Source { files: Files::from([("definition".to_owned(), text)]), main: "definition".into() })
    }
}

fn unreadable(finding: &Finding) -> ApiError {
    ApiError::new(422, finding.message.clone(), finding.help.clone()).with(vec![finding.clone()])
}

/// Looks at a definition: what it offers, and what it would look like as REST.
#[utoipa::path(post, path = "/api/look", request_body = LookRequest, responses((status = 200, body = Object), (status = 422), (status = 502)))]
pub(crate) async fn look(Json(request): Json<LookRequest>) -> Result<Json<Value>, ApiError> {
    let source = request.source().await?;
    let look = porch_facade::look(&source).map_err(|f| unreadable(&f))?;
    Ok(Json(serde_json::to_value(look).unwrap_or_default()))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct DeriveRequest {
    #[serde(flatten)]
    source: LookRequest,
    /// Name of the new backend and facade.
    name: String,
    /// Operations to take, by their names in the definition; all unless given.
    #[serde(default)]
    only: Vec<String>,
}

/// Derives documents from a definition; nothing is kept.
#[utoipa::path(post, path = "/api/derive", request_body = DeriveRequest, responses((status = 200, body = Object), (status = 422), (status = 502)))]
pub(crate) async fn derive(Json(request): Json<DeriveRequest>) -> Result<Json<Value>, ApiError> {
    let source = request.source.source().await?;
    let derived = porch_facade::derive(&source, request.name.trim(), None, &request.only).map_err(|f| unreadable(&f))?;
    Ok(Json(json!({ "files": derived.files, "operations": derived.operations, "findings": derived.findings })))
}

/// JSON Schemas of the documents, by kind.
#[utoipa::path(get, path = "/api/schemas", responses((status = 200, body = Object)))]
pub(crate) async fn schemas() -> Json<Value> {
    Json(json!(porch_facade::json_schemas()))
}
