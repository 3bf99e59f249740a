//! Several calls behind one operation, and refusals in the facade's own words.

use std::sync::{Barrier, Mutex};

use serde_json::{Value, json};

use super::*;

const CONTRACT: &str = "openapi: 3.1.0
info: { title: T, version: 1.0.0 }
paths:
  /ports/{port}:
    parameters: [{ name: port, in: path, required: true, schema: { type: string } }]
    get: { operationId: look, parameters: [{ name: n, in: query, schema: { type: integer } }, { name: list, in: query, schema: { type: array, items: { type: string } } }], responses: { '200': { description: ok }, 4XX: { description: no }, 5XX: { description: no } } }
    post: { operationId: book, requestBody: { content: { application/json: { schema: { type: object } } } }, responses: { '201': { description: ok }, 4XX: { description: no } } }
";

/// Requests that a backend saw, by their first lines.
#[derive(Clone, Default)]
pub(super) struct Seen(Arc<Mutex<Vec<String>>>);

impl Seen {
    pub(super) fn all(&self) -> Vec<String> {
        self.0.lock().unwrap().clone()
    }

    /// Methods and the ends of paths, in the order in which they came.
    pub(super) fn lines(&self) -> Vec<String> {
        let all = self.all();
        let line = |r: &String| {
            let first = r.lines().next().unwrap_or_default();
            first.replace(" HTTP/1.1", "").replace("/inner/", "")
        };
        all.iter().map(line).collect()
    }
}

fn reply(status: &str, body: &Value) -> Vec<u8> {
    let body = body.to_string();
    format!(
        "HTTP/1.1 {status}\r\nContent-Type: application/json\r\nContent-Length: {}\r\n\r\n{body}",
        body.len()
    )
    .into_bytes()
}

/// What Skerry Line's backends say, all at one address.
fn answered(request: &str) -> Vec<u8> {
    let mut words = request.split(' ');
    let (method, target) = (
        words.next().unwrap_or_default(),
        words.next().unwrap_or_default(),
    );
    let path = target.split('?').next().unwrap_or_default();
    let steps: Vec<&str> = path.trim_start_matches("/inner/").split('/').collect();
    match (method, steps.as_slice()) {
        ("GET", ["places", "nowhere"]) => reply("404 Not Found", &json!({"error": "none"})),
        ("GET", ["places", "text"]) => {
            b"HTTP/1.1 404 Not Found\r\nContent-Type: text/html\r\nContent-Length: 4\r\n\r\n<no>"
                .to_vec()
        }
        ("GET", ["places", "broken"]) => reply("500 Internal Server Error", &json!({})),
        ("GET", ["places", name]) => reply(
            "200 OK",
            &json!({"code": name.to_uppercase(), "quays": ["a", "b", "c"]}),
        ),
        ("GET", ["fares", "B"]) => reply("503 Service Unavailable", &json!({})),
        ("GET", ["fares", code]) => reply("200 OK", &json!({"fare": code})),
        ("GET", ["tides", _]) => reply("200 OK", &json!({"level": 2})),
        ("POST", ["holds"]) => reply("201 Created", &json!({"id": "H1"})),
        ("POST", ["pay"]) => reply("409 Conflict", &json!({})),
        ("DELETE", ["holds", "H1"]) => reply("200 OK", &json!({})),
        _ => reply("404 Not Found", &json!({"path": path})),
    }
}

pub(super) fn harbour(operations: &str) -> (Stage, Seen) {
    let seen = Seen::default();
    let log = seen.clone();
    let backend = Scripted::start(move |_, request| {
        log.0.lock().unwrap().push(request.to_owned());
        answered(request)
    });
    let facade = format!("operations:\n{operations}");
    (
        Stage::of(compile_with(backend.address, CONTRACT, &facade)),
        seen,
    )
}

pub(super) fn body(answer: &str) -> Value {
    let (_, body) = answer.split_once("\r\n\r\n").unwrap();
    serde_json::from_str(body).unwrap_or_else(|e| panic!("{e}: {answer}"))
}

pub(super) fn post(stage: &Stage, path: &str, json: &str) -> String {
    let length = json.len();
    stage.raw(format!("POST {path} HTTP/1.1\r\nHost: x\r\nConnection: close\r\nContent-Type: application/json\r\nContent-Length: {length}\r\n\r\n{json}").as_bytes())
}

