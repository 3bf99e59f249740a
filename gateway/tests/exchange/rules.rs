//! Rules of an operation.

use super::*;

#[test]
fn a_secret_never_stands_in_a_trace() {
    let backend = Scripted::start(|_, _| plain("{\"echo\": \"tide-and-tackle\"}"));
    let stage = Stage::new(
        backend.address,
        "operations:\n  item: { call: { backend: b }, reply: { e: =answer.body.echo } }\n",
    );
    // The caller gets what the backend says; the record of it does not.
    assert!(stage.get("/f/item/1", "").contains("tide-and-tackle"));
    let (traces, _) = stage.end();
    let call = traces[0]
        .stages
        .iter()
        .find(|s| s.name == porch_gateway::StageName::Call)
        .unwrap();
    assert_eq!(call.after.as_ref().unwrap().body, "{\"echo\": \"••••\"}");
}

#[test]
fn bodies_and_replies_are_built_as_structures() {
    let backend = Scripted::start(|_, request| {
        plain(&format!(
            "{{\"got\": {}, \"n\": 1520.250}}",
            serde_json::Value::String(
                request
                    .split("\r\n\r\n")
                    .nth(1)
                    .unwrap_or_default()
                    .to_owned()
            )
        ))
    });
    let facade = "operations:
  putItem:
    call: { backend: b, method: POST, path: '/store/{where}' }
    send:
      path: { where: =path.id + '/x' }
      query: { a: =body.?a, missing: =body.?nothing }
      headers: { X-Who: =caller.address, X-Gone: =body.?nothing }
      body: { id: =path.id, all: =body, list: ['=body.?a', '=body.?nothing', 1.0] }
    reply: { got: =answer.body.got, n: =answer.body.n, status: =answer.status, kind: \"=answer.header['content-type']\" }
";
    let stage = Stage::new(
        backend.address,
        &facade.replace("=body.?nothing", "=body.?b"),
    );
    let put = |body: &str| {
        stage.raw(format!("PUT /f/item/7 HTTP/1.1\r\nHost: x\r\nConnection: close\r\nContent-Type: application/json\r\nContent-Length: {}\r\n\r\n{body}", body.len()).as_bytes())
    };
    let answer = put(r#"{"a": "&=\"'"}"#);
    let body: serde_json::Value =
        serde_json::from_str(answer.split("\r\n\r\n").nth(1).unwrap()).unwrap();
    assert_eq!(
        body["got"],
        r#"{"id":"7","all":{"a":"&=\"'"},"list":["&=\"'",1.0]}"#
    );
    assert_eq!(
        (
            body["n"].to_string().as_str(),
            &body["status"],
            &body["kind"]
        ),
        (
            "1520.250",
            &serde_json::json!(200),
            &serde_json::json!("application/json")
        )
    );
    assert_eq!(
        status(&put("{\"a\": {}}")),
        400,
        "a map has no place in a query"
    );
    assert_eq!(status(&put("[]")), 200);
    assert_eq!(status(&put("{")), 400);
}

#[test]
fn path_values_cannot_lead_elsewhere() {
    let backend = Scripted::start(|_, request| plain(&format!("{request:?}")));
    let stage = Stage::new(
        backend.address,
        "operations:\n  item: { call: { backend: b, path: '/x/{v}' }, send: { path: { v: \"=query.?n.orValue(0) == 1 ? '..' : path.id\" } } }\n",
    );
    assert_eq!(status(&stage.get("/f/item/1?n=1", "")), 400);
    // Nor does a made value that a backend could read as a way up.
    let made = Stage::new(
        backend.address,
        "operations:\n  item: { call: { backend: b, path: '/x/{v}' }, send: { path: { v: \"=['a/../b', '../b', 'a/..', './a', '.'][int(path.id)]\" } } }\n",
    );
    for n in 0..5 {
        assert_eq!(status(&made.get(&format!("/f/item/{n}"), "")), 400, "{n}");
    }
    assert!(
        stage
            .get("/f/item/a%2Fb%3F%23", "")
            .contains("/inner/x/a%2Fb%3F%23 HTTP")
    );
}

#[test]
fn limits_hold_over_all_workers_and_give_back_what_another_refuses() {
    let backend = Scripted::start(|_, _| plain("{}"));
    let facade = "admit: { credentials: [key], limits: [{ requests: 40, window: 1h }, { requests: 50, window: 1h, per: everyone }] }\noperations:\n  item: { call: { backend: b } }\n";
    let stage = Stage::new(backend.address, facade);
    let count = |key: &str, n: usize| -> usize {
        std::thread::scope(|s| {
            let callers: Vec<_> = (0..8)
                .map(|_| {
                    s.spawn(|| {
                        (0..n / 8)
                            .filter(|_| {
                                status(&stage.get("/f/item/1", &format!("API-Key: {key}\r\n")))
                                    == 200
                            })
                            .count()
                    })
                })
                .collect();
            callers.into_iter().map(|c| c.join().unwrap()).sum()
        })
    };
    assert_eq!(count("one", 80), 40);
    // Forty of fifty are gone; the forty that the first limit refused used up none of them.
    assert_eq!(count("two", 80), 10);
    let refused = stage.get("/f/item/1", "API-Key: two\r\n");
    assert!(
        refused.contains("for all callers together")
            && refused.contains("ratelimit-policy: \"f\";q=50;w=3600"),
        "{refused}"
    );
}

#[test]
fn a_change_of_release_reaches_connections_that_are_open() {
    let (first, second) = (
        Scripted::start(|_, _| plain("1")),
        Scripted::start(|_, _| plain("2")),
    );
    let stage = Stage::new(
        first.address,
        "operations:\n  item: { call: { backend: b } }\n",
    );
    let mut stream = TcpStream::connect(stage.address()).unwrap();
    let mut ask = || {
        stream
            .write_all(b"GET /f/item/1 HTTP/1.1\r\nHost: x\r\n\r\n")
            .unwrap();
        read_request(&mut stream).unwrap()
    };
    assert!(ask().ends_with('1'));
    stage.shared.porch.store(Arc::new(compile(
        second.address,
        "operations:\n  item: { call: { backend: b } }\n",
    )));
    assert!(ask().ends_with('2'));
}

#[test]
fn trial_runs_go_the_same_way_and_count_nothing() {
    let backend = Scripted::start(|_, _| plain("{\"a\": 1}"));
    let facade = "admit: { credentials: [key], limits: [{ requests: 1, window: 1h }] }\noperations:\n  item: { call: { backend: b } }\n";
    let stage = Stage::new(backend.address, facade);
    let trials = Trials::start(stage.shared.clone()).unwrap();
    let runtime = tokio::runtime::Builder::new_current_thread()
        .enable_all()
        .build()
        .unwrap();
    for _ in 0..3 {
        let porch = Arc::new(compile(backend.address, facade));
        let request = http::Request::get("/f/item/1")
            .body(bytes::Bytes::new())
            .unwrap();
        let reply = runtime
            .block_on(trials.run(trial_of(porch, request)))
            .unwrap();
        assert_eq!((reply.status, &reply.body[..]), (200, &b"{\"a\": 1}"[..]));
        let names: Vec<String> = reply
            .trace
            .stages
            .iter()
            .map(|s| s.name.to_string())
            .collect();
        assert_eq!(names, ["match", "admit", "prepare", "call", "reply"]);
    }
    // A facade of certain hosts is tried as if it were called by the first of them.
    let with_hosts = format!("hosts: [ferry.example, quay.example]\n{facade}");
    let porch = Arc::new(compile(backend.address, &with_hosts));
    let request = http::Request::get("/f/item/1")
        .body(bytes::Bytes::new())
        .unwrap();
    let reply = runtime.block_on(trials.run(trial_of(porch, request)));
    assert_eq!(reply.unwrap().status, 200);
    assert_eq!(status(&stage.get("/f/item/1", "API-Key: one\r\n")), 200);
    assert_eq!(status(&stage.get("/f/item/1", "API-Key: one\r\n")), 429);
    let (_, calls) = stage.end();
    assert_eq!(calls, 2);
}

#[test]
fn no_spelling_of_a_path_leads_past_a_key() {
    let seen = Arc::new(std::sync::Mutex::new(Vec::new()));
    let kept = seen.clone();
    let backend = Scripted::start(move |_, request| {
        let line = request.lines().next().unwrap_or_default().to_owned();
        kept.lock().unwrap().push(line);
        plain("{}")
    });
    // Files are open to everybody; items need a key.
    let facade = "operations:\n  item: { call: { backend: b }, admit: { credentials: [key] } }\n  putItem: { call: { backend: b }, admit: { credentials: [key] } }\n  files: { call: { backend: b } }\n";
    let stage = Stage::new(backend.address, facade);
    for path in [
        "/f/item/7",
        "/f/./item/7",
        "/f/files/../item/7",
        "/f/files/%2e%2e/item/7",
        "/f/files/x/%2E./../item/7",
        "/f/%69tem/7",
        "/f/files/..%2fitem/7",
        "/f/files/..%2Fitem%2F7",
        "/f/files/%2e%2e%2fitem/7",
        "/f/files/a%2f..%2f..%2fitem/7",
        "/f/files/a/..%2f..%2fitem%2f7",
        "/f/files/..\\item/7",
        "/f/files/..%5citem/7",
        "/f//item/7",
        "/f/item//7",
        "/F/item/7",
        "/f/ITEM/7",
        "/f/item/7/",
        "/f/item;x=y/7",
        "/f/item%2F7",
        "/f%2Fitem/7",
    ] {
        let answer = stage.get(path, "");
        let status = status(&answer);
        assert!(matches!(status, 400 | 401 | 404 | 200), "{path}: {answer}");
        for line in seen.lock().unwrap().drain(..) {
            let target = line.split(' ').nth(1).unwrap().to_owned();
            // What got through is a file, also for a backend that decodes once and looks for dots then.
            let decoded = target.replace("%2F", "/").replace("%5C", "/");
            assert!(decoded.starts_with("/inner/files/"), "{path} became {line}");
            assert!(
                !decoded.split('/').any(|s| s == ".."),
                "{path} became {line}"
            );
        }
    }
    assert_eq!(status(&stage.get("/f/item/7", "API-Key: one\r\n")), 200);
}

#[test]
fn a_limit_goes_on_counting_when_its_number_changes() {
    let backend = Scripted::start(|_, _| plain("{}"));
    let facade = |requests: u32| {
        format!(
            "admit: {{ limits: [{{ requests: {requests}, window: 1h, per: everyone }}, {{ requests: 50, window: 1h, per: everyone }}] }}\noperations:\n  item: {{ call: {{ backend: b }} }}\n"
        )
    };
    let stage = Stage::new(backend.address, &facade(5));
    let call = || status(&stage.get("/f/item/7", ""));
    for _ in 0..5 {
        assert_eq!(call(), 200);
    }
    assert_eq!(call(), 429);
    let serve = |requests| {
        let porch = compile(backend.address, &facade(requests));
        stage.shared.porch.store(Arc::new(porch));
    };
    // One more is one more, not six.
    serve(6);
    assert_eq!((call(), call()), (200, 429));
    serve(3);
    assert_eq!(call(), 429);
    serve(8);
    assert_eq!((call(), call(), call()), (200, 200, 429));
}

#[test]
fn a_key_in_the_wrong_place_is_not_kept() {
    let backend = Scripted::start(|_, request| {
        // It says everything again that it was told.
        let body = serde_json::json!({ "told": request }).to_string();
        plain(&body)
    });
    let facade = "operations:\n  item: { call: { backend: b } }\n  putItem: { call: { backend: b }, send: { body: { a: =body.?a } } }\n  files: { call: { backend: b }, reply: =answer.body.told }\n";
    let stage = Stage::new(backend.address, facade);
    let key = porch_rules::key::new_key(&[0x5c; 25]);
    let secret = &key[9..];
    stage.get(&format!("/f/item/7?key={key}&n=1"), "");
    stage.get(&format!("/f/item/{key}"), "");
    stage.get(&format!("/f/files/{key}/b"), "");
    stage.get(&format!("/f/nowhere/{key}"), "");
    stage.get(
        "/f/item/7",
        &format!(
            "X-Desk-Key: {key}\r\nAuthorization: Bearer {key}\r\nReferer: http://x/?k={key}\r\n"
        ),
    );
    let body = format!("{{\"a\":\"{key}\",\"b\":[\"{key}\"]}}");
    let put = format!(
        "PUT /f/item/7 HTTP/1.1\r\nHost: x\r\nConnection: close\r\nContent-Type: application/json\r\nContent-Length: {}\r\n\r\n{body}",
        body.len()
    );
    assert_eq!(status(&stage.raw(put.as_bytes())), 200);
    let (traces, calls) = stage.end();
    assert_eq!((traces.len(), calls), (6, 6));
    for trace in &traces {
        let kept = serde_json::to_string(trace).unwrap();
        assert!(!kept.contains(secret), "{kept}");
    }
    // What it is known by stays, so that whoever looks can tell which one it was.
    let kept = serde_json::to_string(&traces).unwrap();
    assert!(kept.contains(&key[..8]), "{kept}");
}

#[test]
fn a_parameter_that_stands_several_times_is_a_list_where_the_contract_says_so() {
    let backend = Scripted::start(|_, request| {
        let body = request.split("\r\n\r\n").nth(1).unwrap_or_default();
        plain(body)
    });
    let facade = "operations:\n  item: { call: { backend: b, method: PUT }, send: { body: { ports: =query.?port, seats: =query.?seats, n: =query.?n } } }\n";
    let contract = CONTRACT.replace(
        "{ name: n, in: query, schema: { type: integer } }",
        "{ name: n, in: query, schema: { type: integer } }, { name: port, in: query, schema: { type: array, items: { type: string, enum: [FAR, MAR, HOL] } } }, { name: seats, in: query, schema: { type: array, items: { type: integer } } }",
    );
    let stage = Stage::of(compile_with(backend.address, &contract, facade));
    let get = |query: &str| {
        let answer = stage.get(&format!("/f/item/7{query}"), "");
        let body = answer.split("\r\n\r\n").nth(1).unwrap_or_default();
        let json: serde_json::Value = serde_json::from_str(body).unwrap_or_default();
        (status(&answer), json)
    };
    for (query, wanted) in [
        ("", serde_json::json!({})),
        ("?port=FAR", serde_json::json!({ "ports": ["FAR"] })),
        (
            "?port=FAR&seats=2&port=MAR&n=1&seats=3",
            serde_json::json!({ "ports": ["FAR", "MAR"], "seats": [2, 3], "n": 1 }),
        ),
        (
            "?port=FAR&port=FAR",
            serde_json::json!({ "ports": ["FAR", "FAR"] }),
        ),
    ] {
        assert_eq!(get(query), (200, wanted), "{query}");
    }
    // Each mistake in it is told, and what is no list stands once.
    let (status, told) = get("?port=FAR&port=FRA&seats=two&n=1&n=2");
    assert_eq!(status, 400);
    let errors = told["errors"].as_array().unwrap();
    let pointers: Vec<_> = errors
        .iter()
        .map(|e| e["pointer"].as_str().unwrap())
        .collect();
    assert_eq!(pointers, ["/query/port", "/query/seats", "/query/n"]);
    assert!(told.to_string().contains("did you mean “FAR”?"), "{told}");
}

#[test]
fn a_good_key_for_other_facades_is_told_so_and_not_asked_for_again() {
    let backend = Scripted::start(|_, _| plain("{}"));
    let stage = Stage::new(
        backend.address,
        "admit: { credentials: [key] }\noperations:\n  item: { call: { backend: b } }\n",
    );
    assert_eq!(status(&stage.get("/f/item/1", "API-Key: one\r\n")), 200);
    let refused = stage.get("/f/item/1", "API-Key: three\r\n");
    assert_eq!(status(&refused), 403, "{refused}");
    assert!(
        refused.contains("urn:elm-porch:problem:not-granted"),
        "{refused}"
    );
    // Another key is no cure that the caller has at hand: nothing is asked for (RFC 9110 §15.5.4).
    assert!(!refused.contains("www-authenticate"), "{refused}");
    assert_eq!(backend.connections(), 1);
    let (traces, _) = stage.end();
    let why = format!("{:?}", traces[1].refusal);
    assert!(
        why.contains("the key “three…” of three opens elsewhere only"),
        "{why}"
    );
}

#[test]
fn several_segments_may_be_none() {
    let backend = Scripted::start(|_, request| plain(&format!("{:?}", request.lines().next())));
    let stage = Stage::new(
        backend.address,
        "operations:\n  files: { call: { backend: b } }\n",
    );
    for (path, there) in [
        ("/f/files/a/b", "GET /inner/files/a/b "),
        ("/f/files/a/", "GET /inner/files/a/ "),
        ("/f/files/", "GET /inner/files/ "),
        ("/f/files", "GET /inner/files "),
    ] {
        let answer = stage.get(path, "");
        assert_eq!(status(&answer), 200, "{path}: {answer}");
        assert!(answer.contains(there), "{path}: {answer}");
    }
}

#[test]
fn refusals_are_recorded_however_many_calls_succeed() {
    let backend = Scripted::start(|_, _| plain("{}"));
    let stage = Stage::new(
        backend.address,
        "operations:\n  item: { call: { backend: b } }\n",
    );
    // On one connection, and so by one worker: more in a second than are recorded at all.
    let mut stream = TcpStream::connect(stage.address()).unwrap();
    let mut pass = |target: &str| {
        let request = format!("GET {target} HTTP/1.1\r\nHost: x\r\n\r\n");
        stream.write_all(request.as_bytes()).unwrap();
        let head = read_request(&mut stream).unwrap();
        status(&head)
    };
    let mut refused = 0;
    for _ in 0..40 {
        for _ in 0..10 {
            assert_eq!(pass("/f/item/1"), 200);
        }
        assert_eq!(pass("/f/item/1?n=x"), 400);
        refused += 1;
    }
    let (traces, calls) = stage.end();
    assert_eq!(calls, 440);
    let told = traces.iter().filter(|t| t.refusal.is_some()).count();
    assert_eq!(told, refused);
}

#[test]
fn mistakes_of_every_place_are_pointed_at() {
    let contract = "openapi: 3.1.0
info: { title: T, version: 1.0.0 }
paths:
  /berths/{berth}:
    get:
      operationId: berth
      parameters:
        - { name: berth, in: path, required: true, schema: { type: integer } }
        - { name: length, in: query, schema: { type: integer } }
        - { name: X-Desk, in: header, required: true, schema: { type: integer } }
        - { name: X-Shift, in: header, schema: { type: boolean } }
        - { name: X-Piers, in: header, schema: { type: array, items: { type: integer } } }
        - { name: Accept, in: header, required: true, schema: { type: integer } }
      responses: { '200': { description: ok } }
";
    let backend = Scripted::start(|_, _| plain("{}"));
    let stage = Stage::of(compile_with(
        backend.address,
        contract,
        "operations:\n  berth: { call: { backend: b } }\n",
    ));
    let pointers = |path: &str, fields: &str| {
        let answer = stage.get(path, fields);
        let body = answer.split("\r\n\r\n").nth(1).unwrap_or_default();
        let problem: serde_json::Value = serde_json::from_str(body).unwrap_or_default();
        let errors = problem["errors"].as_array().into_iter().flatten();
        let all: Vec<String> = errors
            .map(|e| e["pointer"].as_str().unwrap_or_default().to_owned())
            .collect();
        (status(&answer), all.join(" "))
    };
    assert_eq!(
        pointers("/f/berths/4?length=7", "X-Desk: 1\r\nX-Shift: true\r\n").0,
        200
    );
    assert_eq!(
        pointers(
            "/f/berths/four?length=long",
            "X-Desk: north\r\nX-Shift: late\r\n"
        ),
        (
            400,
            "/path/berth /query/length /header/X-Desk /header/X-Shift".to_owned()
        )
    );
    for (fields, status, pointer) in [
        ("X-Desk: 1\r\nX-Piers: 1, 2\r\nX-Piers: 3\r\n", 200, ""),
        ("X-Desk: 1\r\nX-Piers: 1, two\r\n", 400, "/header/X-Piers"),
        ("X-Desk: 1\r\nX-Desk: 2\r\n", 400, "/header/X-Desk"),
    ] {
        assert_eq!(
            pointers("/f/berths/4", fields),
            (status, pointer.to_owned()),
            "{fields}"
        );
    }
    assert_eq!(
        pointers("/f/berths/4", ""),
        (400, "/header/X-Desk".to_owned())
    );
}
