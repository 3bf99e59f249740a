//! Functions and actions, bound to entities or offered by the container.

use std::collections::HashMap;

use serde_json::{Map, Value, json};

use super::options::{Asked, references};
use super::{Builder, json_body};
use crate::calls::arguments;
use crate::model::{Operation, Property, Version};
use crate::names::{capital, encoded, small};
use crate::operations::Place;

/// How a function or an action is reached.
struct Way<'a> {
    place: &'a Place,
    /// Its name in the facade's path, and in ids.
    word: String,
    /// Its name in the service's path.
    theirs: String,
    id: String,
    tag: Option<String>,
    parameters: &'a [Property],
    method: Option<&'a str>,
    at: usize,
}

impl<'m> Builder<'m> {
    /// What is bound to a type, or to one that it is derived from.
    pub(crate) fn bound(&mut self, of: &str, several: bool, place: &Place) {
        let lineage = self.model.lineage(of).into_iter();
        let mut bound: Vec<&'m Operation> = lineage
            .filter_map(|to| self.bound.get(&(to, several)))
            .flatten()
            .copied()
            .collect();
        bound.sort_by_key(|o| o.at);
        let tag = place.ours.split('/').nth(1).map(str::to_owned);
        for operation in bound {
            if self.is_full() {
                return;
            }
            let word = small(&operation.name);
            let way = Way {
                place,
                id: format!("{word}{}", capital(&place.word)),
                theirs: encoded(&operation.full),
                word,
                tag: tag.clone(),
                parameters: operation.parameters.get(1..).unwrap_or_default(),
                method: None,
                at: operation.at,
            };
            self.tried += 1;
            self.offered(operation, &way);
        }
    }

    /// What the container offers.
    pub(crate) fn imports(&mut self) {
        let model = self.model;
        let top = Place {
            ours: String::new(),
            theirs: String::new(),
            parameters: Vec::new(),
            path: Map::new(),
            word: String::new(),
        };
        let mut unbound: HashMap<&str, Vec<&Operation>> = HashMap::new();
        for operation in model.operations.iter().filter(|o| !o.bound) {
            unbound.entry(&operation.full).or_default().push(operation);
        }
        for import in &model.imports {
            if self.is_full() {
                return;
            }
            let all = unbound.get(import.of.as_str());
            let all: Vec<&Operation> = all.cloned().unwrap_or_default();
            if all.is_empty() {
                let message = format!(
                    "“{}” offers “{}”, which is not there",
                    import.name, import.of
                );
                self.warn(import.at, message);
            }
            for operation in all {
                let word = small(&import.name);
                let way = Way {
                    place: &top,
                    id: word.clone(),
                    word,
                    theirs: encoded(&import.name),
                    tag: None,
                    parameters: &operation.parameters,
                    method: import.method.as_deref(),
                    at: import.at,
                };
                self.tried += 1;
                self.offered(operation, &way);
            }
        }
    }

    fn offered(&mut self, operation: &Operation, way: &Way<'_>) {
        let with_body = operation.action && self.model.version == Version::Four;
        let method = way
            .method
            .unwrap_or(if operation.action { "POST" } else { "GET" });
        if !["GET", "POST"].contains(&method) {
            let message = format!("“{}” is called by {method}, which is not read", way.word);
            return self.warn(way.at, message);
        }
        let taken = &way.place.parameters;
        let given = if with_body { &[] } else { way.parameters };
        let Some(arguments) = arguments(self.model, given, taken) else {
            let message = format!(
                "parameters of “{}” cannot be written in an address: it is not published",
                way.word
            );
            return self.warn(way.at, message);
        };
        if !arguments.left_out.is_empty() {
            let message = format!(
                "“{}” is called without what may be left out: {}",
                way.word,
                arguments.left_out.join(", ")
            );
            self.note(way.at, message);
        }
        let (mut op, listed) = self.described(operation, way);
        let options = match (listed, &operation.returns) {
            (true, Some(returns)) => self.options(&returns.of.name, true),
            _ => Vec::new(),
        };
        op["parameters"] = arguments
            .parameters
            .iter()
            .chain(&references(&options))
            .cloned()
            .collect();
        if with_body && !way.parameters.is_empty() {
            op["requestBody"] = self.body(way.parameters);
        }
        let reply = if listed { self.paged() } else { None };
        let behind = match (self.model.version, operation.action) {
            (Version::Four, false) => arguments.theirs.as_str(),
            _ => "",
        };
        let theirs = format!("{}/{}{behind}", way.place.theirs, way.theirs);
        let mut call = self.call(method, theirs, way.place, reply);
        let mut path = way.place.path.clone();
        path.extend(arguments.path);
        if !path.is_empty() {
            call.send.insert("path".into(), json!(path));
        }
        if !operation.action || !arguments.query.is_empty() {
            let mut query = arguments.query;
            query.extend(passed(&options));
            if !arguments.parameters.is_empty() {
                call.send.insert("query".into(), json!(query));
            }
        }
        let ours = self.free(way, method);
        self.put(&ours, method, taken, op, call);
    }

