//! The data plane on its own: documents compiled in the test, real stand-ins, real sockets, no database and no control plane.
#![allow(
    clippy::too_many_lines,
    reason = "a scenario, or a table of cases, is told in one piece"
)]

mod alpn;
mod answers;
mod attempts;
mod bound;
mod by_tls;
mod cache;
mod cache_stale;
mod callers;
mod certificates;
mod changes;
mod circuit;
mod connections;
mod copied;
mod cors;
mod envelopes;
mod examples;
mod forms;
mod introspected;
mod keeping;
mod letter;
mod letter_back;
mod limits;
mod listed;
mod networks;
mod packed;
mod pages;
mod passing;
mod passwords;
mod refusing;
mod rewritten;
mod room;
mod routed;
mod rules;
mod secrets;
mod sensitive;
mod several;
mod shaped;
mod shown;
mod signed;
mod spread;
mod through;
mod tls;
mod tokens;
mod tokens_shown;
mod unpacked;
mod watched;
mod worded;

use std::collections::{BTreeMap, HashMap};
use std::io::{Read, Write};
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;

use porch_facade::{Files, Model, Secrets};
use porch_gateway::{Gateway, GatewayConfig, Record, Shared, TrialRequest, Trials};
use porch_rules::grant::{Consumer, Grant, Grants, Opens, Shown};
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
    parameters: [{ name: id, in: path, required: true }, { name: others, in: query, schema: { type: object } }]
    get: { operationId: item, parameters: [{ name: n, in: query, schema: { type: integer } }], responses: { '200': { description: ok } } }
    put: { operationId: putItem, requestBody: { content: { '*/*': { schema: { properties: { a: {}, b: {} } } } } }, responses: { '200': { description: ok } } }
  /files/{rest*}:
    get: { operationId: files, parameters: [{ name: rest, in: path, required: true }, { name: others, in: query, schema: { type: object } }], responses: { '200': { description: ok } } }
";

fn compile(backend: SocketAddr, facade: &str) -> porch_facade::CompiledPorch {
    compile_with(backend, CONTRACT, facade)
}

fn compile_with(backend: SocketAddr, contract: &str, facade: &str) -> porch_facade::CompiledPorch {
    compile_timed(backend, contract, facade, "700ms")
}

/// Over a backend that may take its time.
fn compile_slow_with(
    backend: SocketAddr,
    contract: &str,
    facade: &str,
) -> porch_facade::CompiledPorch {
    compile_timed(backend, contract, facade, "30s")
}

/// The same for the common contract.
fn compile_slow(backend: SocketAddr, facade: &str) -> porch_facade::CompiledPorch {
    compile_timed(backend, CONTRACT, facade, "30s")
}

fn compile_timed(
    backend: SocketAddr,
    contract: &str,
    facade: &str,
    timeout: &str,
) -> porch_facade::CompiledPorch {
    with_secrets(written(backend, contract, facade, timeout))
}

/// The documents of a facade over one backend that is shown a secret.
fn written(backend: SocketAddr, contract: &str, facade: &str, timeout: &str) -> Files {
    BTreeMap::from([
        (
            "b.yaml".to_owned(),
            format!(
                "elm-porch: backend/1\nname: b\nkind: http\naddress: http://{backend}/inner\ntimeout: {timeout}\ncredentials: {{ calling: {{ headers: {{ X-Login: {{ secret: login }} }} }} }}\n"
            ),
        ),
        ("c.yaml".to_owned(), contract.to_owned()),
        (
            "f.yaml".to_owned(),
            format!("elm-porch: facade/1\nname: f\nbase: /f\ncontract: c.yaml\n{facade}"),
        ),
    ])
}

