//! What passes through, and over which connections.

use super::*;

#[test]
fn what_passes_through_is_what_was_sent_but_for_what_ends_at_the_porch() {
    let backend = Scripted::start(|_, request| plain(&format!("{request:?}")));
    let stage = Stage::new(
        backend.address,
        "operations:\n  item: { call: { backend: b } }\n  putItem: { call: { backend: b } }\n  files: { call: { backend: b } }\n",
    );
    let answer = stage.get("/f/item/a%20b?n=1&other=%26", "Connection: X-Private\r\nX-Private: 1\r\nTE: trailers\r\nAPI-Key: secret\r\nX-Login: forged\r\nAccept: a\r\nAccept: b\r\n");
    assert!(
        answer.contains("GET /inner/item/a%20b?n=1&other=%26 HTTP/1.1"),
        "{answer}"
    );
    for gone in ["x-private", "trailers", "api-key", "forged"] {
        assert!(!answer.to_lowercase().contains(gone), "{gone} in {answer}");
    }
    for kept in [
        "x-login: tide-and-tackle",
        "accept: a",
        "accept: b",
        "forwarded: for=127.0.0.1",
        "traceparent: 00-",
    ] {
        assert!(answer.contains(kept), "{kept} not in {answer}");
    }
    let body = "{\"a\": 1,  \"b\": 1.50}";
    let sent = stage.raw(format!("PUT /f/item/7 HTTP/1.1\r\nHost: x\r\nConnection: close\r\nContent-Type: application/json\r\nContent-Length: {}\r\n\r\n{body}", body.len()).as_bytes());
    assert!(sent.contains("\\\"a\\\": 1,  \\\"b\\\": 1.50"), "{sent}");
    assert!(
        stage
            .get("/f/files/a/b%2Fc/d", "")
            .contains("GET /inner/files/a/b%2Fc/d HTTP/1.1")
    );
    // Every octet of the caller's address is written as it is.
    let other: SocketAddr = ([127, 10, 205, 9], 0).into();
    let mut socket = connect_from(other, stage.address()).unwrap();
    socket
        .write_all(b"GET /f/item/7 HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n")
        .unwrap();
    let mut answer = String::new();
    socket.read_to_string(&mut answer).unwrap();
    assert!(
        answer.contains("forwarded: for=127.10.205.9;host="),
        "{answer}"
    );
    let (traces, calls) = stage.end();
    assert_eq!((calls, traces.len()), (4, 4));
    let shown = serde_json::to_string(&traces).unwrap();
    assert!(
        !shown.contains("tide-and-tackle")
            && !shown.contains("\"secret\"")
            && shown.contains("••••"),
        "{shown}"
    );
}

#[test]
fn connections_are_used_again_and_stale_ones_replaced_only_when_that_is_safe() {
    // The first connection ends after one answer without saying so; the second request on it meets silence.
    let backend = Scripted::start(|n, request| {
        if n == 0 && request.contains("again") {
            Vec::new()
        } else {
            plain("{}")
        }
    });
    let stage = Stage::new(
        backend.address,
        "operations:\n  item: { call: { backend: b } }\n  putItem: { call: { backend: b } }\n",
    );
    let mut stream = TcpStream::connect(stage.address()).unwrap();
    stream
        .set_read_timeout(Some(Duration::from_secs(10)))
        .unwrap();
    let mut ask = |request: String| {
        stream.write_all(request.as_bytes()).unwrap();
        read_request(&mut stream).unwrap_or_default()
    };
    let get = |path: &str| format!("GET {path} HTTP/1.1\r\nHost: x\r\n\r\n");
    assert_eq!(status(&ask(get("/f/item/1"))), 200);
    assert_eq!(status(&ask(get("/f/item/2"))), 200);
    assert_eq!(backend.connections(), 1);
    // A GET may be sent again.
    assert_eq!(status(&ask(get("/f/item/again"))), 200);
    assert_eq!(backend.connections(), 2);
}

#[test]
fn a_put_that_may_have_been_carried_out_is_not_sent_again() {
    let backend = Scripted::start(|_, request| {
        if request.contains("PUT") {
            Vec::new()
        } else {
            plain("{}")
        }
    });
    let stage = Stage::new(
        backend.address,
        "operations:\n  item: { call: { backend: b } }\n  putItem: { call: { backend: b } }\n",
    );
    assert_eq!(status(&stage.get("/f/item/1", "")), 200);
    let put = stage.raw(b"PUT /f/item/1 HTTP/1.1\r\nHost: x\r\nConnection: close\r\nContent-Type: application/json\r\nContent-Length: 2\r\n\r\n{}");
    assert_eq!(status(&put), 502, "{put}");
    assert!(backend.connections() <= 2);
}

