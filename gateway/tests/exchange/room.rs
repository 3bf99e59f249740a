//! Memory, time and connections are bounded for all callers together.

use std::sync::{Condvar, Mutex};

use super::*;

/// Looks into the body and builds the reply anew.
const SHAPED: &str = "operations:
  item: { call: { backend: b }, reply: { got: =answer.body } }
  putItem:
    call: { backend: b, method: POST, path: /store }
    send: { body: { all: =body } }
";

fn put(stage: &Stage, body: &str) -> String {
    stage.raw(
        format!(
            "PUT /f/item/7 HTTP/1.1\r\nHost: x\r\nConnection: close\r\nContent-Type: application/json\r\nContent-Length: {}\r\n\r\n{body}",
            body.len()
        )
        .as_bytes(),
    )
}

/// Waits until no exchange has memory any more: the last ones end when their callers have read all.
fn wait_for_none(shared: &Shared) {
    let until = std::time::Instant::now() + Duration::from_secs(20);
    while shared.bytes_of_bodies() > 0 {
        assert!(
            std::time::Instant::now() < until,
            "{} bytes stay",
            shared.bytes_of_bodies()
        );
        std::thread::yield_now();
    }
}

#[test]
fn a_small_body_that_grows_in_memory_is_refused_by_what_it_takes() {
    let backend = Scripted::start(|_, _| plain("{}"));
    let porch = compile(backend.address, SHAPED);
    let stage = Stage::over(porch, Shared::with_memory(8 << 20));
    // The same length: one text, and numbers that take forty times as much.
    let text = format!("[\"{}\"]", "x".repeat(100_000));
    let numbers = format!("[{}1]", "1,".repeat(50_000));
    assert_eq!(status(&put(&stage, &text)), 200);
    let refused = put(&stage, &numbers);
    assert_eq!(status(&refused), 413, "{refused}");
    assert!(
        refused.contains("urn:elm-porch:problem:body-size"),
        "{refused}"
    );
    wait_for_none(&stage.shared);
    assert_eq!(status(&put(&stage, &text)), 200);
}

#[test]
fn an_answer_that_grows_in_memory_is_not_read_into_a_value() {
    let backend = Scripted::start(|_, request| match request.contains("/item/small") {
        true => plain("[1,2]"),
        false => plain(&format!("[{}1]", "1,".repeat(50_000))),
    });
    let porch = compile(backend.address, SHAPED);
    let stage = Stage::over(porch, Shared::with_memory(8 << 20));
    let refused = stage.get("/f/item/large", "");
    assert_eq!(status(&refused), 502, "{refused}");
    assert!(
        refused.contains("too large for what is made of it"),
        "{refused}"
    );
    assert_eq!(status(&stage.get("/f/item/small", "")), 200);
    wait_for_none(&stage.shared);
    let (traces, _) = stage.end();
    let why = format!("{:?}", traces[0].refusal);
    assert!(
        why.contains("more than the 4194304 that one exchange may have"),
        "{why}"
    );
}

#[test]
fn many_at_once_are_refused_when_the_memory_is_used_up_and_served_again_later() {
    let gate = Arc::new((Mutex::new((0, false)), Condvar::new()));
    let (inside, open) = (gate.clone(), gate.clone());
    let backend = Scripted::start(move |_, _| {
        let (state, bell) = &*inside;
        let mut held = state.lock().unwrap();
        held.0 += 1;
        bell.notify_all();
        while !held.1 {
            held = bell.wait(held).unwrap();
        }
        plain("{}")
    });
    let facade = SHAPED.replace("operations:", "admit: { max-body: 2MiB }\noperations:");
    let porch = compile_slow(backend.address, &facade);
    // Each takes its bytes, and as many for its value.
    let stage = Stage::over(porch, Shared::with_memory(5 << 20));
    let body = format!("\"{}\"", "x".repeat(1 << 20));
    std::thread::scope(|scope| {
        let waiting: Vec<_> = (0..2)
            .map(|_| scope.spawn(|| status(&put(&stage, &body))))
            .collect();
        let (state, bell) = &*open;
        let mut held = state.lock().unwrap();
        while held.0 < 2 {
            held = bell.wait(held).unwrap();
        }
        drop(held);
        let refused = put(&stage, &body);
        assert_eq!(status(&refused), 503, "{refused}");
        assert!(refused.contains("retry-after: 1"), "{refused}");
        assert!(
            refused.contains("urn:elm-porch:problem:overloaded"),
            "{refused}"
        );
        state.lock().unwrap().1 = true;
        bell.notify_all();
        for one in waiting {
            assert_eq!(one.join().unwrap(), 200);
        }
    });
    wait_for_none(&stage.shared);
    assert_eq!(status(&put(&stage, &body)), 200);
}
