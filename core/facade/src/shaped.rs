//! Derived documents with the shapes and rules that somebody chose, before anything is written.

use std::collections::{BTreeMap, BTreeSet};

use porch_contract::{Finding, Node, PathTemplate, Position};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value, json};

use crate::Files;
use crate::derive::Derived;
use crate::yaml::to_yaml;

/// What an operation is called, and how callers reach it; what is not given stays as it was proposed.
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[derive(Clone, Debug, Default, Deserialize, Serialize)]
pub struct Shaped {
    /// Its `operationId`.
    #[serde(default)]
    pub id: Option<String>,
    /// Its method.
    #[serde(default)]
    pub method: Option<String>,
    /// Its path, with the same variables.
    #[serde(default)]
    pub path: Option<String>,
}

/// How many calls are let through.
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[derive(Clone, Debug, Deserialize, Serialize)]
pub struct Allowed {
    /// Requests.
    pub requests: u32,
    /// In any window of this length, as in `90s`.
    pub window: String,
}

/// What is chosen of derived documents.
#[derive(Clone, Debug, Default)]
pub struct Choices {
    /// Operations by the `operationId` that was proposed.
    pub operations: BTreeMap<String, Shaped>,
    /// Whether callers need a key; they do unless it is said.
    pub key: Option<bool>,
    /// A limit: for each consumer where callers need keys, else for each address.
    pub limit: Option<Allowed>,
}

/// Methods that have no body to speak of (RFC 9110 §9.3.1, §9.3.2, §9.3.5).
const WITHOUT_BODY: [&str; 3] = ["get", "head", "delete"];

impl Derived {
    /// The same documents as they were chosen to be.
    ///
    /// # Errors
    /// The first choice that cannot be, with the reason.
    pub fn shaped(mut self, name: &str, choices: &Choices) -> Result<Self, Box<Finding>> {
        let (contract_file, facade_file) = (
            format!("{name}.openapi.yaml"),
            format!("{name}.facade.yaml"),
        );
        let mut contract = read(&self.files, &contract_file)?;
        let mut facade = read(&self.files, &facade_file)?;
        for (id, shaped) in &choices.operations {
            reshape(&mut contract, &mut facade, id, shaped)?;
        }
        rules(&mut contract, &mut facade, choices);
        self.files.insert(contract_file, to_yaml(&contract));
        self.files.insert(facade_file, to_yaml(&facade));
        Ok(self)
    }
}

fn read(files: &Files, file: &str) -> Result<Value, Box<Finding>> {
    let text = files.get(file).map_or("", String::as_str);
    let node = Node::parse(text).map_err(|e| Finding::error(file, e.at, e.message))?;
    Ok(node.to_value())
}

fn refused(id: &str, why: impl std::fmt::Display) -> Box<Finding> {
    let message = format!("“{id}”: {why}");
    Box::new(Finding::error("", Position::default(), message))
}

/// Where an operation stands in a contract: its path and method.
fn place_of(contract: &Value, id: &str) -> Option<(String, String)> {
    let paths = contract["paths"].as_object()?;
    paths.iter().find_map(|(path, item)| {
        let item = item.as_object()?;
        let own = item.iter().find(|(_, op)| op["operationId"] == id)?;
        Some((path.clone(), own.0.clone()))
    })
}

fn reshape(
    contract: &mut Value,
    facade: &mut Value,
    id: &str,
    shaped: &Shaped,
) -> Result<(), Box<Finding>> {
    let Some((path, method)) = place_of(contract, id) else {
        return Err(refused(id, "there is no such operation among those taken"));
    };
    let wanted = |given: &Option<String>, was: &str| {
        let given = given.as_deref().map(str::trim).filter(|g| !g.is_empty());
        given.unwrap_or(was).to_owned()
    };
    let new_path = wanted(&shaped.path, &path);
    let new_method = wanted(&shaped.method, &method).to_ascii_lowercase();
    let new_id = wanted(&shaped.id, id);
    if new_id != id && place_of(contract, &new_id).is_some() {
        return Err(refused(
            id,
            format!("“{new_id}” is the id of another operation"),
        ));
    }
    if (&new_path, &new_method) != (&path, &method) {
        fits(contract, id, (&path, &method), (&new_path, &new_method))?;
    }
    let mut operation = Value::Null;
    let mut shared = Value::Null;
    if let Some(item) = contract["paths"][path.as_str()].as_object_mut() {
        operation = item.shift_remove(&method).unwrap_or_default();
        shared = item.get("parameters").cloned().unwrap_or_default();
        let is_empty = !item.values().any(|v| v.get("operationId").is_some());
        if is_empty && let Some(paths) = contract["paths"].as_object_mut() {
            paths.shift_remove(&path);
        }
    }
    operation["operationId"] = json!(new_id);
    if new_path != path {
        carry(&mut operation, &shared);
    }
    let paths = contract["paths"].as_object_mut();
    if let Some(paths) = paths {
        let item = paths.entry(new_path).or_insert_with(|| json!({}));
        item[new_method.as_str()] = operation;
    }
    rename(facade, id, &new_id);
    Ok(())
}

