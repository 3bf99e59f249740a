//! Facades and operations, as the console shows them.

use std::sync::Arc;

use axum::extract::{Extension, State};
use porch_contract::{Contract, Finding, suggest};
use porch_facade::{
    EffectiveRule, FacadeDoc, Model, OperationDoc, Table, WiredCall, WiredRefusal, effective,
    table, wired_calls, wired_refusals,
};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::extract::{Json, Path, Query};
use super::session::Publisher;
use crate::app::App;
use crate::compute::compute;
use crate::directory::Pausing;
use crate::error::ApiError;
use crate::publication::FacadeFacts;

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
#[utoipa::path(get, path = "/api/facades", operation_id = "facades", responses((status = 200, body = Vec<FacadeSummary>)))]
pub(crate) async fn list(
    State(app): State<Arc<App>>,
) -> Result<Json<Vec<FacadeSummary>>, ApiError> {
    let summary = app.publication.summary().await?;
    let calls = app.observatory.calls_by_facade().await?;
    let list = summary.differences.iter().map(|d| {
        let facts = summary.facades.get(&d.facade).cloned().unwrap_or_default();
        FacadeSummary {
            name: d.facade.clone(),
            title: facts.title,
            base: facts.base,
            version: facts.version,
            operations: facts.operations.len(),
            backends: facts.backends,
            status: d.status,
            paused: app.observatory.is_paused(&d.facade, None),
            errors: facts.errors,
            calls: calls.get(&d.facade).copied().unwrap_or(0),
        }
    });
    Ok(Json(list.collect()))
}

#[derive(Deserialize)]
pub(crate) struct Sought {
    id: String,
}

/// Where an operation stands.
#[derive(Serialize, ToSchema)]
pub(crate) struct FoundOperation {
    /// Facades of the draft that have it.
    facades: Vec<String>,
    /// The nearest name, when none has it.
    near: Option<String>,
    /// How many operations the draft has.
    known: usize,
}

/// The facades of the draft that have an operation of this name.
#[utoipa::path(get, path = "/api/operations", operation_id = "find_operation", params(("id" = String, Query)), responses((status = 200, body = FoundOperation)))]
pub(crate) async fn find(
    State(app): State<Arc<App>>,
    Query(sought): Query<Sought>,
) -> Result<Json<FoundOperation>, ApiError> {
    let summary = app.publication.summary().await?;
    let has = |facts: &FacadeFacts| facts.operations.contains(&sought.id);
    let with = summary.facades.iter().filter(|(_, facts)| has(facts));
    let facades: Vec<String> = with.map(|(name, _)| name.clone()).collect();
    let ids = || summary.facades.values().flat_map(|f| &f.operations);
    let near = match facades.is_empty() {
        true => suggest(&sought.id, ids().map(String::as_str)).map(str::to_owned),
        false => None,
    };
    Ok(Json(FoundOperation {
        known: ids().count(),
        facades,
        near,
    }))
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
    findings: Vec<Finding>,
}

#[derive(Serialize, ToSchema)]
pub(crate) struct OperationSummary {
    id: String,
    method: String,
    path: String,
    summary: String,
    /// The backend, or empty when it calls none.
    backend: String,
    /// Whether it answers with examples of the contract.
    examples: bool,
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
    let model = app.publication.model().await?;
    let missing = || ApiError::missing(format!("facade “{name}” in the draft"));
    let doc = &model.documents.facades.get(&name).ok_or_else(missing)?.doc;
    let summary = app.publication.summary().await?;
    let (read, its) = (model.clone(), name.clone());
    let contract = compute(move || read.shared_contract(&its)).await?;
    let contract = contract.as_ref().and_then(|c| c.contract.as_ref());
    let operations = operations(&app, &name, doc, contract).await?;
    let files: Vec<String> = model
        .bundle(&name)
        .unwrap_or_default()
        .into_keys()
        .collect();
    let own = summary.findings.iter().filter(|f| files.contains(&f.file));
    let description = contract.and_then(|c| c.document.pointer("/info/description")?.as_str());
    Ok(Json(FacadeView {
        title: doc.title.clone(),
        base: doc.base.clone(),
        version: contract.map_or_else(String::new, |c| c.version.clone()),
        description: description.unwrap_or_default().to_owned(),
        address: format!("{}{}", app.config.gateway, doc.base),
        status: summary.status(&name),
        paused: app.observatory.is_paused(&name, None),
        operations,
        findings: own.cloned().collect(),
        files,
        name,
    }))
}

async fn operations(
    app: &App,
    facade: &str,
    doc: &FacadeDoc,
    contract: Option<&Contract>,
) -> Result<Vec<OperationSummary>, ApiError> {
    let calls = app.observatory.calls_of(facade).await?;
    let count = |id: &str, classes: std::ops::RangeInclusive<i32>| -> i64 {
        let of = |class| calls.get(&(id.to_owned(), class)).copied().unwrap_or(0);
        classes.map(of).sum()
    };
    let all = contract.into_iter().flat_map(|c| c.operations.values());
    Ok(all
        .map(|o| OperationSummary {
            id: o.id.clone(),
            method: o.method.clone(),
            path: o.path.to_string(),
            summary: o.summary.clone(),
            examples: doc.operations.get(&o.id).is_some_and(|w| w.call.is_none()),
            backend: doc
                .operations
                .get(&o.id)
                .and_then(OperationDoc::backend)
                .unwrap_or_default()
                .to_owned(),
            calls: count(&o.id, 1..=5),
            refused: count(&o.id, 4..=4),
            failed: count(&o.id, 5..=5),
            paused: app.observatory.is_paused(facade, Some(&o.id)),
        })
        .collect())
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
    /// The calls of an operation that has several, by the turns in which they may begin.
    calls: Vec<WiredCall>,
    /// When requests are refused in the facade's own words.
    refusals: Vec<WiredRefusal>,
    status: &'static str,
    /// The caller's fields beside the backend's, and a request to try.
    table: Table,
    /// The rules that act, in their order.
    rules: Vec<EffectiveRule>,
}

