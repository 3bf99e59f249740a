//! Texts, and every bound of reading them.

use super::*;

fn value(text: &str) -> (String, Vec<String>) {
    let read = read(text).unwrap();
    let borne = read
        .borne
        .iter()
        .map(|(at, told)| format!("{}:{} {told}", at.line, at.column));
    (read.node.to_value().to_string(), borne.collect())
}

fn refused(text: &str) -> String {
    let e = read(text).map(|_| ()).unwrap_err();
    format!("{}:{} {}", e.at.line, e.at.column, e.message)
}

#[test]
fn json_has_its_places_its_escapes_and_its_tabs() {
    let text =
        "\u{feff}{\n\t\"ä\": \"\\ud83d\\ude00\\/\", \"n\": 1.50,\n\t\"l\": [true, null,],\n}";
    assert_eq!(
        value(text),
        (r#"{"ä":"😀/","n":1.50,"l":[true,null]}"#.into(), vec![])
    );
    let node = read(text).unwrap().node;
    let at = node.get("n").unwrap().at;
    assert_eq!((at.line, at.column), (2, 30));
    assert_eq!(
        value("{\"a\":1,\"a\":2}"),
        (
            r#"{"a":1}"#.into(),
            vec!["1:8 “a” stands here a second time".into()]
        )
    );
    assert_eq!(value("{a: [x, y]}").0, r#"{"a":["x","y"]}"#);
    assert_eq!(
        refused("{\"a\": 1 \"b\": 2}"),
        "1:9 not readable as JSON: “\"” is not expected here"
    );
    assert_eq!(
        refused("{\"a\": \"\\q\"}"),
        "1:7 this is no text of JSON (RFC 8259 §7)"
    );
    assert_eq!(
        refused("[1"),
        "1:3 not readable as JSON: it ends in its middle"
    );
}

#[test]
fn anchors_merge_keys_tags_and_numbers_as_keys_are_read() {
    let text = "base: &b { a: 1, b: 2 }\nuse:\n  <<: *b\n  b: 3\n404: !!str 12\n'x': *b\n";
    assert_eq!(
        value(text).0,
        r#"{"base":{"a":1,"b":2},"use":{"b":3,"a":1},"404":"12","x":{"a":1,"b":2}}"#
    );
    let (read, borne) = value("a: 1\na: 2\n---\nb: 1\n");
    assert_eq!(read, r#"{"a":1}"#);
    assert_eq!(
        borne,
        [
            "2:1 “a” stands here a second time",
            "3:1 a second document begins here, and is not looked at"
        ]
    );
}

#[test]
fn bombs_and_depths_are_refused() {
    let mut bomb = "a0: &a0 [x,x,x,x,x,x,x,x,x,x]\n".to_owned();
    for i in 1..12 {
        let refers = vec![format!("*a{}", i - 1); 10].join(",");
        bomb.push_str(&format!("a{i}: &a{i} [{refers}]\n"));
    }
    assert!(refused(&bomb).contains("two million"), "{}", refused(&bomb));
    let mut deep = "a0: &a0 [x]\n".to_owned();
    for i in 1..200 {
        deep.push_str(&format!("a{i}: &a{i} [*a{}]\n", i - 1));
    }
    assert!(refused(&deep).contains("levels deep"), "{}", refused(&deep));
    for text in ["[".repeat(10_000), "{\"a\":".repeat(10_000)] {
        assert!(refused(&text).contains("levels deep"));
    }
    let wide = format!("[{}]", "1,".repeat(2_000_001));
    assert!(refused(&wide).contains("two million"));
}
