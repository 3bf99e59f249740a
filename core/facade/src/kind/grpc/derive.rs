//! Documents for a gRPC definition.

use std::collections::BTreeSet;
use std::sync::Arc;

use porch_contract::Finding;
use porch_grpc::propose::{Shape, shapes_after};
use porch_grpc::read::Service;
use porch_grpc::rule::{Bound, Piece};
use porch_grpc::{Definition, Method, Schemas, Types};
use serde_json::{Map, Value, json};

use super::{is_raw_field, is_raw_message};
use crate::derive::{
    BackendParts, Derived, Wanted, backend_doc, base_for, contract_doc, facade_doc,
};
use crate::documents::Names;
use crate::{Files, Source};

/// Methods that OpenAPI 3.1 has a place for (§4.8.9).
const KNOWN: [&str; 8] = [
    "get", "put", "post", "delete", "options", "head", "patch", "trace",
];

pub(super) fn derive(source: &Source, wanted: &Wanted<'_>) -> Result<Derived, Box<Finding>> {
    let mut definition = porch_grpc::read(&source.files, &|_, _| ())?;
    if wanted.names == Names::AsIs {
        definition.types = Arc::new(definition.types.in_own_names());
    }
    let definition = &definition;
    let takes = |shape: &Shape| {
        wanted.takes(&shape.calls)
            || (shape.calls.split_once('/')).is_some_and(|(service, _)| wanted.takes(service))
    };
    let mut picked: Vec<Shape> = shapes_after(definition, wanted.first)
        .into_iter()
        .filter(takes)
        .collect();
    if wanted.names == Names::AsIs {
        picked.iter_mut().for_each(Shape::in_own_names);
    }
    if picked.is_empty() {
        return Err(Box::new(Finding::error(
            &source.main,
            Default::default(),
            "none of its methods was picked",
        )));
    }
    let services: Vec<&Service> = definition
        .services
        .iter()
        .filter(|s| {
            picked
                .iter()
                .any(|p| p.calls.starts_with(&format!("{}/", s.name)))
        })
        .collect();
    let mut schemas = Schemas::new(&definition.types);
    let (paths, wiring) = wired_paths(definition, &picked, wanted.name, &mut schemas);
    let documentation: Vec<&str> = services
        .iter()
        .map(|s| s.documentation.as_str())
        .filter(|d| !d.is_empty())
        .collect();
    let title = services
        .iter()
        .map(|s| s.name.rsplit('.').next().unwrap_or(&s.name))
        .collect::<Vec<_>>()
        .join(", ");
    let base = base_for(wanted.name, picked.iter().map(|s| s.path.as_str()));
    let contract = contract_doc(
        (&title, &base),
        &documentation.join("\n"),
        paths,
        schemas.schemas,
    );
    Ok(documents(
        (source, definition, &services),
        wanted,
        &title,
        &base,
        (wiring, contract),
    ))
}

/// Paths of the contract and the wiring of their operations.
fn wired_paths(
    definition: &Definition,
    picked: &[Shape],
    name: &str,
    schemas: &mut Schemas<'_>,
) -> (Map<String, Value>, Map<String, Value>) {
    let (mut paths, mut wiring) = (Map::new(), Map::new());
    for shape in picked {
        let Some(method) = definition.method(&shape.calls) else {
            continue;
        };
        let doc = operation(schemas, &definition.types, shape, method);
        let item = paths.entry(shape.path.clone()).or_insert_with(|| json!({}));
        match shape.method.to_lowercase() {
            lower if KNOWN.contains(&lower.as_str()) => item[lower] = doc,
            // OpenAPI 3.1 has no other methods; 3.2 calls this `additionalOperations`.
            _ => item["x-additionalOperations"][shape.method.clone()] = doc,
        }
        wiring.insert(
            shape.id.clone(),
            wired(&definition.types, name, shape, method),
        );
    }
    (paths, wiring)
}

fn documents(
    (source, definition, services): (&Source, &Definition, &[&Service]),
    wanted: &Wanted<'_>,
    title: &str,
    base: &str,
    (wiring, contract): (Map<String, Value>, String),
) -> Derived {
    let name = wanted.name;
    let (main, kept) = definition_files(
        source,
        definition,
        name,
        services.iter().map(|s| s.file.as_str()),
    );
    let told = Some(source.address.as_str()).filter(|a| !a.is_empty());
    let backend = backend_doc(&BackendParts {
        name,
        title,
        kind: super::NAME,
        definition: Some(&main),
        address: wanted.address.or(told).unwrap_or("http://127.0.0.1:50051"),
        calling: Map::new(),
        // Fields have both names; the facade says which it shows.
        names: Names::AsIs,
    });
    let operations = wiring.len();
    let mut facade = facade_doc(name, title, base, wiring);
    if wanted.names == Names::AsIs {
        facade = facade.replacen(
            "\noperations:",
            "\njson:\n  field-names: proto\noperations:",
            1,
        );
    }
    let mut files = Files::from([
        (format!("{name}.backend.yaml"), backend),
        (format!("{name}.facade.yaml"), facade),
        (format!("{name}.openapi.yaml"), contract),
    ]);
    files.extend(kept);
    Derived {
        files,
        operations,
        findings: definition.findings.clone(),
        secrets: Vec::new(),
    }
}

