//! Secrets and cookies in expressions: sent and compared, and shown to nobody.

use super::*;

const CONTRACT: &str = "openapi: 3.1.0
info: { title: T, version: 1.0.0 }
paths:
  /berth:
    post:
      operationId: berth
      parameters: [{ name: again, in: query }]
      requestBody: { content: { application/json: { schema: { type: object } } } }
      responses: { '200': { description: ok } }
  /both:
    get:
      operationId: both
      responses: { '200': { description: ok, content: { application/json: { schema: { type: object } } } } }
";
const FACADE: &str = "operations:
  berth:
    call: { backend: b }
    refuse: [{ when: \"=header.?x_hook.orValue('') != secret.hook\", status: 403, title: Not from the harbour }]
    changes: { request: {
      headers: [{ op: set, name: X-Token, value: \"='Token ' + secret.hook\" }, { op: set, name: X-Seat, value: =cookie.?seat }],
      body: [{ op: add, path: /token, value: =secret.hook }] } }
  both:
    calls:
      one: { backend: b, method: POST, path: /one, send: { headers: { X-Token: =secret.hook }, body: { token: =secret.hook } } }
    reply: { known: =one.body.token == secret.hook, said: =one.body.token }
";
const HOOK: &str = "sheet-bend/42";

fn stage() -> Stage {
    let backend = Scripted::start(|_, request| {
        assert!(request.contains(HOOK), "{request}");
        if !request.contains("/one") {
            assert!(
                request.contains("x-token: Token sheet-bend/42"),
                "{request}"
            );
            assert!(request.contains("x-seat: B 2"), "{request}");
        }
        plain("{\"token\": \"sheet-bend/42\"}")
    });
    Stage::of(compile_with(
        backend.address,
        CONTRACT,
        &FACADE.replace("x_hook", "`x-hook`"),
    ))
}

fn berth(stage: &Stage, hook: &str) -> String {
    let request = format!(
        "POST /f/berth HTTP/1.1\r\nHost: x\r\nConnection: close\r\nX-Hook: {hook}\r\nCookie: other=1; seat=\"B 2\"; seat=C\r\nContent-Type: application/json\r\nContent-Length: 2\r\n\r\n{{}}"
    );
    stage.raw(request.as_bytes())
}

#[test]
fn a_secret_is_sent_and_compared() {
    let stage = stage();
    assert_eq!(status(&berth(&stage, HOOK)), 200);
    for wrong in ["sheet-bend/43", "sheet-bend", "sheet-bend/42x"] {
        let refused = berth(&stage, wrong);
        assert_eq!(status(&refused), 403, "{wrong}");
        assert!(refused.contains("Not from the harbour"), "{refused}");
    }
    let both = stage.raw(b"GET /f/both HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n");
    assert!(both.contains("\"known\":true"), "{both}");
}

#[test]
fn no_trace_and_no_trial_shows_it() {
    let stage = stage();
    let shared = stage.shared.clone();
    let trials = Trials::start(shared.clone()).unwrap();
    let runtime = tokio::runtime::Runtime::new().unwrap();
    let porch = shared.porch.load_full();
    for (method, target) in [
        ("POST", "/f/berth?again=sheet-bend%2F42"),
        ("GET", "/f/both"),
    ] {
        let request = http::Request::builder()
            .method(method)
            .uri(target)
            .header("host", "x")
            .header("x-hook", HOOK)
            .header("cookie", "seat=\"B 2\"")
            .header("content-type", "application/json")
            .body(bytes::Bytes::from(if method == "POST" { "{}" } else { "" }))
            .unwrap();
        let reply = runtime
            .block_on(trials.run(trial_of(porch.clone(), request)))
            .unwrap();
        assert_eq!(reply.status, 200, "{target}");
        let trace = serde_json::to_string(&reply.trace).unwrap();
        let body = String::from_utf8_lossy(&reply.body);
        for part in [HOOK, "sheet-bend", "bend\\/42"] {
            assert!(
                !trace.contains(part) && !body.contains(part),
                "{trace} {body}"
            );
        }
        assert!(trace.contains("••••"), "{trace}");
    }
    assert!(!format!("{porch:?}").contains("sheet-bend"));
}

#[test]
fn the_trace_of_who_is_refused_by_it_does_not_keep_it_either() {
    let stage = stage();
    let request = "POST /f/berth?again=sheet-bend%2F42 HTTP/1.1\r\nHost: x\r\nConnection: close\r\nX-Hook: no\r\nX-Other: sheet-bend/42\r\nContent-Type: application/json\r\nContent-Length: 2\r\n\r\n{}";
    assert_eq!(status(&stage.raw(request.as_bytes())), 403);
    let (traces, _) = stage.end();
    assert_eq!(traces.len(), 1);
    let told = serde_json::to_string(&traces).unwrap();
    assert!(!told.contains("sheet-bend"), "{told}");
}
