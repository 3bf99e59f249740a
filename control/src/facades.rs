//! Facades and operations, as the console shows them.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Extension, Path, State};
use porch_contract::Finding;
use porch_facade::{Builder, Documents, EffectiveRule, Secrets, Table, contract, effective, table};
use porch_store::Store;
use serde::{Deserialize, Serialize};
use serde_json::json;
use utoipa::ToSchema;

use crate::app::App;
use crate::auth::Publisher;
use crate::compare::differences;
use crate::error::ApiError;
use crate::publish::keys_changed;

#[derive(Serialize, ToSchema)]
pub(crate) struct FacadeSummary {
    name: String,
    title: String,
    base: String,
    version: String,
    operations: usize,
    backends: Vec<String>,
    /// `same`, `changed`, `new` or `gone`: the draft against what is served.
    status: &'static str,
    paused: bool,
    errors: usize,
    /// Calls in the last hour.
    calls: i64,
}

/// All facades of the draft, and those that are served but no longer in it.
#[utoipa::path(get, path = "/api/facades", responses((status = 200, body = Vec<FacadeSummary>)))]
pub(crate) async fn list(
    State(app): State<Arc<App>>,
) -> Result<Json<Vec<FacadeSummary>>, ApiError> {
    let files = app.draft_files().await?;
    let documents = Documents::read(&files);
    let findings = porch_facade::check(&files, &app.config.environment);
    let usage = app
        .store()?
        .usage_since(porch_store::now_ms() / 60_000 - 60)
        .await?;
    let calls = Store::add_up(&usage, |r| r.facade.clone());
    let pauses = app.shared.pauses.load();
    let list = differences(&app, &files).into_iter().map(|d| {
        let doc = documents.facades.get(&d.facade);
        let contract = contract(&files, &documents, &d.facade);
        let folder = doc
            .and_then(|f| f.file.rsplit_once('/'))
            .map_or("", |(f, _)| f);
        let mut backends: Vec<String> = doc.map_or_else(Vec::new, |f| {
            f.doc
                .operations
                .values()
                .map(|o| o.call.backend.clone())
                .collect()
        });
        backends.sort();
        backends.dedup();
        FacadeSummary {
            title: doc.map_or_else(String::new, |f| f.doc.title.clone()),
            base: doc.map_or_else(String::new, |f| f.doc.base.clone()),
            version: contract
                .as_ref()
                .map_or_else(String::new, |c| c.version.clone()),
            operations: doc.map_or(0, |f| f.doc.operations.len()),
            backends,
            status: d.status,
            paused: pauses.facades.contains(&d.facade),
            errors: findings
                .iter()
                .filter(|f| {
                    f.severity == porch_contract::Severity::Error && f.file.starts_with(folder)
                })
                .count(),
            calls: calls.get(&d.facade).map_or(0, |t| t.calls),
            name: d.facade,
        }
    });
    Ok(Json(list.collect()))
}

#[derive(Serialize, ToSchema)]
pub(crate) struct FacadeView {
    name: String,
    title: String,
    base: String,
    version: String,
    description: String,
    /// How callers reach it.
    address: String,
    status: &'static str,
    paused: bool,
    operations: Vec<OperationSummary>,
    /// Its files in the draft.
    files: Vec<String>,
    #[schema(value_type = Vec<Object>)]
    findings: Vec<Finding>,
}

#[derive(Serialize, ToSchema)]
pub(crate) struct OperationSummary {
    id: String,
    method: String,
    path: String,
    summary: String,
    /// The backend, or empty when it is not wired.
    backend: String,
    calls: i64,
    refused: i64,
    failed: i64,
    paused: bool,
}

/// One facade of the draft.
#[utoipa::path(get, path = "/api/facades/{facade}", params(("facade" = String, Path)), responses((status = 200, body = FacadeView), (status = 404)))]
pub(crate) async fn facade(
    State(app): State<Arc<App>>,
    Path(name): Path<String>,
) -> Result<Json<FacadeView>, ApiError> {
    let files = app.draft_files().await?;
    let documents = Documents::read(&files);
    let doc = documents
        .facades
        .get(&name)
        .ok_or_else(|| ApiError::missing(format!("facade “{name}” in the draft")))?;
    let contract = contract(&files, &documents, &name);
    let usage = app
        .store()?
        .usage_since(porch_store::now_ms() / 60_000 - 60)
        .await?;
    let calls = Store::add_up(&usage, |r| {
        (r.facade.clone(), r.operation.clone(), r.status / 100)
    });
    let count = |id: &str, class: &[i32]| {
        class
            .iter()
            .filter_map(|c| calls.get(&(name.clone(), id.to_owned(), *c)))
            .map(|t| t.calls)
            .sum()
    };
    let pauses = app.shared.pauses.load();
    let operations = contract
        .iter()
        .flat_map(|c| c.operations.values())
        .map(|o| OperationSummary {
            id: o.id.clone(),
            method: o.method.clone(),
            path: o.path.to_string(),
            summary: o.summary.clone(),
            backend: doc
                .doc
                .operations
                .get(&o.id)
                .map_or_else(String::new, |w| w.call.backend.clone()),
            calls: count(&o.id, &[1, 2, 3, 4, 5]),
            refused: count(&o.id, &[4]),
            failed: count(&o.id, &[5]),
            paused: pauses.stops(&name, &o.id),
        });
    let own = porch_facade::bundle(&files, &documents, &name).unwrap_or_default();
    let findings = porch_facade::check(&files, &app.config.environment)
        .into_iter()
        .filter(|f| own.contains_key(&f.file))
        .collect();
    let status = differences(&app, &files)
        .into_iter()
        .find(|d| d.facade == name)
        .map_or("new", |d| d.status);
    Ok(Json(FacadeView {
        title: doc.doc.title.clone(),
        base: doc.doc.base.clone(),
        version: contract
            .as_ref()
            .map_or_else(String::new, |c| c.version.clone()),
        description: contract
            .as_ref()
            .and_then(|c| {
                c.document
                    .pointer("/info/description")?
                    .as_str()
                    .map(str::to_owned)
            })
            .unwrap_or_default(),
        address: format!("{}{}", app.config.gateway, doc.doc.base),
        status,
        paused: pauses.facades.contains(&name),
        operations: operations.collect(),
        files: own.into_keys().collect(),
        findings,
        name,
    }))
}

