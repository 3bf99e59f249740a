//! gRPC through the gateway: HTTP rules to the letter against a server that echoes, servers that misbehave, native
//! callers, TLS, several addresses.
#![allow(
    clippy::too_many_lines,
    reason = "a scenario, or a table of cases, is told in one piece"
)]

mod answering;
mod fleet;
mod gathered;
mod limits;
mod rules;
mod streams;
mod tokens;

use answering::answer;
use std::collections::BTreeMap;
use std::convert::Infallible;
use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;

use bytes::{BufMut, Bytes, BytesMut};
use http::{HeaderMap, HeaderValue, Request, Response};
use http_body::Frame;
use http_body_util::{BodyExt, StreamBody};
use hyper::body::Incoming;
use hyper::service::service_fn;
use hyper_util::rt::{TokioExecutor, TokioIo};
use porch_facade::{Files, Model, Secrets, Source};
use porch_gateway::{Gateway, GatewayConfig, Record, Shared, Trace};
use porch_standins::vessels::pb::skerry::fleet::v1::fleet_client::FleetClient;
use porch_standins::vessels::pb::skerry::fleet::v1::{
    GetVesselRequest, PilotQuestion, StreamPositionsRequest,
};
use serde_json::{Value, json};
use tokio::net::TcpListener;

type Body =
    StreamBody<tokio_stream::wrappers::ReceiverStream<Result<Frame<Bytes>, std::io::Error>>>;

const ODDITIES: &str = include_str!("../fixtures/oddities.proto");

/// A server of gRPC by hand: it can do what no library lets one do.
struct Server {
    address: SocketAddr,
    calls: Arc<AtomicUsize>,
    connections: Arc<AtomicUsize>,
    /// Calls that were cancelled by the other side.
    left: Arc<AtomicUsize>,
}

fn frame(message: &[u8]) -> Bytes {
    let mut out = BytesMut::new();
    out.put_u8(0);
    out.put_u32(message.len() as u32);
    out.extend_from_slice(message);
    out.freeze()
}

fn trailers(code: &'static str) -> Frame<Bytes> {
    Frame::trailers(HeaderMap::from_iter([(
        http::HeaderName::from_static("grpc-status"),
        HeaderValue::from_static(code),
    )]))
}

/// Counts when it is dropped.
struct Leaving(Arc<AtomicUsize>);

impl Drop for Leaving {
    fn drop(&mut self) {
        self.0.fetch_add(1, Ordering::SeqCst);
    }
}

impl Server {
    async fn start() -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let address = listener.local_addr().unwrap();
        let (calls, left) = (Arc::new(AtomicUsize::new(0)), Arc::new(AtomicUsize::new(0)));
        let (c, l) = (calls.clone(), left.clone());
        let connections = Arc::new(AtomicUsize::new(0));
        let accepted = connections.clone();
        tokio::spawn(async move {
            while let Ok((stream, _)) = listener.accept().await {
                accepted.fetch_add(1, Ordering::SeqCst);
                let _ = stream.set_nodelay(true);
                let (calls, left) = (c.clone(), l.clone());
                tokio::spawn(async move {
                    let service = service_fn(move |r| answer(r, calls.clone(), left.clone()));
                    let _ = hyper::server::conn::http2::Builder::new(TokioExecutor::new())
                        .serve_connection(TokioIo::new(stream), service)
                        .await;
                });
            }
        });
        Self {
            address,
            calls,
            connections,
            left,
        }
    }
}

/// A gateway over documents that were derived from a definition, changed by `edit`.
struct Porch {
    gateway: Option<Gateway>,
    client: reqwest::Client,
    records: tokio::sync::mpsc::Receiver<Record>,
}

fn documents(proto: &str, addresses: &[SocketAddr], edit: impl Fn(&mut Files)) -> Files {
    let source = Source {
        files: Files::from([("odd.proto".to_owned(), proto.to_owned())]),
        main: "odd.proto".into(),
        ..Source::default()
    };
    let all: Vec<String> = addresses.iter().map(|a| format!("http://{a}")).collect();
    let mut files = porch_facade::derive(&source, "odd", Some(&all[0]), &[])
        .unwrap()
        .files;
    for text in files.values_mut() {
        *text = text.replace("admit:\n  credentials: [key]\n", "").replace(
            &format!("address: {}", all[0]),
            &format!(
                "address: [{}]\ntimeout: 1500ms",
                all.iter()
                    .map(|a| format!("'{a}'"))
                    .collect::<Vec<_>>()
                    .join(", ")
            ),
        );
    }
    edit(&mut files);
    files
}

impl Porch {
    fn over(files: &Files, facades: &[&str]) -> Self {
        let model = Model::read(Arc::new(files.clone()), "live", &Arc::default());
        assert_eq!(model.documents.findings, []);
        let (porch, findings) = model.porch(facades, &Secrets::Placeholder);
        assert!(!porch_contract::has_errors(&findings), "{findings:#?}");
        let (shared, records) = Shared::new();
        shared.porch.store(Arc::new(porch));
        let config = GatewayConfig {
            workers: 1,
            drain: Duration::from_secs(1),
            ..GatewayConfig::at(([127, 0, 0, 1], 0).into())
        };
        let gateway = Gateway::start(&config, &shared).unwrap();
        Self {
            gateway: Some(gateway),
            records,
            client: reqwest::Client::builder()
                .no_proxy()
                .timeout(Duration::from_secs(20))
                .build()
                .unwrap(),
        }
    }

    fn url(&self, path: &str) -> String {
        format!("http://{}{path}", self.gateway.as_ref().unwrap().address)
    }

    /// The next trace that fits.
    async fn trace(&mut self, fits: impl Fn(&Trace) -> bool) -> Box<Trace> {
        let found = async {
            loop {
                match self.records.recv().await.unwrap() {
                    Record::Trace(trace) if fits(&trace) => return trace,
                    _ => {}
                }
            }
        };
        let within = Duration::from_secs(20);
        tokio::time::timeout(within, found).await.expect("a trace")
    }

    async fn send(&self, method: &str, path: &str, body: Option<&str>) -> (u16, Value) {
        let mut request = self.client.request(method.parse().unwrap(), self.url(path));
        if let Some(body) = body {
            request = request
                .header("content-type", "application/json")
                .body(body.to_owned());
        }
        let response = request.send().await.unwrap();
        let status = response.status().as_u16();
        let text = response
            .text()
            .await
            .unwrap_or_else(|e| format!("\"broke off: {e}\""));
        (
            status,
            serde_json::from_str(&text).unwrap_or(Value::String(text)),
        )
    }
}

impl Drop for Porch {
    fn drop(&mut self) {
        if let Some(gateway) = self.gateway.take() {
            // It waits for its threads, which this runtime must not.
            std::thread::spawn(move || gateway.stop());
        }
    }
}

async fn odd() -> (Server, Porch) {
    let server = Server::start().await;
    let files = documents(ODDITIES, &[server.address], |_| ());
    (server, Porch::over(&files, &["odd"]))
}
