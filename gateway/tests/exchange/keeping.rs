//! What callers send is held against the contract.

use crate::*;

const CONTRACT: &str = "openapi: 3.1.0
info: { title: Seats, version: 1.0.0 }
paths:
  /holds/{route}:
    parameters:
      - { name: route, in: path, required: true, schema: { type: string, pattern: '^[A-Z]{3}-[A-Z]{3}$' } }
    get:
      operationId: holds
      parameters:
        - { name: seats, in: query, schema: { type: integer, minimum: 1, maximum: 9 } }
        - { name: days, in: query, style: pipeDelimited, explode: false, schema: { type: array, maxItems: 2, items: { type: string, format: date } } }
        - { name: Berth, in: header, schema: { type: string, maxLength: 3 } }
      responses: { '200': { description: ok } }
    post:
      operationId: hold
      requestBody:
        required: true
        content:
          application/json: { schema: { $ref: '#/components/schemas/Hold' } }
          application/merge-patch+json: { schema: { maxProperties: 1 } }
          text/*: {}
      responses: { '200': { description: ok } }
  /open:
    post:
      operationId: open
      requestBody: { content: { application/json: { schema: { type: object } } } }
      responses: { '200': { description: ok } }
components:
  schemas:
    Hold:
      type: object
      required: [name, id]
      additionalProperties: false
      properties:
        id: { type: integer, readOnly: true }
        name: { type: string, minLength: 1 }
        next: { $ref: '#/components/schemas/Hold' }
";

const FACADE: &str = "operations:
  holds: { call: { backend: b } }
  hold: { call: { backend: b } }
  open: { call: { backend: b }, admit: { contract: pass, unknown-query: pass } }
";

fn stage(backend: &Scripted) -> Stage {
    Stage::of(compile_with(backend.address, CONTRACT, FACADE))
}

fn post(stage: &Stage, target: &str, fields: &str, body: &str) -> String {
    let head = format!("POST {target} HTTP/1.1\r\nHost: x\r\nConnection: close\r\n{fields}");
    let length = body.len();
    stage.raw(format!("{head}Content-Length: {length}\r\n\r\n{body}").as_bytes())
}

/// The mistakes that a reply tells, as `pointer detail`.
pub(crate) fn errors(reply: &str) -> Vec<String> {
    let body = reply.split("\r\n\r\n").nth(1).unwrap_or_default();
    let problem: serde_json::Value = serde_json::from_str(body).unwrap_or_default();
    let errors = problem["errors"].as_array().cloned().unwrap_or_default();
    let text = |e: &serde_json::Value, name: &str| e[name].as_str().unwrap_or_default().to_owned();
    let errors = errors.iter();
    errors
        .map(|e| format!("{} {}", text(e, "pointer"), text(e, "detail")))
        .collect()
}

const JSON: &str = "Content-Type: application/json\r\n";

#[test]
fn bodies_that_do_not_fit_never_reach_the_backend_and_every_mistake_is_told() {
    let backend = Scripted::start(|_, request| {
        plain(&format!("{{\"got\":{}}}", request.contains("\"Ina\"")))
    });
    let stage = stage(&backend);
    let good = post(
        &stage,
        "/f/holds/FAR-MAR",
        JSON,
        r#"{"name":"Ina","next":{"name":"Bo"}}"#,
    );
    assert_eq!(status(&good), 200, "{good}");
    assert!(good.contains("\"got\":true"), "{good}");
    let bad = r#"{"id":1,"nam":"x","next":{"name":"","next":[]}}"#;
    let refused = post(&stage, "/f/holds/far", JSON, bad);
    assert_eq!(status(&refused), 400);
    assert_eq!(
        errors(&refused),
        ["/path/route does not match the pattern ^[A-Z]{3}-[A-Z]{3}$"]
    );
    let refused = post(&stage, "/f/holds/FAR-MAR", JSON, bad);
    assert_eq!(status(&refused), 400);
    assert_eq!(
        errors(&refused),
        [
            "/body/name must be there",
            "/body/id is set by the service and not by callers",
            "/body/nam is not known here; did you mean “name”?",
            "/body/next/name must have at least 1 character",
            "/body/next/next must be an object",
        ]
    );
    // Whoever says nothing of the media type means JSON; what is none is told as well.
    assert_eq!(status(&post(&stage, "/f/holds/FAR-MAR", "", "{}")), 400);
    assert_eq!(status(&post(&stage, "/f/holds/FAR-MAR", JSON, "{")), 400);
    let none = post(&stage, "/f/holds/FAR-MAR", JSON, "");
    assert_eq!(errors(&none), ["/body must be there"]);
    // Which of two would count is not the same everywhere.
    let twice = post(
        &stage,
        "/f/holds/FAR-MAR",
        JSON,
        r#"{"name":"","name":"Ina"}"#,
    );
    assert_eq!(
        errors(&twice),
        ["/body has the member “name” twice in one object"]
    );
    // In pieces it is the same.
    let pieces = format!(
        "POST /f/holds/FAR-MAR HTTP/1.1\r\nHost: x\r\nConnection: close\r\n{JSON}Transfer-Encoding: chunked\r\n\r\n2\r\n{{}}\r\n0\r\n\r\n"
    );
    assert_eq!(
        errors(&stage.raw(pieces.as_bytes())),
        ["/body/name must be there"]
    );
}

#[test]
fn other_media_types_and_codings_are_taken_as_the_contract_has_them() {
    let backend = Scripted::start(|_, _| plain("{}"));
    let stage = stage(&backend);
    let to = "/f/holds/FAR-MAR";
    assert_eq!(
        status(&post(&stage, to, "Content-Type: text/plain\r\n", "seat 7")),
        200
    );
    // Each type has a schema of its own.
    let patch = "Content-Type: application/merge-patch+json\r\n";
    assert_eq!(status(&post(&stage, to, patch, "{\"x\":1}")), 200);
    let two = post(&stage, to, patch, "{\"x\":1,\"y\":2}");
    assert_eq!(errors(&two), ["/body must have at most 1 member"]);
    let other = post(&stage, to, "Content-Type: image/png\r\n", "x");
    assert_eq!(status(&other), 415);
    assert!(
        other.contains("accept: application/json, application/merge-patch+json, text/*"),
        "{other}"
    );
    let coded = post(&stage, to, &format!("{JSON}Content-Encoding: br\r\n"), "x");
    assert_eq!(status(&coded), 415);
    assert!(
        coded.contains("accept-encoding: gzip, deflate, identity"),
        "{coded}"
    );
    // Where the documents say so, all of it passes.
    let open = post(
        &stage,
        "/f/open?what=ever",
        "Content-Type: image/png\r\n",
        "[]",
    );
    assert_eq!(status(&open), 200, "{open}");
}

#[test]
fn parameters_are_held_against_all_that_their_schemas_say() {
    let backend = Scripted::start(|_, request| plain(&format!("{{\"n\":{}}}", request.len())));
    let stage = stage(&backend);
    let of = |query: &str, fields: &str| {
        errors(&stage.raw(format!("GET /f/holds/FAR-MAR{query} HTTP/1.1\r\nHost: x\r\nConnection: close\r\n{fields}\r\n").as_bytes()))
    };
    assert_eq!(
        of("?seats=9&days=2027-05-14%7C2027-05-15", "Berth: abc\r\n"),
        Vec::<String>::new()
    );
    assert_eq!(
        of(
            "?seats=10&days=2027-05-14|2027-13-14|2027-05-16&seat=1&%3Cb%3E=2",
            "Berth: abcd\r\n"
        ),
        [
            "/query/seat is not known here; did you mean “seats”?",
            "/query/<b> is not known here",
            "/query/seats must be 9 or less",
            "/query/days must have at most 2 items",
            "/query/days/1 is no date",
            "/header/Berth must have at most 3 characters",
        ]
    );
}
