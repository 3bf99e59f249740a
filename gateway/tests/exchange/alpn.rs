//! Backends that choose HTTP/2 when a connection is made (RFC 7301), and those that do not.

use super::*;
use std::sync::atomic::{AtomicUsize, Ordering};
use tokio_rustls::TlsAcceptor;
use tokio_rustls::rustls::ServerConfig;
use tokio_rustls::rustls::pki_types::{PrivateKeyDer, PrivatePkcs8KeyDer};

const CONTRACT: &str = r#"{"openapi":"3.1.0","info":{"title":"Quays","version":"1"},"paths":{
    "/item/{id}":{"get":{"operationId":"item","parameters":[{"name":"id","in":"path","required":true,"schema":{"type":"string"}},{"name":"x","in":"query","schema":{"type":"string"}}],"responses":{"200":{"description":"It."}}}},
    "/items":{"post":{"operationId":"add","requestBody":{"content":{"*/*":{}}},"responses":{"200":{"description":"It."}}}}}}"#;

/// A server with a certificate, and how many connections were made to it.
struct Server {
    pem: String,
    port: u16,
    connections: Arc<AtomicUsize>,
}

/// Speaks what is chosen of the protocols that it knows; those of its first connection, and those of all others.
fn server(first: &[&'static str], others: &[&'static str]) -> Server {
    let key = rcgen::KeyPair::generate().unwrap();
    let mut wanted = rcgen::CertificateParams::new(vec!["localhost".into()]).unwrap();
    wanted.is_ca = rcgen::IsCa::Ca(rcgen::BasicConstraints::Unconstrained);
    let made = wanted.self_signed(&key).unwrap();
    let acceptor = |names: &[&'static str]| {
        let provider = Arc::new(tokio_rustls::rustls::crypto::ring::default_provider());
        let mut config = ServerConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()
            .unwrap()
            .with_no_client_auth()
            .with_single_cert(
                vec![made.der().clone()],
                PrivateKeyDer::Pkcs8(PrivatePkcs8KeyDer::from(key.serialize_der())),
            )
            .unwrap();
        config.alpn_protocols = names.iter().map(|n| n.as_bytes().to_vec()).collect();
        TlsAcceptor::from(Arc::new(config))
    };
    let (first, others) = (acceptor(first), acceptor(others));
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    listener.set_nonblocking(true).unwrap();
    let connections = Arc::new(AtomicUsize::new(0));
    let count = connections.clone();
    std::thread::spawn(move || {
        let runtime = tokio::runtime::Builder::new_current_thread()
            .enable_all()
            .build()
            .unwrap();
        runtime.block_on(async {
            let listener = tokio::net::TcpListener::from_std(listener).unwrap();
            loop {
                let (stream, _) = listener.accept().await.unwrap();
                let at = count.fetch_add(1, Ordering::SeqCst);
                let acceptor = if at == 0 { &first } else { &others };
                let acceptor = acceptor.clone();
                tokio::spawn(async move {
                    let Ok(stream) = acceptor.accept(stream).await else {
                        return;
                    };
                    match stream.get_ref().1.alpn_protocol() {
                        Some(b"h2") => by_http2(stream).await,
                        _ => by_http1(stream).await,
                    }
                });
            }
        });
    });
    Server {
        pem: made.pem(),
        port,
        connections,
    }
}

type Secure = tokio_rustls::server::TlsStream<tokio::net::TcpStream>;

/// Tells what came. A path that ends in `last` is the last that it takes by this connection.
async fn by_http2(stream: Secure) {
    let mut connection = h2::server::handshake(stream).await.unwrap();
    while let Some(Ok((request, mut respond))) = connection.accept().await {
        let last = request.uri().path().ends_with("last");
        let (head, mut body) = request.into_parts();
        let ended = body.is_end_stream();
        tokio::spawn(async move {
            let mut all = Vec::new();
            while let (false, Some(Ok(bytes))) = (ended, body.data().await) {
                let _ = body.flow_control().release_capacity(bytes.len());
                all.extend_from_slice(&bytes);
            }
            let length = head
                .headers
                .get("content-length")
                .map(|v| v.to_str().unwrap().to_owned());
            let said = serde_json::json!({ "by": "h2", "uri": head.uri.to_string(), "host": head.headers.contains_key("host"),
                "connection": head.headers.contains_key("connection"), "length": length, "body": String::from_utf8(all).unwrap() });
            let said = said.to_string();
            let response = http::Response::builder()
                .header("content-type", "application/json")
                .header("content-length", said.len())
                .body(())
                .unwrap();
            let mut out = respond.send_response(response, false).unwrap();
            out.send_data(said.into(), true).unwrap();
        });
        if last {
            connection.graceful_shutdown();
        }
    }
}

