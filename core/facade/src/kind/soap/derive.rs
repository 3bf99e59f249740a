//! Documents for a WSDL.

use porch_contract::Finding;
use porch_soap::propose::Shape;
use porch_soap::{Definition, JsonSchemas, ObjectPlan, Operation, TypePlan, propose};
use serde_json::{Map, Value, json};

use crate::Files;
use crate::derive::{
    BackendParts, Derived, Wanted, backend_doc, base_for, contract_doc, facade_doc,
};
use crate::documents::Names;
use crate::source::Source;

pub(super) fn derive(source: &Source, wanted: &Wanted<'_>) -> Result<Derived, Box<Finding>> {
    let mut definition = porch_soap::read_definition(&source.files, &source.main)?;
    let mut shapes = propose::shapes_after(&definition, wanted.first);
    match wanted.names {
        Names::AsIs => shapes.iter_mut().for_each(as_is),
        Names::Camel => {
            definition.in_camel();
            shapes = propose::shapes_after(&definition, wanted.first);
        }
    }
    let definition = &definition;
    let mut making = Making {
        definition,
        name: wanted.name,
        schemas: JsonSchemas::new(&definition.plan),
        paths: Map::new(),
        wiring: Map::new(),
        headers: Map::new(),
    };
    for (operation, shape) in definition.operations.iter().zip(&shapes) {
        if operation.unavailable.is_none() && wanted.takes(&operation.name) {
            making.operation(operation, shape);
        }
    }
    if making.wiring.is_empty() {
        return Err(Box::new(none_callable(definition, source, wanted)));
    }
    Ok(making.documents(source, wanted))
}

/// Names path variables and query parameters as the members that they are, where expressions can name those.
fn as_is(shape: &mut Shape) {
    let plain = |name: &str| {
        let mut chars = name.chars();
        chars.next().is_some_and(|c| c.is_ascii_alphabetic())
            && chars.all(|c| c.is_ascii_alphanumeric() || c == '_')
    };
    for (member, parameter) in &mut shape.in_path {
        if plain(member) {
            let (from, to) = (format!("{{{parameter}}}"), format!("{{{member}}}"));
            shape.path = shape.path.replace(&from, &to);
            parameter.clone_from(member);
        }
    }
    for (member, parameter) in &mut shape.in_query {
        if plain(member) {
            parameter.clone_from(member);
        }
    }
}

/// Why nothing can be derived: what stands in the way of the operations that are wanted.
fn none_callable(definition: &Definition, source: &Source, wanted: &Wanted<'_>) -> Finding {
    let reasons: Vec<String> = definition
        .operations
        .iter()
        .filter(|o| wanted.takes(&o.name))
        .filter_map(|o| Some(format!("{}: {}", o.name, o.unavailable.as_ref()?)))
        .collect();
    let finding = |why: &str| {
        let message = format!("none of its operations can be called: {why}");
        Finding::error(&source.main, Default::default(), message)
    };
    match reasons.as_slice() {
        // What was passed by says why there are none.
        [] => match definition.findings.first() {
            Some(first) => Finding {
                line: first.line,
                column: first.column,
                file: first.file.clone(),
                ..finding(&first.message).help(&*first.help)
            },
            None => finding("it has none").help("give the file with the bindings"),
        },
        [one] => finding(one),
        [one, two] => finding(&format!("{one}; {two}")),
        [one, two, rest @ ..] => finding(&format!("{one}; {two}; and {} more", rest.len())),
    }
}

/// Documents while they are made.
struct Making<'d> {
    definition: &'d Definition,
    name: &'d str,
    schemas: JsonSchemas<'d>,
    paths: Map<String, Value>,
    wiring: Map<String, Value>,
    headers: Map<String, Value>,
}

