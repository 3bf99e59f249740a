//! Backends that are left alone when too many of their calls fail, and come back slowly.

use std::sync::atomic::{AtomicBool, Ordering};

use super::routed::{named, nobody, scripted, stage};
use super::*;

/// Its document has what stands behind the last “#”.
fn facade(routing: &str, circuit: &str) -> String {
    format!(
        "operations:\n  look: {{ call: {{ backend: b }} }}\n  give: {{ call: {{ backend: b }} }}\n{routing}# circuit: {circuit}"
    )
}

fn field<'a>(answer: &'a str, name: &str) -> Option<&'a str> {
    let mut lines = answer.lines().filter_map(|l| l.split_once(": "));
    lines
        .find(|(n, _)| n.eq_ignore_ascii_case(name))
        .map(|(_, v)| v)
}

#[test]
fn a_backend_that_fails_is_left_alone_and_comes_back() {
    let good = Arc::new(AtomicBool::new(false));
    let is_good = good.clone();
    let (b, seen) = scripted(move |_| match is_good.load(Ordering::SeqCst) {
        true => plain("{}"),
        false => b"HTTP/1.1 503 No\r\nContent-Length: 0\r\n\r\n".to_vec(),
    });
    let circuit = "{ calls: 5, rest: 300ms, back: 1ms }";
    let stage = stage(&[("b", b.address)], &facade("", circuit));
    for _ in 0..5 {
        let answer = stage.get("/f/things/1", "");
        assert!(
            status(&answer) == 503 && !answer.contains("backend-resting"),
            "{answer}"
        );
    }
    let alone = stage.get("/f/things/1", "");
    assert_eq!(status(&alone), 503);
    assert!(
        alone.contains("urn:elm-porch:problem:backend-resting"),
        "{alone}"
    );
    assert_eq!(field(&alone, "retry-after"), Some("1"));
    assert_eq!(
        field(&alone, "proxy-status"),
        Some("elm-porch; error=destination_unavailable")
    );
    assert_eq!(seen.lock().unwrap().len(), 5, "nothing is sent to it");
    let porch = stage.shared.porch.load_full();
    assert!(
        stage
            .shared
            .resting(&porch.facades[0].backends[0])
            .is_some()
    );
    // It is good again, and found to be so when its time is over.
    good.store(true, Ordering::SeqCst);
    let from = std::time::Instant::now();
    while status(&stage.get("/f/things/1", "")) != 200 {
        assert!(from.elapsed() < Duration::from_secs(20));
    }
    assert!(
        stage
            .shared
            .resting(&porch.facades[0].backends[0])
            .is_none()
    );
    let notes = stage.end().0;
    let why = notes.iter().filter_map(|t| t.refusal.as_ref());
    let mut why = why.filter(|r| r.why.contains("left alone"));
    assert!(
        why.next()
            .is_some_and(|r| r.why.contains("b is left alone for 1 s more"))
    );
}

#[test]
fn its_calls_go_to_a_spare_at_once() {
    let (old, _) = named("old");
    let backends = [("b", nobody()), ("old", old.address)];
    let routing = "routing: { b: { spares: [old] } }\n";
    let stage = stage(&backends, &facade(routing, "{ calls: 3, rest: 1h }"));
    for _ in 0..12 {
        let answer = stage.get("/f/things/1", "");
        assert!(answer.ends_with("{\"by\":\"old\"}"), "{answer}");
    }
    let (traces, _) = stage.end();
    let notes: Vec<&String> = traces
        .iter()
        .flat_map(|t| &t.stages)
        .flat_map(|s| &s.notes)
        .collect();
    let refused = notes
        .iter()
        .filter(|n| n.starts_with("no connection to b"))
        .count();
    assert!((1..=3).contains(&refused), "{notes:?}");
}

#[test]
fn callers_who_break_off_or_are_answered_otherwise_say_nothing_of_a_backend() {
    let (b, seen) = scripted(|request| match request.contains("/things/no ") {
        true => b"HTTP/1.1 404 No\r\nContent-Length: 0\r\n\r\n".to_vec(),
        false => plain("{}"),
    });
    let stage = stage(
        &[("b", b.address)],
        &facade("", "{ calls: 2, share: 10, rest: 1h }"),
    );
    for _ in 0..10 {
        assert_eq!(status(&stage.get("/f/things/no", "")), 404);
        // Its body never comes.
        let mut stream = TcpStream::connect(stage.address()).unwrap();
        stream.write_all(b"POST /f/things/1 HTTP/1.1\r\nHost: x\r\nContent-Type: text/plain\r\nContent-Length: 5\r\n\r\nab").unwrap();
        drop(stream);
    }
    assert_eq!(status(&stage.get("/f/things/1", "")), 200);
    assert!(seen.lock().unwrap().len() >= 11);
}
