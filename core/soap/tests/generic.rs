//! XML and JSON without a schema: the mapping as it is documented, and that it can be reversed.

use porch_soap::generic::{Mapping, to_json, to_xml};
use proptest::prelude::*;
use serde_json::{Map, Value, json};

fn xml(value: &Value, mapping: &Mapping) -> String {
    let mut out = Vec::new();
    to_xml(value, mapping, &mut out).unwrap();
    String::from_utf8(out).unwrap()
}

fn both(xml_text: &str, value: Value) {
    let mapping = Mapping::default();
    assert_eq!(to_json(xml_text, &mapping).unwrap(), value);
    assert_eq!(xml(&value, &mapping), xml_text);
}

#[test]
fn each_row_of_the_table() {
    both("<a>text</a>", json!({"a": "text"}));
    both("<a></a>", json!({"a": ""}));
    both("<a k=\"1\">t</a>", json!({"a": {"@k": "1", "#text": "t"}}));
    both(
        "<a><b>1</b><b>2</b><c></c></a>",
        json!({"a": {"b": ["1", "2"], "c": ""}}),
    );
    both(
        "<a>x<b>1</b>y</a>",
        json!({"a": {"#content": ["x", {"b": "1"}, "y"]}}),
    );
    both(
        "<a><b>1</b><c>2</c><b>3</b></a>",
        json!({"a": {"#content": [{"b": "1"}, {"c": "2"}, {"b": "3"}]}}),
    );
    both(
        "<p:a xmlns:p=\"urn:p\" p:k=\"1\"><p:b>2</p:b></p:a>",
        json!({"p:a": {"@xmlns:p": "urn:p", "@p:k": "1", "p:b": "2"}}),
    );
    both(
        "<a xmlns=\"urn:d\"><b>1</b></a>",
        json!({"a": {"@xmlns": "urn:d", "b": "1"}}),
    );
    both(
        "<a><b xmlns:xsi=\"http://www.w3.org/2001/XMLSchema-instance\" xsi:nil=\"true\"/></a>",
        json!({"a": {"b": null}}),
    );
    both("<a_x0020_b>1</a_x0020_b>", json!({"a b": "1"}));
    // White space between elements, comments and instructions are left out.
    assert_eq!(
        to_json("<?x?><a>\n <!-- c --><b>1</b>\n</a>", &Mapping::default()).unwrap(),
        json!({"a": {"b": "1"}})
    );
}

#[test]
fn options_change_marks_types_and_what_repeats() {
    let mapping = Mapping {
        attribute: "_".into(),
        text: "$".into(),
        content: "mix".into(),
        repeated: vec!["b".into()],
        typed: true,
        root: Some("a".into()),
    };
    let value: Value = serde_json::from_str(r#"{"_k": "1", "b": [1520.250], "c": true, "d": "007", "e": "1e5 ", "f": {"_u": "x", "$": 12345678901234567890123}}"#).unwrap();
    let text = "<a _k=\"\">".replace(" _k=\"\"", " k=\"1\"")
        + "<b>1520.250</b><c>true</c><d>007</d><e>1e5 </e><f u=\"x\">12345678901234567890123</f></a>";
    assert_eq!(
        to_json(&text, &mapping).unwrap().to_string(),
        value.to_string()
    );
    assert_eq!(xml(&value, &mapping), text);
    // The mark only makes an attribute where it stands in front.
    assert_eq!(
        xml(
            &json!([1, [2, 3]]),
            &Mapping {
                root: Some("list".into()),
                ..Mapping::default()
            }
        ),
        "<list>1</list><list><item>2</item><item>3</item></list>"
    );
}

#[test]
fn what_xml_cannot_hold_is_told_with_its_place() {
    let mut out = Vec::new();
    let errors = to_xml(
        &json!({"a": {"b": ["x", "\u{1}"], "@k": {"no": 1}}}),
        &Mapping::default(),
        &mut out,
    )
    .unwrap_err();
    let found: Vec<String> = errors
        .iter()
        .map(|e| format!("{} {}", e.pointer, e.message))
        .collect();
    assert_eq!(
        found,
        [
            "/@k an attribute holds one text, number or boolean",
            "/b/1 the character U+0001 cannot be written in XML"
        ]
    );
    let deep = (0..300).fold(json!("x"), |v, _| json!({"a": v}));
    assert!(
        to_xml(&deep, &Mapping::default(), &mut Vec::new()).unwrap_err()[0]
            .message
            .contains("nested more than 256")
    );
    assert!(to_json(&"<a>".repeat(600), &Mapping::default()).is_err());
}

/// Values that the mapping can reverse: texts, objects, arrays of at least two.
fn value() -> impl Strategy<Value = Value> {
    let text = "[ -~é𝄞]{0,12}".prop_map(Value::String);
    let leaf = prop_oneof![text, Just(Value::Null)];
    leaf.prop_recursive(4, 40, 5, |inner| {
        let item = inner
            .clone()
            .prop_filter("an array in an array has no name", |v| !v.is_array());
        let array = proptest::collection::vec(item, 2..4).prop_map(Value::Array);
        let member = prop_oneof![inner, array];
        proptest::collection::vec(("[ -~é]{0,8}", member), 1..5).prop_map(|members| {
            let map: Map<String, Value> = members
                .into_iter()
                .filter(|(n, _)| !n.starts_with(['@', '#']))
                .collect();
            if map.is_empty() {
                Value::String(String::new())
            } else {
                Value::Object(map)
            }
        })
    })
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 300, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn a_value_comes_back_from_xml_as_it_was(value in value()) {
        let document = json!({ "doc": value });
        let mapping = Mapping::default();
        let text = xml(&document, &mapping);
        prop_assert_eq!(to_json(&text, &mapping).unwrap(), document, "{}", text);
    }

    #[test]
    fn numbers_and_booleans_come_back_typed(n in any::<i128>(), frac in 0u32..1000, b in any::<bool>(), text in "[a-z ]{0,6}") {
        let mapping = Mapping { typed: true, ..Mapping::default() };
        let document: Value = serde_json::from_str(&format!("{{\"d\": {{\"n\": {n}, \"f\": {n}.{frac:03}, \"b\": {b}}}}}")).unwrap();
        prop_assert_eq!(to_json(&xml(&document, &mapping), &mapping).unwrap().to_string(), document.to_string());
        let plain = json!({"d": {"t": text}});
        let back = to_json(&xml(&plain, &mapping), &mapping).unwrap();
        prop_assert!(back == plain || ["true", "false"].contains(&text.as_str()));
    }

    #[test]
    fn bytes_never_panic(bytes in "[<>a/='\"&;:! \\-\\[\\]?xmlns]{0,80}") {
        let _ = to_json(&bytes, &Mapping::default());
    }
}
