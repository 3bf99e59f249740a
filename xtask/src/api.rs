//! The console's types of the publisher's API, written from its OpenAPI document.

use std::fs;
use std::process::Command;

use serde_json::Value;

use crate::places::program;
use crate::{Outcome, root};

/// The types as they should be, from the program just built.
pub(crate) fn types() -> Outcome<String> {
    let output = Command::new(program("porch"))
        .arg("openapi")
        .output()
        .map_err(|e| format!("porch openapi: {e}"))?;
    let document: Value =
        serde_json::from_slice(&output.stdout).map_err(|e| format!("porch openapi: {e}"))?;
    let mut out =
        "// Written by `cargo xtask api` from the publisher's API. Do not edit.\n".to_owned();
    for (name, schema) in document
        .pointer("/components/schemas")
        .and_then(Value::as_object)
        .into_iter()
        .flatten()
    {
        out.push_str(&format!("\nexport interface {name} {{\n"));
        let required: Vec<&str> = schema["required"]
            .as_array()
            .into_iter()
            .flatten()
            .filter_map(Value::as_str)
            .collect();
        // Parts that are put together (`allOf`) are written one behind the other.
        let parts = schema["allOf"]
            .as_array()
            .cloned()
            .unwrap_or_else(|| vec![schema.clone()]);
        for part in &parts {
            let part = part["$ref"]
                .as_str()
                .and_then(|r| document.pointer(r.trim_start_matches('#')))
                .unwrap_or(part);
            let own: Vec<&str> = part["required"]
                .as_array()
                .into_iter()
                .flatten()
                .filter_map(Value::as_str)
                .collect();
            for (member, kind) in part["properties"].as_object().into_iter().flatten() {
                if let Some(text) = kind["description"].as_str() {
                    out.push_str(&format!("  /** {} */\n", text.replace('\n', " ")));
                }
                let mark = if required.contains(&member.as_str()) || own.contains(&member.as_str())
                {
                    ""
                } else {
                    "?"
                };
                out.push_str(&format!("  {member}{mark}: {};\n", kind_of(kind)));
            }
        }
        out.push_str("}\n");
    }
    Ok(out)
}

fn kind_of(schema: &Value) -> String {
    if let Some(name) = schema["$ref"].as_str().and_then(|r| r.rsplit('/').next()) {
        return name.to_owned();
    }
    let one = |name: &str| match name {
        "integer" | "number" => "number".to_owned(),
        "string" => "string".into(),
        "boolean" => "boolean".into(),
        "null" => "null".into(),
        "array" => match schema["prefixItems"].as_array() {
            Some(items) => format!(
                "[{}]",
                items.iter().map(kind_of).collect::<Vec<_>>().join(", ")
            ),
            None => {
                let item = kind_of(&schema["items"]);
                if item.contains(' ') {
                    format!("({item})[]")
                } else {
                    format!("{item}[]")
                }
            }
        },
        _ => match &schema["additionalProperties"] {
            Value::Object(_) => format!(
                "Record<string, {}>",
                kind_of(&schema["additionalProperties"])
            ),
            _ => "unknown".into(),
        },
    };
    match &schema["type"] {
        Value::String(name) => one(name),
        Value::Array(names) => names
            .iter()
            .filter_map(Value::as_str)
            .map(one)
            .collect::<Vec<_>>()
            .join(" | "),
        _ => "unknown".into(),
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
    fs::write(root().join("console/src/api/schema.ts"), types()?).map_err(|e| e.to_string())
}

/// Says so when the types that are kept are not those of the API.
pub(crate) fn check() -> Outcome {
    let kept = fs::read_to_string(root().join("console/src/api/schema.ts")).unwrap_or_default();
    if kept == types()? {
        Ok(())
    } else {
        Err("console/src/api/schema.ts is not what the API says: run `cargo xtask api`".into())
    }
}
