//! The draft: files pushed and pulled, checked, looked at, derived.

use std::collections::BTreeMap;
use std::sync::Arc;

use axum::Json;
use axum::extract::{Extension, State};
use porch_contract::Finding;
use porch_facade::Source;
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
pub(crate) async fn push(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Json(push): Json<Push>,
) -> Result<Json<Pushed>, ApiError> {
    if let Some(bad) = push.files.keys().find(|p| !is_path(p)) {
        return Err(ApiError::new(
            400,
            format!("“{bad}” is no path for a file of the draft"),
            "Paths are relative, with “/” between folders, and without “..”.",
        ));
    }
    let store = app.store()?;
    let before = app.draft_files().await?;
    let changed: Vec<String> = push
        .files
        .iter()
        .filter(|(p, t)| before.get(*p) != Some(*t))
        .map(|(p, _)| p.clone())
        .collect();
    let removed: Vec<String> = push
        .remove
        .iter()
        .filter(|p| before.contains_key(*p))
        .cloned()
        .collect();
    let write: Vec<_> = push
        .files
        .iter()
        .map(|(p, t)| (p.clone(), t.clone(), push.revisions.get(p).copied()))
        .collect();
    store.write_draft(&write, &removed, &publisher.name).await?;
    if !changed.is_empty() || !removed.is_empty() {
        store
            .audit(
                &publisher.name,
                "changed the draft",
                "draft",
                json!({ "changed": changed, "removed": removed }),
            )
            .await?;
    }
    let after = app.draft_files().await?;
    let kept = before
        .keys()
        .filter(|p| !push.files.contains_key(*p) && !removed.contains(p))
        .cloned()
        .collect();
    let findings = porch_facade::check(&after, &app.config.environment);
    let unreleased = crate::compare::differences(&app, &after)
        .into_iter()
        .filter(|d| d.status != "same")
        .map(|d| d.facade)
        .collect();
    Ok(Json(Pushed {
        changed,
        removed,
        kept,
        findings,
        unreleased,
    }))
}

