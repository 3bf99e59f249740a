//! The JSON Schemas for editors take what the checker takes, and refuse what it refuses.

#![allow(
    clippy::too_many_lines,
    reason = "a table of cases is told in one piece"
)]

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use porch_facade::{Files, check, json_schemas};
use serde_json::{Value, json};

fn documents(folder: &Path, into: &mut Vec<(PathBuf, Value)>) {
    for entry in std::fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            documents(&path, into);
        } else if path.extension().is_some_and(|e| e == "yaml") {
            let node = porch_contract::Node::parse(&std::fs::read_to_string(&path).unwrap());
            into.push((path, node.unwrap().to_value()));
        }
    }
}

fn validators() -> BTreeMap<&'static str, jsonschema::Validator> {
    json_schemas()
        .into_iter()
        .map(|(kind, schema)| (kind, jsonschema::draft202012::new(&schema).unwrap()))
        .collect()
}

#[test]
fn the_schemas_are_schemas_and_take_every_document_of_the_demo() {
    for (kind, schema) in json_schemas() {
        assert!(jsonschema::draft202012::meta::is_valid(&schema), "{kind}");
    }
    let validators = validators();
    let mut all = Vec::new();
    let demo = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/documents");
    documents(&demo, &mut all);
    let mut seen = BTreeMap::<&str, usize>::new();
    for (path, document) in &all {
        let kind = document.get("elm-porch").and_then(Value::as_str);
        let Some((kind, validator)) = kind.and_then(|k| validators.get_key_value(k)) else {
            continue;
        };
        *seen.entry(kind).or_default() += 1;
        let wrong: Vec<String> = validator
            .iter_errors(document)
            .map(|e| format!("{}: {e}", e.instance_path()))
            .collect();
        assert!(wrong.is_empty(), "{}: {wrong:?}", path.display());
    }
    assert!(seen.len() == 6 && seen["facade/1"] > 5, "{seen:?}");
}

const CONTRACT: &str = "openapi: 3.1.0\ninfo: { title: Fares, version: '1' }\npaths:\n  /fares:\n    get: { operationId: fares, responses: { '200': { description: fares } } }\n";

/// Documents of each kind with one place changed, and whether the checker finds nothing wrong.
fn checked(kind: &str, pointer: &str, value: &Value) -> (Value, bool) {
    let mut documents = json!({
        "backend/1": { "elm-porch": "backend/1", "name": "fares", "kind": "http", "address": "http://127.0.0.1:3850" },
        "facade/1": {
            "elm-porch": "facade/1", "name": "fares", "base": "/fares/v1", "contract": "fares.openapi.yaml", "hosts": ["porch.example"],
            "operations": { "fares": { "call": { "backend": "fares", "method": "GET", "path": "/fares" } } },
        },
        "environment/1": { "elm-porch": "environment/1", "name": "live", "backends": { "fares": { "address": "http://127.0.0.1:3850" } } },
        "offer/1": { "elm-porch": "offer/1", "name": "open-quay", "opens": [{ "facade": "fares" }], "see": "everyone", "ask": "signed-in", "lasts": "14d", "accept": { "text": "terms.md", "version": "1" } },
        "portal/1": { "elm-porch": "portal/1", "name": "quay", "title": "Quay", "colours": { "accent": "#0b6157" }, "groups": [{ "title": "All", "facades": ["fares"] }], "pages": [{ "name": "terms", "title": "Terms", "text": "terms.md" }] },
    });
    *documents[kind].pointer_mut(pointer).unwrap() = value.clone();
    if kind == "backend/1" {
        documents["environment/1"]["backends"] = json!({});
    }
    let mut files = Files::from([
        ("fares.openapi.yaml".to_owned(), CONTRACT.to_owned()),
        ("terms.md".to_owned(), "# Terms".to_owned()),
    ]);
    for (name, document) in documents.as_object().unwrap() {
        let file = format!("{}.yaml", name.trim_end_matches("/1"));
        files.insert(file, document.to_string());
    }
    let findings = check(&files, "live");
    let ok = !porch_contract::has_errors(&findings);
    (documents[kind].clone(), ok)
}

/// Kind of document, place in it, what is good there and what is not.
fn cases() -> Vec<(&'static str, &'static str, Value, Value)> {
    vec![
        (
            "environment/1",
            "/name",
            json!(["live"]),
            json!(["Live", "live one", "7live", "", 7, null]),
        ),
        (
            "backend/1",
            "/kind",
            json!(["http"]),
            json!(["htp", "HTTP", null]),
        ),
        (
            "backend/1",
            "/address",
            json!([
                "http://quay.example",
                "https://quay.example:8443/desk/v1",
                "http://[::1]:80/",
                ["http://a", "http://b:1/c"]
            ]),
            json!([
                "quay.example",
                "ftp://quay.example",
                "HTTP://quay.example",
                "http://",
                "http://a b",
                "http://u:p@quay.example",
                "http://quay.example/a?b=1",
                "http://quay.example/{line}",
                "http://quay.example/a#b",
                "http://quay.example/é",
                "http://quay.example:port",
                []
            ]),
        ),
        (
            "environment/1",
            "/backends/fares/address",
            json!(["http://quay.example"]),
            json!(["quay.example", "http://quay.example/a b", {}]),
        ),
        (
            "facade/1",
            "/base",
            json!(["/", "/fares", "/fares/v1.2/(a)", "/caf%C3%A9"]),
            json!(["", "fares", "/{line}", "/a b", "/a?b", "/a#b", "/é", "/50%"]),
        ),
        (
            "facade/1",
            "/hosts",
            json!([[], ["porch.example"], ["[::1]", "LOCALHOST", "10.0.0.7"]]),
            json!([
                ["porch.example:80"],
                ["https://porch.example"],
                ["*.example"],
                ["a..b"],
                [""],
                "porch.example"
            ]),
        ),
        (
            "offer/1",
            "/opens",
            json!([[{ "facade": "fares" }], [{ "facade": "fares", "operations": ["fares"] }]]),
            json!([[], "fares", [{ "operations": ["fares"] }], [{ "facade": "fares", "fields": [] }]]),
        ),
        (
            "offer/1",
            "/see",
            json!(["everyone", "signed-in", { "roles": ["partner"] }, { "accounts": ["nils@example.org"] }]),
            json!(["nobody", 7, null, [], {}, { "roles": [] }, { "people": ["x"] }]),
        ),
        (
            "offer/1",
            "/lasts",
            json!(["14d", "1h"]),
            json!(["a fortnight", "14", [], "-1d"]),
        ),
        (
            "offer/1",
            "/accept/version",
            json!(["2027-01"]),
            json!(["", 7, null]),
        ),
        (
            "portal/1",
            "/colours/accent",
            json!(["#0b6157", "#0B6157"]),
            json!(["0b6157", "green", "#0b61", "#0b61570", 7]),
        ),
        (
            "portal/1",
            "/pages/0/name",
            json!(["terms"]),
            json!(["Terms", "", "a b", 7, null]),
        ),
        (
            "facade/1",
            "/operations/fares/call/method",
            json!(["GET", "REPORT"]),
            json!(["get", "", "GET ", "G-T", 7]),
        ),
    ]
}

#[test]
fn schemas_and_checker_agree() {
    let validators = validators();
    for (kind, pointer, good, bad) in cases() {
        for (values, wanted) in [(good, true), (bad, false)] {
            for value in values.as_array().unwrap() {
                let (document, ok) = checked(kind, pointer, value);
                let valid = validators[kind].is_valid(&document);
                assert_eq!((ok, valid), (wanted, wanted), "{kind} {pointer}: {value}");
            }
        }
    }
}
