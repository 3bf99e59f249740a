//! Changes of messages that go through.

use serde_json::{Value, json};

use super::*;

const CONTRACT: &str = "openapi: 3.1.0
info: { title: T, version: 1.0.0 }
paths:
  /things/{id}:
    parameters: [{ name: id, in: path, required: true }, { name: others, in: query, schema: { type: object } }]
    get: { operationId: look, responses: { '200': { description: ok } } }
    put: { operationId: give, requestBody: { content: { application/json: { schema: { type: object } } } }, responses: { '200': { description: ok } } }
";

/// A backend that says what it got; `/inner/things/NUMBER` answers with that status.
fn told() -> Scripted {
    Scripted::start(|_, request| {
        let first = request.lines().next().unwrap_or_default();
        let target = first.split(' ').nth(1).unwrap_or_default();
        let status = target
            .trim_start_matches("/inner/things/")
            .get(..3)
            .and_then(|s| s.parse::<u16>().ok())
            .unwrap_or(200);
        let body = json!({ "got": request, "list": [{"id": 1, "inside": true}, {"id": 2, "inside": false}], "secret": "4000123456789" }).to_string();
        if status == 204 || status == 304 {
            return format!("HTTP/1.1 {status} Ok\r\nServer: old\r\nETag: \"a\"\r\n\r\n")
                .into_bytes();
        }
        format!("HTTP/1.1 {status} Ok\r\nContent-Type: application/json\r\nServer: old/1.2\r\nX-Inner-A: 1\r\nX-Inner-B: 2\r\nSet-Cookie: a=1\r\nSet-Cookie: b=2\r\nETag: \"a\"\r\nContent-Length: {}\r\n\r\n{body}", body.len()).into_bytes()
    })
}

fn stage(changes: &str) -> Stage {
    let facade = format!(
        "operations:\n  look: {{ call: {{ backend: b }}, changes: {changes} }}\n  give: {{ call: {{ backend: b }}, changes: {changes} }}\n"
    );
    Stage::of(compile_with(told().address, CONTRACT, &facade))
}

fn body(answer: &str) -> Value {
    let (_, body) = answer.split_once("\r\n\r\n").unwrap();
    serde_json::from_str(body).unwrap_or_else(|e| panic!("{e}: {answer}"))
}

fn head(answer: &str) -> String {
    answer
        .split("\r\n\r\n")
        .next()
        .unwrap()
        .to_ascii_lowercase()
}

#[test]
fn fields_of_replies_are_changed_while_they_stream() {
    let stage = stage(
        "{ reply: { headers: [
        { op: remove, name: Server }, { op: remove, name: x-inner-* },
        { op: rename, name: Set-Cookie, to: X-Cookie }, { op: copy, name: ETag, to: X-Tag },
        { op: set, name: X-Id, value: =path.id }, { op: add, name: Vary, value: X-Who },
        { op: set, name: X-Was, value: =string(answer.status), when: =answer.status == 201 },
        { op: set, name: Content-Language, value: \"=header[?'accept-language']\" } ] } }",
    );
    let answer = stage.get("/f/things/7", "");
    let fields = head(&answer);
    for gone in [
        "server:",
        "x-inner",
        "set-cookie",
        "x-was",
        "content-language",
    ] {
        assert!(!fields.contains(gone), "{gone}: {fields}");
    }
    for there in [
        "x-cookie: a=1",
        "x-cookie: b=2",
        "etag: \"a\"",
        "x-tag: \"a\"",
        "x-id: 7",
        "vary: x-who",
    ] {
        assert!(fields.contains(there), "{there}: {fields}");
    }
    let fields = head(&stage.get("/f/things/201", "Accept-Language: nn\r\n"));
    assert!(
        fields.contains("x-was: 201") && fields.contains("content-language: nn"),
        "{fields}"
    );
    let (traces, _) = stage.end();
    let stages = &traces[0].stages;
    assert!(
        stages
            .iter()
            .flat_map(|s| &s.notes)
            .any(|n| n == "the answer streams through"),
        "{stages:?}"
    );
    let reply = stages.last().unwrap();
    let removed = "remove the field Server (operation look, f.yaml:7)";
    assert!(
        reply.notes.iter().any(|n| n == removed),
        "{:?}",
        reply.notes
    );
    assert!(
        reply.notes.iter().all(|n| !n.contains("X-Was")),
        "only what was done: {:?}",
        reply.notes
    );
}

#[test]
fn statuses_are_answered_as_others_the_narrowest_reach_first() {
    let facade = "changes: { reply: { status: { 5XX: 502, 404: 410, 2xx: 203, 304: 203, 204: 203 } } }\noperations:\n  look: { call: { backend: b } }\n  give: { call: { backend: b }, changes: { reply: { status: { 503: 429 } } } }\n";
    let stage = Stage::of(compile_with(told().address, CONTRACT, facade));
    for (id, wanted) in [
        ("503", 502),
        ("500", 502),
        ("404", 410),
        ("403", 403),
        ("200", 203),
        ("204", 204),
        ("304", 304),
    ] {
        let answer = stage.get(&format!("/f/things/{id}"), "");
        assert_eq!(status(&answer), wanted, "{id}: {answer}");
    }
    let put =
        "PUT /f/things/503 HTTP/1.1\r\nHost: x\r\nConnection: close\r\nContent-Length: 0\r\n\r\n";
    assert_eq!(status(&stage.raw(put.as_bytes())), 429);
    // What the porch refuses itself is left alone.
    assert_eq!(status(&stage.get("/f/things", "")), 404);
}

#[test]
fn requests_are_changed_on_their_way() {
    let stage = stage("{ request: {
        query: [ { op: rename, name: q, to: search }, { op: remove, name: debug }, { op: set, name: id, value: =path.id }, { op: add, name: tag, value: a b }, { op: copy, name: keep, to: kept } ],
        headers: [ { op: remove, name: X-Debug }, { op: set, name: X-Who, value: =caller.address }, { op: rename, name: X-Old, to: X-New } ],
        body: [ { op: rename, path: /name, to: title }, { op: default, path: /size, value: 1 }, { op: add, path: /by, value: =path.id } ] } }");
    let answer = stage.get(
        "/f/things/7?q=%C3%A4+b&debug=1&keep=x%20y",
        "X-Debug: 1\r\nX-Old: o\r\n",
    );
    let got = body(&answer)["got"].as_str().unwrap().to_owned();
    assert!(
        got.starts_with(
            "GET /inner/things/7?search=%C3%A4+b&keep=x%20y&id=7&tag=a%20b&kept=x%20y HTTP/1.1\r\n"
        ) || got.starts_with(
            "GET /inner/things/7?keep=x%20y&search=%C3%A4+b&id=7&tag=a%20b&kept=x%20y HTTP/1.1\r\n"
        ),
        "{got}"
    );
    let fields = got.to_ascii_lowercase();
    assert!(
        !fields.contains("x-debug") && !fields.contains("x-old"),
        "{got}"
    );
    assert!(
        fields.contains("x-who: 127.0.0.1") && fields.contains("x-new: o"),
        "{got}"
    );
    assert!(fields.contains("x-login: tide-and-tackle"), "{got}");
    let sent = r#"{ "name": "crate 17", "n": 1.50 }"#;
    let put = format!(
        "PUT /f/things/7 HTTP/1.1\r\nHost: x\r\nConnection: close\r\nContent-Type: application/json\r\nContent-Length: {}\r\n\r\n{sent}",
        sent.len()
    );
    let answer = stage.raw(put.as_bytes());
    let got = body(&answer)["got"].as_str().unwrap().to_owned();
    assert!(
        got.ends_with("\r\n\r\n{\"title\":\"crate 17\",\"n\":1.50,\"size\":1,\"by\":\"7\"}"),
        "{got}"
    );
    // What cannot be changed is the caller's mistake, and says what is there.
    let answer = stage.raw(put.replace("\"name\"", "\"neam\"").as_bytes());
    assert_eq!(status(&answer), 400, "{answer}");
    assert!(
        answer.contains("there is no “name”: the body has neam, n"),
        "{answer}"
    );
}

