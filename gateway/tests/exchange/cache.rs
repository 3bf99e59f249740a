//! Replies that are kept and given again (RFC 9111): what is asked for how often, and who may have it.

use std::sync::Mutex;

use super::*;

pub(super) const CONTRACT: &str = "openapi: 3.1.0
info: { title: T, version: 1.0.0 }
paths:
  /things/{id}:
    parameters: [{ name: id, in: path, required: true, schema: { type: string } }]
    get: { operationId: look, parameters: [{ name: q, in: query, schema: { type: string } }], responses: { '200': { description: ok, content: { application/json: {} } }, 5XX: { description: no } } }
    post: { operationId: give, responses: { '200': { description: ok }, 5XX: { description: no } } }
  /others/{id}:
    parameters: [{ name: id, in: path, required: true, schema: { type: string } }]
    get: { operationId: other, responses: { '200': { description: ok, content: { application/json: {} } } } }
";

/// A backend whose n-th answer is what a function makes of the request.
pub(super) fn counting(
    answer: impl Fn(usize, &str) -> String + Send + Sync + 'static,
) -> (Scripted, Arc<Mutex<Vec<String>>>) {
    let seen: Arc<Mutex<Vec<String>>> = Arc::default();
    let log = seen.clone();
    let backend = Scripted::start(move |_, request| {
        let n = {
            let mut log = log.lock().unwrap();
            log.push(request.to_owned());
            log.len()
        };
        answer(n, request).into_bytes()
    });
    (backend, seen)
}

pub(super) fn said(status: &str, fields: &str, body: &str) -> String {
    format!(
        "HTTP/1.1 {status}\r\nContent-Type: application/json\r\n{fields}Content-Length: {}\r\n\r\n{body}",
        body.len()
    )
}

pub(super) fn numbered(fields: &'static str) -> (Scripted, Arc<Mutex<Vec<String>>>) {
    counting(move |n, _| said("200 OK", fields, &format!("{{\"n\":{n}}}")))
}

pub(super) const ALL: &str = "operations:\n  look: { call: { backend: b } }\n  give: { call: { backend: b } }\n  other: { call: { backend: b } }\n";

pub(super) fn stage(backend: &Scripted, cache: &str) -> Stage {
    Stage::of(compile_with(
        backend.address,
        CONTRACT,
        &format!("{cache}{ALL}"),
    ))
}

pub(super) fn field<'a>(answer: &'a str, name: &str) -> Option<&'a str> {
    let head = answer.split("\r\n\r\n").next()?;
    let mut lines = head.lines().filter_map(|l| l.split_once(": "));
    lines
        .find(|(n, _)| n.eq_ignore_ascii_case(name))
        .map(|(_, v)| v)
}

pub(super) fn body(answer: &str) -> &str {
    answer.split_once("\r\n\r\n").map_or("", |(_, b)| b)
}

