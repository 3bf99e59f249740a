//! Shared rules of the draft, and what they reach.

use std::sync::Arc;

use axum::extract::State;
use porch_facade::{Document, Model, ParameterKind, ReachDoc, RulesHead};
use serde::Serialize;
use serde_json::Value;
use utoipa::ToSchema;

use super::extract::Json;
use crate::app::App;
use crate::compute::compute;
use crate::error::ApiError;

/// A list of shared rules of the draft.
#[derive(Serialize, ToSchema)]
pub(crate) struct RulesView {
    name: String,
    title: String,
    /// `everywhere`, `backends`, or `used` where facades and operations name it.
    reach: &'static str,
    /// The backends that it reaches.
    backends: Vec<String>,
    parameters: Vec<ParameterView>,
    /// The facades that it reaches, in whatever way.
    facades: Vec<String>,
    /// Its document.
    file: String,
}

/// What may differ from use to use.
#[derive(Serialize, ToSchema)]
pub(crate) struct ParameterView {
    name: String,
    /// `string`, `integer`, `number`, `boolean`, `array` or `object`.
    r#type: &'static str,
    /// Absent where a value must be given.
    #[serde(skip_serializing_if = "Option::is_none")]
    default: Option<Value>,
    description: String,
}

/// The shared rules of the draft.
#[utoipa::path(get, path = "/api/rules", operation_id = "list_rules", responses((status = 200, body = Vec<RulesView>)))]
pub(crate) async fn list(State(app): State<Arc<App>>) -> Result<Json<Vec<RulesView>>, ApiError> {
    let model = app.publication.model().await?;
    Ok(Json(compute(move || views(&model)).await?))
}

fn views(model: &Model) -> Vec<RulesView> {
    let all = model.documents.rules.values();
    let mut views: Vec<RulesView> = all.map(view).collect();
    views.sort_by(|a, b| a.name.cmp(&b.name));
    for facade in model.documents.facades.keys() {
        for name in model.rules_of(facade) {
            if let Ok(at) = views.binary_search_by(|v| v.name.as_str().cmp(name)) {
                views[at].facades.push(facade.clone());
            }
        }
    }
    views
}

fn view(rules: &Document<RulesHead>) -> RulesView {
    let (reach, backends) = match &rules.doc.reach {
        Some(ReachDoc::Everywhere) => ("everywhere", Vec::new()),
        Some(ReachDoc::Backends(names)) => ("backends", names.clone()),
        None => ("used", Vec::new()),
    };
    let parameters = rules.doc.parameters.iter().map(|(name, p)| ParameterView {
        name: name.clone(),
        r#type: match p.kind {
            ParameterKind::String => "string",
            ParameterKind::Integer => "integer",
            ParameterKind::Number => "number",
            ParameterKind::Boolean => "boolean",
            ParameterKind::Array => "array",
            ParameterKind::Object => "object",
        },
        default: p.default.clone(),
        description: p.description.clone(),
    });
    RulesView {
        name: rules.doc.name.clone(),
        title: rules.doc.title.clone(),
        reach,
        backends,
        parameters: parameters.collect(),
        facades: Vec::new(),
        file: rules.file.clone(),
    }
}
