//! Streams of HTTP among several calls, taken as lists.

use std::sync::atomic::{AtomicBool, Ordering};

use super::*;

const CONTRACT: &str = "openapi: 3.1.0
info: { title: T, version: 1.0.0 }
paths:
  /seen:
    get: { operationId: seen, responses: { '200': { description: ok } } }
";

/// What comes of an answer, and why it is refused.
fn asked(messages: &str, kind: &str, body: &str) -> (String, String) {
    let text = format!(
        "HTTP/1.1 200 OK\r\nContent-Type: {kind}\r\nContent-Length: {}\r\n\r\n{body}",
        body.len()
    );
    let backend = Scripted::start(move |_, _| text.clone().into_bytes());
    let facade = format!(
        "operations:\n  seen:\n    calls: {{ all: {{ backend: b, path: /seen, messages: {messages} }} }}\n    reply: {{ all: =all.body }}\n"
    );
    let stage = Stage::of(compile_with(backend.address, CONTRACT, &facade));
    let answer = stage.get("/f/seen", "");
    let (traces, _) = stage.end();
    let why = traces[0].refusal.as_ref();
    (answer, why.map_or_else(String::new, |r| r.why.clone()))
}

#[test]
fn lines_sequences_and_events_are_lists() {
    for (kind, body) in [
        ("application/x-ndjson", "{\"a\": 1.50}\n\n[2]\n"),
        ("application/jsonl; charset=utf-8", "{\"a\": 1.50}\n[2]"),
        ("application/json-seq", "\u{1e}{\"a\": 1.50}\n\u{1e}[2]\n"),
        (
            "text/event-stream",
            ": ship\ndata: {\"a\":\ndata: 1.50}\n\nevent: two\ndata: [2]\n\ndata: lost",
        ),
    ] {
        let (answer, why) = asked("{}", kind, body);
        assert_eq!(status(&answer), 200, "{kind}: {answer} {why}");
        assert!(answer.ends_with("{\"all\":[{\"a\":1.50},[2]]}"), "{answer}");
        let (answer, _) = asked("{ at-most: 1 }", kind, body);
        assert!(answer.ends_with("{\"all\":[{\"a\":1.50}]}"), "{answer}");
    }
    for (kind, body, told) in [
        (
            "application/json",
            "[1]",
            "it says that it is application/json, and no stream of messages is that",
        ),
        ("application/x-ndjson", "1\n{\n", "its message 2 is no JSON"),
        (
            "text/event-stream",
            "data: ship\n\n",
            "its message 1 is no JSON",
        ),
    ] {
        let (answer, why) = asked("{}", kind, body);
        assert_eq!(status(&answer), 502, "{answer}");
        assert!(why.contains(told), "{why}");
    }
}

#[test]
fn what_goes_on_for_ever_is_left_when_its_time_is_over() {
    let left = Arc::new(AtomicBool::new(false));
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap();
    let seen = left.clone();
    std::thread::spawn(move || {
        let (mut stream, _) = listener.accept().unwrap();
        let mut head = [0; 4096];
        let _ = stream.read(&mut head);
        let _ = stream.write_all(
            b"HTTP/1.1 200 OK\r\nContent-Type: text/event-stream\r\n\r\ndata: 1\n\ndata: 2\n\n",
        );
        // Nothing more: until the other side is gone.
        let _ = stream.read(&mut head);
        seen.store(true, Ordering::SeqCst);
    });
    let facade = "operations:\n  seen:\n    calls: { all: { backend: b, path: /seen, messages: { within: 150ms } } }\n    reply: { all: =all.body }\n";
    let stage = Stage::of(compile_with(address, CONTRACT, facade));
    let answer = stage.get("/f/seen", "");
    assert!(answer.ends_with("{\"all\":[1,2]}"), "{answer}");
    let end = std::time::Instant::now() + Duration::from_secs(20);
    while !left.load(Ordering::SeqCst) {
        assert!(std::time::Instant::now() < end, "the backend goes on");
        std::thread::yield_now();
    }
}
