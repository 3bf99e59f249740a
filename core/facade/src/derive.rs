//! Deriving documents from a definition, ready to edit.

use std::collections::HashSet;

use porch_contract::{Finding, SchemaView};
use serde_json::{Map, Value, json};

use crate::Files;
use crate::documents::Names;
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
    /// Secrets that the backends' credentials name, where samples had their values.
    pub secrets: Vec<Stored>,
}

/// A secret that somebody has to keep.
#[derive(Clone, PartialEq, Eq)]
pub struct Stored {
    /// Its name in the environment.
    pub name: String,
    /// Its value.
    pub value: String,
}

/// Never its value.
impl std::fmt::Debug for Stored {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.name)
    }
}

/// What is wanted of a definition.
#[derive(Clone, Copy, Debug, Default)]
pub struct Wanted<'a> {
    /// Name of backend and facade.
    pub name: &'a str,
    /// Stands in place of the address in the definition.
    pub address: Option<&'a str>,
    /// Operations by their names in the definition; none given: all.
    pub only: &'a [String],
    /// Operations that were there before others came, by their names in the definition: their routes and ids are given first.
    pub first: &'a [String],
    /// How members, path variables and query parameters are called; those of an HTTP backend are what its description calls them.
    pub names: Names,
    /// Whether there is no backend yet: operations answer with examples of the contract.
    pub calls_nothing: bool,
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
    pub(crate) names: Names,
    /// What it is shown when it is called.
    pub(crate) calling: Map<String, Value>,
}

pub(crate) fn backend_doc(parts: &BackendParts<'_>) -> String {
    let mut doc = json!({ "elm-porch": "backend/1", "name": parts.name, "title": parts.title, "kind": parts.kind });
    if let Some(file) = parts.definition {
        doc["definition"] = json!(file);
    }
    if parts.names == Names::Camel {
        doc["names"] = json!("camel");
    }
    doc["address"] = json!(parts.address);
    if !parts.calling.is_empty() {
        doc["credentials"] = json!({ "calling": parts.calling });
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
    (title, base): (&str, &str),
    description: &str,
    paths: Map<String, Value>,
    schemas: Map<String, Value>,
) -> String {
    let mut contract = json!({
        "openapi": "3.1.0", "info": { "title": title, "version": "1.0.0" },
        "servers": [{ "url": base }],
        "paths": paths, "components": { "schemas": schemas }, "security": [{ "key": [] }],
    });
    if !description.is_empty() {
        contract["info"]["description"] = json!(description);
    }
    add_problem_and_key(&mut contract);
    keep_used_components(&mut contract);
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
                // What cannot be shown to fit is left out: trial runs begin with it.
                if let Some(example) = SchemaView::new(&whole, &media["schema"]).example() {
                    media["example"] = example;
                }
            }
        }
    }
}

/// What every contract has: the problem document and how a key is shown. Gives what refers to the response; a definition may
/// have others of the same name.
pub(crate) fn add_problem_and_key(contract: &mut Value) -> String {
    let taken = |name: &str| {
        let has = |kind: &str| !contract["components"][kind][name].is_null();
        has("responses") || has("schemas")
    };
    let others = (2..).map(|n| format!("Problem{n}"));
    let mut names = std::iter::once("Problem".to_owned()).chain(others);
    let name = names.find(|n| !taken(n)).unwrap_or_default();
    let schema = format!("#/components/schemas/{name}");
    contract["components"]["responses"][&name] = json!({ "description": "Why there is no answer (RFC 9457).", "content": { "application/problem+json": { "schema": { "$ref": schema } } } });
    contract["components"]["schemas"][&name] = json!({ "type": "object", "properties": {
        "type": { "type": "string", "format": "uri-reference" }, "title": { "type": "string" }, "status": { "type": "integer" },
        "detail": { "type": "string" }, "instance": { "type": "string", "format": "uri-reference" },
    } });
    contract["components"]["securitySchemes"] =
        json!({ "key": { "type": "apiKey", "in": "header", "name": "API-Key" } });
    format!("#/components/responses/{name}")
}

/// Drops components that nothing refers to, directly or by others (OpenAPI 3.1 §4.8.7). Each is walked once.
pub(crate) fn keep_used_components(contract: &mut Value) {
    let Some(Value::Object(mut components)) = contract
        .as_object_mut()
        .and_then(|c| c.shift_remove("components"))
    else {
        return;
    };
    let (mut used, mut open) = (HashSet::new(), Vec::new());
    references(contract, &mut open);
    while let Some((kind, name)) = open.pop() {
        if let Some(component) = components.get(&kind).and_then(|all| all.get(&name))
            && used.insert((kind, name))
        {
            references(component, &mut open);
        }
    }
    for (kind, all) in &mut components {
        if let (Some(all), false) = (all.as_object_mut(), kind == "securitySchemes") {
            all.retain(|name, _| used.contains(&(kind.clone(), name.clone())));
        }
    }
    components.retain(|_, all| all.as_object().is_none_or(|all| !all.is_empty()));
    contract["components"] = Value::Object(components);
}

/// The components that a value refers to: kind and name.
fn references(value: &Value, into: &mut Vec<(String, String)>) {
    match value {
        Value::String(text) => into.extend(component(text)),
        Value::Array(items) => items.iter().for_each(|v| references(v, into)),
        Value::Object(map) => {
            for (name, value) in map {
                // A discriminator may name schemas without the way to them (§4.8.25.3).
                if name == "mapping" {
                    let names = value.as_object().into_iter().flatten();
                    let bare = names
                        .filter_map(|(_, v)| v.as_str())
                        .filter(|n| !n.contains('/'));
                    into.extend(bare.map(|n| ("schemas".to_owned(), n.to_owned())));
                }
                references(value, into);
            }
        }
        _ => {}
    }
}

fn component(text: &str) -> Option<(String, String)> {
    let mut parts = text.strip_prefix("#/components/")?.split('/');
    let kind = parts.next()?.to_owned();
    // Names are steps of a JSON Pointer (RFC 6901 §3).
    let name = parts.next()?.replace("~1", "/").replace("~0", "~");
    Some((kind, name))
}

/// A base path that does not double a version which the paths have already.
pub(crate) fn base_for<'p>(name: &str, mut paths: impl Iterator<Item = &'p str>) -> String {
    let versioned = |path: &str| {
        let first = path
            .trim_start_matches('/')
            .split('/')
            .next()
            .unwrap_or_default();
        let version = first.strip_prefix('v').unwrap_or_default();
        version.starts_with(|c: char| c.is_ascii_digit())
    };
    match paths.all(versioned) {
        true => format!("/{name}"),
        false => format!("/{name}/v1"),
    }
}
