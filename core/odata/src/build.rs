//! The description of a service.

mod functions;
mod options;

pub(crate) use options::references;

use std::collections::HashMap;

use indexmap::IndexMap;
use porch_contract::{Finding, Severity};
use serde_json::{Map, Value, json};

use crate::model::{Model, Operation, Version};
use crate::names::Taken;
use crate::operations::Place;
use crate::schemas::{Schemas, nullable};
use crate::{Call, Origin, Service};

/// So many operations are made of one service's metadata.
const MAX_OPERATIONS: usize = 10_000;
/// So many functions and actions are looked at; what is bound to a type is looked at for each of its sets.
const MAX_TRIED: usize = 50_000;
/// So many findings are told one by one.
const MAX_FINDINGS: usize = 200;

pub(crate) struct Builder<'m> {
    pub(crate) model: &'m Model,
    pub(crate) schemas: Schemas<'m>,
    origin: &'m Origin<'m>,
    ids: Taken,
    /// Functions and actions that were looked at, for whichever set.
    pub(crate) tried: usize,
    /// Parameters that several operations have, by their names as components.
    parameters: Map<String, Value>,
    paths: Map<String, Value>,
    calls: IndexMap<String, Call>,
    findings: Vec<Finding>,
    /// What is bound to a type, and whether to a collection of it.
    bound: HashMap<(&'m str, bool), Vec<&'m Operation>>,
    /// How many sets there are of a type.
    sets: HashMap<&'m str, usize>,
}

pub(crate) fn service(model: &Model, origin: &Origin<'_>) -> Service {
    let mut bound: HashMap<(&str, bool), Vec<&Operation>> = HashMap::new();
    for operation in model.operations.iter().filter(|o| o.bound) {
        if let Some(first) = operation.parameters.first() {
            let to = (first.of.name.as_str(), first.of.collection);
            bound.entry(to).or_default().push(operation);
        }
    }
    let mut sets: HashMap<&str, usize> = HashMap::new();
    for set in model.sets.iter().filter(|s| !s.single) {
        *sets.entry(&set.of).or_default() += 1;
    }
    let mut builder = Builder {
        model,
        schemas: Schemas::of(model),
        origin,
        ids: Taken::default(),
        tried: 0,
        parameters: Map::new(),
        paths: Map::new(),
        calls: IndexMap::new(),
        findings: Vec::new(),
        bound,
        sets,
    };
    for set in &model.sets {
        if builder.is_full() {
            break;
        }
        builder.set(set);
    }
    builder.imports();
    builder.finish()
}