impl Making<'_> {
    fn operation(&mut self, operation: &Operation, shape: &Shape) {
        let Some(input) = &operation.input else {
            return;
        };
        for header in &operation.headers {
            let secrets = header_secrets(self.definition, self.name, header);
            self.headers.insert(header.json.clone(), secrets);
        }
        let object = match self.definition.plan.get(input.type_id) {
            TypePlan::Object(object) => Some(object),
            _ => None,
        };
        let (parameters, send) = self.parameters(shape, object);
        let mut doc = json!({ "operationId": shape.id, "summary": operation.documentation });
        if !parameters.is_empty() {
            doc["parameters"] = json!(parameters);
        }
        let empty = object.is_some_and(|o| o.members.is_empty() && o.text.is_none());
        let has_body = shape.method != "GET" && shape.in_path.is_empty() && !empty;
        if has_body {
            doc["requestBody"] = json!({ "required": true, "content": { "application/json": { "schema": self.schemas.of(input.type_id) } } });
        }
        doc["responses"] = self.responses(operation);
        let item = self.paths.entry(shape.path.clone());
        item.or_insert_with(|| json!({}))[shape.method.to_lowercase()] = doc;
        let send = if has_body {
            json!("=body")
        } else {
            Value::Object(send)
        };
        let mut op =
            json!({ "call": { "backend": self.name, "operation": operation.name }, "send": send });
        let faults: Map<String, Value> = operation
            .faults
            .iter()
            .map(|(_, m)| (m.local.clone(), json!(422)))
            .collect();
        if !faults.is_empty() {
            op["faults"] = Value::Object(faults);
        }
        self.wiring.insert(shape.id.clone(), op);
    }

    fn responses(&mut self, operation: &Operation) -> Value {
        let mut responses = match &operation.output {
            Some(_) if operation.answers_nothing(&self.definition.plan) => {
                json!({ "204": { "description": "Done; there is nothing to tell." } })
            }
            Some(output) => {
                json!({ "200": { "description": "The answer.", "content": { "application/json": { "schema": self.schemas.of(output.type_id) } } } })
            }
            None if operation.one_way => json!({ "202": { "description": "Taken in." } }),
            None => json!({ "204": { "description": "Done; there is nothing to tell." } }),
        };
        if !operation.faults.is_empty() {
            responses["422"] = self.faults(operation);
        }
        responses["default"] = json!({ "$ref": "#/components/responses/Problem" });
        responses
    }

    /// The problem of the declared faults: which one, and its detail.
    fn faults(&mut self, operation: &Operation) -> Value {
        let mut names: Vec<&str> = Vec::new();
        let mut kinds = Vec::new();
        for (_, member) in &operation.faults {
            if names.contains(&member.local.as_str()) {
                continue;
            }
            names.push(&member.local);
            let detail = self.schemas.of(member.type_id);
            kinds.push(json!({ "type": "object", "properties": {
                "name": { "const": member.local }, "code": { "type": "string" }, "detail": detail,
            }, "required": ["name"] }));
        }
        let fault = match kinds.len() {
            1 => kinds.remove(0),
            _ => json!({ "oneOf": kinds }),
        };
        let schema = json!({ "allOf": [
            { "$ref": "#/components/schemas/Problem" },
            { "type": "object", "properties": { "fault": fault } },
        ] });
        let description = format!("What the service refuses with: {}.", names.join(", "));
        json!({ "description": description, "content": { "application/problem+json": { "schema": schema } } })
    }

    /// Parameters of the contract, and what is sent of them.
    fn parameters(
        &mut self,
        shape: &Shape,
        object: Option<&ObjectPlan>,
    ) -> (Vec<Value>, Map<String, Value>) {
        let (mut parameters, mut send) = (Vec::new(), Map::new());
        for (place, list) in [("path", &shape.in_path), ("query", &shape.in_query)] {
            for (member, parameter) in list {
                let Some(found) = object.and_then(|o| o.member(member)) else {
                    continue;
                };
                let mut schema = self.schemas.member(found);
                let description = schema
                    .as_object_mut()
                    .and_then(|s| s.shift_remove("description"));
                let mut doc = json!({ "name": parameter, "in": place });
                if place == "path" || found.required() {
                    doc["required"] = json!(true);
                }
                if let Some(text) = description {
                    doc["description"] = text;
                }
                doc["schema"] = schema;
                parameters.push(doc);
                let optional = if place == "query" && !found.required() {
                    "?"
                } else {
                    ""
                };
                let value = format!("={place}.{optional}{parameter}");
                send.insert(member.clone(), json!(value));
            }
        }
        (parameters, send)
    }

    fn documents(self, source: &Source, wanted: &Wanted<'_>) -> Derived {
        let (definition, name) = (self.definition, self.name);
        let base = base_for(name, self.paths.keys().map(String::as_str));
        let contract = contract_doc(
            (&definition.title, &base),
            &definition.documentation,
            self.paths,
            self.schemas.schemas,
        );
        let operations = self.wiring.len();
        let (files_of_definition, main) = porch_soap::localise::localise(
            &source.files,
            &source.main,
            &definition.used,
            &format!("{name}.wsdl"),
        );
        // One file stands beside the documents; several have a folder of their own.
        let folder = if files_of_definition.len() > 1 {
            format!("{name}-definition/")
        } else {
            String::new()
        };
        let mut calling = Map::new();
        if !self.headers.is_empty() {
            calling.insert("soap-headers".into(), Value::Object(self.headers));
        }
        let backend = backend_doc(&BackendParts {
            name,
            title: &definition.title,
            kind: super::NAME,
            definition: Some(&format!("{folder}{main}")),
            address: wanted.address.unwrap_or(address(definition)),
            calling,
            names: wanted.names,
        });
        let facade = facade_doc(name, &definition.title, &base, self.wiring);
        let mut files = Files::from([
            (format!("{name}.backend.yaml"), backend),
            (format!("{name}.facade.yaml"), facade),
            (format!("{name}.openapi.yaml"), contract),
        ]);
        files.extend(
            files_of_definition
                .into_iter()
                .map(|(path, text)| (format!("{folder}{path}"), text)),
        );
        Derived {
            files,
            operations,
            findings: definition.findings.clone(),
            secrets: Vec::new(),
        }
    }
}