#[test]
fn what_is_fresh_is_given_again_to_all_and_asked_for_once() {
    let (backend, seen) = numbered("ETag: \"a\"\r\nCache-Control: max-age=60\r\n");
    let stage = stage(&backend, "cache: {}\n");
    let first = stage.get("/f/things/1", "");
    assert_eq!((status(&first), body(&first)), (200, "{\"n\":1}"));
    assert_eq!(
        field(&first, "cache-status"),
        Some("elm-porch; fwd=uri-miss; stored; ttl=59")
    );
    assert_eq!(field(&first, "age"), None);
    let again = stage.get("/f/things/1", "");
    assert_eq!((status(&again), body(&again)), (200, "{\"n\":1}"));
    assert_eq!(
        field(&again, "cache-status"),
        Some("elm-porch; hit; ttl=59")
    );
    assert_eq!(field(&again, "age"), Some("0"));
    assert_eq!(field(&again, "etag"), Some("\"a\""));
    assert_ne!(field(&first, "traceparent"), field(&again, "traceparent"));
    // Other queries, paths and hosts are others.
    for path in ["/f/things/1?q=1", "/f/things/2", "/f/others/1"] {
        assert!(
            field(&stage.get(path, ""), "cache-status")
                .unwrap()
                .contains("uri-miss"),
            "{path}"
        );
    }
    let host = stage.raw(b"GET /f/things/1 HTTP/1.1\r\nHost: y\r\nConnection: close\r\n\r\n");
    assert!(field(&host, "cache-status").unwrap().contains("uri-miss"));
    // Its head is known, and whoever has it is told so.
    let head = stage.raw(b"HEAD /f/things/1 HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n");
    assert_eq!(
        (status(&head), body(&head), field(&head, "content-length")),
        (200, "", Some("7"))
    );
    let known = stage.get("/f/things/1", "If-None-Match: \"a\"\r\n");
    assert_eq!(
        (status(&known), body(&known), field(&known, "etag")),
        (304, "", Some("\"a\""))
    );
    let part = stage.get("/f/things/1", "Range: bytes=1-3\r\n");
    assert_eq!(
        (status(&part), body(&part), field(&part, "content-range")),
        (206, "\"n\"", Some("bytes 1-3/7"))
    );
    assert_eq!(seen.lock().unwrap().len(), 5);
    let (traces, calls) = stage.end();
    assert_eq!(calls, 9, "what is kept is counted as every other call");
    let notes: Vec<String> = traces
        .iter()
        .flat_map(|t| &t.stages)
        .flat_map(|s| s.notes.clone())
        .collect();
    assert!(
        notes.contains(&"what is kept is given: it is 0 s old, and fresh for 59 s more".to_owned()),
        "{notes:?}"
    );
}

#[test]
fn replies_without_a_word_are_kept_as_the_document_says_and_get_a_validator() {
    let (backend, seen) = numbered("");
    let stage = stage(&backend, "cache: { fresh: 1m }\n");
    let first = stage.get("/f/things/1", "");
    let tag = field(&first, "etag").unwrap().to_owned();
    let known = stage.get("/f/things/1", &format!("If-None-Match: {tag}\r\n"));
    assert_eq!(status(&known), 304);
    assert_eq!(seen.lock().unwrap().len(), 1);
    // Without a rule, and without a word, nothing is kept.
    let (backend, seen) = numbered("");
    let stage = self::stage(&backend, "cache: {}\n");
    stage.get("/f/things/1", "");
    let second = stage.get("/f/things/1", "");
    assert_eq!(
        (body(&second), field(&second, "cache-status")),
        ("{\"n\":2}", Some("elm-porch; fwd=uri-miss"))
    );
    assert_eq!(seen.lock().unwrap().len(), 2);
}

#[test]
fn what_belongs_to_one_caller_is_given_to_no_other() {
    let keyed = "cache: { fresh: 1m }\nadmit: { credentials: [key] }\n";
    // The porch's own key is no credential of the backend's: all who may call share.
    let (backend, seen) = numbered("");
    let stage = self::stage(&backend, keyed);
    for key in ["one", "two"] {
        assert_eq!(
            body(&stage.get("/f/things/1", &format!("API-Key: {key}\r\n"))),
            "{\"n\":1}"
        );
    }
    // Who may not call is refused, whatever is kept.
    assert_eq!(status(&stage.get("/f/things/1", "")), 401);
    assert_eq!(status(&stage.get("/f/things/1", "API-Key: three\r\n")), 403);
    assert_eq!(seen.lock().unwrap().len(), 1);
    for (answers, asked, cache, kept) in [
        // What is said to be private; what was shown credentials, and does not say that it may be shared.
        (
            "Cache-Control: private, max-age=60\r\n",
            "",
            "cache: {}\n",
            false,
        ),
        (
            "Cache-Control: max-age=60\r\n",
            "Authorization: Basic eA==\r\n",
            "cache: {}\n",
            false,
        ),
        (
            "Cache-Control: max-age=60\r\n",
            "Cookie: a=b\r\n",
            "cache: {}\n",
            false,
        ),
        (
            "Cache-Control: max-age=60\r\nSet-Cookie: a=b\r\n",
            "",
            "cache: {}\n",
            false,
        ),
        (
            "Cache-Control: public, max-age=60\r\n",
            "Authorization: Basic eA==\r\n",
            "cache: {}\n",
            true,
        ),
        (
            "Cache-Control: max-age=60\r\n",
            "Authorization: Basic eA==\r\n",
            "cache: { apart: [authorization] }\n",
            true,
        ),
    ] {
        let (backend, seen) = numbered(answers);
        let stage = self::stage(&backend, cache);
        stage.get("/f/things/1", asked);
        stage.get("/f/things/1", asked);
        let times = seen.lock().unwrap().len();
        assert_eq!(times, if kept { 1 } else { 2 }, "{answers} {asked} {cache}");
        // Another one's are never given.
        let other = asked.replace("eA==", "eQ==");
        if kept && cache.contains("apart") {
            stage.get("/f/things/1", &other);
            assert_eq!(seen.lock().unwrap().len(), 2);
        }
    }
    let (backend, seen) = numbered("Cache-Control: private, max-age=60\r\n");
    let stage = self::stage(
        &backend,
        "cache: { apart: [consumer] }\nadmit: { credentials: [key] }\n",
    );
    for (key, n) in [("one", 1), ("two", 2), ("one", 1), ("two", 2)] {
        let answer = stage.get("/f/things/1", &format!("API-Key: {key}\r\n"));
        assert_eq!(body(&answer), format!("{{\"n\":{n}}}"));
    }
    assert_eq!(seen.lock().unwrap().len(), 2);
}

