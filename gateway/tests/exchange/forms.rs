//! JSON of callers as forms for backends that take nothing else, and forms of callers as JSON.

use super::*;

const CONTRACT: &str = "openapi: 3.1.0
info: { title: T, version: 1.0.0 }
paths:
  /berths/{id}:
    parameters: [{ name: id, in: path, required: true }]
    post:
      operationId: book
      requestBody: { required: true, content: { application/json: { schema: { type: object, required: [names, note], properties: { names: { type: array, items: { type: string } }, note: {}, cabin: { type: string } } } } } }
      responses: { '200': { description: ok } }
";
const FACADE: &str = "operations:
  book:
    call: { backend: b, path: /book }
    send: { form: { quay: =path.id, guest: =body.names, note: =body.note, cabin: '=body.?cabin', n: =size(body.names), 'a b': '*-._~&=' } }
";

fn book(facade: &str, body: &str) -> (String, Vec<porch_gateway::Trace>) {
    let backend =
        Scripted::start(|_, request| plain(&serde_json::Value::from(request).to_string()));
    let stage = Stage::of(compile_with(backend.address, CONTRACT, facade));
    let request = format!(
        "POST /f/berths/q%2F1 HTTP/1.1\r\nHost: x\r\nConnection: close\r\nContent-Type: application/json\r\nContent-Length: {}\r\n\r\n{body}",
        body.len()
    );
    let answer = stage.raw(request.as_bytes());
    (answer, stage.end().0)
}

#[test]
fn members_become_pairs_as_the_standard_writes_them() {
    let body = r#"{"names": ["Kari Næss", "a+b"], "note": 1.50}"#;
    let (answer, _) = book(FACADE, body);
    assert_eq!(status(&answer), 200, "{answer}");
    let form = "quay=q%2F1&guest=Kari+N%C3%A6ss&guest=a%2Bb&note=1.50&n=2&a+b=*-._%7E%26%3D";
    assert!(answer.ends_with(&format!("{form}\"")), "{answer}");
    let lower = answer.to_ascii_lowercase();
    assert!(
        lower.contains("content-type: application/x-www-form-urlencoded\\r\\n"),
        "{answer}"
    );
    assert!(
        lower.contains(&format!("content-length: {}\\r\\n", form.len())),
        "{answer}"
    );
    // What is absent or null is left out.
    let (answer, _) = book(FACADE, r#"{"names": [], "note": null, "cabin": ""}"#);
    assert!(
        answer.ends_with("quay=q%2F1&cabin=&n=0&a+b=*-._%7E%26%3D\""),
        "{answer}"
    );
}

#[test]
fn what_is_no_text_is_refused_as_the_callers() {
    let (answer, traces) = book(FACADE, r#"{"names": ["a"], "note": {"deep": 1}}"#);
    assert_eq!(status(&answer), 400, "{answer}");
    let why = &traces[0].refusal.as_ref().unwrap().why;
    assert!(why.contains("“note” has no plain text"), "{why}");
    let whole =
        "operations:\n  book: { call: { backend: b, path: /book }, send: { form: =body.names } }\n";
    let (answer, traces) = book(whole, r#"{"names": ["a"], "note": 1}"#);
    assert_eq!(status(&answer), 400, "{answer}");
    let why = &traces[0].refusal.as_ref().unwrap().why;
    assert!(why.contains("only an object is a form"), "{why}");
}

const OF_CALLERS: &str = "openapi: 3.1.0
info: { title: T, version: 1.0.0 }
paths:
  /berths:
    post:
      operationId: book
      requestBody: { required: true, content: { application/x-www-form-urlencoded: { schema: { type: object, additionalProperties: false, required: [quay, n], properties: { quay: { type: string, maxLength: 8 }, n: { type: integer }, wet: { type: boolean }, names: { type: array, items: { type: string } } } } } } }
      responses: { '200': { description: ok } }
";

fn sent(facade: &str, kind: &str, form: &str) -> (String, Vec<porch_gateway::Trace>) {
    let backend = Scripted::start(|_, request| {
        plain(request.split_once("\r\n\r\n").map_or("", |(_, body)| body))
    });
    let stage = Stage::of(compile_with(backend.address, OF_CALLERS, facade));
    let request = format!(
        "POST /f/berths HTTP/1.1\r\nHost: x\r\nConnection: close\r\nContent-Type: {kind}\r\nContent-Length: {}\r\n\r\n{form}",
        form.len()
    );
    let answer = stage.raw(request.as_bytes());
    (answer, stage.end().0)
}

const FORM: &str = "application/x-www-form-urlencoded; charset=utf-8";
const AS_JSON: &str = "operations:\n  book: { call: { backend: b }, send: { body: { at: =body.quay, all: =body } } }\n";

#[test]
fn forms_of_callers_are_read_by_the_contracts_types() {
    let (answer, _) = sent(
        AS_JSON,
        FORM,
        "quay=a+b%2F&n=7&wet=true&names=Kari&names=N%C3%A6ss&",
    );
    assert_eq!(status(&answer), 200, "{answer}");
    let made = r#"{"at":"a b/","all":{"quay":"a b/","n":7,"wet":true,"names":["Kari","Næss"]}}"#;
    assert!(answer.ends_with(made), "{answer}");
    // What no expression reads goes through as it is.
    let through = "operations:\n  book: { call: { backend: b } }\n";
    let (answer, _) = sent(through, FORM, "quay=a+b&n=7");
    assert!(answer.ends_with("\r\n\r\nquay=a+b&n=7"), "{answer}");
}

#[test]
fn what_a_form_has_wrong_is_told_by_member() {
    let long = format!("n=1&quay=a{}", "&x=".repeat(10_001));
    for (form, code, told) in [
        ("n=7", 400, "quay"),
        ("quay=a&n=seven", 400, "/body/n"),
        ("quay=a&n=1&quay=b", 400, "/body/quay"),
        ("quay=much+too+long&n=1", 400, "/body/quay"),
        ("quay=a&n=1&nobody=1", 400, "nobody"),
        ("quay=%FF&n=1", 400, "no part of a text"),
        ("quay=%zz&n=1", 400, "no part of a text"),
        (&long, 400, "more than 10000 members"),
    ] {
        let (answer, _) = sent(AS_JSON, FORM, form);
        assert!(
            status(&answer) == code && answer.contains(told),
            "{form:.40}: {answer}"
        );
    }
    let (answer, _) = sent(AS_JSON, "application/json", "{}");
    assert!(
        status(&answer) == 415 && answer.contains("application/x-www-form-urlencoded"),
        "{answer}"
    );
}
