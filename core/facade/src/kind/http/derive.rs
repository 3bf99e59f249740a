//! Documents for an HTTP backend that is described by an OpenAPI document.

use std::collections::HashSet;

use indexmap::IndexSet;
use porch_contract::{Finding, Operation};
use porch_describe::{Described, Upstream};
use porch_odata::Call;
use porch_sample::Known;
use serde_json::{Map, Value, json};

use super::look::{Read, described};
use super::shown::calling;
use crate::Files;
use crate::derive::{
    BackendParts, Derived, Stored, Wanted, add_problem_and_key, backend_doc, base_for, facade_doc,
    keep_used_components,
};
use crate::documents::Names;
use crate::source::Source;
use crate::yaml::to_yaml;

/// Where a backend is when nobody said it.
const NOWHERE: &str = "http://127.0.0.1/";

pub(super) fn derive(source: &Source, wanted: &Wanted<'_>) -> Result<Derived, Box<Finding>> {
    let Read {
        described,
        calls,
        findings,
    } = described(source)?;
    let contract = &described.contract;
    let name = wanted.name;
    let all = contract.operations.values();
    let taken: Vec<&Operation> = all.filter(|o| wanted.takes(&o.id)).collect();
    if taken.is_empty() {
        let message = match contract.operations.is_empty() {
            true => "the document has no operation that can be read",
            false => "none of its operations was picked",
        };
        let none = Finding::error(&source.main, Default::default(), message);
        return Err(Box::new(none));
    }
    let paths: Vec<String> = taken.iter().map(|o| o.path.to_string()).collect();
    let base = base_for(name, paths.iter().map(String::as_str));
    let mut backends = Backends::of(&described, wanted);
    let wiring: Map<String, Value> = taken
        .iter()
        .map(|o| match wanted.calls_nothing {
            true => (o.id.clone(), json!({})),
            false => (
                o.id.clone(),
                backends.wired(&described, calls.get(&o.id), o),
            ),
        })
        .collect();
    let operations = wiring.len();
    let title = &contract.title;
    let mut files = Files::from([
        (
            format!("{name}.facade.yaml"),
            facade_doc(name, title, &base, wiring),
        ),
        (
            format!("{name}.openapi.yaml"),
            to_yaml(&published(&described, &taken, &base)),
        ),
    ]);
    let mut secrets = Vec::new();
    if !wanted.calls_nothing {
        files.extend(backends.documents(title, &source.credentials, &mut secrets));
    }
    Ok(Derived {
        files,
        operations,
        findings,
        secrets,
    })
}

/// The backends of a description: one, and one for each other address that some operation has.
struct Backends<'d> {
    name: &'d str,
    main: String,
    others: IndexSet<String>,
}

impl<'d> Backends<'d> {
    fn of(described: &Described, wanted: &Wanted<'d>) -> Self {
        let first = described.servers.first().map_or(NOWHERE, String::as_str);
        Self {
            name: wanted.name,
            main: wanted.address.unwrap_or(first).to_owned(),
            others: IndexSet::new(),
        }
    }

    /// The backend of an address.
    fn called(&mut self, server: Option<&String>) -> String {
        let Some(server) = server else {
            return self.name.to_owned();
        };
        let (number, _) = self.others.insert_full(server.clone());
        // A name has 64 characters at most.
        let room = self.name.floor_char_boundary(60);
        format!("{}-{}", &self.name[..room], number + 2)
    }

    fn wired(&mut self, described: &Described, call: Option<&Call>, o: &Operation) -> Value {
        let none = Upstream::default();
        let upstream = described.operations.get(&o.id).unwrap_or(&none);
        let path = upstream.path.clone().unwrap_or_else(|| o.path.to_string());
        let backend = self.called(upstream.server.as_ref());
        if let Some(Call {
            method,
            path,
            send,
            reply,
        }) = call
        {
            let mut wired =
                json!({ "call": { "backend": backend, "method": method, "path": path } });
            if !send.is_empty() {
                wired["send"] = json!(send);
            }
            if let Some(reply) = reply {
                wired["reply"] = reply.clone();
            }
            return wired;
        }
        json!({ "call": { "backend": backend, "method": o.method, "path": path } })
    }

    fn documents(
        &self,
        title: &str,
        known: &[Known],
        secrets: &mut Vec<Stored>,
    ) -> Vec<(String, String)> {
        let addresses = std::iter::once(&self.main).chain(&self.others);
        let documents = addresses.enumerate().map(|(i, address)| {
            let room = self.name.floor_char_boundary(60);
            let name = match i {
                0 => self.name.to_owned(),
                i => format!("{}-{}", &self.name[..room], i + 1),
            };
            let (calling, named) = calling(&name, address, known);
            secrets.extend(named);
            let document = backend_doc(&BackendParts {
                name: &name,
                title,
                kind: super::NAME,
                definition: None,
                address,
                calling,
                names: Names::AsIs,
            });
            (format!("{name}.backend.yaml"), document)
        });
        documents.collect()
    }
}

/// The contract that callers get: the description's operations that are published, at the facade's own address and with its
/// own credentials.
fn published(described: &Described, taken: &[&Operation], base: &str) -> Value {
    let mut document = described.contract.document.clone();
    document["servers"] = json!([{ "url": base }]);
    document["security"] = json!([{ "key": [] }]);
    let taken: HashSet<&str> = taken.iter().map(|o| o.id.as_str()).collect();
    let problem = add_problem_and_key(&mut document);
    if let Some(paths) = document["paths"].as_object_mut() {
        for item in paths.values_mut() {
            only_taken(item, &taken, &problem);
        }
        paths.retain(|_, item| item.as_object().is_some_and(|i| !i.is_empty()));
    }
    only_used_tags(&mut document);
    keep_used_components(&mut document);
    document
}

/// A path item with those of its operations that are published, each with what an operation must have.
fn only_taken(item: &mut Value, taken: &HashSet<&str>, problem: &str) {
    let Some(members) = item.as_object_mut() else {
        return;
    };
    members.retain(|_, value| match value["operationId"].as_str() {
        Some(id) => taken.contains(id),
        // Methods that OpenAPI 3.1 has no place for stand together.
        None => {
            only_taken(value, taken, problem);
            value.as_object().is_some_and(|v| !v.is_empty())
        }
    });
    let operations = members
        .values_mut()
        .filter(|v| v["operationId"].is_string());
    for responses in operations.filter_map(|o| o["responses"].as_object_mut()) {
        if responses.is_empty() {
            responses.insert("200".into(), json!({ "description": "The answer." }));
        }
        let default = responses.entry("default");
        default.or_insert_with(|| json!({ "$ref": problem }));
    }
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
