//! Attempts again: what is safe to repeat, spaced, within a budget and the time of an answer.

use std::sync::Mutex;

use super::*;

const CONTRACT: &str = "openapi: 3.1.0
info: { title: T, version: 1.0.0 }
paths:
  /things/{id}:
    parameters: [{ name: id, in: path, required: true }]
    get: { operationId: look, responses: { '200': { description: ok } } }
    post: { operationId: give, requestBody: { content: { '*/*': {} } }, responses: { '200': { description: ok } } }
";

/// A backend that fails so many times, and what it saw.
fn failing(times: usize, how: &'static str) -> (Scripted, Arc<Mutex<Vec<String>>>) {
    let seen: Arc<Mutex<Vec<String>>> = Arc::default();
    let log = seen.clone();
    let backend = Scripted::start(move |_, request| {
        let mut log = log.lock().unwrap();
        log.push(request.to_owned());
        match log.len() <= times {
            true => how.as_bytes().to_vec(),
            false => plain("{\"good\":true}"),
        }
    });
    (backend, seen)
}

const BUSY: &str = "HTTP/1.1 503 Not now\r\nContent-Length: 4\r\n\r\nbusy";

fn stage(backend: &Scripted, attempts: &str) -> Stage {
    let lines = format!(
        "address: http://{}\ntimeout: 2s\n{attempts}",
        backend.address
    );
    Stage::of(compile_called(&lines, "", CONTRACT, &["look", "give"]))
}

fn post(stage: &Stage, fields: &str) -> String {
    stage.raw(format!("POST /f/things/1 HTTP/1.1\r\nHost: x\r\nConnection: close\r\nContent-Type: text/plain\r\nContent-Length: 5\r\n{fields}\r\ncrate").as_bytes())
}

const THREE: &str = "attempts: { most: 3, spaced: 10ms, idempotency-key: Idempotency-Key }";

#[test]
fn what_is_safe_is_asked_for_again_until_it_is_good() {
    // A status, and a connection that breaks off.
    for how in [BUSY, ""] {
        let (backend, seen) = failing(2, how);
        let stage = stage(&backend, THREE);
        let answer = stage.get("/f/things/1", "");
        assert_eq!(status(&answer), 200, "{how}: {answer}");
        let (traces, _) = stage.end();
        let notes: Vec<&String> = traces[0].stages.iter().flat_map(|s| &s.notes).collect();
        let attempts = notes.iter().filter(|n| n.starts_with("attempt ")).count();
        // One connection that breaks off is replaced by itself, as one that was closed behind our back.
        let all = seen.lock().unwrap().len();
        assert_eq!(all, 3, "{notes:?}");
        assert!(attempts >= 1, "{notes:?}");
        let told = if how.is_empty() {
            "it broke off"
        } else {
            "503 Service Unavailable"
        };
        assert!(notes.iter().any(|n| n.contains(told)), "{notes:?}");
    }
}

#[test]
fn there_are_so_many_attempts_and_no_more() {
    let (backend, seen) = failing(100, BUSY);
    let stage = stage(&backend, THREE);
    let answer = stage.get("/f/things/1", "");
    // The last answer is the caller's.
    assert!(
        status(&answer) == 503 && answer.ends_with("busy"),
        "{answer}"
    );
    assert_eq!(seen.lock().unwrap().len(), 3);
    // Other statuses are answers.
    let (backend, seen) = failing(100, "HTTP/1.1 500 No\r\nContent-Length: 0\r\n\r\n");
    let stage = self::stage(&backend, THREE);
    assert_eq!(status(&stage.get("/f/things/1", "")), 500);
    assert_eq!(seen.lock().unwrap().len(), 1);
}

