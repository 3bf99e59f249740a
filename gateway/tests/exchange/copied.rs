//! Copies of calls to another backend: compared, counted, and never in anybody's way.

use porch_gateway::CopyRow;

use super::routed::{named, nobody, scripted, stage};
use super::*;

const CALLS: &str =
    "operations:\n  look: { call: { backend: b } }\n  give: { call: { backend: b } }\n";

fn shadowed(compare: &str) -> String {
    format!("{CALLS}routing:\n  b: {{ shadow: {{ backend: next, compare: [{compare}] }} }}\n")
}

/// What came of copies, once there are so many.
fn copies(stage: &mut Stage, number: u64) -> CopyRow {
    let mut sum: Option<CopyRow> = None;
    loop {
        let record = stage.records.blocking_recv().expect("the gateway runs");
        let Record::Copies(rows) = record else {
            continue;
        };
        for row in rows {
            match &mut sum {
                None => sum = Some(row),
                Some(sum) => sum.add(&row),
            }
        }
        let all = |r: &CopyRow| r.same + r.different + r.failed + r.left_out;
        if let Some(sum) = &sum
            && all(sum) >= number
        {
            return sum.clone();
        }
    }
}

#[test]
fn copies_are_compared_by_status_and_by_what_is_named() {
    for (body, compare, same, told) in [
        ("{\"by\":\"b\",\"n\":1}", "=answer.body.by", true, ""),
        (
            "{\"by\":\"c\"}",
            "=answer.body.by",
            false,
            "=answer.body.by: \"c\" against \"b\"",
        ),
        ("{\"by\":\"c\"}", "", true, ""),
        (
            "{}",
            "\"=answer.body[?'by'].orValue(null)\"",
            false,
            "=answer.body[?'by'].orValue(null): null against \"b\"",
        ),
    ] {
        let ((b, at_b), (next, at_next)) = (named("b"), scripted(move |_| plain(body)));
        let backends = [("b", b.address), ("next", next.address)];
        let mut stage = stage(&backends, &shadowed(compare));
        let answer = stage.get("/f/things/1", "");
        assert!(answer.ends_with("{\"by\":\"b\"}"), "{answer}");
        let row = copies(&mut stage, 1);
        assert_eq!(
            (row.same, row.different),
            (u64::from(same), u64::from(!same)),
            "{row:?}"
        );
        assert_eq!(row.told, told);
        assert_eq!(
            (
                row.facade.as_str(),
                row.operation.as_str(),
                row.backend.as_str()
            ),
            ("f", "look", "next")
        );
        assert!(row.us > 0 && row.copies_us > 0);
        // The copy is shown what its own backend is shown, and called at its own path.
        let copy = at_next.lock().unwrap()[0].clone();
        assert!(
            copy.starts_with("GET /next/things/1 ") && copy.contains("knock-at-next"),
            "{copy}"
        );
        assert_eq!(at_b.lock().unwrap().len(), 1);
    }
}

#[test]
fn the_caller_waits_for_no_copy_and_hears_of_none() {
    // The copy is answered when the caller has its answer.
    let gate = Arc::new(std::sync::Barrier::new(2));
    let behind = gate.clone();
    let (b, _) = named("b");
    let (next, _) = scripted(move |_| {
        behind.wait();
        b"HTTP/1.1 404 Nothing\r\nContent-Length: 0\r\n\r\n".to_vec()
    });
    let backends = [("b", b.address), ("next", next.address)];
    let mut stage = stage(&backends, &shadowed(""));
    let answer = stage.get("/f/things/1", "");
    assert_eq!(status(&answer), 200, "{answer}");
    gate.wait();
    let row = copies(&mut stage, 1);
    assert_eq!(
        (row.different, row.told.as_str()),
        (1, "status 404 against 200")
    );
    // One that takes no connection fails, and nobody else does.
    let backends = [("b", b.address), ("next", nobody())];
    let mut stage = self::stage(&backends, &shadowed("=answer.body.by"));
    assert_eq!(status(&stage.get("/f/things/1", "")), 200);
    let row = copies(&mut stage, 1);
    assert!(
        row.failed == 1 && row.told.contains("no connection to next"),
        "{row:?}"
    );
}

