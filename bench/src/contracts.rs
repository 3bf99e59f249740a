//! Contracts alone: a body held against its schema, a long description read, a wide facade compiled.
//!
//! `bench-contracts ROUNDS` prints a line of JSON for each. What is compared takes turns within each round, so that a busy machine
//! slows both; the figures are medians.

use std::collections::BTreeMap;
use std::fmt::Write;
use std::hint::black_box;
use std::sync::Arc;
use std::time::Instant;

use porch_facade::{Files, Model, Secrets};
use porch_valid::{From, Schemas};
use serde_json::{Value, json};

/// A schema as real ones are: types, formats, patterns, enumerations, lists of objects.
fn schema() -> Value {
    let leg = json!({ "type": "object", "required": ["from", "to"], "additionalProperties": false, "properties": {
        "from": { "type": "string", "maxLength": 40 }, "to": { "type": "string", "maxLength": 40 },
        "departs": { "type": "string", "format": "date-time" }, "seats": { "type": "integer", "minimum": 1, "maximum": 9 },
        "fareClass": { "enum": ["foot", "car", "cabin"] }, "price": { "type": "number", "exclusiveMinimum": 0 },
    } });
    json!({ "type": "object", "required": ["reference", "legs"], "additionalProperties": false, "properties": {
        "reference": { "type": "string", "pattern": "^[A-Z]{2}-[0-9]{4}$" }, "booked": { "type": "string", "format": "date" },
        "mail": { "type": "string", "format": "email" }, "notes": { "type": ["string", "null"] },
        "legs": { "type": "array", "minItems": 1, "maxItems": 20, "items": leg },
    } })
}

/// A body of about 1 KB.
fn body() -> String {
    let leg = r#"{"from":"Farholt","to":"Maren Quay","departs":"2027-05-14T08:30:00Z","seats":2,"fareClass":"cabin","price":380.25}"#;
    let legs = [leg; 8].join(",");
    format!(
        r#"{{"reference":"SK-0417","booked":"2027-04-02","mail":"ines@skerry.example","notes":null,"legs":[{legs}]}}"#
    )
}

fn median(mut values: Vec<f64>) -> f64 {
    values.sort_by(f64::total_cmp);
    values[values.len() / 2]
}

/// Seconds that something takes.
fn seconds(times: usize, mut work: impl FnMut()) -> f64 {
    let from = Instant::now();
    for _ in 0..times {
        work();
    }
    from.elapsed().as_secs_f64() / times as f64
}

fn line(case: &str, said: &str, value: f64, target: Option<f64>) {
    let value = (value * 100.0).round() / 100.0;
    let met = target.is_some_and(|most| value <= most);
    println!(
        "{}",
        json!({ "case": case, "said": said, "value": value, "target": target, "met": met })
    );
}

/// What a call pays for its body: reading it to its end, looking for doubled members, holding it against the schema. One that
/// does not fit is read into a value and looked at again, for what is told.
fn kept(rounds: usize) {
    let (schema, body) = (schema(), body());
    let mut schemas = Schemas::of(&schema, From::Callers);
    let added = [schemas.add(&schema)];
    let ready = schemas.ready(&added);
    let held = || assert!(ready[0].surely_fits(black_box(body.as_bytes())));
    let wrong = body.replacen("SK-0417", "SK-417!", 1);
    let told = || {
        assert!(!ready[0].surely_fits(wrong.as_bytes()));
        let value: Value = serde_json::from_str(&wrong).expect("it is JSON");
        assert!(porch_valid::doubled(wrong.as_bytes()).is_none());
        assert_eq!(ready[0].misfits(&value).len(), 1);
    };
    let read = || {
        let value: Value = serde_json::from_str(&body).expect("it is JSON");
        black_box(value);
    };
    let (mut ours, mut others, mut parser) = (Vec::new(), Vec::new(), Vec::new());
    for _ in 0..rounds {
        ours.push(seconds(2000, held) * 1e6);
        others.push(seconds(2000, told) * 1e6);
        parser.push(seconds(2000, read) * 1e6);
    }
    let (ours, others, parser) = (median(ours), median(others), median(parser));
    let size = body.len();
    line(
        "contract-1kb",
        &format!("µs to hold a body of {size} bytes against its schema, reading it included"),
        ours,
        Some(6.0),
    );
    line(
        "contract-1kb",
        &format!("times what serde_json takes to read the same into a Value ({parser:.2} µs)"),
        ours / parser,
        None,
    );
    line(
        "contract-1kb",
        "µs where something is wrong with it, and it is told what",
        others,
        None,
    );
}