impl Builder<'_> {
    fn finish(mut self) -> Service {
        if self.is_full() {
            let message = match self.calls.len() >= MAX_OPERATIONS {
                true => format!("only the first {MAX_OPERATIONS} operations are read"),
                false => format!("only {MAX_TRIED} functions and actions are looked at"),
            };
            self.warn(0, message);
        }
        if self.model.version == Version::Two && !self.calls.is_empty() {
            let message = "entities carry addresses of the service itself in `__metadata`";
            self.note(0, message.into());
        }
        let schemas = std::mem::replace(&mut self.schemas, Schemas::of(self.model));
        let (components, unknown) = schemas.finish();
        for name in unknown {
            self.note(
                0,
                format!("nothing says what “{name}” is: anything is taken for it"),
            );
        }
        let title = match self.model.title.as_str() {
            "" => "Untitled",
            title => title,
        };
        let mut document = json!({
            "openapi": "3.1.0", "info": { "title": title, "version": "1.0.0" },
            "paths": self.paths, "components": { "schemas": components, "parameters": self.parameters },
        });
        if !self.model.documentation.is_empty() {
            document["info"]["description"] = json!(self.model.documentation);
        }
        if let Some(root) = root(self.origin) {
            document["servers"] = json!([{ "url": root }]);
        }
        Service {
            description: document.to_string(),
            calls: self.calls,
            standard: format!("OData {}", self.model.number),
            findings: self.findings,
        }
    }

    fn tell(&mut self, severity: Severity, at: usize, message: String) {
        if self.findings.len() < MAX_FINDINGS {
            self.findings.push(self.origin.found(severity, at, message));
        }
    }

    pub(crate) fn warn(&mut self, at: usize, message: String) {
        self.tell(Severity::Warning, at, message);
    }

    pub(crate) fn note(&mut self, at: usize, message: String) {
        self.tell(Severity::Note, at, message);
    }

    /// Whether there are as many operations as are read, or so many were tried in vain that it has to end.
    pub(crate) fn is_full(&self) -> bool {
        self.calls.len() >= MAX_OPERATIONS || self.tried >= MAX_TRIED
    }

    pub(crate) fn id(&mut self, wanted: &str) -> String {
        self.ids.give(wanted)
    }

    /// How many sets have entities of a type.
    pub(crate) fn sets_of(&self, of: &str) -> usize {
        self.sets.get(of).copied().unwrap_or_default()
    }

    pub(crate) fn add(&mut self, method: &str, place: &Place, op: Value, reply: Option<Value>) {
        self.add_as(method, method, place, op, reply);
    }

    /// An operation that has another method at the service.
    pub(crate) fn add_as(
        &mut self,
        ours: &str,
        theirs: &str,
        place: &Place,
        op: Value,
        reply: Option<Value>,
    ) {
        let call = self.call(theirs, place.theirs.clone(), place, reply);
        self.put(&place.ours, ours, &place.parameters, op, call);
    }

    /// A call that asks for JSON (OData JSON Format 4.01 §3; MS-ODATA §2.2.5.1).
    pub(crate) fn call(
        &self,
        method: &str,
        path: String,
        place: &Place,
        reply: Option<Value>,
    ) -> Call {
        let mut send = Map::new();
        if !place.path.is_empty() {
            send.insert("path".into(), json!(place.path));
        }
        let headers = match self.model.version {
            // Without the addresses of the service that JSON of v4 otherwise carries (§4.5.3).
            Version::Four => json!({ "Accept": "application/json;odata.metadata=none" }),
            Version::Two => json!({ "Accept": "application/json", "MaxDataServiceVersion": "2.0" }),
        };
        send.insert("headers".into(), headers);
        Call {
            method: method.into(),
            path,
            send,
            reply,
        }
    }

    /// Puts an operation in its place, with the parameters of its path before its own.
    pub(crate) fn put(
        &mut self,
        path: &str,
        method: &str,
        parameters: &[Value],
        mut op: Value,
        call: Call,
    ) {
        let method = method.to_ascii_lowercase();
        let item = self.paths.entry(path).or_insert_with(|| json!({}));
        let id = op["operationId"].as_str().unwrap_or_default().to_owned();
        if item.get(&method).is_some() {
            return;
        }
        let own = op["parameters"].as_array().cloned().unwrap_or_default();
        let all: Vec<Value> = parameters.iter().cloned().chain(own).collect();
        if let Some(members) = op.as_object_mut() {
            members.remove("parameters");
            if !all.is_empty() {
                members.insert("parameters".into(), json!(all));
            }
        }
        item[method] = op;
        self.calls.insert(id, call);
    }

    /// One entity as it comes: before v4 below `d` (MS-ODATA §2.2.6.3.3).
    pub(crate) fn single(&mut self, of: &str) -> Value {
        let one = self.schemas.reference(of).unwrap_or_else(|| json!({}));
        self.wrapped(one)
    }

    pub(crate) fn wrapped(&self, schema: Value) -> Value {
        match self.model.version {
            Version::Four => schema,
            Version::Two => {
                json!({ "type": "object", "required": ["d"], "properties": { "d": schema } })
            }
        }
    }

    /// Several as they come.
    pub(crate) fn listed(&mut self, of: &str) -> Value {
        let items = self.schemas.reference(of);
        let items = json!({ "type": "array", "items": items.unwrap_or_else(|| json!({})) });
        self.listed_as(items)
    }

    pub(crate) fn listed_as(&self, items: Value) -> Value {
        let next = json!({ "type": "string", "format": "uri-reference", "description": "Where the next page is" });
        match self.model.version {
            Version::Four => json!({ "type": "object", "required": ["value"], "properties": {
                "@odata.count": { "type": "integer" }, "value": items, "@odata.nextLink": next,
            } }),
            Version::Two => json!({ "type": "object", "required": ["d"], "properties": { "d": {
                "type": "object", "required": ["results"], "properties": {
                    "__count": nullable(json!({ "type": "string" })), "results": items, "__next": next,
                },
            } } }),
        }
    }

    /// A page of several, whose link to the next one leads to the facade: the service's query behind the caller's own path
    /// (RFC 3986 §5.2.2).
    pub(crate) fn paged(&self) -> Option<Value> {
        let behind = |link: &str| format!("='?' + {link}.split('?', 2)[?1]");
        Some(match self.model.version {
            Version::Four => json!({
                "@odata.count": "=answer.body[?\"@odata.count\"]", "value": "=answer.body.value",
                "@odata.nextLink": behind("answer.body[?\"@odata.nextLink\"]"),
            }),
            Version::Two => json!({ "d": {
                "__count": "=answer.body.d.?__count", "results": "=answer.body.d.results",
                "__next": behind("answer.body.d.?__next"),
            } }),
        })
    }
}

pub(crate) fn json_body(description: &str, schema: Value) -> Value {
    json!({ "description": description, "content": { "application/json": { "schema": schema } } })
}

/// The service's root: what stands before `$metadata` (OData URL Conventions 4.01 §2).
fn root(origin: &Origin<'_>) -> Option<String> {
    let address = match origin.address.contains("://") {
        true => origin.address,
        false => origin.file,
    };
    let path = address.split(['?', '#']).next().unwrap_or_default();
    let root = path.strip_suffix("$metadata");
    let root = root.or_else(|| path.strip_suffix("%24metadata"))?;
    Some(root.trim_end_matches('/').to_owned())
}
