//! What is said of values that do not keep to a schema.

use porch_valid::{From, Schemas, Validator};
use serde_json::{Value, json};

fn ready(document: &Value, from: From, schema: &Value) -> Validator {
    let mut schemas = Schemas::of(document, from);
    let added = schemas.add(schema);
    schemas.ready(&[added]).remove(0)
}

fn told(document: &Value, schema: &Value, value: &Value) -> Vec<String> {
    let validator = ready(document, From::Callers, schema);
    let misfits = validator.misfits(value);
    assert_eq!(misfits.is_empty(), validator.fits(value));
    let told = misfits.iter().map(|m| format!("{} {}", m.pointer, m.told));
    told.collect()
}

fn hold() -> (Value, Value) {
    let document = json!({ "components": { "schemas": {
        "Hold": { "type": "object", "required": ["route", "passengers", "id"], "additionalProperties": false, "properties": {
            "id": { "type": "integer", "readOnly": true },
            "route": { "type": "string", "pattern": "^[A-Z]{3}-[A-Z]{3}$" },
            "day": { "type": "string", "format": "date" },
            "class": { "enum": ["deck", "cabin"] },
            "passengers": { "type": "array", "minItems": 1, "uniqueItems": true, "items": { "$ref": "#/components/schemas/Passenger" } },
        } },
        "Passenger": { "type": "object", "required": ["name"], "properties": {
            "name": { "type": "string", "minLength": 1, "maxLength": 5 },
            "age": { "type": "integer", "minimum": 0, "exclusiveMaximum": 150 },
            "note": { "type": ["string", "null"] },
        } },
    } } });
    (document, json!({ "$ref": "#/components/schemas/Hold" }))
}

#[test]
fn every_mistake_is_told_at_once_each_with_its_pointer() {
    let (document, schema) = hold();
    let good = json!({ "route": "FAR-MAR", "day": "2027-05-14", "passengers": [{ "name": "Ina", "age": 7, "note": null }] });
    assert_eq!(told(&document, &schema, &good), Vec::<String>::new());
    let bad = json!({ "id": 7, "route": "far", "day": "2027-13-14", "clas": "deck", "seats/aft": 1, "class": "roof", "passengers": [{ "age": 1.5 }, { "name": "Longname", "age": 150 }, { "name": "", "age": -1, "note": 3 }] });
    assert_eq!(
        told(&document, &schema, &bad),
        [
            "/id is set by the service and not by callers",
            "/route does not match the pattern ^[A-Z]{3}-[A-Z]{3}$",
            "/day is no date",
            "/clas is not known here; did you mean “class”?",
            "/seats~1aft is not known here",
            "/class is none of deck, cabin",
            "/passengers/0/name must be there",
            "/passengers/0/age must be a whole number",
            "/passengers/1/name must have at most 5 characters",
            "/passengers/1/age must be less than 150",
            "/passengers/2/name must have at least 1 character",
            "/passengers/2/age must be 0 or more",
            "/passengers/2/note must be a text or null",
        ]
    );
    assert_eq!(told(&document, &schema, &json!([])), [" must be an object"]);
    // Backends set what callers must not.
    let backends = ready(&document, From::Backends, &schema);
    let answer = json!({ "id": 7, "route": "FAR-MAR", "passengers": [{ "name": "Ina" }] });
    assert!(backends.fits(&answer) && backends.misfits(&answer).is_empty());
    let without = json!({ "route": "FAR-MAR", "passengers": [{ "name": "Ina" }] });
    assert_eq!(backends.misfits(&without)[0].told, "must be there");
}

#[test]
#[expect(
    clippy::too_many_lines,
    reason = "a table of cases is told in one piece"
)]
fn forms_numbers_and_older_words_are_meant_as_the_standards_mean_them() {
    let either = json!({ "oneOf": [{ "required": ["a"] }, { "required": ["b"] }] });
    let cases = [
        (
            either.clone(),
            json!({}),
            " fits none of its 2 forms; of the nearest, /a must be there",
        ),
        (
            either,
            json!({ "a": 1, "b": 1 }),
            " fits several of its forms, and must fit one",
        ),
        (json!({ "const": "deck" }), json!("roof"), " must be deck"),
        (
            json!({ "multipleOf": 0.01 }),
            json!(1.005),
            " must be a multiple of 0.01",
        ),
        (
            json!({ "type": "number", "minimum": 0, "exclusiveMinimum": true }),
            json!(0),
            " must be more than 0",
        ),
        (
            json!({ "not": { "type": "null" } }),
            json!(null),
            " is what it must not be",
        ),
        (
            json!({ "propertyNames": { "maxLength": 1 } }),
            json!({ "ab": 1 }),
            "/ab is no name that a member may have here",
        ),
        (
            json!({ "unevaluatedProperties": false, "allOf": [{ "properties": { "a": {} } }] }),
            json!({ "a": 1, "b": 1 }),
            "/b is not known here",
        ),
        (
            json!({ "dependentRequired": { "a": ["b"] } }),
            json!({ "a": 1 }),
            "/b must be there where “a” is",
        ),
        (
            json!({ "type": "integer", "format": "int32" }),
            json!(2_147_483_648_u64),
            " is outside of int32",
        ),
        // All digits count.
        (
            json!({ "maximum": 9_007_199_254_740_992_u64 }),
            json!(9_007_199_254_740_993_u64),
            " must be 9007199254740992 or less",
        ),
    ];
    for (schema, value, wanted) in cases {
        assert_eq!(told(&json!({}), &schema, &value), [wanted], "{schema}");
    }
    let nullable = json!({ "type": "string", "nullable": true, "enum": ["a"] });
    assert_eq!(
        told(&json!({}), &nullable, &Value::Null),
        Vec::<String>::new()
    );
}