/// The definition's files that the wanted services stand on: a folder of `.proto` files, or one descriptor set.
fn definition_files<'d>(
    source: &Source,
    definition: &Definition,
    name: &str,
    wanted: impl Iterator<Item = &'d str>,
) -> (String, Files) {
    let wanted: Vec<&str> = wanted.collect();
    let used: BTreeSet<&String> = wanted
        .iter()
        .filter_map(|f| definition.used.get(*f))
        .flatten()
        .collect();
    let sets: Vec<&&String> = used
        .iter()
        .filter(|p| {
            source
                .files
                .get(**p)
                .is_some_and(|t| porch_grpc::read::descriptor_set(t).is_some())
        })
        .collect();
    if let (1, [set]) = (used.len(), sets.as_slice()) {
        let main = format!("{name}.descriptors.txt");
        return (
            main.clone(),
            Files::from([(main, porch_grpc::read::only(&source.files[**set], &wanted))]),
        );
    }
    let folder = format!("{name}-definition");
    let files = used
        .into_iter()
        .filter_map(|p| Some((format!("{folder}/{p}"), source.files.get(p)?.clone())));
    (folder.clone(), files.collect())
}

/// One operation of the contract.
fn operation(schemas: &mut Schemas<'_>, types: &Types, shape: &Shape, method: &Method) -> Value {
    let mut doc = json!({ "operationId": shape.id, "summary": method.documentation.lines().next().unwrap_or_default() });
    if method.documentation.lines().count() > 1 {
        doc["description"] = json!(method.documentation);
    }
    if method.deprecated {
        doc["deprecated"] = json!(true);
    }
    let parameters = parameters(schemas, types, shape, method);
    if !parameters.is_empty() {
        doc["parameters"] = Value::Array(parameters);
    }
    let body = match shape.body.as_str() {
        "" => None,
        "*" => Some((
            schemas.of(method.input),
            is_raw_message(types, method.input),
        )),
        name => types
            .message(method.input)
            .field(name)
            .map(|f| (schemas.field(f), is_raw_field(types, f))),
    };
    if let Some((schema, raw)) = body {
        let kind = if raw {
            "*/*"
        } else if method.client_streaming {
            "application/x-ndjson"
        } else {
            "application/json"
        };
        let content = if raw {
            json!({ "schema": {} })
        } else {
            json!({ "schema": schema })
        };
        doc["requestBody"] =
            json!({ "required": needs_body(types, shape, method), "content": { kind: content } });
    }
    let (schema, raw) = match types
        .message(method.output)
        .field(&shape.response_body)
        .filter(|_| !shape.response_body.is_empty())
    {
        Some(field) => (schemas.field(field), is_raw_field(types, field)),
        None => (
            schemas.of(method.output),
            is_raw_message(types, method.output),
        ),
    };
    let content = match (raw, method.server_streaming) {
        (true, _) => json!({ "*/*": { "schema": {} } }),
        (false, true) => {
            json!({ "application/x-ndjson": { "schema": schema }, "text/event-stream": { "schema": schema } })
        }
        (false, false) => json!({ "application/json": { "schema": schema } }),
    };
    let description = if method.server_streaming {
        "The messages, one by one: lines of JSON, or events."
    } else {
        "The answer."
    };
    doc["responses"] = json!({ "200": { "description": description, "content": content }, "default": { "$ref": "#/components/responses/Problem" } });
    doc
}

/// Whether a call without a body lacks something: none is an empty message, which is as good as any where no field of it is
/// REQUIRED (`google/api/field_behavior.proto`).
fn needs_body(types: &Types, shape: &Shape, method: &Method) -> bool {
    let input = types.message(method.input);
    match shape.body.as_str() {
        _ if method.client_streaming => false,
        "*" => {
            let elsewhere = |f: &porch_grpc::Field| {
                let mut bound = shape.bound.iter();
                bound.any(|b| b.field.first().is_some_and(|first| **first == *f.name))
            };
            input.fields.iter().any(|f| f.must && !elsewhere(f))
        }
        name => input.field(name).is_some_and(|f| f.must),
    }
}

/// The value of a field that is one variable of the path.
fn whole_variable<'b>(shape: &'b Shape, name: &str) -> Option<&'b Bound> {
    shape
        .bound
        .iter()
        .find(|b| matches!(b.pieces.as_slice(), [Piece::Variable(v)] if v == name))
}