async fn by_http1(mut stream: Secure) {
    use tokio::io::{AsyncReadExt, AsyncWriteExt};
    loop {
        let mut seen = Vec::new();
        while !seen.ends_with(b"\r\n\r\n") {
            match stream.read_u8().await {
                Ok(byte) => seen.push(byte),
                Err(_) => return,
            }
        }
        let answer = plain("{\"by\": \"http/1.1\"}");
        stream.write_all(&answer).await.unwrap();
        stream.flush().await.unwrap();
    }
}

fn stage(server: &Server, more: &str) -> Stage {
    let address = format!("https://localhost:{}", server.port);
    stage_at(&address, server, more)
}

fn stage_at(address: &str, server: &Server, more: &str) -> Stage {
    let lines = format!("address: {address}\n{more}");
    let porch = compile_called(&lines, &server.pem, CONTRACT, &["item", "add"]);
    // Connections are a worker's own.
    let config = GatewayConfig {
        workers: 1,
        drain: Duration::from_secs(5),
        ..GatewayConfig::at(([127, 0, 0, 1], 0).into())
    };
    Stage::with(porch, Shared::new(), &config)
}

fn ask(stage: &Stage, method: &str, target: &str, rest: &str) -> String {
    let head = format!("{method} {target} HTTP/1.1\r\nHost: x\r\nConnection: close\r\n");
    stage.raw(format!("{head}{rest}").as_bytes())
}

fn said(answer: &str) -> serde_json::Value {
    assert_eq!(status(answer), 200, "{answer}");
    serde_json::from_str(answer.split("\r\n\r\n").nth(1).unwrap()).unwrap()
}

#[test]
fn what_chooses_http_2_gets_all_its_calls_on_one_connection() {
    let server = server(&["h2", "http/1.1"], &["h2", "http/1.1"]);
    let stage = stage(&server, "");
    let first = said(&stage.get("/f/item/1?x=a%20b", "Connection: close\r\n"));
    assert_eq!(first["by"], "h2");
    let uri = format!("https://localhost:{}/item/1?x=a%20b", server.port);
    assert_eq!(first["uri"], uri);
    assert_eq!(
        (&first["host"], &first["connection"]),
        (&false.into(), &false.into())
    );
    let json = r#"{"berth":"N7"}"#;
    let fields = format!("Content-Type: application/json\r\nContent-Length: 14\r\n\r\n{json}");
    let added = said(&ask(&stage, "POST", "/f/items", &fields));
    assert_eq!(
        (&added["body"], &added["length"]),
        (&json.into(), &"14".into())
    );
    // What comes in pieces has no length.
    let pieces = "Content-Type: application/octet-stream\r\nTransfer-Encoding: chunked\r\n\r\n3\r\nabc\r\n2\r\nde\r\n0\r\n\r\n";
    let streamed = said(&ask(&stage, "POST", "/f/items", pieces));
    assert_eq!(
        (&streamed["body"], &streamed["length"]),
        (&"abcde".into(), &serde_json::Value::Null)
    );
    assert_eq!(server.connections.load(Ordering::SeqCst), 1);
    let (traces, _) = stage.end();
    assert!(
        format!("{traces:?}").contains("by HTTP/2, which it chose"),
        "{traces:?}"
    );
}

#[test]
fn what_chooses_otherwise_is_called_by_http_1() {
    for (knows, more) in [
        (&["http/1.1"][..], ""),
        (&[], ""),
        (&["h2", "http/1.1"], "http2: false\n"),
    ] {
        let server = server(knows, knows);
        let stage = stage(&server, more);
        for _ in 0..2 {
            let answer = said(&stage.get("/f/item/1", ""));
            assert_eq!(answer["by"], "http/1.1", "{knows:?} {more}");
        }
        // The connection that it chose on is used for both calls.
        assert_eq!(
            server.connections.load(Ordering::SeqCst),
            1,
            "{knows:?} {more}"
        );
    }
}

/// One that speaks HTTP/2 no more is asked again, and no call is lost.
#[test]
fn what_chooses_otherwise_later_is_called_as_it_says_then() {
    let server = server(&["h2", "http/1.1"], &["http/1.1"]);
    let stage = stage(&server, "");
    assert_eq!(said(&stage.get("/f/item/last", ""))["by"], "h2");
    for _ in 0..3 {
        assert_eq!(said(&stage.get("/f/item/2", ""))["by"], "http/1.1");
    }
}

/// An address that takes no connection cannot be asked; the next one is called by its own path.
#[test]
fn an_address_that_is_gone_is_passed_over_before_it_chooses() {
    let server = server(&["h2"], &["h2"]);
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let gone = listener.local_addr().unwrap().port();
    drop(listener);
    let address = format!(
        "['https://localhost:{gone}/old', 'https://localhost:{}/new/way']",
        server.port
    );
    let stage = stage_at(&address, &server, "");
    for _ in 0..4 {
        let said = said(&stage.get("/f/item/1", ""));
        let uri = format!("https://localhost:{}/new/way/item/1", server.port);
        assert_eq!(said["uri"], uri);
    }
}
