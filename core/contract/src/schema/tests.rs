//! What schemas say, whoever wrote them.

use super::*;
use serde_json::json;

#[test]
fn a_sample_of_schemas_that_refer_to_one_another_is_bounded() {
    let many: Map<String, Value> = (0..30)
        .map(|i| (format!("m{i}"), json!({"$ref": "#/s"})))
        .collect();
    let root = json!({"s": {"type": "object", "properties": many}});
    let size = SchemaView::new(&root, &root["s"])
        .sample()
        .to_string()
        .len();
    assert!(size < 40_000, "{size}");
}

#[test]
fn samples_fit_simple_patterns() {
    for (pattern, sample) in [
        ("^([A-Z]{3}-[A-Z]{3})$", "AAA-AAA"),
        (r"\d{2}\.[0-9]+x?", "00.0x"),
        ("a|b", "a"),
        ("[^a]", "A"),
    ] {
        assert_eq!(
            SchemaView::new(&Value::Null, &json!({"type": "string", "pattern": pattern})).sample(),
            json!(sample),
            "{pattern}"
        );
    }
}

#[test]
fn one_of_several_shapes_has_the_members_of_all() {
    let root = json!({"components": {"schemas": {
        "Crate": {"type": "object", "properties": {"xsi:type": {"type": "string", "enum": ["Crate"]}, "weight": {"type": "number"}}, "required": ["xsi:type", "weight"]},
        "Liquid": {"type": "object", "properties": {"xsi:type": {"type": "string", "enum": ["Liquid"]}, "weight": {"type": "number"}, "litres": {"type": "integer"}}, "required": ["xsi:type", "weight"]},
        "Pay": {"type": "object", "properties": {"card": {"type": "string"}, "bank": {"type": "string"}}, "oneOf": [{"required": ["card"]}, {"required": ["bank"]}]},
    }}});
    let either = json!({"anyOf": [{"oneOf": [{"$ref": "#/components/schemas/Crate"}, {"$ref": "#/components/schemas/Liquid"}]}, {"type": "null"}]});
    let view = SchemaView::new(&root, &either);
    assert_eq!(view.property_names(), ["xsi:type", "weight", "litres"]);
    assert!(
        view.requires("weight")
            && !view.requires("litres")
            && !view.is_open()
            && !view.allows_other_members()
    );
    assert_eq!(view.sample(), json!({"xsi:type": "Crate", "weight": 1}));
    let pay = SchemaView::new(&root, &root["components"]["schemas"]["Pay"]);
    assert_eq!(pay.sample(), json!({"card": "text"}));
    assert!(!pay.allows_other_members() && !pay.requires("card"));
}

#[test]
fn references_and_all_of_are_followed() {
    let root = json!({"components": {"schemas": {
        "Base": {"type": "object", "properties": {"id": {"type": "integer"}}, "required": ["id"]},
        "Fare": {"allOf": [{"$ref": "#/components/schemas/Base"}, {"type": "object", "properties": {"amount": {"type": "number"}}}]},
        "Loop": {"$ref": "#/components/schemas/Loop"},
    }}});
    let fare = SchemaView::new(&root, &root["components"]["schemas"]["Fare"]);
    assert_eq!(fare.property_names(), ["id", "amount"]);
    assert!(fare.requires("id"));
    assert_eq!(fare.sample(), json!({"id": 1, "amount": 1}));
    let circle = SchemaView::new(&root, &root["components"]["schemas"]["Loop"]);
    assert!(circle.is_open());
}

/// Ten parts on each of twelve levels, all of them shared: 10^12 ways from top to bottom.
fn labyrinth(keyword: &str) -> Value {
    let mut schemas = Map::new();
    for level in 0..12 {
        for part in 0..10 {
            let below: Vec<Value> = (0..10)
                .map(|i| json!({"$ref": format!("#/l{}p{i}", level + 1)}))
                .collect();
            schemas.insert(format!("l{level}p{part}"), json!({ keyword: below }));
        }
    }
    for i in 0..10 {
        let last = json!({"type": "object", "properties": {format!("m{i}"): {"type": "string"}}});
        schemas.insert(format!("l12p{i}"), last);
    }
    Value::Object(schemas)
}

#[test]
fn labyrinths_are_walked_once() {
    for keyword in ["allOf", "oneOf", "anyOf"] {
        let root = labyrinth(keyword);
        let view = SchemaView::new(&root, &root["l0p0"]);
        assert_eq!(view.property_names().len(), 10, "{keyword}");
        assert!(view.property("m9").is_some() && view.property("x").is_none());
        assert!(!view.requires("m1") && !view.allows_other_members());
        assert!(view.fields().len() == 10 && view.items().is_none());
        view.sample();
    }
}

#[test]
fn schemas_that_refer_to_themselves_end() {
    let root = json!({
        "ref": {"$ref": "#/ref"},
        "all": {"allOf": [{"$ref": "#/all"}, {"properties": {"a": {}}}]},
        "one": {"oneOf": [{"$ref": "#/one"}]},
        "any": {"anyOf": [{"$ref": "#/any"}, {"type": "string"}]},
        "list": {"type": "array", "items": {"$ref": "#/list"}},
        "both": {"allOf": [{"oneOf": [{"$ref": "#/both"}]}]},
        "members": {"properties": {"inner": {"$ref": "#/members"}}},
    });
    for (name, schema) in root.as_object().unwrap() {
        let view = SchemaView::new(&root, schema);
        let _ = (view.types(), view.fields(), view.items(), view.is_open());
        let _ = (view.requires("a"), view.allows_other_members());
        assert!(view.kind().len() < 200, "{name}");
        assert!(view.sample().to_string().len() < 40_000, "{name}");
    }
    assert_eq!(SchemaView::new(&root, &root["any"]).types(), ["string"]);
    assert!(SchemaView::new(&root, &root["all"]).property("a").is_some());
}

/// A chain is as long as the document has schemas: no call may go as deep as that.
#[test]
fn long_chains_of_parts_need_no_stack() {
    for keyword in ["allOf", "oneOf"] {
        let mut root = Map::new();
        for i in 0..100_000 {
            let next = json!({"$ref": format!("#/s{}", i + 1)});
            root.insert(format!("s{i}"), json!({ keyword: [next] }));
        }
        let root = Value::Object(root);
        std::thread::scope(|scope| {
            let small = std::thread::Builder::new().stack_size(1 << 20);
            let walk = || {
                let view = SchemaView::new(&root, &root["s0"]);
                let _ = (view.types(), view.fields(), view.items(), view.sample());
                view.requires("a") || view.allows_other_members()
            };
            let walked = small.spawn_scoped(scope, walk).unwrap();
            walked.join().unwrap();
        });
    }
}