#[test]
fn what_cannot_be_carried_out_is_left_out_and_told() {
    let document = json!({ "components": { "schemas": { "A": { "type": "string", "pattern": "(?=a)b" }, "B": { "type": "string", "pattern": "^\\/[\\w\\-]+$" } } } });
    let all = json!({ "properties": {
        "a": { "$ref": "#/components/schemas/A" }, "b": { "$ref": "#/components/schemas/B" },
        "gone": { "$ref": "#/components/schemas/Gone" }, "out": { "$ref": "http://elsewhere.example/x.json" },
    } });
    let mut schemas = Schemas::of(&document, From::Callers);
    let added = schemas.add(&all);
    let mut left_out = schemas.left_out().to_vec();
    left_out.sort();
    assert_eq!(
        left_out,
        [
            "the pattern “(?=a)b” has what no engine carries out in bounded time",
            "the reference “#/components/schemas/Gone” leads nowhere in the contract",
            "the reference “http://elsewhere.example/x.json” leads nowhere in the contract",
        ]
    );
    let validator = schemas.ready(&[added]).remove(0);
    assert!(validator.fits(&json!({ "a": "x", "b": "/x-y", "gone": 1, "out": 1 })));
    assert_eq!(validator.misfits(&json!({ "a": 1, "b": "x" })).len(), 2);
}

/// A value that could be looked at in more ways than there are atoms.
fn deep(levels: usize, inner: Value) -> Value {
    (0..levels).fold(inner, |value, _| json!({ "x": value, "l": [1] }))
}

#[test]
fn schemas_and_values_that_could_take_for_ever_do_not() {
    // Each level could be tried in two ways, and each of those in two.
    for word in ["anyOf", "oneOf", "allOf"] {
        let form = |name: &str| json!({ "type": "object", "properties": { "x": { "$ref": "#/components/schemas/A" } }, "required": [name] });
        let document =
            json!({ "components": { "schemas": { "A": { word: [form("y"), form("z")] } } } });
        let a = json!({ "$ref": "#/components/schemas/A" });
        let misfits = ready(&document, From::Callers, &a).misfits(&deep(100, json!({})));
        assert!(
            (1..=100).contains(&misfits.len()),
            "{word} {}",
            misfits.len()
        );
    }
    let nothing = json!({});
    let of = |schema: &Value, value: &Value| ready(&nothing, From::Callers, schema).misfits(value);
    let pattern = json!({ "type": "string", "pattern": "^(a+)+$" });
    assert_eq!(of(&pattern, &json!("a".repeat(100_000) + "!")).len(), 1);
    let many: Vec<Value> = (0..50_000).map(|i| json!({ "i": i })).collect();
    assert!(of(&json!({ "uniqueItems": true }), &json!(many)).is_empty());
    // A circle at one and the same value, and one that asks what was evaluated.
    for circle in [
        json!({ "allOf": [{ "$ref": "#/components/schemas/A" }] }),
        json!({ "anyOf": [{ "$ref": "#/components/schemas/A" }, { "not": { "$ref": "#/components/schemas/A" } }] }),
        json!({ "unevaluatedProperties": false, "anyOf": [{ "properties": { "x": { "$ref": "#/components/schemas/A" } } }, { "properties": { "x": { "$ref": "#/components/schemas/A" } }, "required": ["y"] }] }),
    ] {
        let document = json!({ "components": { "schemas": { "A": circle } } });
        let a = json!({ "$ref": "#/components/schemas/A" });
        let misfits = ready(&document, From::Callers, &a).misfits(&deep(100, json!(1)));
        assert!(!misfits.is_empty(), "{document}");
    }
    // What was not looked at to its end is not taken for something else.
    let a = json!({ "$ref": "#/components/schemas/A" });
    let document = json!({ "components": { "schemas": { "A": { "not": { "allOf": [a] } } } } });
    let circle = ready(&document, From::Callers, &a);
    assert!(!circle.fits(&json!(1)) && !circle.misfits(&json!(1)).is_empty());
    // More mistakes than anybody reads.
    let wrong: Vec<Value> = (0..10_000).map(|_| json!("x")).collect();
    let list = json!({ "items": { "type": "integer" } });
    assert_eq!(of(&list, &json!(wrong)).len(), 100);
}
