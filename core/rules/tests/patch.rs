//! The two ways of changing JSON in place: over bytes, and over a value.

use std::cell::Cell;

use porch_rules::expr::{EvalError, NoXml, Scope, Template, Val};
use porch_rules::patch::{Action, Change, Patch, Pointer, Values};
use proptest::prelude::*;
use serde_json::{Value, json};

/// Nothing has a name.
struct Nothing;

impl Scope for Nothing {
    fn open_xml(&self, _: &str) -> Result<Value, NoXml> {
        Err(NoXml("is none".into()))
    }

    fn member<'s>(&'s self, _: usize, _: &str) -> Option<Val<'s>> {
        None
    }

    fn whole(&self, _: usize) -> Val<'_> {
        Val::Absent
    }
}

impl Values for Nothing {
    fn value(
        &self,
        template: &Template,
        _: Option<&Value>,
    ) -> Result<Option<Value>, (String, EvalError)> {
        template.render(self)
    }
}

fn name() -> impl Strategy<Value = String> {
    proptest::sample::select(vec!["a", "b", "c", "d", "ä"]).prop_map(str::to_owned)
}

fn document() -> impl Strategy<Value = Value> {
    let leaf = prop_oneof![
        Just(Value::Null),
        any::<bool>().prop_map(Value::from),
        (-1000..1000i32).prop_map(Value::from),
        "[a-z\"\\\\\n/ä]{0,6}".prop_map(Value::from),
    ];
    let inner = leaf.prop_recursive(4, 40, 4, |inner| {
        prop_oneof![
            proptest::collection::vec(inner.clone(), 0..4).prop_map(Value::from),
            proptest::collection::vec((name(), inner), 0..5)
                .prop_map(|all| Value::Object(all.into_iter().collect())),
        ]
    });
    // Mostly objects with lists of objects in them, as bodies are.
    let list = proptest::collection::vec(
        proptest::collection::vec((name(), inner.clone()), 0..4)
            .prop_map(|all| Value::Object(all.into_iter().collect())),
        0..4,
    );
    (proptest::collection::vec((name(), inner), 0..5), list).prop_map(|(all, list)| {
        let mut members: serde_json::Map<String, Value> = all.into_iter().collect();
        members.insert("list".into(), Value::Array(list));
        Value::Object(members)
    })
}

fn change() -> impl Strategy<Value = Change> {
    let path = prop_oneof![
        name().prop_map(|a| format!("/{a}")),
        name().prop_map(|a| format!("/list/*/{a}")),
        (name(), name()).prop_map(|(a, b)| format!("/{a}/{b}")),
        (name(), name()).prop_map(|(a, b)| format!("/list/*/{a}/{b}")),
    ];
    let value = || Template::Literal(json!({"made": [1, "x"]}));
    let action = prop_oneof![Just(0u8), Just(1), Just(2), Just(3), Just(4), Just(5)];
    (path, action, name(), any::<bool>(), 0usize..3).prop_map(
        move |(path, action, to, may_be_absent, keep)| Change {
            action: match action {
                0 => Action::Add(value()),
                1 => Action::Remove,
                2 => Action::Replace(value()),
                3 => Action::Rename(to),
                4 => Action::Default(value()),
                _ => Action::Mask(keep),
            },
            path: Pointer::parse(&path).unwrap(),
            may_be_absent,
            when: None,
        },
    )
}

thread_local! {
    static SURE: Cell<u32> = const { Cell::new(0) };
}

#[test]
fn bytes_and_values_are_changed_alike() {
    let changes = || proptest::collection::vec(change(), 1..4);
    let mut runner = proptest::test_runner::TestRunner::new(ProptestConfig {
        cases: 6_000,
        failure_persistence: None,
        ..ProptestConfig::default()
    });
    let told = runner.run(
        &(
            document(),
            changes(),
            any::<bool>(),
            0usize..200,
            any::<u8>(),
        ),
        |(document, changes, spoil, at, with)| {
            let patch = Patch::new(changes).unwrap();
            let mut text = format!("{document:#}").into_bytes();
            if spoil {
                let at = at % text.len();
                text[at] = with;
            }
            let Some(made) = patch.swift(&text, &Nothing) else {
                return Ok(());
            };
            SURE.set(SURE.get() + 1);
            let read: Value =
                serde_json::from_slice(&text).map_err(|e| TestCaseError::fail(e.to_string()))?;
            let other = patch
                .apply(read, &Nothing)
                .map_err(|e| TestCaseError::fail(e.to_string()))?;
            let made: Value =
                serde_json::from_slice(&made).map_err(|e| TestCaseError::fail(e.to_string()))?;
            // Members stand in the same order, too.
            prop_assert_eq!(made.to_string(), other.to_string());
            Ok(())
        },
    );
    told.unwrap();
    // It is sure often enough to be worth having.
    assert!(SURE.get() > 600, "{}", SURE.get());
}

#[test]
fn what_is_not_changed_stands_as_it_was() {
    let change = |action: Action, path: &str| Change {
        action,
        path: Pointer::parse(path).unwrap(),
        may_be_absent: false,
        when: None,
    };
    let patch = Patch::new(vec![
        change(Action::Rename("depth".into()), "/metres"),
        change(Action::Remove, "/list/*/x"),
        change(Action::Add(Template::Literal(json!(true))), "/sails"),
    ])
    .unwrap();
    let text =
        r#" { "metres" : 1.50e2, "list":[ {"x":1, "y" : "\u00e4"}, {"x":2}], "z": [1,  2] } "#;
    // A text with an escape by number is read the other way.
    assert_eq!(patch.swift(text.as_bytes(), &Nothing), None);
    let text = text.replace("\\u00e4", "ä\\n");
    let made = patch.swift(text.as_bytes(), &Nothing).unwrap();
    let wanted = r#"{"depth":1.50e2,"list":[{"y":"ä\n"},{}],"z":[1,  2],"sails":true}"#;
    assert_eq!(String::from_utf8(made).unwrap(), wanted);
    for other in [
        "",
        "{",
        "[]",
        r#"{"metres":1}"#,
        r#"{"metres":1,"list":[{}]}"#,
        r#"{"metres":1,"list":[],"depth":2}"#,
        r#"{"metres":1,"metres":2,"list":[]}"#,
        r#"{"metres":1,"list":[],}"#,
        r#"{"metres":01,"list":[]}"#,
        r#"{"metres":1,"list":[]} x"#,
    ] {
        assert_eq!(patch.swift(other.as_bytes(), &Nothing), None, "{other}");
    }
    // As deep as anybody writes: neither way overflows.
    let deep = format!(
        r#"{{"metres":1,"list":[],"z":{}1{}}}"#,
        "[".repeat(100_000),
        "]".repeat(100_000)
    );
    assert_eq!(patch.swift(deep.as_bytes(), &Nothing), None);
    assert!(Pointer::parse(&"/a".repeat(65)).is_err());
}