#[test]
fn answers_that_break_the_protocol_are_told_and_their_connections_dropped() {
    for (bytes, expected) in [
        (
            "HTTP/1.1 200 OK\r\nContent-Length: 5\r\nContent-Length: 6\r\n\r\nabcdef",
            502,
        ),
        ("nonsense\r\n\r\n", 502),
        (
            "HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\nContent-Length: 3\r\n\r\n3\r\nabc\r\n0\r\n\r\n",
            200,
        ),
        ("HTTP/1.1 204 No Content\r\n\r\n", 204),
        (
            "HTTP/1.1 100 Continue\r\n\r\nHTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok",
            200,
        ),
    ] {
        let backend = Scripted::start(move |_, _| bytes.as_bytes().to_vec());
        let stage = Stage::new(
            backend.address,
            "operations:\n  item: { call: { backend: b } }\n",
        );
        assert_eq!(status(&stage.get("/f/item/1", "")), expected, "{bytes:?}");
    }
    // Silent from the start: 504 after the backend's own time.
    let silent = TcpListener::bind("127.0.0.1:0").unwrap();
    let stage = Stage::new(
        silent.local_addr().unwrap(),
        "operations:\n  item: { call: { backend: b } }\n",
    );
    assert_eq!(status(&stage.get("/f/item/1", "")), 504);
}

#[test]
fn large_bodies_stream_without_being_held() {
    // 64 MB from a backend that writes them piece by piece; the gateway's memory is this process's own.
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap();
    std::thread::spawn(move || {
        let (mut stream, _) = listener.accept().unwrap();
        read_request(&mut stream);
        stream
            .write_all(b"HTTP/1.1 200 OK\r\nContent-Length: 67108864\r\n\r\n")
            .unwrap();
        let piece = vec![b'x'; 1 << 16];
        for _ in 0..1024 {
            if stream.write_all(&piece).is_err() {
                return;
            }
        }
    });
    let stage = Stage::new(address, "operations:\n  item: { call: { backend: b } }\n");
    let memory = || {
        let status = std::fs::read_to_string("/proc/self/status").unwrap();
        status
            .lines()
            .find_map(|l| l.strip_prefix("VmRSS:"))
            .and_then(|l| l.trim().split(' ').next()?.parse::<u64>().ok())
            .unwrap()
    };
    let mut stream = TcpStream::connect(stage.address()).unwrap();
    stream
        .write_all(b"GET /f/item/1 HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n")
        .unwrap();
    let before = memory();
    let (mut total, mut most, mut piece) = (0, 0, vec![0u8; 1 << 16]);
    loop {
        let n = stream.read(&mut piece).unwrap();
        if n == 0 {
            break;
        }
        total += n;
        if total % (1 << 22) < n {
            most = most.max(memory());
        }
    }
    assert!(total > 67_108_864);
    // Other tests of this process run beside it; 64 MB held would still stand out.
    assert!(
        most < before + 40_000,
        "{before} kB before, {most} kB at most"
    );
}

#[test]
fn each_address_of_a_backend_has_its_own_path_also_when_another_is_passed_over() {
    let echo = || Scripted::start(|_, request| plain(&format!("{request:?}")));
    let (one, two) = (echo(), echo());
    // Nothing listens there.
    let nobody = std::net::TcpListener::bind("127.0.0.1:0")
        .unwrap()
        .local_addr()
        .unwrap();
    let over = |addresses: &[String]| {
        let quoted: Vec<String> = addresses.iter().map(|a| format!("'{a}'")).collect();
        let backend = format!(
            "elm-porch: backend/1\nname: b\nkind: http\naddress: [{}]\n",
            quoted.join(", ")
        );
        let facade = "elm-porch: facade/1\nname: f\nbase: /f\ncontract: c.yaml\noperations:\n  item: { call: { backend: b, path: '/a/inner/{id}' } }\n  files: { call: { backend: b, path: '/{rest*}' } }\n";
        let files: Files = BTreeMap::from([
            ("b.yaml".to_owned(), backend),
            ("c.yaml".to_owned(), CONTRACT.to_owned()),
            ("f.yaml".to_owned(), facade.to_owned()),
        ]);
        let model = Model::read(Arc::new(files), "live", &Arc::default());
        let (porch, findings) = model.porch(&["f"], &Secrets::Placeholder);
        assert!(!porch_contract::has_errors(&findings), "{findings:?}");
        Stage::of(porch)
    };
    let stage = over(&[
        format!("http://{}/a", one.address),
        format!("http://{}/a/a", two.address),
    ]);
    let mut seen = std::collections::BTreeSet::new();
    for _ in 0..8 {
        let answer = stage.get("/f/item/7?x=1", "");
        let target = answer
            .split("GET ")
            .nth(1)
            .unwrap()
            .split(' ')
            .next()
            .unwrap()
            .to_owned();
        seen.insert(target);
    }
    assert_eq!(
        seen.into_iter().collect::<Vec<_>>(),
        ["/a/a/a/inner/7?x=1", "/a/a/inner/7?x=1"]
    );
    stage.end();
    // Whichever begins: the one that takes no connection leaves nothing of its path behind.
    for gone in ["/a", "/a/a/inner", ""] {
        let stage = over(&[
            format!("http://{nobody}{gone}"),
            format!("http://{}/b", one.address),
        ]);
        for _ in 0..4 {
            let answer = stage.get("/f/item/7?x=1", "");
            assert!(
                answer.contains("GET /b/a/inner/7?x=1 HTTP/1.1"),
                "{gone}: {answer}"
            );
        }
        stage.end();
    }
}