    /// A path that nothing else has: overloads are told apart by what they take.
    fn free(&self, way: &Way<'_>, method: &str) -> String {
        let plain = format!("{}/{}", way.place.ours, encoded(&way.word));
        let method = method.to_ascii_lowercase();
        let used = |path: &str| {
            self.paths
                .get(path)
                .is_some_and(|i| i.get(&method).is_some())
        };
        if !used(&plain) {
            return plain;
        }
        let names: Vec<String> = way
            .parameters
            .iter()
            .take(8)
            .map(|p| capital(&p.name))
            .collect();
        let by = encoded(&names.join("And"));
        let by = format!("{plain}By{by}");
        match used(&by) {
            false => by,
            // Ids are given once, so that this is free.
            true => format!("{plain}{}", self.calls.len()),
        }
    }

    /// What is said of it, and whether it answers with several entities.
    fn described(&mut self, operation: &Operation, way: &Way<'_>) -> (Value, bool) {
        let mut listed = false;
        let answer = match &operation.returns {
            None => json!({ "204": { "description": "It was done." } }),
            Some(returns) => {
                listed = returns.of.collection;
                let schema = self.returned(returns);
                let mut answer = json!({ "200": json_body("What came of it.", schema) });
                if returns.nullable {
                    answer["204"] = json!({ "description": "Nothing came of it." });
                }
                answer
            }
        };
        let mut op = json!({ "operationId": self.id(&way.id), "summary": operation.name, "responses": answer });
        if let Some(tag) = &way.tag {
            op["tags"] = json!([tag]);
        }
        if !operation.documentation.is_empty() {
            op["description"] = json!(operation.documentation);
        }
        (op, listed)
    }

    /// An answer (OData JSON Format 4.01 §11, §14; MS-ODATA §2.2.6.5).
    fn returned(&mut self, returns: &Property) -> Value {
        let entity = self.model.structures.contains_key(&returns.of.name);
        if returns.of.collection {
            let items = crate::model::Type {
                collection: false,
                ..returns.of.clone()
            };
            let items = json!({ "type": "array", "items": self.schemas.typed(&items) });
            return self.listed_as(items);
        }
        let schema = self.schemas.typed(&returns.of);
        match (self.model.version, entity) {
            (Version::Four, false) => {
                json!({ "type": "object", "properties": { "value": schema } })
            }
            // A value stands below the operation's name.
            (Version::Two, false) => self.wrapped(json!({ "type": "object" })),
            _ => self.wrapped(schema),
        }
    }

    /// The parameters of an action (OData JSON Format 4.01 §18).
    fn body(&mut self, parameters: &[Property]) -> Value {
        let mut properties = Map::new();
        let mut needed = Vec::new();
        for parameter in parameters {
            let schema = self.schemas.property(parameter);
            properties.insert(parameter.name.clone(), schema);
            if !parameter.nullable && !parameter.optional {
                needed.push(parameter.name.as_str());
            }
        }
        let mut schema = json!({ "type": "object", "properties": properties });
        if !needed.is_empty() {
            schema["required"] = json!(needed);
        }
        json!({ "required": !needed.is_empty(), "content": { "application/json": { "schema": schema } } })
    }
}

/// The caller's own system query options, where the query is built.
fn passed(options: &[Asked]) -> impl Iterator<Item = (String, Value)> {
    let passed = |n: &str| (n.to_owned(), json!(format!("=query[?{}]", json!(n))));
    options.iter().map(move |(name, _)| passed(name))
}