#[derive(Serialize, ToSchema)]
pub(crate) struct OperationView {
    facade: String,
    id: String,
    method: String,
    path: String,
    summary: String,
    backend: String,
    /// What is called of the backend.
    call: String,
    status: &'static str,
    /// The caller's fields beside the backend's, and a request to try.
    #[schema(value_type = Object)]
    table: Table,
    /// The rules that act, in their order.
    #[schema(value_type = Vec<Object>)]
    rules: Vec<EffectiveRule>,
}

/// One operation: fields, rules, a sample to try.
#[utoipa::path(get, path = "/api/facades/{facade}/operations/{operation}", params(("facade" = String, Path), ("operation" = String, Path)), responses((status = 200, body = OperationView), (status = 404)))]
pub(crate) async fn operation(
    State(app): State<Arc<App>>,
    Path((facade, id)): Path<(String, String)>,
) -> Result<Json<OperationView>, ApiError> {
    let files = app.draft_files().await?;
    let documents = Documents::read(&files);
    let missing = || {
        ApiError::missing(format!(
            "operation “{id}” of the facade “{facade}” in the draft"
        ))
    };
    let table = table(&files, &documents, &facade, &id).ok_or_else(missing)?;
    let doc = documents.facades.get(&facade).ok_or_else(missing)?;
    let wiring = doc.doc.operations.get(&id).ok_or_else(missing)?;
    let environment = documents
        .environments
        .get(&app.config.environment)
        .map(|e| &e.doc);
    let mut builder = Builder::new(Secrets::Placeholder, environment);
    builder.add_facade(&files, &documents, &facade);
    let (porch, _) = builder.finish();
    let rules = porch
        .operation(&facade, &id)
        .map_or_else(Vec::new, |i| effective(&porch, i));
    let contract = contract(&files, &documents, &facade).ok_or_else(missing)?;
    let op = contract.operations.get(&id).ok_or_else(missing)?;
    let call = wiring.call.operation.clone().unwrap_or_else(|| {
        format!(
            "{} {}",
            wiring.call.method.as_deref().unwrap_or(&op.method),
            wiring
                .call
                .path
                .clone()
                .unwrap_or_else(|| op.path.to_string())
        )
    });
    let status = differences(&app, &files)
        .into_iter()
        .find(|d| d.facade == facade)
        .map_or("new", |d| d.status);
    Ok(Json(OperationView {
        method: op.method.clone(),
        path: format!("{}{}", doc.doc.base, op.path),
        summary: op.summary.clone(),
        backend: wiring.call.backend.clone(),
        call,
        status,
        table,
        rules,
        facade,
        id,
    }))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct Pause {
    /// An operation; the whole facade unless given.
    #[serde(default)]
    operation: String,
    paused: bool,
}

/// Stops a facade or an operation at once, or ends that.
#[utoipa::path(put, path = "/api/facades/{facade}/pause", params(("facade" = String, Path)), request_body = Pause, responses((status = 204), (status = 404)))]
pub(crate) async fn pause(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Path(facade): Path<String>,
    Json(pause): Json<Pause>,
) -> Result<axum::http::StatusCode, ApiError> {
    let porch = app.shared.porch.load();
    let served = if pause.operation.is_empty() {
        porch.facades.iter().any(|f| f.name == facade)
    } else {
        porch.operation(&facade, &pause.operation).is_some()
    };
    if pause.paused && !served {
        return Err(ApiError::missing(format!(
            "such facade or operation among what is served: {facade} {}",
            pause.operation
        )));
    }
    let store = app.store()?;
    store
        .set_pause(&facade, &pause.operation, pause.paused, &publisher.name)
        .await?;
    let what = if pause.paused { "paused" } else { "resumed" };
    store
        .audit(
            &publisher.name,
            what,
            &format!("{facade} {}", pause.operation),
            json!({}),
        )
        .await?;
    keys_changed(&app).await?;
    Ok(axum::http::StatusCode::NO_CONTENT)
}
