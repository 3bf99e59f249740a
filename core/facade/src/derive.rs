//! Deriving documents from a definition, ready to edit.

use porch_contract::{Finding, SchemaView};
use serde_json::{Map, Value, json};

use crate::Files;
use crate::yaml::to_yaml;

/// What was derived.
#[derive(Debug)]
pub struct Derived {
    /// The files to write, by path.
    pub files: Files,
    /// How many operations were wired.
    pub operations: usize,
    /// What was found on the way.
    pub findings: Vec<Finding>,
}

/// What is wanted of a definition.
#[derive(Clone, Copy, Debug)]
pub struct Wanted<'a> {
    /// Name of backend and facade.
    pub name: &'a str,
    /// Stands in place of the address in the definition.
    pub address: Option<&'a str>,
    /// Operations by their names in the definition; none given: all.
    pub only: &'a [String],
}

impl Wanted<'_> {
    /// Whether an operation is wanted.
    pub fn takes(&self, operation: &str) -> bool {
        self.only.is_empty() || self.only.iter().any(|o| o == operation)
    }
}

/// What a backend's document says.
pub(crate) struct BackendParts<'a> {
    pub(crate) name: &'a str,
    pub(crate) title: &'a str,
    pub(crate) kind: &'a str,
    pub(crate) definition: Option<&'a str>,
    pub(crate) address: &'a str,
    pub(crate) soap_headers: Map<String, Value>,
}

pub(crate) fn backend_doc(parts: &BackendParts<'_>) -> String {
    let mut doc = json!({ "elm-porch": "backend/1", "name": parts.name, "title": parts.title, "kind": parts.kind });
    if let Some(file) = parts.definition {
        doc["definition"] = json!(file);
    }
    doc["address"] = json!(parts.address);
    if !parts.soap_headers.is_empty() {
        doc["credentials"] = json!({ "calling": { "soap-headers": parts.soap_headers } });
    }
    to_yaml(&doc)
}

pub(crate) fn facade_doc(
    name: &str,
    title: &str,
    base: &str,
    operations: Map<String, Value>,
) -> String {
    let doc = json!({
        "elm-porch": "facade/1", "name": name, "title": title, "base": base, "contract": format!("{name}.openapi.yaml"),
        "admit": { "credentials": ["key"] }, "operations": operations,
    });
    to_yaml(&doc)
}

/// A contract of these paths and schemas, with what every contract has.
pub(crate) fn contract_doc(
    title: &str,
    description: &str,
    paths: Map<String, Value>,
    schemas: Map<String, Value>,
) -> String {
    let mut contract = json!({
        "openapi": "3.1.0", "info": { "title": title, "version": "1.0.0" },
        "paths": paths, "components": { "schemas": schemas }, "security": [{ "key": [] }],
    });
    if !description.is_empty() {
        contract["info"]["description"] = json!(description);
    }
    add_problem_and_key(&mut contract);
    keep_used_schemas(&mut contract);
    add_examples(&mut contract);
    to_yaml(&contract)
}

/// An example for each body, made from its schema (OpenAPI 3.1 §4.8.14).
fn add_examples(contract: &mut Value) {
    let whole = contract.clone();
    let Some(paths) = contract.get_mut("paths").and_then(Value::as_object_mut) else {
        return;
    };
    for operation in paths
        .values_mut()
        .filter_map(Value::as_object_mut)
        .flat_map(|item| item.values_mut())
    {
        for place in [
            "/requestBody/content/application~1json",
            "/responses/200/content/application~1json",
        ] {
            if let Some(media) = operation.pointer_mut(place) {
                let example = SchemaView::new(&whole, &media["schema"]).sample();
                media["example"] = example;
            }
        }
    }
}

/// What every contract has: the problem document and how a key is shown.
fn add_problem_and_key(contract: &mut Value) {
    contract["components"]["responses"] = json!({ "Problem": { "description": "Why there is no answer (RFC 9457).", "content": { "application/problem+json": { "schema": { "$ref": "#/components/schemas/Problem" } } } } });
    contract["components"]["schemas"]["Problem"] = json!({ "type": "object", "properties": {
        "type": { "type": "string", "format": "uri-reference" }, "title": { "type": "string" }, "status": { "type": "integer" },
        "detail": { "type": "string" }, "instance": { "type": "string", "format": "uri-reference" },
    } });
    contract["components"]["securitySchemes"] =
        json!({ "key": { "type": "apiKey", "in": "header", "name": "API-Key" } });
}

/// Drops schemas that nothing refers to.
fn keep_used_schemas(contract: &mut Value) {
    loop {
        let text = contract.to_string();
        let Some(schemas) = contract
            .pointer_mut("/components/schemas")
            .and_then(Value::as_object_mut)
        else {
            return;
        };
        let before = schemas.len();
        schemas.retain(|name, _| text.contains(&format!("\"#/components/schemas/{name}\"")));
        if schemas.len() == before {
            return;
        }
    }
}
