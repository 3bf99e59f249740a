//! The JSON Schemas of documents, for editors.

use indexmap::IndexMap;
use serde_json::{Value, json};

use crate::documents::{BackendDoc, EnvironmentDoc, FacadeDoc, OfferDoc, PortalDoc, RulesDoc};
use crate::kind::standard;
use crate::shared::OF_ITSELF;

/// The JSON Schemas (draft 2020-12) of all documents, by kind.
pub fn json_schemas() -> IndexMap<&'static str, Value> {
    let mut backend = schemars::schema_for!(BackendDoc).to_value();
    if let Some(kind) = backend.pointer_mut("/properties/kind") {
        kind["enum"] = json!(standard::kinds().names());
    }
    IndexMap::from([
        ("backend/1", backend),
        ("facade/1", schemars::schema_for!(FacadeDoc).to_value()),
        ("rules/1", rules()),
        (
            "environment/1",
            schemars::schema_for!(EnvironmentDoc).to_value(),
        ),
        ("offer/1", schemars::schema_for!(OfferDoc).to_value()),
        ("portal/1", schemars::schema_for!(PortalDoc).to_value()),
    ])
}

/// That of shared rules: wherever a value stands, the name of a parameter may stand in its place.
fn rules() -> Value {
    let mut schema = schemars::schema_for!(RulesDoc).to_value();
    for (name, property) in schema["properties"].as_object_mut().into_iter().flatten() {
        if !OF_ITSELF.contains(&name.as_str()) {
            or_parameter(property);
        }
    }
    let own = ["ParameterDoc", "ParameterKind", "ReachDoc", "Relaxed"];
    for (name, definition) in schema["$defs"].as_object_mut().into_iter().flatten() {
        if !own.contains(&name.as_str()) {
            below(definition);
        }
    }
    schema
}

/// The same for all that stands below a schema.
fn below(schema: &mut Value) {
    let Some(map) = schema.as_object_mut() else {
        return;
    };
    for key in ["properties", "patternProperties"] {
        for (_, property) in map
            .get_mut(key)
            .and_then(Value::as_object_mut)
            .into_iter()
            .flatten()
        {
            or_parameter(property);
        }
    }
    for key in ["items", "additionalProperties"] {
        if let Some(inner) = map.get_mut(key).filter(|v| v.is_object()) {
            or_parameter(inner);
        }
    }
    for key in ["anyOf", "oneOf"] {
        let all = map.get_mut(key).and_then(Value::as_array_mut);
        all.into_iter().flatten().for_each(below);
    }
}

fn or_parameter(schema: &mut Value) {
    below(schema);
    let map = schema.as_object();
    // What takes any text takes this one too.
    let any_text = map.is_some_and(|m| {
        m.get("type") == Some(&json!("string"))
            && !m.contains_key("pattern")
            && !m.contains_key("enum")
    });
    let anything = map.is_some_and(|m| {
        !["type", "$ref", "anyOf", "oneOf", "enum", "const"]
            .iter()
            .any(|k| m.contains_key(*k))
    });
    if any_text || anything || map.is_none() {
        return;
    }
    let description = schema.get("description").cloned();
    let mut made = json!({ "anyOf": [schema.take(), { "type": "string", "pattern": PARAMETER }] });
    if let Some(description) = description {
        made["description"] = description;
    }
    *schema = made;
}

const PARAMETER: &str = r"^=\s*parameters\.[A-Za-z][A-Za-z0-9_]*\s*$";