fn is_path(path: &str) -> bool {
    !path.is_empty()
        && path.len() < 300
        && !path.starts_with('/')
        && !path.contains(['\\', '\0'])
        && path
            .split('/')
            .all(|s| !s.is_empty() && s != "." && s != "..")
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
pub(crate) async fn check(
    State(app): State<Arc<App>>,
    Json(request): Json<CheckRequest>,
) -> Result<Json<Checked>, ApiError> {
    let mut all = app.draft_files().await?;
    all.extend(request.files);
    let findings = porch_facade::check(&all, &app.config.environment);
    Ok(Json(Checked {
        ok: !porch_contract::has_errors(&findings),
        findings,
    }))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct LookRequest {
    /// Address of a definition, or HOST:PORT (with https:// before it for TLS) of a gRPC server that tells it by reflection.
    #[serde(default)]
    url: String,
    /// Name and password for that address, as NAME:PASSWORD; nothing of it is kept.
    #[serde(default)]
    login: String,
    /// Whether addresses of the service's own host and link may be called.
    #[serde(default)]
    allow_local: bool,
    /// Certificates in PEM that a server's own may be signed with, for reflection by TLS; the machine's unless given.
    #[serde(default)]
    trust: String,
    /// Or its files, by name.
    #[serde(default)]
    files: BTreeMap<String, String>,
    /// Or an uploaded file or ZIP, in base64 (RFC 4648 §4), with its name in `name_of_upload`.
    #[serde(default)]
    upload: String,
    /// Name of the uploaded file.
    #[serde(default)]
    name_of_upload: String,
    /// The main one of the files; found by what they hold unless given.
    #[serde(default)]
    main: String,
}

/// A source with what is worth knowing of how it was come by.
struct Found {
    source: Source,
    notes: Vec<String>,
}

impl LookRequest {
    async fn source(self) -> Result<Found, ApiError> {
        let main = Some(self.main.as_str()).filter(|m| !m.is_empty());
        let plain = |source: Source| Found {
            source,
            notes: Vec::new(),
        };
        if !self.upload.is_empty() {
            let bytes = porch_soap::from_base64(&self.upload).ok_or_else(|| {
                ApiError::new(
                    400,
                    "The upload is not base64",
                    "RFC 4648 §4 says how it looks.",
                )
            })?;
            let name = if self.name_of_upload.is_empty() {
                "upload"
            } else {
                &self.name_of_upload
            };
            return Source::from_bytes(name, &bytes, main)
                .map(plain)
                .map_err(|f| unreadable(&f));
        }
        if self.url.is_empty() {
            let files = self
                .files
                .into_iter()
                .map(|(n, t)| (n, t.into_bytes()))
                .collect();
            return Source::from_files("", files, main)
                .map(plain)
                .map_err(|f| unreadable(&f));
        }
        let mut notes = Vec::new();
        let login = match self.login.as_str() {
            "" => None,
            text => {
                let (login, trimmed) = porch_fetch::login(text)
                    .map_err(|e| ApiError::new(400, "The login is not understood", e))?;
                if trimmed {
                    notes.push("White space around the login was taken away.".to_owned());
                }
                Some(login)
            }
        };
        let allowed = porch_fetch::Allowed {
            local: self.allow_local,
            login,
            trust: self.trust,
        };
        match porch_fetch::fetch(&self.url, &allowed).await {
            Ok(fetched) => {
                notes.extend(fetched.missing);
                Ok(Found {
                    source: fetched.source,
                    notes,
                })
            }
            Err(porch_fetch::FetchError::Unreadable(finding)) => Err(unreadable(&finding)),
            Err(e) => {
                let status = if matches!(
                    e,
                    porch_fetch::FetchError::Local(..) | porch_fetch::FetchError::Address(..)
                ) {
                    422
                } else {
                    502
                };
                let kind = if matches!(e, porch_fetch::FetchError::Local(..)) {
                    "The address must be allowed first"
                } else {
                    "The definition cannot be fetched"
                };
                Err(ApiError::new(status, kind, format!("{e}. {}", e.help())))
            }
        }
    }
}

fn unreadable(finding: &Finding) -> ApiError {
    ApiError::new(422, finding.message.clone(), finding.help.clone()).with(vec![finding.clone()])
}

/// Looks at a definition: what it offers, and what it would look like as REST.
#[utoipa::path(post, path = "/api/look", request_body = LookRequest, responses((status = 200, body = Object), (status = 422), (status = 502)))]
pub(crate) async fn look(Json(request): Json<LookRequest>) -> Result<Json<Value>, ApiError> {
    let Found { source, notes } = request.source().await?;
    // Reading a large definition takes a while, and others wait for this thread.
    let look = tokio::task::spawn_blocking(move || porch_facade::look(&source))
        .await
        .map_err(|e| ApiError::new(500, "The reading broke off", e.to_string()))?;
    let mut value = serde_json::to_value(look.map_err(|f| unreadable(&f))?).unwrap_or_default();
    value["notes"] = json!(notes);
    Ok(Json(value))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct DeriveRequest {
    #[serde(flatten)]
    source: LookRequest,
    /// Name of the new backend and facade.
    name: String,
    /// Where the backend is called, in place of the first address in the definition.
    #[serde(default)]
    address: String,
    /// Operations to take, by their names in the definition; all unless given.
    #[serde(default)]
    only: Vec<String>,
}

/// Derives documents from a definition; nothing is kept.
#[utoipa::path(post, path = "/api/derive", request_body = DeriveRequest, responses((status = 200, body = Object), (status = 422), (status = 502)))]
pub(crate) async fn derive(Json(request): Json<DeriveRequest>) -> Result<Json<Value>, ApiError> {
    let Found { source, .. } = request.source.source().await?;
    let address = Some(request.address.trim().to_owned()).filter(|a| !a.is_empty());
    let derived = tokio::task::spawn_blocking(move || {
        porch_facade::derive(
            &source,
            request.name.trim(),
            address.as_deref(),
            &request.only,
        )
    });
    let derived = derived
        .await
        .map_err(|e| ApiError::new(500, "The reading broke off", e.to_string()))?
        .map_err(|f| unreadable(&f))?;
    Ok(Json(
        json!({ "files": derived.files, "operations": derived.operations, "findings": derived.findings }),
    ))
}

/// JSON Schemas of the documents, by kind.
#[utoipa::path(get, path = "/api/schemas", responses((status = 200, body = Object)))]
pub(crate) async fn schemas() -> Json<Value> {
    Json(json!(porch_facade::json_schemas()))
}
