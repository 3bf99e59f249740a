//! Documents for an HTTP backend that is described by an OpenAPI document.

use std::collections::{HashMap, HashSet};

use porch_contract::{Contract, Finding, Operation, Place};
use serde_json::{Map, Value, json};

use super::look::contract;
use crate::Files;
use crate::derive::{
    BackendParts, Derived, Wanted, add_problem_and_key, backend_doc, base_for, facade_doc,
    keep_used_components,
};
use crate::documents::Names;
use crate::source::Source;
use crate::yaml::to_yaml;

pub(super) fn derive(source: &Source, wanted: &Wanted<'_>) -> Result<Derived, Box<Finding>> {
    let (contract, findings) = contract(source)?;
    let name = wanted.name;
    let taken: Vec<&Operation> = contract
        .operations
        .values()
        .filter(|o| wanted.takes(&o.id))
        .collect();
    if taken.is_empty() {
        let message = match contract.operations.is_empty() {
            true => "the document has no operation that can be read",
            false => "none of its operations was picked",
        };
        let none = Finding::error(&source.main, Default::default(), message);
        return Err(Box::new(findings.into_iter().next().unwrap_or(none)));
    }
    let paths: Vec<String> = taken.iter().map(|o| o.path.to_string()).collect();
    let base = base_for(name, paths.iter().map(String::as_str));
    let wiring: Map<String, Value> = taken
        .iter()
        .map(|o| (o.id.clone(), wired(name, o)))
        .collect();
    let server = contract
        .document
        .pointer("/servers/0/url")
        .and_then(Value::as_str)
        .filter(|u| u.starts_with("http://") || u.starts_with("https://"))
        // A variable of the server (OpenAPI 3.1 §4.8.6) is nobody's address yet.
        .filter(|u| !u.contains('{'))
        .unwrap_or("http://127.0.0.1/");
    let operations = wiring.len();
    let files = Files::from([
        (
            format!("{name}.backend.yaml"),
            backend_doc(&BackendParts {
                name,
                title: &contract.title,
                kind: super::NAME,
                definition: None,
                address: wanted.address.unwrap_or(server),
                soap_headers: Map::new(),
                names: Names::AsIs,
            }),
        ),
        (
            format!("{name}.facade.yaml"),
            facade_doc(name, &contract.title, &base, wiring),
        ),
        (
            format!("{name}.openapi.yaml"),
            to_yaml(&published(&contract, &taken, &base)),
        ),
    ]);
    Ok(Derived {
        files,
        operations,
        findings,
    })
}

fn wired(backend: &str, o: &Operation) -> Value {
    let call = json!({ "backend": backend, "method": o.method, "path": o.path.to_string() });
    json!({ "call": call })
}

/// The contract that callers get: the description's operations that are published, at the facade's own address and with its
/// own credentials.
fn published(contract: &Contract, taken: &[&Operation], base: &str) -> Value {
    let mut document = contract.document.clone();
    if let Some(members) = document.as_object_mut() {
        members.shift_remove("webhooks");
        members.shift_remove("externalDocs");
        members.retain(|name, _| !name.starts_with("x-"));
    }
    document["servers"] = json!([{ "url": base }]);
    document["security"] = json!([{ "key": [] }]);
    let Some(Value::Object(paths)) = document.get_mut("paths").map(Value::take) else {
        return document;
    };
    let taken: HashMap<&str, &Operation> = taken.iter().map(|o| (o.id.as_str(), *o)).collect();
    let mut own = Map::new();
    for (path, item) in paths {
        if let Some(item) = published_item(contract, &taken, item) {
            own.insert(path, item);
        }
    }
    document["paths"] = Value::Object(own);
    only_used_tags(&mut document);
    add_problem_and_key(&mut document);
    keep_used_components(&mut document);
    document
}

/// Leaves out tags that no operation has.
fn only_used_tags(document: &mut Value) {
    let items = document["paths"].as_object().into_iter().flatten();
    let operations = items.filter_map(|(_, item)| item.as_object()).flatten();
    let tags = operations
        .filter_map(|(_, op)| op.get("tags")?.as_array())
        .flatten();
    let used: HashSet<String> = tags.filter_map(|t| t.as_str().map(str::to_owned)).collect();
    if let Some(tags) = document.get_mut("tags").and_then(Value::as_array_mut) {
        tags.retain(|t| t["name"].as_str().is_some_and(|name| used.contains(name)));
    }
}

/// A path item with those of its operations that are published; nothing when there are none.
fn published_item(
    contract: &Contract,
    taken: &HashMap<&str, &Operation>,
    item: Value,
) -> Option<Value> {
    let Value::Object(item) = item else {
        return None;
    };
    let (mut own, mut shared, mut any) = (Map::new(), Vec::new(), false);
    for (name, mut value) in item {
        let id = value.get("operationId").and_then(Value::as_str);
        let op = id.and_then(|id| taken.get(id).copied());
        match (name.as_str(), op) {
            ("parameters", _) => shared = value.as_array().cloned().unwrap_or_default(),
            ("servers", _) => {}
            // Methods that OpenAPI 3.1 has no place for.
            ("x-additionalOperations" | "additionalOperations", _) => {
                if let Some(others) = published_item(contract, taken, value) {
                    any = true;
                    own.insert(name, others);
                }
            }
            (_, Some(op)) => {
                any = true;
                complete(contract, op, &mut value);
                own.insert(name, value);
            }
            ("summary" | "description", None) => drop(own.insert(name, value)),
            (other, None) if other.starts_with("x-") => drop(own.insert(name, value)),
            _ => {}
        }
    }
    if any && !shared.is_empty() {
        own.insert("parameters".into(), Value::Array(shared));
    }
    any.then_some(Value::Object(own))
}

/// An operation without what is its backend's alone, and with what a contract must have.
fn complete(contract: &Contract, op: &Operation, value: &mut Value) {
    let Some(members) = value.as_object_mut() else {
        return;
    };
    for alone in ["security", "servers", "callbacks"] {
        members.shift_remove(alone);
    }
    let responses = members.entry("responses").or_insert_with(|| json!({}));
    if let Some(responses) = responses.as_object_mut() {
        if responses.is_empty() {
            responses.insert("200".into(), json!({ "description": "The answer." }));
        }
        let problem = || json!({ "$ref": "#/components/responses/Problem" });
        responses.entry("default").or_insert_with(problem);
    }
    let has = |name: &str| {
        op.parameters
            .iter()
            .any(|p| p.place == Place::Path && p.name == name)
    };
    let missing: Vec<Value> = op
        .path
        .variables()
        .filter(|v| !has(v))
        .map(|v| json!({ "name": v, "in": "path", "required": true, "schema": { "type": "string" } }))
        .collect();
    let in_no_segment = |p: &Value| {
        let resolved = contract.view(p).value().clone();
        let text = |name: &str| {
            resolved
                .get(name)
                .and_then(Value::as_str)
                .unwrap_or_default()
                .to_owned()
        };
        text("in") == "path"
            && !op
                .path
                .variables()
                .any(|v| v == text("name").trim_end_matches('*'))
    };
    if !missing.is_empty() || members.contains_key("parameters") {
        let own = members.entry("parameters").or_insert_with(|| json!([]));
        if let Some(own) = own.as_array_mut() {
            own.retain(|p| !in_no_segment(p));
            own.extend(missing);
        }
    }
}