fn with_secrets(files: Files) -> porch_facade::CompiledPorch {
    let model = Model::read(Arc::new(files), "live", &Arc::default());
    assert_eq!(model.documents.findings, []);
    let secrets = [("login", "tide-and-tackle"), ("hook", "sheet-bend/42")];
    let secrets = HashMap::from(secrets.map(|(name, value)| (name.to_owned(), value.to_owned())));
    let (porch, findings) = model.porch(&["f"], &Secrets::Known(&secrets));
    assert!(!porch_contract::has_errors(&findings), "{findings:?}");
    porch
}

/// Over a backend as its document's last lines say, whose certificate may be signed by `trust`; each operation calls it.
fn compile_called(
    lines: &str,
    trust: &str,
    contract: &str,
    operations: &[&str],
) -> porch_facade::CompiledPorch {
    let calls = operations
        .iter()
        .map(|o| format!("  {o}: {{ call: {{ backend: b }} }}\n"));
    let calls: String = calls.collect();
    let mut backend = format!("elm-porch: backend/1\nname: b\nkind: http\n{lines}\n");
    let mut files: Files = BTreeMap::from([
        ("c.yaml".to_owned(), contract.to_owned()),
        (
            "f.yaml".to_owned(),
            format!(
                "elm-porch: facade/1\nname: f\nbase: /f\ncontract: c.yaml\noperations:\n{calls}"
            ),
        ),
    ]);
    if !trust.is_empty() {
        backend.push_str("trust: trust.pem\n");
        files.insert("trust.pem".into(), trust.into());
    }
    files.insert("b.yaml".into(), backend);
    let model = Model::read(Arc::new(files), "live", &Arc::default());
    let (porch, findings) = model.porch(&["f"], &Secrets::Known(&HashMap::new()));
    assert!(!porch_contract::has_errors(&findings), "{findings:?}");
    porch
}

/// A trial run whose calls are made.
fn trial_of(
    porch: Arc<porch_facade::CompiledPorch>,
    request: http::Request<bytes::Bytes>,
) -> TrialRequest {
    TrialRequest {
        porch,
        request,
        answers: Vec::new(),
        recorded: Vec::new(),
    }
}

/// A backend that counts what it is asked.
fn counting(count: &Arc<AtomicUsize>) -> Scripted {
    let count = count.clone();
    Scripted::start(move |_, _| {
        count.fetch_add(1, Ordering::SeqCst);
        plain("{}")
    })
}

impl Stage {
    fn new(backend: SocketAddr, facade: &str) -> Self {
        Self::of(compile(backend, facade))
    }

    fn of(porch: porch_facade::CompiledPorch) -> Self {
        Self::over(porch, Shared::new())
    }

    fn over(porch: porch_facade::CompiledPorch, shared: (Arc<Shared>, Receiver<Record>)) -> Self {
        let config = GatewayConfig {
            workers: 2,
            drain: Duration::from_secs(5),
            ..GatewayConfig::at(([127, 0, 0, 1], 0).into())
        };
        Self::with(porch, shared, &config)
    }

    fn with(
        porch: porch_facade::CompiledPorch,
        (shared, records): (Arc<Shared>, Receiver<Record>),
        config: &GatewayConfig,
    ) -> Self {
        shared.porch.store(Arc::new(porch));
        let entry = |name: &str, id: i64| Grant {
            consumer: Arc::new(Consumer {
                id,
                name: name.into(),
                ..Consumer::default()
            }),
            shown: Shown::new(name),
            ends: i64::MAX,
            paused: false,
            opens: (name == "three").then(|| {
                let facades = Some(["elsewhere".to_owned()].into());
                Arc::new(Opens {
                    facades,
                    ..Opens::default()
                })
            }),
            proof: None,
        };
        shared.grants.store(Arc::new(Grants::new([
            (KeyHash::of("one"), entry("one", 1)),
            (KeyHash::of("two"), entry("two", 2)),
            (KeyHash::of("three"), entry("three", 3)),
        ])));
        let gateway = Gateway::start(config, &shared).unwrap();
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
                Record::Copies(_) | Record::Quota(_) => {}
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