/// A description of so many operations.
fn description(operations: usize) -> String {
    let mut text = String::from(
        r#"{"openapi":"3.0.3","info":{"title":"Quays","version":"1"},"servers":[{"url":"https://q.example"}],"paths":{"#,
    );
    for i in 0..operations {
        let comma = if i == 0 { "" } else { "," };
        write!(
            text,
            r##"{comma}"/quays/{{quay}}/berths{i}":{{"get":{{"operationId":"berths{i}","summary":"The berths of a quay, number {i}","parameters":[{{"name":"quay","in":"path","required":true,"schema":{{"type":"string"}}}},{{"name":"free","in":"query","schema":{{"type":"boolean"}}}}],"responses":{{"200":{{"description":"Berths.","content":{{"application/json":{{"schema":{{"type":"array","items":{{"$ref":"#/components/schemas/Berth"}}}}}}}}}}}}}}}}"##
        )
        .expect("a text takes it");
    }
    text.push_str(r#"},"components":{"schemas":{"Berth":{"type":"object","properties":{"berth":{"type":"string"},"length":{"type":"number"}}}}}}"#);
    text
}

fn read_long(rounds: usize) {
    let text = description(13_000);
    let files = BTreeMap::from([("q.json".to_owned(), text.clone())]);
    let (mut ours, mut parser) = (Vec::new(), Vec::new());
    for _ in 0..rounds {
        ours.push(seconds(1, || {
            let (described, _) = porch_describe::describe(&files, "q.json", "");
            let described = described.expect("it is read");
            assert_eq!(described.operations.len(), 13_000);
        }));
        parser.push(seconds(1, || {
            black_box(serde_json::from_str::<Value>(&text).expect("it is JSON"));
        }));
    }
    let (ours, parser) = (median(ours), median(parser));
    let size = text.len() as f64 / 1e6;
    line(
        "description",
        &format!("seconds to read a description of {size:.1} MB with 13,000 operations"),
        ours,
        None,
    );
    line(
        "description",
        &format!("times what serde_json takes to read the same into a Value ({parser:.2} s)"),
        ours / parser,
        None,
    );
}

/// The files of a facade with so many operations.
fn facade(operations: usize) -> Files {
    let mut wiring = String::from(
        "elm-porch: facade/1\nname: wide\nbase: /wide\ncontract: wide.openapi.yaml\noperations:\n",
    );
    for i in 0..operations {
        writeln!(wiring, "  berths{i}: {{ call: {{ backend: quays }} }}").expect("a text takes it");
    }
    Files::from([
        ("wide.facade.yaml".to_owned(), wiring),
        (
            "wide.openapi.yaml".to_owned(),
            description(operations).replace("3.0.3", "3.1.0"),
        ),
        (
            "quays.backend.yaml".to_owned(),
            "elm-porch: backend/1\nname: quays\nkind: http\naddress: http://127.0.0.1:9\n"
                .to_owned(),
        ),
    ])
}

fn compiled(files: &Files) {
    let model = Model::read(Arc::new(files.clone()), "live", &Arc::default());
    let (porch, findings) = model.porch(&["wide"], &Secrets::Placeholder);
    assert!(findings.is_empty(), "{findings:?}");
    black_box(porch);
}

/// Reading, checking and compiling, as a release does for what changed.
fn wide(rounds: usize) {
    let (many, few) = (facade(10_000), facade(1_000));
    let (mut ours, mut tenth) = (Vec::new(), Vec::new());
    for _ in 0..rounds {
        ours.push(seconds(1, || compiled(&many)));
        tenth.push(seconds(1, || compiled(&few)));
    }
    let (ours, tenth) = (median(ours), median(tenth));
    line(
        "facade-10000",
        "seconds to read, check and compile a facade of 10,000 operations",
        ours,
        None,
    );
    line(
        "facade-10000",
        &format!("times what ten of 1,000 operations take ({tenth:.2} s each)"),
        ours / tenth / 10.0,
        None,
    );
}

fn main() {
    let rounds = std::env::args().nth(1).and_then(|r| r.parse().ok());
    let rounds: usize = rounds.unwrap_or(9);
    kept(rounds);
    read_long(rounds.min(5));
    wide(rounds.min(5));
}