#[test]
fn what_changes_something_is_not_copied_and_too_many_copies_are_left_out() {
    let (b, _) = named("b");
    let open = Arc::new((std::sync::Mutex::new(false), std::sync::Condvar::new()));
    let waiting = open.clone();
    let (next, at_next) = scripted(move |_| {
        let (lock, told) = &*waiting;
        let _open = told
            .wait_while(lock.lock().unwrap(), |open| !*open)
            .unwrap();
        plain("{}")
    });
    let backends = [("b", b.address), ("next", next.address)];
    let mut stage = stage(&backends, &shadowed(""));
    let posted = stage.raw(
        b"POST /f/things/1 HTTP/1.1\r\nHost: x\r\nConnection: close\r\nContent-Length: 0\r\n\r\n",
    );
    assert_eq!(status(&posted), 200);
    for _ in 0..60 {
        assert_eq!(status(&stage.get("/f/things/1", "")), 200);
    }
    // None of them was answered yet: what was left out is known before.
    let left_out = copies(&mut stage, 60 - 32).left_out;
    assert!((28..=44).contains(&left_out), "{left_out}");
    let (lock, told) = &*open;
    *lock.lock().unwrap() = true;
    told.notify_all();
    let row = copies(&mut stage, 60 - left_out);
    assert_eq!((row.same, row.left_out), (60 - left_out, 0), "{row:?}");
    assert_eq!(at_next.lock().unwrap().len() as u64, 60 - left_out);
}

#[test]
fn nothing_that_a_backend_was_shown_is_told_of_copies() {
    let (b, _) = named("b");
    let (next, _) = scripted(|request| {
        let login = request
            .lines()
            .find(|l| l.to_lowercase().starts_with("x-login"));
        plain(&format!("{{\"by\":{:?}}}", login.unwrap_or_default()))
    });
    let backends = [("b", b.address), ("next", next.address)];
    let mut stage = stage(&backends, &shadowed("=answer.body.by"));
    stage.get("/f/things/1", "");
    let row = copies(&mut stage, 1);
    assert_eq!(row.different, 1);
    assert!(!row.told.contains("knock-at"), "{row:?}");
}

#[test]
fn a_share_of_the_calls_is_copied_and_none_of_them_twice() {
    let ((b, _), (next, at_next)) = (named("b"), named("next"));
    let backends = [("b", b.address), ("next", next.address)];
    let facade = format!("{CALLS}routing:\n  b: {{ shadow: {{ backend: next, share: 50 }} }}\n");
    let stage = stage(&backends, &facade);
    for _ in 0..200 {
        assert_eq!(status(&stage.get("/f/things/1", "")), 200);
    }
    // Those that are under way end with the gateway.
    drop(stage);
    let number = at_next.lock().unwrap().len();
    assert!((60..140).contains(&number), "{number}");
}

#[test]
fn callers_get_every_byte_as_it_came_whatever_is_compared() {
    let long = format!("{{\"by\":\"{}\"}}", "x".repeat(1_500_000));
    let own = long.clone();
    for (target, kind, body) in [
        (
            "1",
            "application/json",
            " {\"by\" : 1.00000000000000000001,\n\"by\":2}",
        ),
        ("2", "text/html", "<p>no JSON</p>"),
        ("3", "application/json", &own),
        ("4", "application/json", ""),
    ] {
        let answer = format!(
            "HTTP/1.1 404 Not here\r\nContent-Type: {kind}\r\nETag: \"a\"\r\nContent-Length: {}\r\n\r\n{body}",
            body.len()
        );
        let both = answer.clone();
        let (b, _) = scripted(move |_| answer.clone().into_bytes());
        let (next, _) = scripted(move |_| both.clone().into_bytes());
        let backends = [("b", b.address), ("next", next.address)];
        let mut stage = stage(&backends, &shadowed("\"=answer.body[?'by'].orValue(0)\""));
        let got = stage.get(&format!("/f/things/{target}"), "");
        assert_eq!(status(&got), 404);
        assert_eq!(got.split_once("\r\n\r\n").unwrap().1, body);
        assert!(got.contains("\r\netag: \"a\"\r\n"), "{}", &got[..200]);
        let row = copies(&mut stage, 1);
        assert_eq!((row.same, row.different), (1, 0), "{kind}: {row:?}");
    }
}