#[test]
fn a_body_that_an_expression_reads_is_read_once_and_sent_on() {
    let backend = Scripted::start(|_, request| plain(&format!("{request:?}")));
    for (send, reply) in [
        ("{ headers: { X-A: =body.?a } }", ""),
        ("{ query: { a: =body.?a } }", ""),
        ("{ path: { id: =body.?a.orValue(0) } }", ""),
        ("{ query: { a: '1' } }", ", reply: { a: =body.?a }"),
    ] {
        let path = if send.contains("path:") {
            ", path: '/to/{id}'"
        } else {
            ""
        };
        let stage = Stage::new(
            backend.address,
            &format!(
                "operations:\n  putItem: {{ call: {{ backend: b{path} }}, send: {send}{reply} }}\n"
            ),
        );
        let body = "{\"a\": 7,  \"b\": 1.50}";
        let answer = stage.raw(format!("PUT /f/item/7 HTTP/1.1\r\nHost: x\r\nConnection: close\r\nContent-Type: application/json\r\nContent-Length: {}\r\n\r\n{body}", body.len()).as_bytes());
        assert!(
            answer.starts_with("HTTP/1.1 200"),
            "{send}{reply}: {answer}"
        );
        if reply.is_empty() {
            assert!(
                answer.contains("\\\"a\\\": 7,  \\\"b\\\": 1.50"),
                "{send}: {answer}"
            );
            assert!(
                answer.contains(&format!("content-length: {}", body.len())),
                "{send}: {answer}"
            );
        } else {
            assert!(answer.ends_with("{\"a\":7}"), "{answer}");
        }
        stage.end();
    }
}

#[test]
fn an_answer_that_has_begun_may_not_fall_silent_for_longer_than_is_said() {
    // It says that it has more, and never does.
    let backend = Scripted::start(|_, _| {
        b"HTTP/1.1 200 OK\r\nContent-Type: text/plain\r\nContent-Length: 100\r\n\r\nhalf".to_vec()
    });
    let files: Files = BTreeMap::from([
        (
            "b.yaml".to_owned(),
            format!("elm-porch: backend/1\nname: b\nkind: http\naddress: http://{}\ntimeout: 1h\nidle-timeout: 200ms\n", backend.address),
        ),
        ("c.yaml".to_owned(), CONTRACT.to_owned()),
        (
            "f.yaml".to_owned(),
            "elm-porch: facade/1\nname: f\nbase: /f\ncontract: c.yaml\noperations:\n  item: { call: { backend: b } }\n".to_owned(),
        ),
    ]);
    let model = Model::read(Arc::new(files), "live", &Arc::default());
    let (porch, findings) = model.porch(&["f"], &Secrets::Known(&HashMap::new()));
    assert!(!porch_contract::has_errors(&findings), "{findings:?}");
    let stage = Stage::of(porch);
    let mut stream = TcpStream::connect(stage.address()).unwrap();
    let patience = Duration::from_secs(60);
    stream.set_read_timeout(Some(patience)).unwrap();
    stream
        .write_all(b"GET /f/item/7 HTTP/1.1\r\nHost: x\r\n\r\n")
        .unwrap();
    let mut answer = Vec::new();
    // It ends, and does not wait until nobody has patience any more.
    let ended = stream.read_to_end(&mut answer);
    let waited = ended.as_ref().is_err_and(|e| {
        matches!(
            e.kind(),
            std::io::ErrorKind::WouldBlock | std::io::ErrorKind::TimedOut
        )
    });
    assert!(!waited, "{ended:?}");
    assert!(
        answer.ends_with(b"half"),
        "{}",
        String::from_utf8_lossy(&answer)
    );
}

#[test]
fn a_porch_that_leads_to_itself_ends_the_circle() {
    let operations = "operations:\n  item: { call: { backend: b } }\n";
    let stage = Stage::new(([127, 0, 0, 1], 1).into(), operations);
    let files: Files = BTreeMap::from([
        ("c.yaml".to_owned(), CONTRACT.to_owned()),
        (
            "b.yaml".to_owned(),
            format!(
                "elm-porch: backend/1\nname: b\nkind: http\naddress: http://{}/f\n",
                stage.address()
            ),
        ),
        (
            "f.yaml".to_owned(),
            format!("elm-porch: facade/1\nname: f\nbase: /f\ncontract: c.yaml\n{operations}"),
        ),
    ]);
    let model = Model::read(Arc::new(files), "live", &Arc::default());
    let (porch, findings) = model.porch(&["f"], &Secrets::Known(&HashMap::new()));
    assert!(!porch_contract::has_errors(&findings), "{findings:?}");
    stage.shared.porch.store(Arc::new(porch));
    let answer = stage.get("/f/item/1", "");
    assert_eq!(status(&answer), 508, "{answer}");
    assert!(
        answer.contains("urn:elm-porch:problem:loop-detected"),
        "{answer}"
    );
    let (_, calls) = stage.end();
    assert_eq!(calls, 9, "the caller's, and eight of its own");
}
