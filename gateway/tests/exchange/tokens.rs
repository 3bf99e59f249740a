//! Tokens of authorization servers: asked for once, kept, renewed, and shown to nobody else.

use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Mutex, mpsc};

use crate::*;

const CONTRACT: &str = "openapi: 3.1.0
info: { title: Seats, version: 1.0.0 }
paths:
  /seats:
    get: { operationId: seats, responses: { '200': { description: ok } } }
    post: { operationId: hold, requestBody: { content: { text/plain: {} } }, responses: { '200': { description: ok } } }
";

fn porch(backend: SocketAddr, server: SocketAddr, more: &str) -> porch_facade::CompiledPorch {
    let files: Files = BTreeMap::from([
        (
            "b.yaml".to_owned(),
            format!("elm-porch: backend/1\nname: b\nkind: http\naddress: http://{backend}\ncredentials:\n  calling:\n    client-credentials: {{ token-address: 'http://{server}/token/?tenant=quay', client: 'desk:1', secret: {{ secret: desk }}{more} }}\n"),
        ),
        ("c.yaml".to_owned(), CONTRACT.to_owned()),
        (
            "f.yaml".to_owned(),
            "elm-porch: facade/1\nname: f\nbase: /f\ncontract: c.yaml\noperations:\n  seats: { call: { backend: b } }\n  hold: { call: { backend: b } }\n".to_owned(),
        ),
    ]);
    let model = Model::read(Arc::new(files), "live", &Arc::default());
    let secrets = HashMap::from([("desk".to_owned(), "li/ght".to_owned())]);
    let (porch, findings) = model.porch(&["f"], &Secrets::Known(&secrets));
    assert!(!porch_contract::has_errors(&findings), "{findings:?}");
    porch
}

fn token(n: usize) -> Vec<u8> {
    plain(&format!(
        "{{\"access_token\":\"t0k3n-{n}\",\"token_type\":\"Bearer\",\"expires_in\":3600}}"
    ))
}

/// A backend that takes tokens from this number on, and says what it was shown again.
fn guarded(from: usize) -> Scripted {
    Scripted::start(move |_, request| {
        let shown = request.lines().find_map(|l| {
            l.to_lowercase()
                .strip_prefix("authorization: bearer t0k3n-")
                .map(str::to_owned)
        });
        match shown.and_then(|n| n.parse::<usize>().ok()) {
            Some(n) if n >= from => plain(&format!("{{\"shown\":\"t0k3n-{n}\"}}")),
            shown => {
                // It says again what it does not take.
                let body = format!("not t0k3n-{}", shown.unwrap_or_default());
                format!(
                    "HTTP/1.1 401 Unauthorized\r\nContent-Length: {}\r\n\r\n{body}",
                    body.len()
                )
                .into_bytes()
            }
        }
    })
}

#[test]
fn one_request_asks_for_the_token_of_many_calls() {
    let (go, wait) = mpsc::channel::<()>();
    let (wait, asked) = (Mutex::new(wait), Arc::new(Mutex::new(Vec::new())));
    let seen = asked.clone();
    let server = Scripted::start(move |_, request| {
        seen.lock().unwrap().push(request.to_owned());
        wait.lock().unwrap().recv().unwrap();
        token(1)
    });
    let backend = guarded(1);
    let stage = Stage::of(porch(backend.address, server.address, ""));
    let address = stage.address();
    let mut callers: Vec<TcpStream> = (0..12)
        .map(|_| {
            let mut stream = TcpStream::connect(address).unwrap();
            let request = b"GET /f/seats HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n";
            stream.write_all(request).unwrap();
            stream
        })
        .collect();
    go.send(()).unwrap();
    for caller in &mut callers {
        let mut reply = String::new();
        caller.read_to_string(&mut reply).unwrap();
        assert_eq!(status(&reply), 200, "{reply}");
    }
    let asked = asked.lock().unwrap();
    assert_eq!(asked.len(), 1);
    // RFC 6749 §2.3.1: identifier and secret are encoded before they are joined.
    let head = asked[0].to_lowercase();
    assert!(
        asked[0].starts_with("POST /token/?tenant=quay HTTP/1.1\r\n"),
        "{}",
        asked[0]
    );
    assert!(
        head.contains("content-type: application/x-www-form-urlencoded"),
        "{head}"
    );
    assert!(
        asked[0].contains("Basic ZGVzayUzQTE6bGklMkZnaHQ="),
        "{}",
        asked[0]
    );
    assert!(
        asked[0].ends_with("\r\n\r\ngrant_type=client_credentials"),
        "{}",
        asked[0]
    );
    let (traces, _) = stage.end();
    assert!(!traces.is_empty());
    for trace in traces {
        let text = serde_json::to_string(&trace).unwrap();
        assert!(
            !text.contains("t0k3n") && !text.contains("li/ght"),
            "{text}"
        );
    }
}

