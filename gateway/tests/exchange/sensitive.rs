//! What nobody is shown: callers and backends get it, traces do not keep it.

use super::*;

const CONTRACT: &str = "openapi: 3.1.0
info: { title: T, version: 1.0.0 }
paths:
  /berth/{guest}:
    parameters: [{ name: guest, in: path, required: true }]
    post:
      operationId: berth
      parameters: [{ name: pass, in: query, schema: { type: string, x-sensitive: true } }, { name: X-Desk, in: header }]
      requestBody: { content: { application/json: { schema: { type: object, properties: { pin: { type: string, format: password, maxLength: 8 }, name: {}, cabin: {} } } } } }
      responses: { '200': { description: ok } }
";
const FACADE: &str = "sensitive: { members: [name], fields: [X-Desk], parameters: [guest] }
operations:
  berth: { call: { backend: b }, changes: { request: { headers: [{ op: set, name: X-Told, value: =path.guest }] } } }
";
/// Everything that must not be kept; whatever conversion wrote it.
const HIDDEN: [&str; 6] = [
    "Kari",
    "12345678",
    "Næss",
    "N%C3%A6ss",
    "passport-7",
    "quayside-9",
];

fn call(stage: &Stage, fields: &str, body: &str) -> String {
    let request = format!(
        "POST /f/berth/N%C3%A6ss?pass=passport-7 HTTP/1.1\r\nHost: x\r\nConnection: close\r\nX-Desk: quayside-9\r\nContent-Type: application/json\r\n{fields}Content-Length: {}\r\n\r\n{body}",
        body.len()
    );
    stage.raw(request.as_bytes())
}

fn stage(answer: &'static str) -> Stage {
    let backend = Scripted::start(move |_, request| {
        // The backend gets all of it.
        for part in ["Kari", "12345678", "passport-7", "quayside-9"] {
            assert!(request.contains(part), "{request}");
        }
        plain(answer)
    });
    Stage::of(compile_with(backend.address, CONTRACT, FACADE))
}

fn is_hidden(text: &str) {
    for part in HIDDEN {
        assert!(!text.contains(part), "{part}: {text}");
    }
}

#[test]
fn traces_keep_nothing_of_it_and_everybody_else_gets_it() {
    let stage =
        stage("{\"holder\": \"Kari of Farholt\", \"echo\": \"12345678\", \"cabin\": \"B2\"}");
    let shared = stage.shared.clone();
    let trials = Trials::start(shared.clone()).unwrap();
    let runtime = tokio::runtime::Runtime::new().unwrap();
    let body = "{\"name\": \"Kari of Farholt\", \"pin\": \"12345678\", \"cabin\": \"B2\"}";
    let answer = call(&stage, "", body);
    assert!(
        status(&answer) == 200 && answer.contains("Kari of Farholt"),
        "{answer}"
    );
    let request = http::Request::post("/f/berth/N%C3%A6ss?pass=passport-7")
        .header("host", "x")
        .header("x-desk", "quayside-9")
        .header("content-type", "application/json")
        .body(bytes::Bytes::from(body))
        .unwrap();
    let porch = shared.porch.load_full();
    let reply = runtime
        .block_on(trials.run(trial_of(porch, request)))
        .unwrap();
    let trace = serde_json::to_string(&reply.trace).unwrap();
    assert!(trace.contains("••••") && trace.contains("B2"), "{trace}");
    is_hidden(&trace);
    // Whoever tries it gets the reply as callers would.
    assert!(String::from_utf8_lossy(&reply.body).contains("Kari of Farholt"));
    let rules = trace.contains("/f/berth/••••?pass=••••");
    assert!(rules, "{trace}");
}

#[test]
fn neither_do_refusals_that_tell_of_values() {
    let stage = stage("{}");
    let body = "{\"name\": \"Kari\", \"pin\": \"12345678-and-more\", \"cabin\": \"B2\"}";
    let answer = call(&stage, "", body);
    // The caller is told of the caller's own values.
    assert_eq!(status(&answer), 400, "{answer}");
    let (traces, _) = stage.end();
    let kept = serde_json::to_string(&traces).unwrap();
    assert!(kept.contains("/pin"), "{kept}");
    is_hidden(&kept);
}

#[test]
fn where_there_is_too_much_of_it_no_body_is_kept() {
    let stage = stage("{}");
    let trials = Trials::start(stage.shared.clone()).unwrap();
    let names: Vec<String> = (0..60).map(|i| format!("\"Kari-{i:04}\"")).collect();
    let body = format!("{{\"name\": [{}], \"pin\": \"12345678\"}}", names.join(","));
    let request = http::Request::post("/f/berth/a?pass=passport-7")
        .header("host", "x")
        .header("x-desk", "quayside-9")
        .header("content-type", "application/json")
        .body(bytes::Bytes::from(body))
        .unwrap();
    let runtime = tokio::runtime::Runtime::new().unwrap();
    let porch = stage.shared.porch.load_full();
    let reply = runtime
        .block_on(trials.run(trial_of(porch, request)))
        .unwrap();
    let trace = serde_json::to_string(&reply.trace).unwrap();
    assert!(
        trace.contains("it holds too much that is sensitive"),
        "{trace}"
    );
    is_hidden(&trace);
}

#[test]
fn what_is_made_of_too_much_is_not_shown_either() {
    let backend = Scripted::start(|_, _| plain("{}"));
    let facade = "sensitive: { members: [name], fields: [X-Desk], parameters: [guest] }\noperations:\n  berth: { call: { backend: b }, send: { body: { list: =body.?name } } }\n";
    let stage = Stage::of(compile_with(backend.address, CONTRACT, facade));
    let names: Vec<String> = (0..60).map(|i| format!("\"Kari-{i:04}\"")).collect();
    let body = format!("{{\"name\": [{}]}}", names.join(","));
    assert_eq!(status(&call(&stage, "", &body)), 200);
    let (traces, _) = stage.end();
    is_hidden(&serde_json::to_string(&traces).unwrap());
}

#[test]
fn parts_of_paths_are_hidden_however_they_stand_there() {
    const CONTRACT: &str = "openapi: 3.1.0
info: { title: T, version: 1.0.0 }
paths:
  /a/{guest}-{n}: { get: { operationId: mixed, parameters: [{ name: guest, in: path, required: true }, { name: n, in: path, required: true }], responses: { '200': { description: ok } } } }
  /b/{guest*}: { get: { operationId: rest, parameters: [{ name: guest, in: path, required: true }], responses: { '200': { description: ok } } } }
";
    let backend = Scripted::start(|_, _| plain("{}"));
    let facade = "sensitive: { parameters: [guest] }\noperations:\n  mixed: { call: { backend: b } }\n  rest: { call: { backend: b } }\n";
    let stage = Stage::of(compile_with(backend.address, CONTRACT, facade));
    let answer = stage.get("/f/a/Kari-7", "");
    assert_eq!(status(&answer), 200, "{answer}");
    assert_eq!(status(&stage.get("/f/b/Kari/of/passport-7", "")), 200);
    let (traces, _) = stage.end();
    let kept = serde_json::to_string(&traces).unwrap();
    assert!(
        kept.contains("/f/a/••••") && kept.contains("/f/b/••••/••••/••••"),
        "{kept}"
    );
    is_hidden(&kept);
}
