//! Refusals in the facade's own words, where there is one call.

use serde_json::json;

use super::several::{body, harbour, post};
use super::*;

#[test]
fn an_operation_with_one_call_refuses_by_request_and_answer() {
    let (stage, seen) = harbour("  look:
    call: { backend: b, path: '/places/{port}' }
    refuse:
      - { when: '=query.?n.orValue(0) > 9', status: 422, title: Too many }
      - { when: =answer.status == 404, status: 410, title: Gone, members: { port: =path.port } }
      - { when: \"=answer.status == 200 && answer.body.code == 'DRY'\", status: 409, title: Dry, detail: =answer.body.code }
");
    assert_eq!(status(&stage.get("/f/ports/maren?n=10", "")), 422);
    assert_eq!(seen.lines(), Vec::<String>::new());
    for (port, wanted, title) in [
        ("nowhere", 410, "Gone"),
        ("text", 410, "Gone"),
        ("dry", 409, "Dry"),
    ] {
        let answer = stage.get(&format!("/f/ports/{port}"), "");
        assert_eq!(
            (status(&answer), &body(&answer)["title"]),
            (wanted, &json!(title)),
            "{answer}"
        );
        assert!(!answer.contains("<no>"), "{answer}");
    }
    // What is not refused is what it was.
    let answer = stage.get("/f/ports/maren", "");
    assert_eq!(
        body(&answer),
        json!({"code": "MAREN", "quays": ["a", "b", "c"]})
    );
    assert_eq!(
        status(&stage.get("/f/ports/broken", "")),
        500,
        "other failures are passed on"
    );
}

#[test]
fn refusals_look_into_bodies_that_go_on_as_they_came() {
    let (stage, seen) = harbour(
        "  book:
    call: { backend: b, path: /holds }
    refuse:
      - { when: \"=body.?who.orValue('') == ''\", status: 422, title: Who is it? }
",
    );
    assert_eq!(
        status(&post(&stage, "/f/ports/maren", r#"{"whom":1}"#)),
        422
    );
    assert_eq!(seen.lines(), Vec::<String>::new());
    let sent = r#"{ "who" :  "us", "n": 1.50 }"#;
    assert_eq!(status(&post(&stage, "/f/ports/maren", sent)), 201);
    assert!(seen.all()[0].ends_with(sent), "{:?}", seen.all());
}
