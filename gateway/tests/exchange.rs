//! The data plane on its own: documents compiled in the test, real stand-ins, real sockets, no database and no control plane.

use std::collections::{BTreeMap, HashMap};
use std::io::{Read, Write};
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::sync::Arc;
use std::time::Duration;

use porch_facade::{Files, Model, Secrets};
use porch_gateway::{Gateway, GatewayConfig, Record, Shared, TrialRequest, Trials};
use porch_rules::grant::{Consumer, Grant, Grants};
use porch_rules::key::KeyHash;
use proptest::prelude::*;
use tokio::sync::mpsc::Receiver;

/// A backend that answers each connection's requests with what a function makes of them.
struct Scripted {
    address: SocketAddr,
    connections: Arc<std::sync::atomic::AtomicUsize>,
}

/// Reads one request from a stream: its head and as much of a body as `Content-Length` says.
fn read_request(stream: &mut TcpStream) -> Option<String> {
    let mut seen = Vec::new();
    let mut byte = [0u8; 1];
    while !seen.ends_with(b"\r\n\r\n") {
        if stream.read(&mut byte).ok()? == 0 {
            return None;
        }
        seen.push(byte[0]);
    }
    let head = String::from_utf8_lossy(&seen).into_owned();
    let length = head
        .lines()
        .find_map(|l| {
            l.to_ascii_lowercase()
                .strip_prefix("content-length:")
                .and_then(|n| n.trim().parse::<usize>().ok())
        })
        .unwrap_or(0);
    let mut body = vec![0; length];
    stream.read_exact(&mut body).ok()?;
    Some(head + &String::from_utf8_lossy(&body))
}

impl Scripted {
    fn start(answer: impl Fn(usize, &str) -> Vec<u8> + Send + Sync + 'static) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let address = listener.local_addr().unwrap();
        let (answer, connections) = (
            Arc::new(answer),
            Arc::new(std::sync::atomic::AtomicUsize::new(0)),
        );
        let count = connections.clone();
        std::thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                let answer = answer.clone();
                let n = count.fetch_add(1, std::sync::atomic::Ordering::SeqCst);
                std::thread::spawn(move || {
                    let mut stream = stream;
                    while let Some(request) = read_request(&mut stream) {
                        let bytes = answer(n, &request);
                        if bytes.is_empty() || stream.write_all(&bytes).is_err() {
                            return;
                        }
                    }
                });
            }
        });
        Self {
            address,
            connections,
        }
    }

    fn connections(&self) -> usize {
        self.connections.load(std::sync::atomic::Ordering::SeqCst)
    }
}

/// A connection from an address of the loopback range.
fn connect_from(from: SocketAddr, to: SocketAddr) -> std::io::Result<TcpStream> {
    let socket = socket2::Socket::new(socket2::Domain::IPV4, socket2::Type::STREAM, None)?;
    socket.bind(&from.into())?;
    socket.connect(&to.into())?;
    Ok(socket.into())
}

fn plain(body: &str) -> Vec<u8> {
    format!(
        "HTTP/1.1 200 OK\r\nContent-Type: application/json\r\nContent-Length: {}\r\n\r\n{body}",
        body.len()
    )
    .into_bytes()
}

/// A running gateway with what it was given.
struct Stage {
    gateway: Option<Gateway>,
    shared: Arc<Shared>,
    records: Receiver<Record>,
}

const CONTRACT: &str = "openapi: 3.1.0
info: { title: T, version: 1.0.0 }
paths:
  /item/{id}:
    parameters: [{ name: id, in: path, required: true }]
    get: { operationId: item, parameters: [{ name: n, in: query, schema: { type: integer } }], responses: { '200': { description: ok } } }
    put: { operationId: putItem, requestBody: { content: { application/json: { schema: { type: object, properties: { a: {}, b: {} } } } } }, responses: { '200': { description: ok } } }
  /files/{rest*}:
    get: { operationId: files, parameters: [{ name: rest, in: path, required: true }], responses: { '200': { description: ok } } }
";

fn compile(backend: SocketAddr, facade: &str) -> porch_facade::CompiledPorch {
    let files: Files = BTreeMap::from([
        (
            "b.yaml".to_owned(),
            format!(
                "elm-porch: backend/1\nname: b\nkind: http\naddress: http://{backend}/inner\ntimeout: 700ms\ncredentials: {{ calling: {{ headers: {{ X-Login: {{ secret: login }} }} }} }}\n"
            ),
        ),
        ("c.yaml".to_owned(), CONTRACT.to_owned()),
        (
            "f.yaml".to_owned(),
            format!("elm-porch: facade/1\nname: f\nbase: /f\ncontract: c.yaml\n{facade}"),
        ),
    ]);
    let model = Model::read(Arc::new(files), "live", &Arc::default());
    assert_eq!(model.documents.findings, []);
    let secrets = HashMap::from([("login".to_owned(), "tide-and-tackle".to_owned())]);
    let (porch, findings) = model.porch(&["f"], &Secrets::Known(&secrets));
    assert!(!porch_contract::has_errors(&findings), "{findings:?}");
    porch
}

