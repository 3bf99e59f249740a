//! Changes of JSON in place against the test suite of JSON Patch (RFC 6902), which the console's packages bring along.
#![allow(
    clippy::too_many_lines,
    reason = "a table of cases is told in one piece"
)]

use std::path::Path;

use porch_facade::patch_of;
use porch_rules::expr::{EvalError, Expr, Template};
use porch_rules::patch::{Action, Change, Patch, Pointer, Values};
use serde_json::{Value, json};

/// Expressions that see nothing but the item.
struct Items;

impl Values for Items {
    fn value(
        &self,
        template: &Template,
        item: Option<&Value>,
    ) -> Result<Option<Value>, (String, EvalError)> {
        template.render(&Of(item))
    }
}

struct Of<'v>(Option<&'v Value>);

impl porch_rules::expr::Scope for Of<'_> {
    fn open_xml(&self, _: &str) -> Result<Value, porch_rules::expr::NoXml> {
        Err(porch_rules::expr::NoXml("is none".into()))
    }

    fn member<'s>(&'s self, _: usize, name: &str) -> Option<porch_rules::expr::Val<'s>> {
        self.0?.get(name).map(porch_rules::expr::Val::of)
    }

    fn whole(&self, _: usize) -> porch_rules::expr::Val<'_> {
        self.0
            .map_or(porch_rules::expr::Val::Absent, porch_rules::expr::Val::of)
    }
}

fn applied(patch: &Value, document: &Value) -> Result<Value, String> {
    let patch = patch_of(patch)?;
    patch
        .apply(document.clone(), &Items)
        .map_err(|e| e.to_string())
}

#[test]
fn the_suite_of_json_patch_passes() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR"))
        .join("../../console/node_modules/json-patch-test-suite");
    let (mut ran, mut strangers, mut wrong) = (0, 0, Vec::new());
    for file in ["tests.json", "spec_tests.json"] {
        let path = folder.join(file);
        let text = std::fs::read_to_string(&path)
            .unwrap_or_else(|e| panic!("{}: {e}; `npm ci` in console/ brings it", path.display()));
        let cases: Vec<Value> = serde_json::from_str(&text).unwrap();
        for case in cases {
            if case.get("patch").is_none() {
                continue;
            }
            let got = applied(&case["patch"], &case["doc"]);
            let good = match case.get("expected") {
                // Members stand in any order.
                Some(expected) => got.as_ref() == Ok(expected),
                None if case.get("error").is_some() => got.is_err(),
                None => got.is_ok(),
            };
            // Two members of one name are found where documents are read, and not in the value that a reader made of them. What
            // nobody knows is passed over by the standard (§4); in documents it is a mistake.
            let doubled = case["error"]
                .as_str()
                .is_some_and(|e| e.contains("two 'op'"));
            let strange = got.as_ref().is_err_and(|e| e.starts_with("unknown field"));
            ran += 1;
            strangers += usize::from(strange);
            if !good && !doubled && !strange {
                wrong.push(format!("{case}\n  {got:?}\n"));
            }
        }
    }
    assert!(
        wrong.is_empty(),
        "{} of {ran}:\n{}",
        wrong.len(),
        wrong.concat()
    );
    assert_eq!((ran, strangers), (95, 2));
}

