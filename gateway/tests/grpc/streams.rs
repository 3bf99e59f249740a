//! Streams, and servers that misbehave.

use super::*;

#[tokio::test(flavor = "multi_thread")]
async fn servers_that_misbehave_are_told_apart() {
    let (server, porch) = odd().await;
    for (what, status, _why) in [
        ("status", 502, "503"),
        ("page", 502, "text/html"),
        ("no trailers", 502, "without a status"),
        ("empty trailers", 502, "no status"),
        ("nothing", 502, "without a message"),
        ("twice", 502, "several"),
        ("half", 502, "middle"),
        ("wrong message", 502, "varint"),
        ("cut", 502, "end"),
        ("not utf-8", 502, "UTF-8"),
        ("deep", 502, "100"),
        ("large", 502, "more than"),
        ("unknown any", 502, "x/y.Z"),
        ("absent value", 502, "none of its kinds"),
        ("mask", 502, "a_1"),
        ("breaks", 502, "broke off"),
        ("never", 504, "no answer"),
        ("code", 429, "RESOURCE_EXHAUSTED"),
        ("well", 200, ""),
    ] {
        let (got, body) = porch
            .send(
                "POST",
                "/odd/v1/bad",
                Some(&json!({ "name": what }).to_string()),
            )
            .await;
        assert_eq!(got, status, "{what}: {body}");
    }
    // The call that was never answered was cancelled.
    let end = std::time::Instant::now() + Duration::from_secs(10);
    while server.left.load(Ordering::SeqCst) == 0 {
        assert!(
            std::time::Instant::now() < end,
            "the call was not cancelled"
        );
        tokio::task::yield_now().await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn streams_end_in_band_and_callers_who_leave_cancel_them() {
    let (server, porch) = odd().await;
    let mut lines = porch
        .client
        .post(porch.url("/odd/v1/bad-stream"))
        .body(r#"{"name": "breaks late"}"#)
        .send()
        .await
        .unwrap();
    assert_eq!(
        (
            lines.status().as_u16(),
            lines.headers()["content-type"].to_str().unwrap()
        ),
        (200, "application/x-ndjson")
    );
    let mut text = String::new();
    let broke = loop {
        match lines.chunk().await {
            Ok(Some(chunk)) => text.push_str(&String::from_utf8_lossy(&chunk)),
            Ok(None) => break false,
            Err(_) => break true,
        }
    };
    let got: Vec<Value> = text
        .lines()
        .map(|l| serde_json::from_str(l).unwrap())
        .collect();
    assert!(broke, "the body ended as if all were well");
    assert_eq!(got[0], json!({"name": "a"}));
    assert_eq!(got.last().unwrap()["@problem"]["status"], 502);
    // A failure before the first message has a status of its own.
    assert_eq!(
        porch
            .send("POST", "/odd/v1/bad-stream", Some(r#"{"name": "code"}"#))
            .await
            .0,
        429
    );
    // An endless stream: the caller reads a little and leaves; what the server may send ahead is bounded.
    let before = server.left.load(Ordering::SeqCst);
    let mut endless = porch
        .client
        .post(porch.url("/odd/v1/bad-stream"))
        .header("accept", "text/event-stream")
        .body(r#"{"name": "endless"}"#)
        .send()
        .await
        .unwrap();
    assert_eq!(endless.headers()["content-type"], "text/event-stream");
    let first = endless.chunk().await.unwrap().unwrap();
    assert!(first.starts_with(b"data: {\"name\":\"a\"}\n\n"));
    drop(endless);
    let end = std::time::Instant::now() + Duration::from_secs(10);
    while server.left.load(Ordering::SeqCst) == before {
        assert!(
            std::time::Instant::now() < end,
            "the call was not cancelled"
        );
        tokio::task::yield_now().await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn both_directions_go_over_one_exchange() {
    let (_server, porch) = odd().await;
    // HTTP/2 with prior knowledge: the answer to a line comes before the next line is sent.
    let client = reqwest::Client::builder()
        .no_proxy()
        .http2_prior_knowledge()
        .timeout(Duration::from_secs(20))
        .build()
        .unwrap();
    let (sender, receiver) = tokio::sync::mpsc::channel::<Result<Bytes, std::io::Error>>(1);
    let body = reqwest::Body::wrap_stream(tokio_stream::wrappers::ReceiverStream::new(receiver));
    sender
        .send(Ok(Bytes::from_static(b"{\"other\":\"one\"}\n")))
        .await
        .unwrap();
    let mut reply = client
        .post(porch.url("/odd/v1/stream/berth"))
        .header("content-type", "application/x-ndjson")
        .body(body)
        .send()
        .await
        .unwrap();
    assert_eq!(reply.status(), 200);
    // What the path says goes with the first message only.
    assert_eq!(
        reply.chunk().await.unwrap().unwrap(),
        "{\"name\":\"berth\",\"other\":\"one\"}\n"
    );
    for text in ["two", "three"] {
        sender
            .send(Ok(format!("{{\"other\":\"{text}\"}}\n").into()))
            .await
            .unwrap();
        assert_eq!(
            reply.chunk().await.unwrap().unwrap(),
            format!("{{\"other\":\"{text}\"}}\n")
        );
    }
    // A line that is no message ends the stream with a problem that names it.
    sender
        .send(Ok(Bytes::from_static(b"{\"othr\":\"four\"}\n")))
        .await
        .unwrap();
    let mut text = String::new();
    while let Ok(Some(chunk)) = reply.chunk().await {
        text.push_str(&String::from_utf8_lossy(&chunk));
    }
    let problem: Value = serde_json::from_str(text.trim()).unwrap();
    assert_eq!(
        problem["@problem"]["errors"][0]["pointer"], "/body/3/othr",
        "{text}"
    );
    assert_eq!(problem["@problem"]["status"], 400);
}

#[tokio::test(flavor = "multi_thread")]
async fn several_addresses_share_the_calls_and_one_that_is_gone_is_passed_over() {
    let (one, two) = (Server::start().await, Server::start().await);
    let gone = TcpListener::bind("127.0.0.1:0")
        .await
        .unwrap()
        .local_addr()
        .unwrap();
    let files = documents(ODDITIES, &[one.address, gone, two.address], |_| ());
    let porch = Porch::over(&files, &["odd"]);
    for i in 0..12 {
        let (status, body) = porch
            .send("GET", &format!("/odd/v1/query?name={i}"), None)
            .await;
        assert_eq!(status, 200, "{body}");
    }
    let counts = [
        one.calls.load(Ordering::SeqCst),
        two.calls.load(Ordering::SeqCst),
    ];
    assert_eq!(counts.iter().sum::<usize>(), 12);
    assert!(counts.iter().all(|c| *c >= 4), "{counts:?}");
}

/// A caller by HTTP/2 who asks for a stream, reads its beginning and no more.
async fn idler(porch: &Porch) -> (reqwest::Client, reqwest::Response) {
    let client = reqwest::Client::builder()
        .no_proxy()
        .http2_prior_knowledge()
        .http2_initial_stream_window_size(64 << 10)
        .build()
        .unwrap();
    let mut reply = client
        .post(porch.url("/odd/v1/bad-stream"))
        .body(r#"{"name": "endless large"}"#)
        .send()
        .await
        .unwrap();
    assert_eq!(reply.status(), 200);
    assert!(reply.chunk().await.unwrap().is_some());
    (client, reply)
}

#[tokio::test(flavor = "multi_thread")]
async fn callers_who_do_not_read_their_streams_keep_nothing_from_others() {
    let (server, porch) = odd().await;
    let mut idle = Vec::new();
    // More than one connection's worth of them.
    for _ in 0..140 {
        idle.push(idler(&porch).await);
    }
    // Whatever they may have unread is under way by now, or soon; the call must work in any case, and goes on working.
    for _ in 0..20 {
        let (status, got) = porch
            .send("POST", "/odd/v1/bad", Some(r#"{"name": "well"}"#))
            .await;
        assert_eq!(status, 200, "{got}");
    }
    let before = server.left.load(Ordering::SeqCst);
    drop(idle);
    let end = std::time::Instant::now() + Duration::from_secs(20);
    while server.left.load(Ordering::SeqCst) < before + 140 {
        assert!(std::time::Instant::now() < end, "calls were not cancelled");
        tokio::task::yield_now().await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_stream_may_be_empty_however_the_server_says_so() {
    let (_server, porch) = odd().await;
    for name in ["nothing", "head only"] {
        let asked = json!({ "name": name }).to_string();
        let reply = porch
            .client
            .post(porch.url("/odd/v1/bad-stream"))
            .body(asked.clone())
            .send()
            .await
            .unwrap();
        let kind = reply.headers()["content-type"].to_str().unwrap().to_owned();
        assert_eq!(
            (reply.status().as_u16(), kind.as_str()),
            (200, "application/x-ndjson"),
            "{name}"
        );
        assert_eq!(reply.text().await.unwrap(), "", "{name}");
        // A single answer is not.
        assert_eq!(
            porch.send("POST", "/odd/v1/bad", Some(&asked)).await.0,
            502,
            "{name}"
        );
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_caller_in_a_hurry_keeps_the_connection_for_the_others() {
    let server = Server::start().await;
    let files = documents(ODDITIES, &[server.address], |files| {
        for text in files.values_mut() {
            *text = text.replace("\nbase:", "\nnative: true\nbase:");
        }
    });
    let porch = Porch::over(&files, &["odd"]);
    let well = Some(r#"{"name": "well"}"#);
    assert_eq!(porch.send("POST", "/odd/v1/bad", well).await.0, 200);
    let native = reqwest::Client::builder()
        .no_proxy()
        .http2_prior_knowledge()
        .build()
        .unwrap();
    for _ in 0..5 {
        let reply = native
            .post(porch.url("/odd.v1.Oddities/Bad"))
            .header("content-type", "application/grpc")
            .header("te", "trailers")
            .header("grpc-timeout", "1n")
            .body(frame(b"\x0a\x05never").to_vec())
            .send()
            .await
            .unwrap();
        // DEADLINE_EXCEEDED.
        assert_eq!(reply.headers()["grpc-status"], "4");
    }
    assert_eq!(porch.send("POST", "/odd/v1/bad", well).await.0, 200);
    assert_eq!(server.connections.load(Ordering::SeqCst), 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_text_for_people_does_not_take_the_place_of_the_message() {
    let (_server, porch) = odd().await;
    let asked = Some(r#"{"name": "localized"}"#);
    let (status, told) = porch.send("POST", "/odd/v1/bad", asked).await;
    assert_eq!(
        (status, &told["detail"], &told["message"]),
        (429, &json!("Zu viele Fragen"), &json!("quota of questions")),
        "{told}"
    );
}