#[test]
fn what_expressions_read_of_callers_keeps_their_replies_apart() {
    let (backend, seen) = counting(|n, _| said("200 OK", "", &format!("{{\"n\":{n}}}")));
    let facade = "cache: { fresh: 1m }
admit: { credentials: [key] }
operations:
  look: { call: { backend: b }, reply: { n: =answer.body.n, who: =caller.consumer } }
  other: { call: { backend: b }, send: { query: { l: \"=header[?'x-lang'].orValue('en')\" } } }
";
    let stage = Stage::of(compile_with(backend.address, CONTRACT, facade));
    for (path, fields, expected) in [
        (
            "/f/things/1",
            "API-Key: one\r\n",
            "{\"n\":1,\"who\":\"one\"}",
        ),
        (
            "/f/things/1",
            "API-Key: two\r\n",
            "{\"n\":2,\"who\":\"two\"}",
        ),
        (
            "/f/things/1",
            "API-Key: one\r\n",
            "{\"n\":1,\"who\":\"one\"}",
        ),
        ("/f/others/1", "API-Key: one\r\nX-Lang: de\r\n", "{\"n\":3}"),
        ("/f/others/1", "API-Key: two\r\nX-Lang: de\r\n", "{\"n\":3}"),
        ("/f/others/1", "API-Key: two\r\n", "{\"n\":4}"),
        (
            "/f/others/1",
            "API-Key: two\r\nX-Lang: de\r\nX-Lang: fr\r\n",
            "{\"n\":5}",
        ),
    ] {
        assert_eq!(body(&stage.get(path, fields)), expected, "{path} {fields}");
    }
    assert_eq!(seen.lock().unwrap().len(), 5);
}

#[test]
fn what_varies_is_kept_by_what_the_request_says_of_it() {
    let (backend, seen) = numbered("Cache-Control: max-age=60\r\nVary: Accept-Language\r\n");
    let stage = stage(&backend, "cache: {}\n");
    for (fields, n) in [
        ("Accept-Language: de\r\n", 1),
        ("Accept-Language: en\r\n", 2),
        ("Accept-Language: de\r\n", 1),
        ("", 3),
        ("", 3),
    ] {
        let answer = stage.get("/f/things/1", fields);
        assert_eq!(body(&answer), format!("{{\"n\":{n}}}"), "{fields}");
    }
    let third = stage.get("/f/things/1", "Accept-Language: fr\r\n");
    assert!(
        field(&third, "cache-status")
            .unwrap()
            .starts_with("elm-porch; fwd=vary-miss"),
        "{third}"
    );
    assert_eq!(seen.lock().unwrap().len(), 4);
}