impl Stage {
    fn new(backend: SocketAddr, facade: &str) -> Self {
        let (shared, records) = Shared::new();
        shared.porch.store(Arc::new(compile(backend, facade)));
        let entry = |name: &str, id: i64| Grant {
            consumer: Arc::new(Consumer {
                id,
                name: name.into(),
                account: String::new(),
                paused: false,
            }),
            shown: name.into(),
            ends: i64::MAX,
            paused: false,
        };
        shared.grants.store(Arc::new(Grants::new([
            (KeyHash::of("one"), entry("one", 1)),
            (KeyHash::of("two"), entry("two", 2)),
        ])));
        let config = GatewayConfig {
            address: ([127, 0, 0, 1], 0).into(),
            workers: 2,
            drain: Duration::from_secs(5),
        };
        let gateway = Gateway::start(&config, &shared).unwrap();
        Self {
            gateway: Some(gateway),
            shared,
            records,
        }
    }

    fn address(&self) -> SocketAddr {
        self.gateway.as_ref().unwrap().address
    }

    /// Sends bytes on a connection of their own; gives all that comes back.
    fn raw(&self, bytes: &[u8]) -> String {
        self.raw_within(bytes, Duration::from_secs(20))
    }

    /// The same, for what may never be answered.
    fn raw_within(&self, bytes: &[u8], patience: Duration) -> String {
        let mut stream = TcpStream::connect(self.address()).unwrap();
        stream.set_read_timeout(Some(patience)).unwrap();
        let _ = stream.write_all(bytes);
        let mut answer = Vec::new();
        let _ = stream.read_to_end(&mut answer);
        String::from_utf8_lossy(&answer).into_owned()
    }

    fn get(&self, path: &str, fields: &str) -> String {
        self.raw(
            format!("GET {path} HTTP/1.1\r\nHost: x\r\nConnection: close\r\n{fields}\r\n")
                .as_bytes(),
        )
    }

    /// The traces and the number of calls that the gateway has handed out, after it was stopped.
    fn end(mut self) -> (Vec<porch_gateway::Trace>, u64) {
        self.gateway.take().unwrap().stop();
        let (mut traces, mut calls) = (Vec::new(), 0);
        while let Ok(record) = self.records.try_recv() {
            match record {
                Record::Trace(trace) => traces.push(*trace),
                Record::Usage(rows) => calls += rows.iter().map(|r| r.calls).sum::<u64>(),
            }
        }
        (traces, calls)
    }
}

impl Drop for Stage {
    fn drop(&mut self) {
        if let Some(gateway) = self.gateway.take() {
            gateway.stop();
        }
    }
}

fn status(answer: &str) -> u16 {
    answer.get(9..12).and_then(|s| s.parse().ok()).unwrap_or(0)
}

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
            .block_on(trials.run(TrialRequest { porch, request }))
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
    assert_eq!(status(&stage.get("/f/item/1", "API-Key: one\r\n")), 200);
    assert_eq!(status(&stage.get("/f/item/1", "API-Key: one\r\n")), 429);
    let (_, calls) = stage.end();
    assert_eq!(calls, 2);
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

proptest! {
    #![proptest_config(ProptestConfig { cases: 60, failure_persistence: None, ..ProptestConfig::default() })]

    /// Whatever bytes a caller sends, the gateway goes on serving others.
    #[test]
    fn garbage_from_callers_does_no_harm(garbage in proptest::collection::vec(any::<u8>(), 0..200), at in 0usize..60) {
        let backend = backend_for_all();
        let stage = stage_for_all(backend);
        let mut request = b"GET /f/item/1?n=5 HTTP/1.1\r\nHost: x\r\nConnection: close\r\nA: b\r\n\r\n".to_vec();
        request.splice(at..at, garbage);
        let _ = stage.raw_within(&request, Duration::from_millis(20));
        prop_assert_eq!(status(&stage.get("/f/item/1", "")), 200);
    }

    /// Paths of any characters never panic, and never reach the backend outside of its own path.
    #[test]
    fn odd_paths_stay_below_the_backends_path(path in "[a-zA-Z0-9./%2eEfF;:@&=+$,?#~-]{0,40}") {
        let stage = stage_for_all(backend_for_all());
        let answer = stage.get(&format!("/f/files/{path}"), "");
        prop_assert!(status(&answer) != 200 || answer.contains("GET /inner/files/"), "{path}: {answer}");
    }
}

fn backend_for_all() -> &'static Scripted {
    static BACKEND: std::sync::OnceLock<Scripted> = std::sync::OnceLock::new();
    BACKEND.get_or_init(|| Scripted::start(|_, request| plain(&format!("{request:?}"))))
}

fn stage_for_all(backend: &Scripted) -> &'static Stage {
    static STAGE: std::sync::OnceLock<Stage> = std::sync::OnceLock::new();
    STAGE.get_or_init(|| {
        Stage::new(
            backend.address,
            "operations:\n  item: { call: { backend: b } }\n  files: { call: { backend: b } }\n",
        )
    })
}