/// One operation: fields, rules, a sample to try.
#[utoipa::path(get, path = "/api/facades/{facade}/operations/{operation}", params(("facade" = String, Path), ("operation" = String, Path)), responses((status = 200, body = OperationView), (status = 404)))]
pub(crate) async fn operation(
    State(app): State<Arc<App>>,
    Path((facade, id)): Path<(String, String)>,
) -> Result<Json<OperationView>, ApiError> {
    let model = app.publication.model().await?;
    let status = app.publication.summary().await?.status(&facade);
    let missing = ApiError::missing(format!(
        "operation “{id}” of the facade “{facade}” in the draft"
    ));
    let view = compute(move || view(&model, facade, id, status)).await?;
    view.map(Json).ok_or(missing)
}

fn view(model: &Model, facade: String, id: String, status: &'static str) -> Option<OperationView> {
    let table = table(model, &facade, &id)?;
    let doc = &model.documents.facades.get(&facade)?.doc;
    let wiring = doc.operations.get(&id)?;
    let op = model.contract(&facade)?.operations.get(&id)?;
    let compiled = model.facade(&facade).and_then(|f| f.compiled.clone());
    let rules = compiled
        .as_ref()
        .and_then(|f| Some(effective(f, f.operation(&id)?)))
        .unwrap_or_default();
    let operation = compiled.as_ref().and_then(|f| Some((f, f.operation(&id)?)));
    let calls = operation.map_or_else(Vec::new, |(f, o)| wired_calls(f, o));
    let refusals = operation.map_or_else(Vec::new, |(_, o)| wired_refusals(o));
    Some(OperationView {
        method: op.method.clone(),
        path: format!("{}{}", doc.base, op.path),
        summary: op.summary.clone(),
        backend: backends(wiring),
        call: called(wiring, op),
        calls,
        refusals,
        status,
        table,
        rules,
        facade,
        id,
    })
}

/// The backends that an operation calls, each once.
fn backends(wiring: &OperationDoc) -> String {
    let mut names: Vec<&str> = Vec::new();
    for name in wiring.backends() {
        if !names.contains(&name) {
            names.push(name);
        }
    }
    names.join(", ")
}

/// What is called of the backend, in words.
fn called(wiring: &OperationDoc, op: &porch_contract::Operation) -> String {
    if !wiring.calls.is_empty() {
        let names: Vec<&str> = wiring.calls.keys().map(String::as_str).collect();
        return names.join(", ");
    }
    let Some(call) = &wiring.call else {
        return "examples of the contract".into();
    };
    match &call.operation {
        Some(operation) => operation.clone(),
        None => {
            let method = call.method.as_deref().unwrap_or(&op.method);
            let path = call.path.clone().unwrap_or_else(|| op.path.to_string());
            format!("{method} {path}")
        }
    }
}

/// What of a facade was taken out of the draft.
#[derive(Serialize, ToSchema)]
pub(crate) struct Deleted {
    /// Files.
    removed: Vec<String>,
    /// Backends that no facade of the draft calls any more; they stay.
    unused: Vec<String>,
    /// Whether callers are served it until the next release of it.
    served: bool,
}

/// Takes a facade out of the draft: its document and its contract. Callers are served it until it is released so.
#[utoipa::path(delete, path = "/api/facades/{facade}", operation_id = "delete_facade", params(("facade" = String, Path)), responses((status = 200, body = Deleted), (status = 404)))]
pub(crate) async fn delete(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Path(facade): Path<String>,
) -> Result<Json<Deleted>, ApiError> {
    let model = app.publication.model().await?;
    let Some((removed, unused)) = model.own_files(&facade) else {
        let missing = ApiError::missing(format!("facade “{facade}” in the draft"));
        return Err(missing);
    };
    let who = &publisher.name;
    app.publication.remove(who, &removed).await?;
    let served = app.publication.porch().facade(&facade).is_some();
    Ok(Json(Deleted {
        removed,
        unused,
        served,
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
    let porch = app.publication.porch();
    let served = porch
        .facade(&facade)
        .is_some_and(|f| pause.operation.is_empty() || f.operation(&pause.operation).is_some());
    if pause.paused && !served {
        return Err(ApiError::missing(format!(
            "such facade or operation among what is served: {facade} {}",
            pause.operation
        )));
    }
    let pausing = Pausing {
        facade: &facade,
        operation: &pause.operation,
        paused: pause.paused,
    };
    app.directory.pause(&publisher.name, &pausing).await?;
    app.publication.write_snapshot().await;
    Ok(axum::http::StatusCode::NO_CONTENT)
}