fn parameters(
    schemas: &mut Schemas<'_>,
    types: &Types,
    shape: &Shape,
    method: &Method,
) -> Vec<Value> {
    let mut list = Vec::new();
    let template = porch_contract::PathTemplate::parse(&shape.path).ok();
    let several = |name: &str| {
        template
            .iter()
            .flat_map(|t| &t.segments)
            .any(|s| matches!(s, porch_contract::Segment::Rest(n) if n == name))
    };
    for name in template.iter().flat_map(|t| t.variables()) {
        let field = whole_variable(shape, name)
            .and_then(|b| types.resolve(method.input, &b.field.join(".")).ok()?.pop());
        let mut schema = field.map_or_else(|| json!({ "type": "string" }), |f| schemas.field(f));
        let description = schema
            .as_object_mut()
            .and_then(|s| s.shift_remove("description"));
        let mut doc = json!({ "name": if several(name) { format!("{name}*") } else { name.to_owned() }, "in": "path", "required": true });
        if let Some(text) = description {
            doc["description"] = text;
        }
        doc["schema"] = schema;
        list.push(doc);
    }
    if shape.body == "*" {
        return list;
    }
    let bound: Vec<String> = shape
        .bound
        .iter()
        .filter_map(|b| Some(json_path(types, method, &b.field)?.join(".")))
        .collect();
    let body = types
        .message(method.input)
        .field(&shape.body)
        .map(|f| f.json.to_string())
        .filter(|_| !shape.body.is_empty());
    for (path, field) in types.query_fields(method.input) {
        let below = |outer: &str| path == *outer || path.starts_with(&format!("{outer}."));
        // A message that is bound as a whole has no fields left.
        if bound.contains(&path) || body.as_deref().is_some_and(below) {
            continue;
        }
        let mut schema = schemas.field(field);
        let description = schema
            .as_object_mut()
            .and_then(|s| s.shift_remove("description"));
        let mut doc = json!({ "name": path, "in": "query" });
        if field.must && !path.contains('.') {
            doc["required"] = json!(true);
        }
        if let Some(text) = description {
            doc["description"] = text;
        }
        doc["schema"] = schema;
        list.push(doc);
    }
    list
}

/// A field's path in JSON names.
fn json_path(types: &Types, method: &Method, field: &[String]) -> Option<Vec<String>> {
    Some(
        types
            .resolve(method.input, &field.join("."))
            .ok()?
            .iter()
            .map(|f| f.json.to_string())
            .collect(),
    )
}

/// How one operation is carried out.
fn wired(types: &Types, name: &str, shape: &Shape, method: &Method) -> Value {
    let mut doc = json!({ "call": { "backend": name, "operation": shape.calls } });
    let mut send = Map::new();
    for bound in &shape.bound {
        let Some(path) = json_path(types, method, &bound.field) else {
            continue;
        };
        put(&mut send, &path, json!(expression(bound)));
    }
    if !shape.body.is_empty() {
        doc["body"] = json!(shape.body);
    }
    if !send.is_empty() {
        doc["send"] = Value::Object(send);
    }
    if !shape.response_body.is_empty() {
        doc["response-body"] = json!(shape.response_body);
    }
    doc
}

fn put(into: &mut Map<String, Value>, path: &[String], value: Value) {
    match path {
        [] => {}
        [last] => drop(into.insert(last.clone(), value)),
        [first, rest @ ..] => {
            if let Value::Object(inner) = into.entry(first.clone()).or_insert_with(|| json!({})) {
                put(inner, rest, value);
            }
        }
    }
}

/// The value of a field from the path. Where it spans several segments, slashes that came encoded stay encoded
/// (`google/api/http.proto`, on multi-segment variables).
fn expression(bound: &Bound) -> String {
    let mut parts: Vec<String> = Vec::new();
    let mut fixed = String::new();
    for (i, piece) in bound.pieces.iter().enumerate() {
        if i > 0 {
            fixed.push('/');
        }
        match piece {
            Piece::Fixed(text) => fixed.push_str(text),
            Piece::Variable(name) | Piece::Several(name) => {
                if !fixed.is_empty() {
                    parts.push(format!(
                        "'{}'",
                        std::mem::take(&mut fixed)
                            .replace('\\', "\\\\")
                            .replace('\'', "\\'")
                    ));
                }
                let one_of_several = bound.several && matches!(piece, Piece::Variable(_));
                parts.push(if one_of_several {
                    format!("path.{name}.replace('/', '%2F')")
                } else {
                    format!("path.{name}")
                });
            }
        }
    }
    if !fixed.is_empty() {
        parts.push(format!("'{fixed}'"));
    }
    format!("={}", parts.join(" + "))
}
