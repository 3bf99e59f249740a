//! What times and sizes mean for streams and for native callers.

use super::*;

/// A gateway whose backend has 400 ms to answer, and bodies of 1 KiB at most.
async fn hurried() -> (Server, Porch) {
    let server = Server::start().await;
    let files = documents(ODDITIES, &[server.address], |files| {
        for text in files.values_mut() {
            *text = text.replace("timeout: 1500ms", "timeout: 400ms").replace(
                "\nbase:",
                "\nnative: true\nadmit: { max-body: 1KiB }\nbase:",
            );
        }
    });
    (server, Porch::over(&files, &["odd"]))
}

async fn lines(porch: &Porch, name: &str, timeout: Option<&str>) -> Vec<Value> {
    let mut request = porch.client.post(porch.url("/odd/v1/bad-stream"));
    if let Some(timeout) = timeout {
        request = request.header("grpc-timeout", timeout);
    }
    let asked = json!({ "name": name }).to_string();
    let mut reply = request.body(asked).send().await.unwrap();
    assert_eq!(reply.status(), 200);
    let mut text = Vec::new();
    while let Ok(Some(chunk)) = reply.chunk().await {
        text.extend_from_slice(&chunk);
    }
    let text = String::from_utf8(text).unwrap();
    let all = text.lines().map(|l| serde_json::from_str(l).unwrap());
    all.collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_stream_goes_on_for_as_long_as_something_comes() {
    let (server, mut porch) = hurried().await;
    // Twice as long as a single answer may take.
    assert_eq!(
        lines(&porch, "steady", None).await,
        vec![json!({"name": "a"}); 8]
    );
    // The backend is told of a time only when the caller sets one.
    assert_eq!(
        lines(&porch, "deadline", None).await,
        [json!({"name": "none"})]
    );
    assert_eq!(
        lines(&porch, "deadline", Some("7S")).await,
        [json!({"name": "7000m"})]
    );
    let (_, one) = porch
        .send("POST", "/odd/v1/bad", Some(r#"{"name": "deadline"}"#))
        .await;
    assert_eq!(one, json!({"name": "400m"}));
    // Silence ends it, in band, and the backend's call with it.
    let got = lines(&porch, "silent", None).await;
    assert_eq!(got[0], json!({"name": "a"}));
    assert_eq!(got[1]["@problem"]["status"], 504, "{got:?}");
    let end = std::time::Instant::now() + Duration::from_secs(10);
    while server.left.load(Ordering::SeqCst) == 0 {
        assert!(
            std::time::Instant::now() < end,
            "the call was not cancelled"
        );
        tokio::task::yield_now().await;
    }
    let trace = porch.trace(|t| t.refusal.is_some()).await;
    let refusal = trace.refusal.unwrap();
    assert!(refusal.why.contains("silent"), "{refusal:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn where_both_sides_speak_silence_may_be_the_callers_turn() {
    let (_server, porch) = hurried().await;
    let client = native();
    let (sender, receiver) = tokio::sync::mpsc::channel::<Result<Bytes, std::io::Error>>(1);
    let body = reqwest::Body::wrap_stream(tokio_stream::wrappers::ReceiverStream::new(receiver));
    let line = || Ok(Bytes::from_static(b"{\"other\":\"one\"}\n"));
    sender.send(line()).await.unwrap();
    let request = client.post(porch.url("/odd/v1/stream/berth")).body(body);
    let mut reply = request.send().await.unwrap();
    assert!(reply.chunk().await.unwrap().is_some());
    // Meanwhile a stream of the server's alone is ended for its silence.
    let got = lines(&porch, "silent", None).await;
    assert_eq!(got[1]["@problem"]["status"], 504, "{got:?}");
    sender.send(line()).await.unwrap();
    assert_eq!(
        reply.chunk().await.unwrap().unwrap(),
        "{\"other\":\"one\"}\n"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_failure_in_the_middle_is_traced_with_the_backends_words() {
    let (_server, mut porch) = hurried().await;
    let got = lines(&porch, "gives up", None).await;
    assert_eq!(got[0], json!({"name": "a"}));
    let problem = &got[1]["@problem"];
    assert_eq!(
        (&problem["status"], &problem["code"], &problem["detail"]),
        (
            &json!(400),
            &json!("FAILED_PRECONDITION"),
            &json!("the harbour is closed")
        )
    );
    let trace = porch.trace(|t| t.refusal.is_some()).await;
    assert_eq!(
        (
            trace.operation.as_str(),
            trace.status,
            trace.target.as_str()
        ),
        ("badStream", 200, "/odd/v1/bad-stream")
    );
    let instance = problem["instance"].as_str().unwrap();
    assert_eq!(instance, format!("urn:elm-porch:exchange:{}", trace.id));
    let refusal = trace.refusal.unwrap();
    assert!(
        refusal
            .why
            .contains("FAILED_PRECONDITION (9): the harbour is closed"),
        "{refusal:?}"
    );
    assert!(refusal.line > 0, "the rule's place: {refusal:?}");
    assert!(trace.stages[0].notes[0].contains("the reply had begun"));
}

fn native() -> reqwest::Client {
    let builder = reqwest::Client::builder().no_proxy();
    builder.http2_prior_knowledge().build().unwrap()
}

/// A message in pieces, so that nobody knows its length beforehand.
fn pieces(message: &Bytes) -> reqwest::Body {
    let all: Vec<Result<Bytes, std::io::Error>> = message
        .chunks(700)
        .map(|c| Ok(Bytes::copy_from_slice(c)))
        .collect();
    reqwest::Body::wrap_stream(tokio_stream::iter(all))
}

#[tokio::test(flavor = "multi_thread")]
async fn native_messages_over_the_limit_are_the_callers_affair() {
    let (_server, porch) = hurried().await;
    let client = native();
    let send = async |method: &str, body: reqwest::Body| {
        let reply = client
            .post(porch.url(&format!("/odd.v1.Oddities/{method}")))
            .header("content-type", "application/grpc")
            .header("te", "trailers")
            .body(body)
            .send()
            .await
            .unwrap();
        let field = |name: &str| {
            let value = reply.headers().get(name);
            value.map_or("", |v| v.to_str().unwrap()).to_owned()
        };
        (field("grpc-status"), field("grpc-message"))
    };
    let large = frame(&[&[0x0a, 0x80, 0x20][..], &[b'a'; 4096]].concat());
    for body in [large.clone().into(), pieces(&large)] {
        let (status, message) = send("EchoBody", body).await;
        // RESOURCE_EXHAUSTED.
        assert_eq!(status, "8", "{message}");
        assert!(message.contains("at most 1024 bytes"), "{message}");
    }
    // One of a stream of messages has as much as the backend takes.
    for body in [large.clone().into(), pieces(&large)] {
        assert_eq!(send("EchoStream", body).await.0, "");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn lines_have_the_limit_each_with_and_without_a_length() {
    let (_server, porch) = hurried().await;
    let send = async |text: String, known: bool| {
        let text = Bytes::from(text);
        let body = if known {
            text.clone().into()
        } else {
            pieces(&text)
        };
        let request = porch
            .client
            .post(porch.url("/odd/v1/stream/berth"))
            .body(body);
        let mut reply = request.send().await.unwrap();
        let status = reply.status().as_u16();
        let mut got = Vec::new();
        while let Ok(Some(chunk)) = reply.chunk().await {
            got.extend_from_slice(&chunk);
        }
        (status, String::from_utf8(got).unwrap())
    };
    let line = |n: usize| format!("{{\"other\":\"{}\"}}\n", "x".repeat(n));
    for known in [true, false] {
        let (status, got) = send(line(700).repeat(40), known).await;
        assert_eq!((status, got.lines().count()), (200, 40), "{got}");
        for text in [
            line(1100),
            line(1100).trim_end().to_owned(),
            line(700) + &line(1100),
        ] {
            let (_, got) = send(text, known).await;
            assert!(got.contains("is a line of more than 1024 bytes"), "{got}");
        }
    }
}

const PLANS: &str = r#"syntax = "proto3"; package plans.v1;
    import "google/api/annotations.proto"; import "google/api/httpbody.proto";
    message Plan { string deck = 1; google.api.HttpBody drawing = 2; }
    service Plans {
      rpc EchoPlan(google.api.HttpBody) returns (google.api.HttpBody) { option (google.api.http) = { post: "/plans" body: "*" }; }
      rpc EchoDeck(Plan) returns (Plan) { option (google.api.http) = { post: "/decks/{deck}" body: "drawing" response_body: "drawing" }; }
    }"#;

#[tokio::test(flavor = "multi_thread")]
async fn bodies_of_any_type_go_through_as_they_are() {
    let server = Server::start().await;
    let files = documents(PLANS, &[server.address], |files| {
        for text in files.values_mut() {
            *text = text.replace("\nbase:", "\nadmit: { max-body: 8MiB }\nbase:");
        }
    });
    let porch = Porch::over(&files, &["odd"]);
    let drawing: Vec<u8> = (0..3_000_000u32).map(|i| (i * 7 + i / 251) as u8).collect();
    for path in ["/odd/v1/plans", "/odd/v1/decks/upper"] {
        for body in [drawing.clone(), Vec::new()] {
            let request = porch.client.post(porch.url(path));
            let request = request.header("content-type", "application/x-drawing");
            let reply = request.body(body.clone()).send().await.unwrap();
            assert_eq!(reply.status(), 200, "{path}");
            let kind = reply.headers()["content-type"].to_str().unwrap().to_owned();
            let came = reply.bytes().await.unwrap();
            assert!(came == body, "{path}: {} bytes came", came.len());
            if !body.is_empty() {
                assert_eq!(kind, "application/x-drawing", "{path}");
            }
        }
    }
}

const LOCKERS: &str = r#"syntax = "proto3"; package lockers.v1;
    import "google/api/annotations.proto"; import "google/api/field_behavior.proto";
    message Size { int32 depth = 1 [(google.api.field_behavior) = REQUIRED]; }
    message Locker {
      string name = 1 [(google.api.field_behavior) = REQUIRED];
      string title = 2 [(google.api.field_behavior) = REQUIRED];
      Size size = 3;
      string made = 4 [(google.api.field_behavior) = REQUIRED, (google.api.field_behavior) = OUTPUT_ONLY];
    }
    message Change { Locker locker = 1; }
    service Lockers {
      rpc EchoLocker(Locker) returns (Locker) { option (google.api.http) = { post: "/lockers/{name}" body: "*" }; }
      rpc EchoChange(Change) returns (Change) { option (google.api.http) = { patch: "/lockers/{locker.name}" body: "locker" }; }
    }"#;

#[tokio::test(flavor = "multi_thread")]
async fn required_fields_of_bodies_are_checked_where_that_is_chosen() {
    let server = Server::start().await;
    let over = |json: &str| {
        let files = documents(LOCKERS, &[server.address], |files| {
            for text in files.values_mut() {
                *text = text.replace("\nbase:", &format!("\n{json}base:"));
            }
        });
        Porch::over(&files, &["odd"])
    };
    let told = async |porch: &Porch, method: &str, body: &str| {
        let (status, body) = porch.send(method, "/odd/v1/lockers/4", Some(body)).await;
        let errors = body["errors"].as_array().into_iter().flatten();
        let errors: Vec<String> = errors
            .map(|e| {
                format!(
                    "{} {}",
                    e["pointer"].as_str().unwrap(),
                    e["detail"].as_str().unwrap()
                )
            })
            .collect();
        (status, errors.join(", "))
    };
    let passing = over("");
    assert_eq!(told(&passing, "POST", r#"{"size": {}}"#).await.0, 200);
    let checking = over("json: { required-fields: check }\n");
    assert_eq!(
        told(&checking, "POST", r#"{"size": {}}"#).await,
        (
            400,
            "/body/size needs “depth”, /body needs “title”".to_owned()
        )
    );
    // The path has the name, and what is only shown is not asked for.
    let whole = r#"{"title": "Oilskins", "size": {"depth": 3}}"#;
    assert_eq!(told(&checking, "POST", whole).await, (200, String::new()));
    assert_eq!(
        told(&checking, "PATCH", r#"{"size": {}}"#).await,
        (200, String::new())
    );
}