#[test]
fn what_is_not_safe_is_made_once_unless_the_caller_says_that_it_may_be_repeated() {
    let (backend, seen) = failing(1, BUSY);
    let stage = stage(&backend, THREE);
    assert_eq!(status(&post(&stage, "")), 503);
    assert_eq!(seen.lock().unwrap().len(), 1);
    let (backend, seen) = failing(2, BUSY);
    let stage = self::stage(&backend, THREE);
    let answer = post(&stage, "Idempotency-Key: \"crate-17\"\r\n");
    assert_eq!(status(&answer), 200, "{answer}");
    let seen = seen.lock().unwrap();
    assert_eq!(seen.len(), 3);
    assert!(
        seen.iter()
            .all(|r| r.ends_with("\r\n\r\ncrate") && r.contains("\"crate-17\"")),
        "{seen:?}"
    );
    drop(seen);
    // A body that went on as it came is gone: nothing else is sent in its place.
    let (backend, seen) = failing(1, BUSY);
    let stage = self::stage(&backend, THREE);
    let answer = stage.raw(b"GET /f/things/1 HTTP/1.1\r\nHost: x\r\nConnection: close\r\nContent-Length: 5\r\n\r\ncrate");
    assert_eq!(status(&answer), 503, "{answer}");
    assert_eq!(seen.lock().unwrap().len(), 1);
    // Without the rule the field is any other.
    let (backend, seen) = failing(1, BUSY);
    let stage = self::stage(&backend, "attempts: { most: 3, spaced: 10ms }");
    assert_eq!(
        status(&post(&stage, "Idempotency-Key: \"crate-17\"\r\n")),
        503
    );
    assert_eq!(seen.lock().unwrap().len(), 1);
}

#[test]
fn attempts_keep_within_the_time_of_an_answer_and_a_tenth_of_the_calls() {
    let (backend, seen) = failing(100, BUSY);
    let lines = "attempts: { most: 3, spaced: 1h }";
    let stage = stage(&backend, lines);
    assert_eq!(status(&stage.get("/f/things/1", "")), 503);
    assert_eq!(
        seen.lock().unwrap().len(),
        1,
        "there was no time for another"
    );
    // A backend that is down is not asked twice as often as it is called.
    let (backend, seen) = failing(10_000, BUSY);
    let lines = "attempts: { most: 2, spaced: 1ms }";
    let stage = self::stage(&backend, lines);
    for _ in 0..200 {
        assert_eq!(status(&stage.get("/f/things/1", "")), 503);
    }
    // Two workers have ten each to begin with, and earn a tenth.
    let again = seen.lock().unwrap().len() - 200;
    assert!((20..=42).contains(&again), "{again}");
}

#[test]
fn a_backend_that_says_when_to_come_again_is_left_alone_until_then() {
    const SOON: &str = "HTTP/1.1 503 Not now\r\nRetry-After: 1\r\nContent-Length: 4\r\n\r\nbusy";
    const LATE: &str = "HTTP/1.1 503 Not now\r\nRetry-After: 600\r\nContent-Length: 4\r\n\r\nbusy";
    const DATE: &str = "HTTP/1.1 503 Not now\r\nRetry-After: Thu, 31 Dec 2099 23:59:59 GMT\r\nContent-Length: 4\r\n\r\nbusy";
    for (how, answered, calls, told) in [
        (SOON, 200, 2, "attempt 2, 1000 ms behind one that failed: "),
        (
            LATE,
            503,
            1,
            "no other attempt: it asks to be left alone for 600 s",
        ),
        (
            DATE,
            503,
            1,
            "no other attempt: it asks to be left alone for ",
        ),
    ] {
        let (backend, seen) = failing(1, how);
        let stage = stage(&backend, THREE);
        let answer = stage.get("/f/things/1", "");
        assert_eq!(status(&answer), answered, "{answer}");
        assert_eq!(seen.lock().unwrap().len(), calls);
        let (traces, _) = stage.end();
        let notes: Vec<&String> = traces[0].stages.iter().flat_map(|s| &s.notes).collect();
        assert!(notes.iter().any(|n| n.starts_with(told)), "{notes:?}");
    }
}
