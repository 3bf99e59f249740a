//! Streams among several calls, taken as lists.

use super::*;

const CONTRACT: &str = "openapi: 3.1.0
info: { title: T, version: 1.0.0 }
paths:
  /list/{what}:
    get: { operationId: list, parameters: [{ name: what, in: path, required: true, schema: { type: string } }], responses: { '200': { description: ok } } }
  /soon/{what}:
    get: { operationId: soon, parameters: [{ name: what, in: path, required: true, schema: { type: string } }], responses: { '200': { description: ok } } }
  /each:
    get: { operationId: each, responses: { '200': { description: ok } } }
";
const STREAM: &str =
    "backend: odd, operation: odd.v1.Oddities/BadStream, send: { name: =path.what }";

fn files(server: &Server) -> Files {
    let mut files = documents(ODDITIES, &[server.address], |_| ());
    let facade = format!(
        "elm-porch: facade/1\nname: lists\nbase: /lists\ncontract: lists.openapi.yaml\noperations:\n  list:\n    calls: {{ all: {{ {STREAM}, messages: {{ at-most: 3 }} }} }}\n    reply: {{ all: =all.body, first: '=all.body[0].?name' }}\n  soon:\n    calls: {{ all: {{ {STREAM}, messages: {{ within: 200ms }} }} }}\n    reply: {{ many: =size(all.body) }}\n  each:\n    calls: {{ all: {{ backend: odd, operation: odd.v1.Oddities/BadStream, each: \"=['endless', 'well']\", send: {{ name: =item }}, messages: {{ at-most: 2 }} }} }}\n    reply: {{ all: =all.body }}\n"
    );
    files.insert("lists.facade.yaml".into(), facade);
    files.insert("lists.openapi.yaml".into(), CONTRACT.into());
    files
}

#[tokio::test(flavor = "multi_thread")]
async fn messages_are_a_list_until_there_are_enough_or_no_more() {
    let server = Server::start().await;
    let mut porch = Porch::over(&files(&server), &["lists"]);
    let (status, body) = porch.send("GET", "/lists/list/endless", None).await;
    assert_eq!(status, 200, "{body}");
    let a = json!({ "name": "a" });
    assert_eq!(body, json!({ "all": [a, a, a], "first": "a" }));
    let trace = porch.trace(|t| t.operation == "list").await;
    let told = serde_json::to_string(&trace).unwrap();
    assert!(told.contains("its first 3 messages are a list"), "{told}");
    // What is not waited for any more is cancelled.
    let end = std::time::Instant::now() + Duration::from_secs(10);
    while server.left.load(Ordering::SeqCst) == 0 {
        assert!(
            std::time::Instant::now() < end,
            "the call was not cancelled"
        );
        tokio::task::yield_now().await;
    }
    // A failure is one, before the first message and behind it.
    for (what, wanted) in [
        ("code", 429),
        ("gives up", 400),
        ("silent", 504),
        ("never", 504),
    ] {
        let path = format!("/lists/list/{}", what.replace(' ', "%20"));
        let (status, body) = porch.send("GET", &path, None).await;
        assert_eq!(status, wanted, "{what}: {body}");
    }
    let (status, body) = porch.send("GET", "/lists/each", None).await;
    assert_eq!(status, 200, "{body}");
    assert_eq!(body["all"][0], json!([a, a]));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_came_within_its_time_is_the_list() {
    let server = Server::start().await;
    let mut porch = Porch::over(&files(&server), &["lists"]);
    let (status, body) = porch.send("GET", "/lists/soon/silent", None).await;
    assert_eq!((status, &body), (200, &json!({ "many": 1 })));
    let trace = porch.trace(|t| t.operation == "soon").await;
    let told = serde_json::to_string(&trace).unwrap();
    assert!(
        told.contains("the 1 messages that came within 200 ms are a list"),
        "{told}"
    );
}