/// An address that can be called; else the one that it names, so that the check tells what is wrong with it.
fn address(definition: &Definition) -> &str {
    let addresses = || {
        definition
            .ports
            .iter()
            .map(|p| p.address.as_str())
            .filter(|a| !a.is_empty())
    };
    addresses()
        .find(|a| a.starts_with("http://") || a.starts_with("https://"))
        .or_else(|| addresses().next())
        .unwrap_or("http://127.0.0.1/")
}

/// A secret for each text of a header element: `reservations-user`.
fn header_secrets(definition: &Definition, name: &str, header: &porch_soap::Member) -> Value {
    let TypePlan::Object(object) = definition.plan.get(header.type_id) else {
        return json!({ "secret": format!("{name}-{}", secret_name(&header.local)) });
    };
    let plain = |m: &&porch_soap::Member| {
        matches!(definition.plan.get(m.type_id), TypePlan::Simple(_)) && !m.many
    };
    let mut map: Map<String, Value> = object
        .members
        .iter()
        .filter(plain)
        .map(|m| {
            (
                m.json.clone(),
                json!({ "secret": format!("{name}-{}", secret_name(&m.local)) }),
            )
        })
        .collect();
    if let Some((text, _)) = &object.text {
        map.insert(
            text.clone(),
            json!({ "secret": format!("{name}-{}", secret_name(&header.local)) }),
        );
    }
    Value::Object(map)
}

/// A name that a secret can have: lower-case letters, digits and hyphens.
fn secret_name(name: &str) -> String {
    let clean: String = name
        .to_lowercase()
        .chars()
        .map(|c| if c.is_ascii_alphanumeric() { c } else { '-' })
        .collect();
    clean.trim_matches('-').to_owned()
}
