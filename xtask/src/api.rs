//! The console's types of the console API, written from its OpenAPI document.

use std::fs;
use std::process::Command;

use serde_json::Value;

use crate::places::program;
use crate::{Outcome, root};

/// The APIs: what the program is asked for their documents with, and the file of their types.
const APIS: [(&[&str], &str); 2] = [
    (&["openapi"], "console/src/api/schema.ts"),
    (&["openapi", "--portal"], "console/src/portal/schema.ts"),
];

/// The types as they should be, from the program just built.
fn types(asked: &[&str]) -> Outcome<String> {
    let output = Command::new(program("porch"))
        .args(asked)
        .output()
        .map_err(|e| format!("porch openapi: {e}"))?;
    let document: Value =
        serde_json::from_slice(&output.stdout).map_err(|e| format!("porch openapi: {e}"))?;
    let mut out = "// Written by `cargo xtask api` from the API. Do not edit.\n".to_owned();
    let schemas = document.pointer("/components/schemas");
    for (name, schema) in schemas.and_then(Value::as_object).into_iter().flatten() {
        if schema["enum"].is_array() || schema["oneOf"].is_array() {
            out.push_str(&format!("\nexport type {name} = {};\n", kind_of(schema)));
        } else {
            out.push_str(&interface(&document, name, schema));
        }
    }
    out.push_str(&routes(&document));
    Ok(out)
}

/// What each route is given and gives.
fn routes(document: &Value) -> String {
    let mut out = "\nexport interface Routes {\n".to_owned();
    for (path, item) in document["paths"].as_object().into_iter().flatten() {
        for (method, operation) in item.as_object().into_iter().flatten() {
            let json = "content/application~1json/schema";
            let body = operation.pointer(&format!("/requestBody/{json}"));
            let replies = operation["responses"].as_object().into_iter().flatten();
            let reply = replies
                .filter(|(status, _)| status.starts_with('2'))
                .find_map(|(_, reply)| reply.pointer(&format!("/{json}")));
            out.push_str(&format!(
                "  \"{} {path}\": {{ query: {}; body: {}; reply: {} }};\n",
                method.to_uppercase(),
                query(operation),
                body.map_or("undefined".to_owned(), kind_of),
                reply.map_or("null".to_owned(), kind_of)
            ));
        }
    }
    out + "}\n"
}

/// The query parameters of a route.
fn query(operation: &Value) -> String {
    let all = operation["parameters"].as_array().into_iter().flatten();
    let members: Vec<String> = all
        .filter(|p| p["in"] == "query")
        .filter_map(|p| {
            Some(format!(
                "{}?: {}",
                p["name"].as_str()?,
                kind_of(&p["schema"])
            ))
        })
        .collect();
    if members.is_empty() {
        "undefined".into()
    } else {
        format!("{{ {} }}", members.join("; "))
    }
}

/// An object with its members.
fn interface(document: &Value, name: &str, schema: &Value) -> String {
    let mut out = format!("\nexport interface {name} {{\n");
    let mut required = names(&schema["required"]);
    // Parts that are put together (`allOf`) are written one behind the other.
    let whole = [schema.clone()];
    let parts = schema["allOf"].as_array().map_or(&whole[..], Vec::as_slice);
    let parts: Vec<&Value> = parts.iter().map(|p| followed(document, p)).collect();
    for part in &parts {
        required.extend(names(&part["required"]));
    }
    for (member, kind) in parts
        .iter()
        .filter_map(|p| p["properties"].as_object())
        .flatten()
    {
        if let Some(text) = kind["description"].as_str() {
            out.push_str(&format!("  /** {} */\n", text.replace('\n', " ")));
        }
        let mark = if required.contains(&member.as_str()) {
            ""
        } else {
            "?"
        };
        out.push_str(&format!("  {member}{mark}: {};\n", kind_of(kind)));
    }
    out + "}\n"
}

fn followed<'d>(document: &'d Value, schema: &'d Value) -> &'d Value {
    let target = schema["$ref"].as_str();
    target
        .and_then(|r| document.pointer(r.trim_start_matches('#')))
        .unwrap_or(schema)
}

fn names(list: &Value) -> Vec<&str> {
    let names = list.as_array().into_iter().flatten();
    names.filter_map(Value::as_str).collect()
}

/// One of several kinds.
fn any_of(kinds: impl Iterator<Item = String>) -> String {
    kinds.collect::<Vec<_>>().join(" | ")
}

fn kind_of(schema: &Value) -> String {
    if let Some(name) = schema["$ref"].as_str().and_then(|r| r.rsplit('/').next()) {
        return name.to_owned();
    }
    if let Some(values) = schema["enum"].as_array() {
        return any_of(values.iter().map(Value::to_string));
    }
    for several in ["oneOf", "anyOf"] {
        if let Some(parts) = schema[several].as_array() {
            return any_of(parts.iter().map(kind_of));
        }
    }
    match &schema["type"] {
        Value::String(name) => kind_of_type(schema, name),
        Value::Array(names) => any_of(
            names
                .iter()
                .filter_map(Value::as_str)
                .map(|name| kind_of_type(schema, name)),
        ),
        _ => "unknown".into(),
    }
}

fn kind_of_type(schema: &Value, name: &str) -> String {
    match name {
        "integer" | "number" => "number".to_owned(),
        "string" | "boolean" | "null" => name.to_owned(),
        "array" => match schema["prefixItems"].as_array() {
            Some(items) => {
                let items: Vec<String> = items.iter().map(kind_of).collect();
                format!("[{}]", items.join(", "))
            }
            None => match kind_of(&schema["items"]) {
                item if item.contains(' ') => format!("({item})[]"),
                item => format!("{item}[]"),
            },
        },
        _ => match &schema["additionalProperties"] {
            Value::Object(_) => {
                let of = kind_of(&schema["additionalProperties"]);
                format!("Record<string, {of}>")
            }
            _ => "unknown".into(),
        },
    }
}

/// `cargo xtask api`.
pub(crate) fn run() -> Outcome {
    crate::run(
        "building the program",
        Command::new("cargo")
            .args(["build", "--quiet", "-p", "porch"])
            .current_dir(root()),
    )?;
    for (asked, file) in APIS {
        fs::write(root().join(file), types(asked)?).map_err(|e| e.to_string())?;
    }
    Ok(())
}

/// Says so when the types that are kept are not those of the APIs.
pub(crate) fn check() -> Outcome {
    for (asked, file) in APIS {
        let kept = fs::read_to_string(root().join(file)).unwrap_or_default();
        if kept != types(asked)? {
            return Err(format!(
                "{file} is not what the API says: run `cargo xtask api`"
            ));
        }
    }
    Ok(())
}