#[test]
fn calls_that_need_nothing_of_one_another_run_at_once_and_the_others_behind_them() {
    // Whoever is alone at the barrier waits in vain.
    let (both, seen) = (Barrier::new(2), Seen::default());
    let log = seen.clone();
    let backend = Scripted::start(move |_, request| {
        log.0.lock().unwrap().push(request.to_owned());
        if !request.contains("/fares/") {
            both.wait();
        }
        answered(request)
    });
    let facade = "operations:
  look:
    calls:
      fare: { backend: b, path: '/fares/{code}', send: { path: { code: =place.body.code }, query: { l: =tide.body.level } } }
      place: { backend: b, path: '/places/{port}' }
      tide: { backend: b, path: '/tides/{port}' }
    reply: { fare: =fare.body.fare, level: =tide.body.level, status: =place.status, kind: \"=place.header['content-type']\" }
";
    let stage = Stage::of(compile_with(backend.address, CONTRACT, facade));
    let answer = stage.get(
        "/f/ports/maren?n=4",
        "X-Own: secret\r\nAuthorization: Basic eA==\r\nIf-None-Match: \"a\"\r\n",
    );
    assert_eq!(status(&answer), 200, "{answer}");
    let wanted = json!({"fare": "MAREN", "level": 2, "status": 200, "kind": "application/json"});
    assert_eq!(body(&answer), wanted);
    let lines = seen.lines();
    assert_eq!(lines[2], "GET fares/MAREN?l=2");
    // Nothing of the caller's request is passed on that is not said.
    for request in seen.all() {
        assert!(
            !request.contains("secret") && !request.contains("eA=="),
            "{request}"
        );
        assert!(
            !request.to_ascii_lowercase().contains("if-none-match"),
            "{request}"
        );
        assert!(
            request.contains("tide-and-tackle"),
            "its own login: {request}"
        );
    }
}

#[test]
fn a_refusal_comes_before_all_that_needs_the_answer_it_looks_at() {
    let (stage, seen) = harbour(
        "  look:
    calls:
      place: { backend: b, path: '/places/{port}', statuses: [404] }
      fare: { backend: b, path: '/fares/{code}', send: { path: { code: =place.body.code } } }
    refuse:
      - { when: '=query.?n.orValue(0) > 9', status: 422, title: Too many }
      - when: =place.status == 404
        status: 404
        title: No such place
        detail: =\"Nobody sails to \" + path.port + \".\"
        type: https://skerry.example/problems/place
        members: { port: =path.port, more: { seen: =place.status } }
    reply: { fare: =fare.body.fare }
",
    );
    let answer = stage.get("/f/ports/nowhere", "");
    assert_eq!(status(&answer), 404, "{answer}");
    assert!(answer.contains("application/problem+json"), "{answer}");
    let told = body(&answer);
    assert_eq!(told["type"], "https://skerry.example/problems/place");
    assert_eq!(
        (&told["title"], &told["detail"]),
        (&json!("No such place"), &json!("Nobody sails to nowhere."))
    );
    assert_eq!(
        (&told["port"], &told["more"]),
        (&json!("nowhere"), &json!({"seen": 404}))
    );
    assert_eq!(
        seen.lines(),
        ["GET places/nowhere"],
        "what needs the place was not called"
    );
    // What is no JSON is an answer all the same: its status was asked for.
    assert_eq!(status(&stage.get("/f/ports/text", "")), 404);
    // What can be told of the request alone is told before anything is called.
    let before = seen.lines().len();
    let answer = stage.get("/f/ports/maren?n=10", "");
    assert_eq!(
        (status(&answer), &body(&answer)["title"]),
        (422, &json!("Too many")),
        "{answer}"
    );
    assert_eq!(
        body(&answer).get("detail"),
        None,
        "nothing is said that nobody wrote"
    );
    assert_eq!(seen.lines().len(), before);
    assert_eq!(
        body(&stage.get("/f/ports/maren", "")),
        json!({"fare": "MAREN"})
    );
    // Any other failure is one, and the publisher is told what could be said of it.
    let answer = stage.get("/f/ports/broken", "");
    assert_eq!(status(&answer), 502, "{answer}");
    let (traces, _) = stage.end();
    let why = |n: u16| {
        traces
            .iter()
            .find(|t| t.status == n)
            .and_then(|t| t.refusal.clone())
            .unwrap()
    };
    let broken = why(502);
    assert!(
        broken.why.contains("“place” answered 500") && broken.why.contains("`statuses`"),
        "{broken:?}"
    );
    let refused = why(404);
    assert_eq!(
        (refused.rule.as_str(), refused.reach.as_str(), refused.line),
        ("refuses with 404: No such place", "operation look", 12)
    );
    assert_eq!(refused.why, "No such place: =place.status == 404");
}

#[test]
fn what_is_not_called_or_fails_has_something_in_its_place_where_that_is_said() {
    let (stage, seen) = harbour("  look:
    calls:
      tide: { backend: b, path: '/tides/{port}', when: '=query.?n.orValue(0) > 1' }
      place: { backend: b, path: '/places/{port}', otherwise: { code: unknown } }
      calm: { backend: b, path: '/tides/{port}', when: =false, otherwise: null }
    reply: { level: =tide.?body.level, code: =place.body.code, failed: =place.failed, status: =place.status, calm: =calm.failed, none: '=calm.body == null' }
");
    let wanted =
        json!({"code": "MAREN", "failed": false, "status": 200, "calm": true, "none": true});
    assert_eq!(body(&stage.get("/f/ports/maren", "")), wanted);
    assert_eq!(seen.lines(), ["GET places/maren"]);
    let wanted = json!({"level": 2, "code": "unknown", "failed": true, "status": 502, "calm": true, "none": true});
    assert_eq!(body(&stage.get("/f/ports/broken?n=2", "")), wanted);
    let (traces, _) = stage.end();
    let notes: Vec<&str> = traces
        .iter()
        .flat_map(|t| &t.stages)
        .flat_map(|s| s.notes.iter().map(String::as_str))
        .collect();
    assert!(notes.contains(&"tide: is not called"), "{notes:?}");
    assert!(
        notes
            .iter()
            .any(|n| n.starts_with("place failed, and its “otherwise” stands for it: ")),
        "{notes:?}"
    );
}

#[test]
fn a_list_is_called_through_item_by_item_in_its_order() {
    let (stage, seen) = harbour(
        "  look:
    calls:
      place: { backend: b, path: '/places/{port}' }
      quay:
        backend: b
        path: /fares/{quay}
        each: =place.body.quays
        at-once: 2
        send: { path: { quay: =item } }
        answer: { quay: =item, fare: =answer.body.fare, of: =path.port }
      asked:
        backend: b
        path: /fares/{code}
        each: '=query.?list'
        at-most: 2
        send: { path: { code: =item } }
    reply: { quays: =quay.body, asked: '=asked.body.map(a, a.fare)' }
",
    );
    let answer = stage.get("/f/ports/maren?list=x&list=y", "");
    let quay = |q: &str| json!({"quay": q, "fare": q, "of": "maren"});
    assert_eq!(
        body(&answer),
        json!({"quays": [quay("a"), quay("b"), quay("c")], "asked": ["x", "y"]}),
        "{answer}"
    );
    assert_eq!(seen.lines().len(), 6);
    assert_eq!(
        body(&stage.get("/f/ports/maren", ""))["asked"],
        json!([]),
        "no list, no calls"
    );
    // Too many of the caller's are the caller's mistake; one that fails ends all.
    let answer = stage.get("/f/ports/maren?list=x&list=y&list=z", "");
    assert_eq!(status(&answer), 400, "{answer}");
    assert!(
        answer.contains("it has 3 items, and 2 are the most"),
        "{answer}"
    );
    let answer = stage.get("/f/ports/maren?list=B", "");
    assert_eq!(status(&answer), 502, "{answer}");
}

#[test]
fn items_run_at_once_as_many_as_is_said() {
    // Two are there together, and never three.
    let (now, most) = (Arc::new(Mutex::new((0, 0))), 2);
    let count = now.clone();
    let both = Barrier::new(most);
    let backend = Scripted::start(move |_, request| {
        {
            let mut now = count.lock().unwrap();
            now.0 += 1;
            now.1 = now.1.max(now.0);
        }
        both.wait();
        count.lock().unwrap().0 -= 1;
        answered(request)
    });
    let facade = "operations:
  look:
    calls:
      quay: { backend: b, path: '/fares/{quay}', each: \"=['a', 'c', 'd', 'e']\", at-once: 2, send: { path: { quay: =item } } }
    reply: =quay.body
";
    let stage = Stage::of(compile_with(backend.address, CONTRACT, facade));
    let answer = stage.get("/f/ports/maren", "");
    assert_eq!(body(&answer).as_array().map(Vec::len), Some(4), "{answer}");
    assert_eq!(now.lock().unwrap().1, most);
}

const BOOKING: &str = "  book:
    calls:
      hold:
        backend: b
        path: /holds
        send: { body: { place: =place.body.code, who: =body.who } }
        undo: { method: DELETE, path: '/holds/{id}', send: { path: { id: =hold.body.id } } }
      pay: { backend: b, path: /pay, method: POST, when: =has(body.pay) }
      place: { backend: b, path: '/places/{port}', statuses: [404] }
      tide: { backend: b, path: '/tides/{port}' }
    refuse:
      - { when: =place.status == 404, status: 404, title: No such place }
      - { when: \"=tide.body.level < 3 && body.who == 'deep'\", status: 409, title: Too shallow }
      - { when: \"=hold.body.id == 'H1' && body.who == 'late'\", status: 409, title: Too late }
    reply: { hold: =hold.body.id }
";

#[test]
fn what_changes_something_waits_for_refusals_and_is_taken_back_when_something_fails_behind_it() {
    let (stage, seen) = harbour(BOOKING);
    let answer = post(&stage, "/f/ports/maren", r#"{"who":"us"}"#);
    assert_eq!(
        (status(&answer), body(&answer)),
        (201, json!({"hold": "H1"})),
        "the contract's status: {answer}"
    );
    let take = |seen: &Seen| std::mem::take(&mut *seen.0.lock().unwrap());
    let sent = take(&seen);
    assert!(
        sent.last()
            .unwrap()
            .ends_with(r#"{"place":"MAREN","who":"us"}"#),
        "{sent:?}"
    );
    assert!(
        sent.iter()
            .filter(|r| r.starts_with("GET"))
            .all(|r| r.ends_with("\r\n\r\n")),
        "{sent:?}"
    );
    // Refused by what reads: nothing was changed.
    for (port, who, wanted) in [("nowhere", "us", 404), ("maren", "deep", 409)] {
        let answer = post(
            &stage,
            &format!("/f/ports/{port}"),
            &json!({"who": who}).to_string(),
        );
        assert_eq!(status(&answer), wanted, "{answer}");
        let lines = seen.lines();
        assert!(lines.iter().all(|l| l.starts_with("GET ")), "{lines:?}");
        take(&seen);
    }
    // Refused behind it, or failed: it is taken back, with its own answer.
    for (sent, wanted) in [
        (json!({"who": "late"}), 409),
        (json!({"who": "us", "pay": 1}), 502),
    ] {
        let answer = post(&stage, "/f/ports/maren", &sent.to_string());
        assert_eq!(status(&answer), wanted, "{answer}");
        let lines = seen.lines();
        assert_eq!(lines.last().unwrap(), "DELETE holds/H1", "{lines:?}");
        take(&seen);
    }
    let (traces, _) = stage.end();
    let whys: Vec<String> = traces
        .iter()
        .filter_map(|t| t.refusal.as_ref().map(|r| r.why.clone()))
        .collect();
    assert_eq!(
        whys.iter()
            .filter(|w| w.contains("“hold” was undone"))
            .count(),
        2,
        "{whys:?}"
    );
}

#[test]
fn what_cannot_be_taken_back_is_told_to_the_publisher() {
    let (stage, _) = harbour(&BOOKING.replace("/holds/{id}'", "/gone/{id}'"));
    let answer = post(&stage, "/f/ports/maren", r#"{"who":"late"}"#);
    assert_eq!(status(&answer), 409, "{answer}");
    assert!(
        !answer.contains("undone"),
        "callers learn nothing of the inside: {answer}"
    );
    let (traces, _) = stage.end();
    let why = &traces[0].refusal.as_ref().unwrap().why;
    assert!(
        why.contains("“hold” could not be undone: it answered 404"),
        "{why}"
    );
}

#[test]
fn what_is_missing_in_an_answer_is_not_blamed_on_the_caller() {
    let (stage, _) = harbour(
        "  look:
    calls:
      place: { backend: b, path: '/places/{port}' }
      fare: { backend: b, path: '/fares/{code}', send: { path: { code: =place.body.kode } } }
    reply: { fare: =fare.body.fare }
",
    );
    let answer = stage.get("/f/ports/maren", "");
    assert_eq!(status(&answer), 502, "{answer}");
    assert!(
        !answer.contains("quays"),
        "what the backend has is not told to callers: {answer}"
    );
    let (traces, _) = stage.end();
    let why = &traces[0].refusal.as_ref().unwrap().why;
    assert_eq!(
        why,
        "the path cannot be made: =place.body.kode: there is no “kode”; there are: code, quays"
    );
}

#[test]
fn what_did_not_happen_is_not_taken_back() {
    // It failed, and something stands for it; then it is refused.
    let (stage, seen) = harbour(&BOOKING.replace(
        "path: /holds\n",
        "path: /gone\n        otherwise: { id: H1 }\n",
    ));
    let answer = post(&stage, "/f/ports/maren", r#"{"who":"late"}"#);
    assert_eq!(status(&answer), 409, "{answer}");
    let lines = seen.lines();
    assert!(lines.iter().any(|l| l == "POST gone"), "{lines:?}");
    assert!(lines.iter().all(|l| !l.starts_with("DELETE")), "{lines:?}");
}
