//! Lists that come in pages, followed and joined.

use std::sync::Mutex;

use super::*;

const CONTRACT: &str = "openapi: 3.1.0
info: { title: T, version: 1.0.0 }
paths:
  /sailings:
    get: { operationId: all, responses: { '200': { description: ok } } }
";

fn facade(pages: &str, send: &str) -> String {
    format!(
        "operations:\n  all:\n    calls:\n      list: {{ backend: b, path: /sailings, send: {{ query: {{ {send} }} }}, pages: {pages} }}\n    reply: {{ sailings: =list.body, status: =list.status }}\n"
    )
}

/// What is asked of a backend, and what comes of it.
fn asked(
    facade: &str,
    answer: impl Fn(&str) -> String + Send + Sync + 'static,
) -> (String, Vec<String>, String) {
    let seen: Arc<Mutex<Vec<String>>> = Arc::default();
    let log = seen.clone();
    let backend = Scripted::start(move |_, request| {
        let target = request.split(' ').nth(1).unwrap_or_default().to_owned();
        let made = answer(&target);
        log.lock().unwrap().push(target);
        plain(&made)
    });
    let stage = Stage::of(compile_with(backend.address, CONTRACT, facade));
    let answer = stage.get("/f/sailings", "");
    let (traces, _) = stage.end();
    let why = traces[0]
        .refusal
        .as_ref()
        .map_or_else(String::new, |r| r.why.clone());
    let seen = seen.lock().unwrap().clone();
    (answer, seen, why)
}

const BY_CURSOR: &str = "{ items: =answer.body.items, next: =answer.body.?next }";

#[test]
fn cursors_are_followed_until_there_is_none() {
    let facade = facade(BY_CURSOR, "after: =page, most: 2");
    let (answer, seen, _) = asked(&facade, |target| match target {
        "/inner/sailings?most=2" => r#"{"items": [1, 2], "next": "a b"}"#.into(),
        "/inner/sailings?after=a%20b&most=2" => r#"{"items": [], "next": "c"}"#.into(),
        "/inner/sailings?after=c&most=2" => r#"{"items": [3.10]}"#.into(),
        other => panic!("{other}"),
    });
    assert_eq!(status(&answer), 200, "{answer}");
    assert!(
        answer.ends_with(r#"{"sailings":[1,2,3.10],"status":200}"#),
        "{answer}"
    );
    assert_eq!(seen.len(), 3);
    // Whatever says that there is no other.
    for end in ["null", "false", "\"\""] {
        let end = format!("{{\"items\": [1], \"next\": {end}}}");
        let (answer, seen, _) = asked(&facade, move |_| end.clone());
        assert!(
            answer.contains("\"sailings\":[1]") && seen.len() == 1,
            "{answer}"
        );
    }
}

#[test]
fn numbers_are_counted_on() {
    let pages =
        "{ first: 1, items: =answer.body, next: '=size(answer.body) == 2 ? page + 1 : null' }";
    let (answer, seen, _) = asked(&facade(pages, "page: =page"), |target| match target {
        "/inner/sailings?page=3" => "[5]".into(),
        _ => "[1, 2]".into(),
    });
    assert!(answer.contains("[1,2,1,2,5]"), "{answer}");
    assert_eq!(
        seen,
        [
            "/inner/sailings?page=1",
            "/inner/sailings?page=2",
            "/inner/sailings?page=3"
        ]
    );
}

#[test]
fn what_does_not_end_is_ended() {
    let endless = facade(
        "{ first: 0, items: =answer.body.items, next: =page + 1, at-most: 3 }",
        "page: =page",
    );
    let same = facade(BY_CURSOR, "after: =page");
    for (facade, body, calls, told) in [
        (
            &endless,
            r#"{"items": [1]}"#,
            3,
            "there are more than 3 pages",
        ),
        (
            &same,
            r#"{"items": [], "next": "a"}"#,
            2,
            "its next page is the same one",
        ),
        (&same, r#"{"items": 7}"#, 1, "its items are no list"),
        (&same, r#"{"itms": []}"#, 1, "there is no “items”"),
    ] {
        let (answer, seen, why) = asked(facade, move |_| body.into());
        assert_eq!(status(&answer), 502, "{answer}");
        assert_eq!(seen.len(), calls);
        assert!(
            why.contains("its pages cannot be followed: ") && why.contains(told),
            "{why}"
        );
    }
    let many = format!("{{\"items\": [{}1], \"next\": 1}}", "1,".repeat(99_999));
    let (answer, seen, why) = asked(
        &facade(
            "{ first: 0, items: =answer.body.items, next: =page + 1 }",
            "page: =page",
        ),
        move |_| many.clone(),
    );
    assert_eq!((status(&answer), seen.len()), (502, 2));
    assert!(why.contains("more than 100000 items"), "{why}");
}

#[test]
fn a_page_that_fails_fails_all_unless_something_stands_for_it() {
    let with = |otherwise: &str| {
        let text = facade(BY_CURSOR, "after: =page");
        text.replace(" pages:", &format!(" {otherwise}pages:"))
    };
    let answer = |target: &str| match target.contains("after") {
        true => "no JSON".to_owned(),
        false => r#"{"items": [1], "next": "a"}"#.to_owned(),
    };
    assert_eq!(status(&asked(&with(""), answer).0), 502);
    let (answer, ..) = asked(&with("otherwise: [], "), answer);
    assert!(
        answer.ends_with(r#"{"sailings":[],"status":502}"#),
        "{answer}"
    );
}