/// Parameters that stood at the path item go with the operation, its own before them (OpenAPI 3.1 §4.8.9).
fn carry(operation: &mut Value, shared: &Value) {
    let mut all = operation["parameters"]
        .as_array()
        .cloned()
        .unwrap_or_default();
    for parameter in shared.as_array().into_iter().flatten() {
        let same = |p: &Value| p["name"] == parameter["name"] && p["in"] == parameter["in"];
        if !all.iter().any(same) {
            all.push(parameter.clone());
        }
    }
    if all.is_empty() {
        if let Some(members) = operation.as_object_mut() {
            members.shift_remove("parameters");
        }
    } else {
        operation["parameters"] = Value::Array(all);
    }
}

/// Whether an operation can be moved.
fn fits(
    contract: &Value,
    id: &str,
    (path, method): (&str, &str),
    (new_path, new_method): (&str, &str),
) -> Result<(), Box<Finding>> {
    let known = [
        "get", "put", "post", "delete", "options", "head", "patch", "trace",
    ];
    if !known.contains(&new_method) {
        return Err(refused(
            id,
            format!("“{new_method}” is no method that a contract has"),
        ));
    }
    let template = PathTemplate::parse(new_path)
        .map_err(|e| refused(id, format!("the path “{new_path}”: {e}")))?;
    let names = |t: &PathTemplate| t.variables().map(str::to_owned).collect::<BTreeSet<_>>();
    let had = PathTemplate::parse(path)
        .map(|t| names(&t))
        .unwrap_or_default();
    if names(&template) != had {
        let had: Vec<String> = had.iter().map(|v| format!("{{{v}}}")).collect();
        let why = match had.as_slice() {
            [] => "its path has no variables: no value would come of one".to_owned(),
            some => format!("its path keeps the variables {}", some.join(", ")),
        };
        return Err(refused(id, why));
    }
    if !contract["paths"][new_path][new_method].is_null() {
        let method = new_method.to_uppercase();
        return Err(refused(
            id,
            format!("{method} {new_path} is another operation"),
        ));
    }
    let has_body = !contract["paths"][path][method]["requestBody"].is_null();
    if has_body && WITHOUT_BODY.contains(&new_method) {
        let method = new_method.to_uppercase();
        return Err(refused(
            id,
            format!("it has a body, which {method} has not"),
        ));
    }
    Ok(())
}

fn rename(facade: &mut Value, id: &str, new: &str) {
    let Some(operations) = facade["operations"].as_object_mut() else {
        return;
    };
    if id == new {
        return;
    }
    let renamed: Map<String, Value> = std::mem::take(operations)
        .into_iter()
        .map(|(name, wiring)| {
            if name == id {
                (new.to_owned(), wiring)
            } else {
                (name, wiring)
            }
        })
        .collect();
    *operations = renamed;
}

fn rules(contract: &mut Value, facade: &mut Value, choices: &Choices) {
    let key = choices.key.unwrap_or(true);
    if !key {
        contract["security"] = json!([]);
        facade["admit"]["credentials"] = json!([]);
    }
    if let Some(limit) = &choices.limit {
        let per = if key { "consumer" } else { "address" };
        let window = limit.window.trim();
        facade["admit"]["limits"] =
            json!([{ "requests": limit.requests, "window": window, "per": per }]);
    }
}
