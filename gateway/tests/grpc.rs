//! gRPC through the gateway: HTTP rules to the letter against a server that echoes, servers that misbehave, native
//! callers, TLS, several addresses.

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
use porch_gateway::{Gateway, GatewayConfig, Shared};
use porch_standins::vessels::pb::skerry::fleet::v1::fleet_client::FleetClient;
use porch_standins::vessels::pb::skerry::fleet::v1::{
    GetVesselRequest, PilotQuestion, StreamPositionsRequest,
};
use serde_json::{Value, json};
use tokio::net::TcpListener;

type Body =
    StreamBody<tokio_stream::wrappers::ReceiverStream<Result<Frame<Bytes>, std::io::Error>>>;

const ODDITIES: &str = include_str!("fixtures/oddities.proto");

/// A server of gRPC by hand: it can do what no library lets one do.
struct Server {
    address: SocketAddr,
    calls: Arc<AtomicUsize>,
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

/// The text of field 1 of a message.
fn name_of(message: &[u8]) -> String {
    let rest = message.strip_prefix(b"\x0a").unwrap_or_default();
    let length = rest.first().copied().unwrap_or(0) as usize;
    rest.get(1..1 + length)
        .map_or_else(String::new, |t| String::from_utf8_lossy(t).into_owned())
}

/// Counts when it is dropped.
struct Leaving(Arc<AtomicUsize>);

impl Drop for Leaving {
    fn drop(&mut self) {
        self.0.fetch_add(1, Ordering::SeqCst);
    }
}

async fn answer(
    request: Request<Incoming>,
    calls: Arc<AtomicUsize>,
    left: Arc<AtomicUsize>,
) -> Result<Response<Body>, Infallible> {
    calls.fetch_add(1, Ordering::SeqCst);
    let (head, mut body) = request.into_parts();
    let (sender, receiver) = tokio::sync::mpsc::channel(4);
    let mut response = Response::new(StreamBody::new(
        tokio_stream::wrappers::ReceiverStream::new(receiver),
    ));
    response
        .headers_mut()
        .insert("content-type", HeaderValue::from_static("application/grpc"));
    if head.uri.path().contains("/Echo") {
        tokio::spawn(async move {
            // Frames go back as they come, whatever they are.
            while let Some(Ok(part)) = body.frame().await {
                if let Ok(data) = part.into_data()
                    && sender.send(Ok(Frame::data(data))).await.is_err()
                {
                    left.fetch_add(1, Ordering::SeqCst);
                    return;
                }
            }
            let _ = sender.send(Ok(trailers("0"))).await;
        });
        return Ok(response);
    }
    let asked = body
        .collect()
        .await
        .map(|c| c.to_bytes())
        .unwrap_or_default();
    let what = name_of(asked.get(5..).unwrap_or_default());
    let mut parts: Vec<Result<Frame<Bytes>, std::io::Error>> = Vec::new();
    let data = |b: Bytes| Ok(Frame::data(b));
    match what.as_str() {
        "status" => {
            *response.status_mut() = http::StatusCode::SERVICE_UNAVAILABLE;
            response
                .headers_mut()
                .insert("content-type", HeaderValue::from_static("text/html"));
            parts.push(data(Bytes::from_static(b"<html>")));
        }
        "page" => {
            response
                .headers_mut()
                .insert("content-type", HeaderValue::from_static("text/html"));
            parts.push(data(Bytes::from_static(b"<html>")));
        }
        "no trailers" => parts.push(data(frame(b"\x0a\x01a"))),
        "empty trailers" => parts.extend([
            data(frame(b"\x0a\x01a")),
            Ok(Frame::trailers(HeaderMap::new())),
        ]),
        "nothing" => parts.push(Ok(trailers("0"))),
        "twice" => parts.extend([
            data(frame(b"\x0a\x01a")),
            data(frame(b"\x0a\x01b")),
            Ok(trailers("0")),
        ]),
        "half" => parts.extend([data(frame(b"\x0a\x01a").slice(..6)), Ok(trailers("0"))]),
        "wrong message" => parts.extend([data(frame(b"\x08\x96\x01")), Ok(trailers("0"))]),
        "cut" => parts.extend([data(frame(b"\x0a\x7fa")), Ok(trailers("0"))]),
        "not utf-8" => parts.extend([data(frame(b"\x0a\x02\xff\xfe")), Ok(trailers("0"))]),
        "deep" => {
            // Places in places: 150 of them.
            let mut message = Vec::new();
            for _ in 0..150 {
                let mut outer = vec![0x12];
                let mut n = message.len();
                while n >= 0x80 {
                    outer.push(n as u8 | 0x80);
                    n >>= 7;
                }
                outer.push(n as u8);
                outer.extend_from_slice(&message);
                message = outer;
            }
            let mut odd = vec![
                0x22,
                (message.len() & 0x7f) as u8 | 0x80,
                (message.len() >> 7) as u8,
            ];
            odd.extend_from_slice(&message);
            parts.extend([data(frame(&odd)), Ok(trailers("0"))]);
        }
        "large" => parts.push(data(Bytes::from_static(b"\0\xff\xff\xff\xff"))),
        "unknown any" => parts.extend([
            data(frame(b"\x5a\x09\x0a\x05x/y.Z\x12\x00")),
            Ok(trailers("0")),
        ]),
        "absent value" => parts.extend([data(frame(b"\x52\x00")), Ok(trailers("0"))]),
        "mask" => parts.extend([data(frame(b"\x4a\x05\x0a\x03a_1")), Ok(trailers("0"))]),
        "breaks" => parts.extend([
            data(frame(b"\x0a\x01a")),
            Err(std::io::Error::other("on purpose")),
        ]),
        // So many that the first ones are through before it breaks.
        "breaks late" => {
            parts.extend((0..200_000).map(|_| data(frame(b"\x0a\x01a"))));
            parts.push(Err(std::io::Error::other("on purpose")));
        }
        "never" => {
            // Not even a head: until the other side leaves, and this is thrown away.
            let _guard = Leaving(left);
            std::future::pending::<()>().await;
        }
        "endless" => {
            tokio::spawn(async move {
                while sender
                    .send(Ok(Frame::data(frame(b"\x0a\x01a"))))
                    .await
                    .is_ok()
                {}
                left.fetch_add(1, Ordering::SeqCst);
            });
            return Ok(response);
        }
        "code" => parts.push(Ok(trailers("8"))),
        other => parts.extend([
            data(frame(
                format!("\x0a{}{other}", other.len() as u8 as char).as_bytes(),
            )),
            Ok(trailers("0")),
        ]),
    }
    tokio::spawn(async move {
        for part in parts {
            let _ = sender.send(part).await;
        }
    });
    Ok(response)
}

impl Server {
    async fn start() -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let address = listener.local_addr().unwrap();
        let (calls, left) = (Arc::new(AtomicUsize::new(0)), Arc::new(AtomicUsize::new(0)));
        let (c, l) = (calls.clone(), left.clone());
        tokio::spawn(async move {
            while let Ok((stream, _)) = listener.accept().await {
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
            left,
        }
    }
}

/// A gateway over documents that were derived from a definition, changed by `edit`.
struct Porch {
    gateway: Option<Gateway>,
    client: reqwest::Client,
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
        // Nobody reads the records here.
        std::mem::forget(records);
        shared.porch.store(Arc::new(porch));
        let config = GatewayConfig {
            address: ([127, 0, 0, 1], 0).into(),
            workers: 1,
            drain: Duration::from_secs(1),
        };
        let gateway = Gateway::start(&config, &shared).unwrap();
        Self {
            gateway: Some(gateway),
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

#[tokio::test(flavor = "multi_thread")]
async fn http_rules_are_honoured_to_the_letter() {
    let (_server, porch) = odd().await;
    let base = "/odd/v1";
    for (what, method, path, body, expected) in [
        (
            "** that is not last, with a variable behind it",
            "GET",
            "/files/a/b/history/c",
            None,
            json!({"path": "files/a/b", "name": "c"}),
        ),
        (
            "** that takes what looks like its end",
            "GET",
            "/files/history/history/x",
            None,
            json!({"path": "files/history", "name": "x"}),
        ),
        (
            "two ** with literals between them",
            "GET",
            "/from/a/b/to/c/d/end",
            None,
            json!({"path": "a/b", "other": "c/d"}),
        ),
        (
            "%2F stays encoded in a variable of several segments",
            "GET",
            "/files/a%2Fb/c%20d/history/e%2Ff",
            None,
            json!({"path": "files/a%2Fb/c d", "name": "e/f"}),
        ),
        (
            "* without a field",
            "GET",
            "/bare/whatever/n",
            None,
            json!({"name": "n"}),
        ),
        ("** that is empty", "GET", "/rest", None, json!({})),
        (
            "a verb beside the same template without it",
            "POST",
            "/things/a:close",
            Some(r#"{"other": "o"}"#),
            json!({"name": "a", "other": "o"}),
        ),
        (
            "the same template with another method and body",
            "PUT",
            "/things/a?other=o",
            Some(r#"{"name": "p"}"#),
            json!({"name": "a", "other": "o", "place": {"name": "p"}}),
        ),
        (
            "an additional binding without a body",
            "GET",
            "/things/a:other",
            None,
            json!({"name": "a:other"}),
        ),
        (
            "the path wins over the body, three messages deep",
            "PATCH",
            "/deep/a/1/b/2",
            Some(
                r#"{"place": {"inner": {"depth": 1, "inner": {"name": "from the body", "depth": 2}}}}"#,
            ),
            json!({"place": {"inner": {"depth": 1, "inner": {"name": "a/1/b/2", "depth": 2}}}}),
        ),
        (
            "response_body",
            "GET",
            "/part/a?place.name=q",
            None,
            json!({"name": "q"}),
        ),
        (
            "response_body that is a list without elements",
            "GET",
            "/parts/a",
            None,
            json!([]),
        ),
        (
            "a response_body that is not there",
            "GET",
            "/part/a",
            None,
            json!(null),
        ),
        (
            "a custom method",
            "SEARCH",
            "/custom/a",
            None,
            json!({"name": "a"}),
        ),
        ("any method", "LOCK", "/any/a", None, json!({"name": "a"})),
        (
            "leftover fields in the query",
            "GET",
            "/query?name=n%2B1&place.inner.depth=-3&seas=CALM&seas=2&numbers=1&numbers=2&time=2027-05-14T08:30:00%2B02:00&mask=a,homePort&truth=false&large=-9223372036854775808&data=_-8&sea=SMOOTH&Called-Otherwise=x&maybe=0",
            None,
            json!({"name": "n+1", "place": {"inner": {"depth": -3}}, "seas": ["CALM", "ROUGH"], "numbers": [1, 2], "time": "2027-05-14T06:30:00Z", "mask": "a,homePort", "truth": false, "large": "-9223372036854775808", "data": "/+8=", "sea": "CALM", "Called-Otherwise": "x", "maybe": 0}),
        ),
        (
            "both spellings of a name, in the query too",
            "GET",
            "/query?spelt=x",
            None,
            json!({"Called-Otherwise": "x"}),
        ),
        (
            "both spellings in the body",
            "POST",
            "/body",
            Some(r#"{"spelt": "x", "larger": 18446744073709551615}"#),
            json!({"Called-Otherwise": "x", "larger": "18446744073709551615"}),
        ),
        (
            "numbers at their limits",
            "POST",
            "/body",
            Some(r#"{"large": "9223372036854775807", "numbers": [-2147483648, 2147483647]}"#),
            json!({"large": "9223372036854775807", "numbers": [-2147483648i64, 2147483647]}),
        ),
        (
            "not a number",
            "POST",
            "/body",
            Some(r#"{"ratio": "NaN"}"#),
            json!({"ratio": "NaN"}),
        ),
        (
            "null in a Value is a value",
            "POST",
            "/body",
            Some(r#"{"value": null, "name": null}"#),
            json!({"value": null}),
        ),
        (
            "an Any of a known type",
            "POST",
            "/body",
            Some(r#"{"any": {"depth": 3, "@type": "type.googleapis.com/odd.v1.Place"}}"#),
            json!({"any": {"@type": "type.googleapis.com/odd.v1.Place", "depth": 3}}),
        ),
    ] {
        let (status, got) = porch.send(method, &format!("{base}{path}"), body).await;
        assert_eq!((status, got), (200, expected), "{what}");
    }
    // -0 is not lost on the way.
    let text = porch
        .client
        .post(porch.url("/odd/v1/body"))
        .body(r#"{"ratio": -0.0}"#)
        .send()
        .await
        .unwrap()
        .text()
        .await
        .unwrap();
    assert_eq!(text, r#"{"ratio":-0}"#);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_callers_send_wrong_is_told_with_its_place() {
    let (server, porch) = odd().await;
    let before = server.calls.load(Ordering::SeqCst);
    let deep = format!(
        "{{\"place\":{}{{}}{}}}",
        r#"{"inner":"#.repeat(130),
        "}".repeat(130)
    );
    for (path, body, pointer, part) in [
        ("/query?nme=x", None, "/query/nme", "did you mean “name”?"),
        (
            "/query?place.nam=x",
            None,
            "/query/place.nam",
            "did you mean “name”?",
        ),
        (
            "/query?place=x",
            None,
            "/query/place",
            "is the message odd.v1.Place",
        ),
        (
            "/query?name=a&name=b",
            None,
            "/query/name",
            "more than once",
        ),
        (
            "/query?numbers=1&numbers=x",
            None,
            "/query/numbers",
            "must be a number",
        ),
        (
            "/query?sea=CALMM",
            None,
            "/query/sea",
            "did you mean “CALM”?",
        ),
        ("/query?notes=x", None, "/query/notes", "map"),
        ("/query?truth=yes", None, "/query/truth", "true or false"),
        ("/query?name=%ff", None, "/query/name", "UTF-8"),
        ("/body?name=x", Some("{}"), "/query/name", "whole message"),
        (
            "/body",
            Some("{\"name\": \n tru}"),
            "/body",
            "line 2, column 2",
        ),
        (
            "/body",
            Some("[]"),
            "/body",
            "must be an object, not an array",
        ),
        (
            "/body",
            Some(r#"{"place": {"inner": {"depth": "x"}}}"#),
            "/body/place/inner/depth",
            "must be a number",
        ),
        (
            "/body",
            Some(r#"{"numbers": [1, 2.5, 3]}"#),
            "/body/numbers/1",
            "whole number",
        ),
        (
            "/body",
            Some(r#"{"numbers": [2147483648]}"#),
            "/body/numbers/0",
            "must lie between -2147483648 and 2147483647",
        ),
        (
            "/body",
            Some(r#"{"larger": -1}"#),
            "/body/larger",
            "must lie between 0 and 18446744073709551615",
        ),
        ("/body", Some(r#"{"data": "%%"}"#), "/body/data", "base64"),
        ("/body", Some(r#"{"sea": "STORMY"}"#), "/body/sea", "CALM"),
        (
            "/body",
            Some(r#"{"nam": 1}"#),
            "/body/nam",
            "did you mean “name”?",
        ),
        (
            "/body",
            Some(r#"{"name": "a", "name": "b"}"#),
            "/body/name",
            "stands twice",
        ),
        (
            "/body",
            Some(r#"{"any": {"@type": "x/y.Z"}}"#),
            "/body/any/@type",
            "does not know the type",
        ),
        (
            "/body",
            Some(r#"{"any": {"depth": 1}}"#),
            "/body/any",
            "needs “@type”",
        ),
        (
            "/body",
            Some(r#"{"mask": "a_b"}"#),
            "/body/mask",
            "lower camel case",
        ),
        (
            "/body",
            Some(r#"{"time": "yesterday"}"#),
            "/body/time",
            "RFC 3339",
        ),
        (
            "/body",
            Some(r#"{"notes": {"a/b": 1}}"#),
            "/body/notes/a~1b",
            "must be a text",
        ),
        ("/body", Some(&deep), "/body/place/inner", "100 messages"),
    ] {
        let (status, got) = porch
            .send(
                if body.is_some() { "POST" } else { "GET" },
                &format!("/odd/v1{path}"),
                body,
            )
            .await;
        assert_eq!(status, 400, "{path} {body:?}: {got}");
        let errors = got["errors"].as_array().unwrap();
        let told = errors.iter().any(|e| {
            e["pointer"].as_str().unwrap().starts_with(pointer)
                && e["detail"].as_str().unwrap().contains(part)
        });
        assert!(told, "{path} {body:?}: {got}");
    }
    let (_, two) = porch
        .send(
            "POST",
            "/odd/v1/body",
            Some(r#"{"nam": 1, "ratio": "much", "numbers": "x"}"#),
        )
        .await;
    assert_eq!(two["errors"].as_array().unwrap().len(), 3, "{two}");
    // None of it was sent.
    assert_eq!(server.calls.load(Ordering::SeqCst), before);
    let nested = "[".repeat(200_000);
    assert_eq!(
        porch
            .send(
                "POST",
                "/odd/v1/body",
                Some(&format!("{{\"value\": {nested}"))
            )
            .await
            .0,
        400
    );
}

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

#[tokio::test(flavor = "multi_thread")]
async fn choices_of_json_and_statuses() {
    let server = Server::start().await;
    let files = documents(ODDITIES, &[server.address], |files| {
        for text in files.values_mut() {
            *text = text
                .replace("operations:\n", "json: { defaults: true, proto-names: true, enum-numbers: true, unknown-fields: ignore }\noperations:\n")
                .replace("  bad:\n", "  bad:\n    faults: { RESOURCE_EXHAUSTED: 420 }\n");
        }
    });
    let porch = Porch::over(&files, &["odd"]);
    let (status, got) = porch
        .send(
            "POST",
            "/odd/v1/body?nothing=1",
            Some(r#"{"sea": "ROUGH", "unheard-of": [1]}"#),
        )
        .await;
    assert_eq!(
        (
            status,
            &got["sea"],
            &got["spelt"],
            &got["numbers"],
            &got["notes"],
            got.get("maybe")
        ),
        (200, &json!(2), &json!(""), &json!([]), &json!({}), None),
        "{got}"
    );
    assert_eq!(
        porch
            .send("POST", "/odd/v1/bad", Some(r#"{"name": "code"}"#))
            .await
            .0,
        420
    );
}

/// Documents for the fleet's service, from its reflection.
async fn fleet(address: &str, trust: &str, edit: impl Fn(&mut Files)) -> Files {
    let allowed = porch_fetch::Allowed {
        local: true,
        trust: trust.to_owned(),
        ..Default::default()
    };
    let source = porch_fetch::reflect(address, &allowed)
        .await
        .unwrap()
        .source;
    let mut files = porch_facade::derive(
        &source,
        "vessels",
        None,
        &["skerry.fleet.v1.Fleet".to_owned()],
    )
    .unwrap()
    .files;
    edit(&mut files);
    files
}

async fn standin() -> SocketAddr {
    let (address, server) = porch_standins::serve(
        porch_standins::Standin::Vessels,
        ([127, 0, 0, 1], 0).into(),
        std::future::pending(),
    )
    .await
    .unwrap();
    tokio::spawn(server);
    address
}

#[tokio::test(flavor = "multi_thread")]
async fn native_callers_pass_under_the_same_rules() {
    let address = standin().await;
    let files = fleet(&address.to_string(), "", |files| {
        for text in files.values_mut() {
            *text = text
                .replace("admit:\n  credentials: [key]\n", "native: true\nadmit:\n  limits: [{ requests: 5, window: 1m, per: everyone }]\n")
                .replace("  retireVessel:\n", "  retireVessel:\n    admit: { credentials: [key] }\n");
        }
    })
    .await;
    let porch = Porch::over(&files, &["vessels"]);
    let mut client = FleetClient::connect(porch.url("")).await.unwrap();
    let vessel = client
        .get_vessel(GetVesselRequest {
            name: "vessels/alca".into(),
        })
        .await
        .unwrap()
        .into_inner();
    assert_eq!(
        (vessel.title.as_str(), vessel.number),
        ("Alca", 9_007_199_254_740_993)
    );
    let failed = client
        .get_vessel(GetVesselRequest {
            name: "vessels/none".into(),
        })
        .await
        .unwrap_err();
    assert_eq!(
        (failed.code(), failed.message()),
        (tonic::Code::NotFound, "there is no vessels/none")
    );
    assert!(!failed.details().is_empty());
    let mut positions = client
        .stream_positions(StreamPositionsRequest {
            count: 3,
            interval: None,
            fail_after: 0,
        })
        .await
        .unwrap()
        .into_inner();
    let mut seen = 0;
    while let Some(position) = positions.message().await.unwrap() {
        assert!(position.vessel.starts_with("vessels/"));
        seen += 1;
    }
    assert_eq!(seen, 3);
    let questions =
        tokio_stream::iter(["ahead?", "astern?"].map(|t| PilotQuestion { text: t.into() }));
    let mut answers = client.pilot(questions).await.unwrap().into_inner();
    assert_eq!(answers.message().await.unwrap().unwrap().number, 1);
    let refused = client
        .retire_vessel(GetVesselRequest {
            name: "vessels/alca".into(),
        })
        .await
        .unwrap_err();
    assert_eq!(refused.code(), tonic::Code::Unauthenticated, "{refused:?}");
    assert!(refused.message().contains("API-Key"), "{refused:?}");
    assert_eq!(
        porch.send("GET", "/vessels/v1/vessels/alca", None).await.0,
        200
    );
    // The sixth, whoever makes it: the one without a key was not counted.
    assert_eq!(
        client
            .get_vessel(GetVesselRequest {
                name: "vessels/alca".into()
            })
            .await
            .unwrap_err()
            .code(),
        tonic::Code::ResourceExhausted
    );
    // Without `native`, nothing is there for them.
    let closed = Porch::over(&fleet(&address.to_string(), "", |_| ()).await, &["vessels"]);
    let mut client = FleetClient::connect(closed.url("")).await.unwrap();
    assert_eq!(
        client
            .get_vessel(GetVesselRequest {
                name: "vessels/alca".into()
            })
            .await
            .unwrap_err()
            .code(),
        tonic::Code::Unimplemented
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_server_is_read_and_called_by_tls_and_certificates_are_checked() {
    let mut authority = rcgen::CertificateParams::new(Vec::new()).unwrap();
    authority.is_ca = rcgen::IsCa::Ca(rcgen::BasicConstraints::Unconstrained);
    let authority_key = rcgen::KeyPair::generate().unwrap();
    let pem = authority.self_signed(&authority_key).unwrap().pem();
    let issuer = rcgen::Issuer::new(authority, authority_key);
    let key = rcgen::KeyPair::generate().unwrap();
    let own = rcgen::CertificateParams::new(vec!["localhost".into()])
        .unwrap()
        .signed_by(&key, &issuer)
        .unwrap();
    let identity = tonic::transport::Identity::from_pem(own.pem(), key.serialize_pem());
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let port = listener.local_addr().unwrap().port();
    let server = tonic::transport::Server::builder()
        .tls_config(tonic::transport::ServerTlsConfig::new().identity(identity))
        .unwrap()
        .add_routes(porch_standins::vessels::services());
    tokio::spawn(
        server.serve_with_incoming(tokio_stream::wrappers::TcpListenerStream::new(listener)),
    );
    let address = format!("https://localhost:{port}");
    let files = fleet(&address, &pem, |files| {
        files.insert("trust.pem".into(), pem.clone());
        for text in files.values_mut() {
            *text = text.replace("admit:\n  credentials: [key]\n", "").replace(
                &format!("address: {address}"),
                &format!("address: {address}\ntrust: trust.pem"),
            );
        }
    })
    .await;
    assert!(
        files["vessels.backend.yaml"].contains("trust: trust.pem"),
        "{}",
        files["vessels.backend.yaml"]
    );
    let (status, got) = Porch::over(&files, &["vessels"])
        .send("GET", "/vessels/v1/vessels/alca", None)
        .await;
    assert_eq!((status, &got["title"]), (200, &json!("Alca")), "{got}");
    // Without that authority nobody vouches for it.
    let strangers: Files = files
        .iter()
        .map(|(n, t)| (n.clone(), t.replace("\ntrust: trust.pem", "")))
        .collect();
    let (status, got) = Porch::over(&strangers, &["vessels"])
        .send("GET", "/vessels/v1/vessels/alca", None)
        .await;
    assert_eq!(status, 502, "{got}");
    let refused = porch_fetch::reflect(
        &address,
        &porch_fetch::Allowed {
            local: true,
            ..Default::default()
        },
    )
    .await
    .map(|_| ())
    .unwrap_err()
    .to_string();
    assert!(refused.contains("no connection"), "{refused}");
}

#[tokio::test(flavor = "multi_thread")]
async fn reflection_is_bounded_and_says_what_is_wrong() {
    let address = standin().await.to_string();
    let refused = porch_fetch::fetch(&address, &porch_fetch::Allowed::default())
        .await
        .map(|_| ())
        .unwrap_err();
    assert!(
        matches!(refused, porch_fetch::FetchError::Local(..)),
        "{refused}"
    );
    let local = porch_fetch::Allowed {
        local: true,
        ..Default::default()
    };
    // A server of gRPC without reflection, one that speaks HTTP/1, and none at all.
    let gone = TcpListener::bind("127.0.0.1:0")
        .await
        .unwrap()
        .local_addr()
        .unwrap();
    for (server, part) in [(Server::start().await.address, ""), (gone, "no connection")] {
        let refused = porch_fetch::fetch(&server.to_string(), &local)
            .await
            .map(|_| ())
            .unwrap_err()
            .to_string();
        assert!(refused.contains(part) && !refused.is_empty(), "{refused}");
    }
    // One that only knows the older version tells the same.
    let older = tonic_reflection::server::Builder::configure()
        .register_encoded_file_descriptor_set(porch_standins::vessels::DESCRIPTORS)
        .build_v1alpha()
        .unwrap();
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let older_address = listener.local_addr().unwrap().to_string();
    tokio::spawn(
        tonic::transport::Server::builder()
            .add_service(older)
            .serve_with_incoming(tokio_stream::wrappers::TcpListenerStream::new(listener)),
    );
    let told = porch_facade::look(
        &porch_fetch::fetch(&older_address, &local)
            .await
            .unwrap()
            .source,
    )
    .unwrap();
    let found = porch_fetch::fetch(&address, &local).await.unwrap().source;
    assert_eq!(
        told.operations.len(),
        porch_facade::look(&found).unwrap().operations.len()
    );
    let look = porch_facade::look(&found).unwrap();
    assert_eq!(
        (look.kind, look.addresses.as_slice()),
        ("grpc", &[format!("http://{address}")][..])
    );
    let shapes: BTreeMap<&str, String> = look
        .operations
        .iter()
        .map(|o| (o.id.as_str(), format!("{} {}", o.method, o.path)))
        .collect();
    for (id, shape) in [
        ("getVessel", "GET /v1/vessels/{vessel}"),
        ("getFile", "GET /v1/files/{file*}"),
        ("assignBerth", "POST /berth/{berthId}:assign"),
        ("watchBerth", "GET /berth/{berthId}:watch"),
        ("streamPositions", "GET /v1/positions:stream"),
    ] {
        assert_eq!(shapes[id], shape);
    }
}