#[test]
fn what_goes_through_lists_and_beyond_the_standard() {
    let document = json!({
        "list": [{"a": 1, "card": "4000 1234 5678"}, {"a": 2, "b": 9, "card": null}],
        "*": 1, "n": 12345, "deep": {"x": [[1, 2], [3]]},
    });
    let list = |a: Value, b: Value| {
        let mut changed = document.clone();
        changed["list"] = json!([a, b]);
        Ok(changed)
    };
    let card = "4000 1234 5678";
    for (patch, expected) in [
        (
            json!({"op": "rename", "path": "/list/*/a", "to": "z"}),
            list(
                json!({"z": 1, "card": card}),
                json!({"z": 2, "b": 9, "card": null}),
            ),
        ),
        (
            json!({"op": "remove", "path": "/list/*/b", "may-be-absent": true}),
            list(json!({"a": 1, "card": card}), json!({"a": 2, "card": null})),
        ),
        (
            json!({"op": "default", "path": "/list/*/b", "value": 0}),
            list(
                json!({"a": 1, "card": card, "b": 0}),
                json!({"a": 2, "b": 9, "card": null}),
            ),
        ),
        (
            json!({"op": "default", "path": "/list/*/card", "value": "none"}),
            list(
                json!({"a": 1, "card": card}),
                json!({"a": 2, "b": 9, "card": "none"}),
            ),
        ),
        (
            json!({"op": "mask", "path": "/list/*/card", "keep": 4}),
            list(
                json!({"a": 1, "card": "••••5678"}),
                json!({"a": 2, "b": 9, "card": null}),
            ),
        ),
        (
            json!({"op": "move", "from": "/list/*/a", "path": "/list/*/c"}),
            list(
                json!({"card": card, "c": 1}),
                json!({"b": 9, "card": null, "c": 2}),
            ),
        ),
        (
            json!({"op": "copy", "from": "/n", "path": "/list/0/a"}),
            list(
                json!({"a": 12345, "card": card}),
                json!({"a": 2, "b": 9, "card": null}),
            ),
        ),
        (json!({"op": "remove", "path": "/list/*"}), {
            let mut changed = document.clone();
            changed["list"] = json!([]);
            Ok(changed)
        }),
        (json!({"op": "replace", "path": "/*", "value": 2}), {
            let mut changed = document.clone();
            changed["*"] = json!(2);
            Ok(changed)
        }),
        (json!({"op": "add", "path": "/deep/x/*/-", "value": 7}), {
            let mut changed = document.clone();
            changed["deep"] = json!({"x": [[1, 2, 7], [3, 7]]});
            Ok(changed)
        }),
        (json!({"op": "mask", "path": "/n", "keep": 9}), {
            let mut changed = document.clone();
            changed["n"] = json!("••••45");
            Ok(changed)
        }),
        (
            json!({"op": "add", "path": "/none/x", "value": 7, "may-be-absent": true}),
            Ok(document.clone()),
        ),
        // What goes wrong says the first part that is not there, and what there is.
        (
            json!({"op": "remove", "path": "/list/*/b"}),
            Err("change 1 (remove /list/*/b): there is no “b”: /list/0 has a, card"),
        ),
        (
            json!({"op": "remove", "path": "/lits/0"}),
            Err("change 1 (remove /lits/0): there is no “lits”: the body has list, *, n, deep"),
        ),
        (
            json!({"op": "replace", "path": "/list/7", "value": 1}),
            Err("change 1 (replace /list/7): there is no “7”: /list is a list of 2"),
        ),
        (
            json!({"op": "remove", "path": "/n/x"}),
            Err("change 1 (remove /n/x): there is no “x”: /n is neither an object nor a list"),
        ),
        (
            json!({"op": "mask", "path": "/deep"}),
            Err("change 1 (mask /deep): only texts and numbers are masked"),
        ),
        (
            json!({"op": "move", "from": "/list/*/a", "path": "/first"}),
            Err(
                "what is taken from a list goes to the same item of it: both paths are the same up to their last “*”",
            ),
        ),
        (
            json!({"op": "move", "from": "/deep", "path": "/deep/x"}),
            Err("a value cannot be moved into itself"),
        ),
        (json!({"op": "rename", "path": "/n"}), Err("it needs `to:`")),
        (
            json!({"op": "remove", "path": "/n", "keep": 1}),
            Err("“keep” has no meaning here"),
        ),
        (
            json!({"op": "remove", "path": "n"}),
            Err("“n” is no JSON Pointer: it begins with “/”"),
        ),
        (
            json!({"op": "remove", "path": "/a~2"}),
            Err("“/a~2” is no JSON Pointer: behind “~” comes 0 or 1"),
        ),
    ] {
        let got = applied(&json!([patch]), &document);
        assert_eq!(
            got.as_ref().map_err(String::as_str),
            expected.as_ref().map_err(|e| *e),
            "{patch}"
        );
    }
    // Numbers keep their digits, and members their order.
    let text = r#"{"b":1.10,"a":100000000000000000001}"#;
    let value: Value = serde_json::from_str(text).unwrap();
    let changed = applied(&json!([{"op": "rename", "path": "/b", "to": "c"}]), &value).unwrap();
    assert_eq!(
        changed.to_string(),
        r#"{"c":1.10,"a":100000000000000000001}"#
    );
}

#[test]
fn values_are_made_of_the_items_as_they_were() {
    let compile = |source: &str| Template::Expr(Expr::compile(source, &["item"]).unwrap());
    let change = |action: Action, path: &str| Change {
        action,
        path: Pointer::parse(path).unwrap(),
        may_be_absent: false,
        when: None,
    };
    let patch = Patch::new(vec![
        change(Action::Add(compile("item.a + 1")), "/*/b"),
        change(Action::Replace(compile("item.b * 10")), "/*/a"),
        // Absent: nothing is put, or what is there goes.
        change(Action::Add(compile("item.?none")), "/*/c"),
        change(Action::Replace(compile("item.?none")), "/1/b"),
    ]);
    let made = patch
        .unwrap()
        .apply(json!([{"a": 1}, {"a": 2}]), &Items)
        .unwrap();
    assert_eq!(made, json!([{"a": 20, "b": 2}, {"a": 30}]));
    // What grows without end is told before it is there.
    let doubled = vec![json!({"op": "copy", "from": "", "path": "/all/-"}); 60];
    let told = applied(&Value::Array(doubled), &json!({"all": []})).unwrap_err();
    assert!(
        told.ends_with("more would be put into the body than may be"),
        "{told}"
    );
    let own: Vec<Value> = (0..2_000).map(|i| json!({"a": i})).collect();
    let all = Patch::new(vec![change(
        Action::Copy(Pointer::parse("/x").unwrap()),
        "/list/*/x",
    )]);
    assert!(all.is_err());
    let all = Patch::new(vec![change(Action::Add(compile("[item, item]")), "/*/b")]);
    assert!(all.unwrap().apply(Value::Array(own), &Items).is_ok());
    // More places than anybody needs are told, and not gone through.
    let many = Value::Array(vec![Value::Array(vec![json!(1); 1_000]); 101]);
    let all = Patch::new(vec![change(Action::Remove, "/*/*")]).unwrap();
    let told = all.apply(many, &Items).unwrap_err().to_string();
    assert!(
        told.ends_with("it would meet more than 100000 places"),
        "{told}"
    );
}