#[test]
fn a_token_that_is_refused_is_renewed_once_and_shown_where_that_is_safe() {
    let given = Arc::new(AtomicUsize::new(0));
    let count = given.clone();
    let server = Scripted::start(move |_, request| {
        assert!(request.ends_with("grant_type=client_credentials&scope=tides%3Aread%20x&client_id=desk%3A1&client_secret=li%2Fght"), "{request}");
        token(count.fetch_add(1, Ordering::SeqCst) + 1)
    });
    let backend = guarded(2);
    let more = ", scope: 'tides:read x', shown: body";
    let stage = Stage::of(porch(backend.address, server.address, more));
    let reply = stage.get("/f/seats", "");
    assert_eq!(
        (status(&reply), given.load(Ordering::SeqCst)),
        (200, 2),
        "{reply}"
    );
    assert!(reply.contains("t0k3n-2"), "{reply}");
    assert_eq!(status(&stage.get("/f/seats", "")), 200);
    assert_eq!(given.load(Ordering::SeqCst), 2);
    // A backend that takes none is asked twice, and no more.
    let never = guarded(1000);
    let stage = Stage::of(porch(never.address, server.address, more));
    assert_eq!(status(&stage.get("/f/seats", "")), 401);
    assert_eq!(given.load(Ordering::SeqCst), 4);
    // What may have been carried out is not sent again; the next call has another token.
    let post = b"POST /f/seats HTTP/1.1\r\nHost: x\r\nConnection: close\r\nContent-Type: text/plain\r\nContent-Length: 1\r\n\r\nx";
    assert_eq!(status(&stage.raw(post)), 401);
    assert_eq!(given.load(Ordering::SeqCst), 4);
    assert_eq!(status(&stage.raw(post)), 401);
    assert_eq!(given.load(Ordering::SeqCst), 5);
    // What was shown and refused is masked as well.
    let (traces, _) = stage.end();
    assert!(!traces.is_empty());
    let text = serde_json::to_string(&traces).unwrap();
    assert!(!text.contains("t0k3n"), "{text}");
}

#[test]
fn where_there_is_no_token_the_caller_is_told_that_it_is_not_his_fault() {
    let asked = Arc::new(AtomicUsize::new(0));
    let count = asked.clone();
    let server = Scripted::start(move |_, _| {
        count.fetch_add(1, Ordering::SeqCst);
        let body = "{\"error\":\"invalid_client\",\"error_description\":\"li/ght is wrong\"}";
        format!(
            "HTTP/1.1 401 Unauthorized\r\nContent-Length: {}\r\n\r\n{body}",
            body.len()
        )
        .into_bytes()
    });
    let backend = guarded(1);
    let stage = Stage::of(porch(backend.address, server.address, ""));
    let reply = stage.get("/f/seats", "");
    assert_eq!(status(&reply), 502, "{reply}");
    assert!(
        reply.contains("backend-credential") && !reply.contains("invalid_client"),
        "{reply}"
    );
    // For a moment nobody asks again.
    assert_eq!(status(&stage.get("/f/seats", "")), 502);
    assert_eq!(asked.load(Ordering::SeqCst), 1);
    assert_eq!(backend.connections(), 0);
    let (traces, _) = stage.end();
    let text = serde_json::to_string(&traces).unwrap();
    assert!(
        text.contains("invalid_client") && !text.contains("li/ght"),
        "{text}"
    );
}