#[test]
fn replies_are_changed_in_place() {
    let stage = stage("{ reply: { body: [
        { op: remove, path: /got }, { op: mask, path: /secret, keep: 4 }, { op: remove, path: '/list/*/inside' },
        { op: add, path: '/list/*/link', value: \"='/things/' + string(item.id)\" }, { op: test, path: /list/0/id, value: 1 } ],
        headers: [ { op: set, name: X-Count, value: =string(answer.body.list.size()) } ] } }");
    let answer = stage.get("/f/things/7", "");
    let wanted = json!({"list": [{"id": 1, "link": "/things/1"}, {"id": 2, "link": "/things/2"}], "secret": "••••6789"});
    assert_eq!(body(&answer), wanted);
    let fields = head(&answer);
    assert!(
        fields.contains("x-count: 2") && fields.contains("etag: w/\"a\""),
        "{fields}"
    );
    // Failures are passed on as they are, and what has no body has none.
    let answer = stage.get("/f/things/404", "");
    assert!(answer.contains("4000123456789"), "{answer}");
    assert_eq!(status(&stage.get("/f/things/204", "")), 204);
    assert_eq!(status(&stage.get("/f/things/304", "")), 304);
}

#[test]
fn what_cannot_be_changed_is_told_to_the_publisher_and_not_to_callers() {
    let stage = stage("{ reply: { body: [ { op: remove, path: /gone } ] } }");
    let answer = stage.get("/f/things/7", "");
    assert_eq!(status(&answer), 502, "{answer}");
    assert!(!answer.contains("secret"), "{answer}");
    let (traces, _) = stage.end();
    let refusal = traces[0].refusal.clone().unwrap();
    assert!(
        refusal.why.ends_with(
            "change 1 (remove /gone): there is no “gone”: the body has got, list, secret"
        ),
        "{refusal:?}"
    );
    assert_eq!(
        (refusal.reach.as_str(), refusal.line),
        ("operation look", 6)
    );
}

#[test]
fn no_expression_brings_a_field_in_by_a_line_end_or_the_consoles_cookie() {
    let stage = stage("{ reply: { headers: [ { op: set, name: X-A, value: \"=header[?'x-a'].orValue('x') + '\\r\\nX-B: 1'\" } ] } }".replace("\\r\\n", "\\\\r\\\\n").as_str());
    let answer = stage.get("/f/things/7", "");
    assert_eq!(status(&answer), 502, "{answer}");
    assert!(!head(&answer).contains("x-b"), "{answer}");
    let stage = self::stage(
        "{ reply: { headers: [ { op: add, name: Set-Cookie, value: porch-session=1 }, { op: add, name: Set-Cookie, value: c=3 } ] } }",
    );
    let fields = head(&stage.get("/f/things/7", ""));
    assert!(
        !fields.contains("session") && fields.contains("set-cookie: c=3"),
        "{fields}"
    );
}
