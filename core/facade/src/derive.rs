//! Deriving documents from a definition, ready to edit.

use porch_contract::{Finding, SchemaView};
use porch_soap::{Definition, JsonSchemas, TypePlan, propose};
use serde_json::{Map, Value, json};

use crate::look::{Kind, kind};
use crate::yaml::to_yaml;
use crate::{Files, Source};

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

/// Derives backend, facade and contract from a definition.
///
/// `name` names backend and facade; `address` stands in place of the one in the definition; `only` picks operations by
/// their name in the definition (none given: all).
///
/// # Errors
/// When the definition cannot be read, or none of its operations can be called.
pub fn derive(
    source: &Source,
    name: &str,
    address: Option<&str>,
    only: &[String],
) -> Result<Derived, Box<Finding>> {
    match kind(source)? {
        Kind::Soap => {
            let definition = porch_soap::read_definition(&source.files, &source.main)?;
            soap(source, &definition, name, address, only)
        }
        Kind::Grpc => {
            let definition = porch_grpc::read(&source.files, &|_, _| ())?;
            crate::derive_grpc::grpc(source, &definition, name, address, only)
        }
        Kind::Http => http(source, name, address, only),
    }
}

pub(crate) fn backend_doc(
    name: &str,
    title: &str,
    kind: &str,
    definition: Option<&str>,
    address: &str,
    headers: Map<String, Value>,
) -> String {
    let mut doc = json!({ "elm-porch": "backend/1", "name": name, "title": title, "kind": kind });
    if let Some(file) = definition {
        doc["definition"] = json!(file);
    }
    doc["address"] = json!(address);
    if !headers.is_empty() {
        doc["credentials"] = json!({ "calling": { "soap-headers": headers } });
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

fn soap(
    source: &Source,
    definition: &Definition,
    name: &str,
    address: Option<&str>,
    only: &[String],
) -> Result<Derived, Box<Finding>> {
    let shapes = propose::shapes(definition);
    let mut schemas = JsonSchemas::new(&definition.plan);
    let (mut paths, mut wiring, mut headers) = (Map::new(), Map::new(), Map::new());
    for (operation, shape) in definition.operations.iter().zip(&shapes) {
        let picked = only.is_empty() || only.contains(&operation.name);
        let Some(input) = operation
            .input
            .as_ref()
            .filter(|_| operation.unavailable.is_none() && picked)
        else {
            continue;
        };
        for header in &operation.headers {
            headers.insert(
                header.local.clone(),
                header_secrets(definition, name, header),
            );
        }
        let (mut parameters, mut send) = (Vec::new(), Map::new());
        let object = match definition.plan.get(input.type_id) {
            TypePlan::Object(object) => Some(object),
            _ => None,
        };
        for (place, list) in [("path", &shape.in_path), ("query", &shape.in_query)] {
            for (member, parameter) in list {
                let Some(found) = object.and_then(|o| o.member(member)) else {
                    continue;
                };
                let mut schema = schemas.member(found);
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
                send.insert(
                    member.clone(),
                    json!(format!("={place}.{optional}{parameter}")),
                );
            }
        }
        let mut doc = json!({ "operationId": shape.id, "summary": operation.documentation });
        if !parameters.is_empty() {
            doc["parameters"] = json!(parameters);
        }
        let empty = object.is_some_and(|o| o.members.is_empty() && o.text.is_none());
        let has_body = shape.method != "GET" && shape.in_path.is_empty() && !empty;
        if has_body {
            doc["requestBody"] = json!({ "required": true, "content": { "application/json": { "schema": schemas.of(input.type_id) } } });
        }
        doc["responses"] = match &operation.output {
            Some(output) => {
                json!({ "200": { "description": "The answer.", "content": { "application/json": { "schema": schemas.of(output.type_id) } } } })
            }
            None if operation.one_way => json!({ "202": { "description": "Taken in." } }),
            None => json!({ "204": { "description": "Done; there is nothing to tell." } }),
        };
        doc["responses"]["default"] = json!({ "$ref": "#/components/responses/Problem" });
        if !paths.contains_key(&shape.path) {
            paths.insert(shape.path.clone(), json!({}));
        }
        paths[&shape.path][shape.method.to_lowercase()] = doc;
        let send = if has_body {
            json!("=body")
        } else {
            Value::Object(send)
        };
        let mut op =
            json!({ "call": { "backend": name, "operation": operation.name }, "send": send });
        let faults: Map<String, Value> = operation
            .faults
            .iter()
            .map(|(_, m)| (m.local.clone(), json!(422)))
            .collect();
        if !faults.is_empty() {
            op["faults"] = Value::Object(faults);
        }
        wiring.insert(shape.id.clone(), op);
    }
    if wiring.is_empty() {
        return Err(Box::new(Finding::error(
            &source.main,
            Default::default(),
            "none of its operations can be called",
        )));
    }
    let mut contract = json!({
        "openapi": "3.1.0", "info": { "title": definition.title, "version": "1.0.0" },
        "paths": paths, "components": { "schemas": schemas.schemas }, "security": [{ "key": [] }],
    });
    if !definition.documentation.is_empty() {
        contract["info"]["description"] = json!(definition.documentation);
    }
    add_problem_and_key(&mut contract);
    keep_used_schemas(&mut contract);
    add_examples(&mut contract);
    let operations = wiring.len();
    // One that can be called; else the one that it names, so that the check tells what is wrong with it.
    let addresses = || {
        definition
            .ports
            .iter()
            .map(|p| p.address.as_str())
            .filter(|a| !a.is_empty())
    };
    let from = addresses()
        .find(|a| a.starts_with("http://"))
        .or_else(|| addresses().next())
        .unwrap_or("http://127.0.0.1/");
    let (definition_files, main) = porch_soap::localise::localise(
        &source.files,
        &source.main,
        &definition.used,
        &format!("{name}.wsdl"),
    );
    // One file stands beside the documents; several have a folder of their own.
    let folder = if definition_files.len() > 1 {
        format!("{name}-definition/")
    } else {
        String::new()
    };
    let mut files = Files::from([
        (
            format!("{name}.backend.yaml"),
            backend_doc(
                name,
                &definition.title,
                "soap",
                Some(&format!("{folder}{main}")),
                address.unwrap_or(from),
                headers,
            ),
        ),
        (
            format!("{name}.facade.yaml"),
            facade_doc(name, &definition.title, &format!("/{name}/v1"), wiring),
        ),
        (format!("{name}.openapi.yaml"), to_yaml(&contract)),
    ]);
    files.extend(
        definition_files
            .into_iter()
            .map(|(path, text)| (format!("{folder}{path}"), text)),
    );
    Ok(Derived {
        files,
        operations,
        findings: definition.findings.clone(),
    })
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

/// An example for each body, made from its schema (OpenAPI 3.1 §4.8.14).
pub(crate) fn add_examples(contract: &mut Value) {
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
pub(crate) fn add_problem_and_key(contract: &mut Value) {
    contract["components"]["responses"] = json!({ "Problem": { "description": "Why there is no answer (RFC 9457).", "content": { "application/problem+json": { "schema": { "$ref": "#/components/schemas/Problem" } } } } });
    contract["components"]["schemas"]["Problem"] = json!({ "type": "object", "properties": {
        "type": { "type": "string", "format": "uri-reference" }, "title": { "type": "string" }, "status": { "type": "integer" },
        "detail": { "type": "string" }, "instance": { "type": "string", "format": "uri-reference" },
    } });
    contract["components"]["securitySchemes"] =
        json!({ "key": { "type": "apiKey", "in": "header", "name": "API-Key" } });
}

/// Drops schemas that nothing refers to.
pub(crate) fn keep_used_schemas(contract: &mut Value) {
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

fn http(
    source: &Source,
    name: &str,
    address: Option<&str>,
    only: &[String],
) -> Result<Derived, Box<Finding>> {
    let text = source.files.get(&source.main).map_or("", String::as_str);
    let (contract, findings) = porch_contract::parse_contract(&source.main, text);
    let Some(contract) = contract else {
        return Err(Box::new(findings.into_iter().next().unwrap_or_else(|| {
            Finding::error(
                &source.main,
                Default::default(),
                "this is no OpenAPI document",
            )
        })));
    };
    let wiring: Map<String, Value> = contract
        .operations
        .values()
        .filter(|o| only.is_empty() || only.contains(&o.id))
        .map(|o| (o.id.clone(), json!({ "call": { "backend": name, "method": o.method, "path": o.path.to_string() } })))
        .collect();
    let server = contract
        .document
        .pointer("/servers/0/url")
        .and_then(Value::as_str)
        .filter(|u| u.starts_with("http://"))
        .unwrap_or("http://127.0.0.1/");
    let operations = wiring.len();
    let files = Files::from([
        (
            format!("{name}.backend.yaml"),
            backend_doc(
                name,
                &contract.title,
                "http",
                None,
                address.unwrap_or(server),
                Map::new(),
            ),
        ),
        (
            format!("{name}.facade.yaml"),
            facade_doc(name, &contract.title, &format!("/{name}/v1"), wiring),
        ),
        (format!("{name}.openapi.yaml"), text.to_owned()),
    ]);
    Ok(Derived {
        files,
        operations,
        findings,
    })
}
