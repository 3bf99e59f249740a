//! The same bytes for this client and for hyper's: the outcome is the same, or a stricter one.

use http::Request;
use http_body_util::BodyExt;
use hyper::client::conn::http1;
use hyper_util::rt::TokioIo;
use tokio::io::{AsyncReadExt, AsyncWriteExt, DuplexStream};
use tokio::task::LocalSet;

use super::*;
use crate::outgoing::Outgoing;

/// What came of an answer.
#[derive(Debug, PartialEq, Eq)]
enum Outcome {
    Refused,
    /// Nothing more came, and more was needed.
    Waits,
    Answer(Box<Told>),
}

#[derive(Debug, PartialEq, Eq)]
struct Told {
    status: u16,
    version: http::Version,
    fields: Vec<(String, Vec<u8>)>,
    body: Result<Vec<u8>, bool>,
    trailers: Vec<(String, Vec<u8>)>,
}

/// What a backend does behind its last byte.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Then {
    Close,
    Wait,
}

fn fields(of: &http::HeaderMap) -> Vec<(String, Vec<u8>)> {
    let pairs = of.iter();
    pairs
        .map(|(n, v)| (n.to_string(), v.as_bytes().to_vec()))
        .collect()
}

fn request(method: &str) -> Outgoing {
    let request = Request::builder().method(method).uri("/berths");
    let request = request.header("host", "harbour.example");
    Outgoing::of_http(request.body(OutBody::Empty).unwrap())
}

/// Writes an answer in pieces once a request is there; the client looks at each piece alone.
fn backend(mut side: DuplexStream, pieces: Vec<Vec<u8>>, then: Then) {
    tokio::task::spawn_local(async move {
        let mut seen = Vec::new();
        while !seen.ends_with(b"\r\n\r\n") {
            if side.read_buf(&mut seen).await.unwrap_or(0) == 0 {
                return;
            }
        }
        for piece in pieces {
            if side.write_all(&piece).await.is_err() {
                return;
            }
            for _ in 0..3 {
                tokio::task::yield_now().await;
            }
        }
        if then == Then::Wait {
            std::future::pending::<()>().await;
        }
    });
}

/// Reads an answer to its end, or until nothing comes any more.
async fn told<B: http_body::Body<Data = Bytes> + Unpin>(
    head: http::response::Parts,
    mut body: B,
) -> Outcome {
    let mut told = Told {
        status: head.status.as_u16(),
        version: head.version,
        fields: fields(&head.headers),
        body: Ok(Vec::new()),
        trailers: Vec::new(),
    };
    let mut all = Vec::new();
    loop {
        match tokio::time::timeout(Duration::from_secs(1), body.frame()).await {
            Err(_) => told.body = Err(false),
            Ok(Some(Err(_))) => told.body = Err(true),
            Ok(None) => told.body = Ok(all),
            Ok(Some(Ok(frame))) => {
                match frame.into_data() {
                    Ok(data) => all.extend_from_slice(&data),
                    Err(frame) => {
                        told.trailers = fields(&frame.into_trailers().unwrap_or_default())
                    }
                }
                continue;
            }
        }
        return Outcome::Answer(Box::new(told));
    }
}

fn pieces(of: &[&[u8]]) -> Vec<Vec<u8>> {
    of.iter().map(|p| p.to_vec()).collect()
}

/// The outcome, and whether the connection is kept for another exchange.
async fn by_lean(method: &str, of: &[&[u8]], then: Then) -> (Outcome, bool) {
    let (ours, theirs) = tokio::io::duplex(64 << 10);
    backend(theirs, pieces(of), then);
    let (pool, mut slot) = (Rc::<Pool>::default(), Some(request(method)));
    let mut conn = Conn::new(Stream::Memory(ours), &pool, (7, 0));
    let method = load(&mut conn, &mut slot).unwrap();
    let until = tokio::time::Instant::now() + Duration::from_secs(1);
    let outcome = match exchange(&mut conn, &mut slot, &method, until).await {
        None => Outcome::Waits,
        Some(Err(_)) => Outcome::Refused,
        Some(Ok(head)) => {
            let answered = answered(conn, head);
            told(answered.head, answered.body).await
        }
    };
    for _ in 0..9 {
        tokio::task::yield_now().await;
    }
    (outcome, pool.take((7, 0)).is_some())
}

async fn by_hyper(method: &str, of: &[&[u8]], then: Then) -> (Outcome, bool) {
    let (ours, theirs) = tokio::io::duplex(64 << 10);
    backend(theirs, pieces(of), then);
    let (mut sender, connection) = http1::handshake(TokioIo::new(ours)).await.unwrap();
    tokio::task::spawn_local(connection);
    let answer = sender.send_request(request(method).into_http(http::Version::HTTP_11));
    let outcome = match tokio::time::timeout(Duration::from_secs(1), answer).await {
        Err(_) => Outcome::Waits,
        Ok(Err(_)) => Outcome::Refused,
        Ok(Ok(answer)) => {
            let (head, body) = answer.into_parts();
            told(head, body).await
        }
    };
    for _ in 0..9 {
        tokio::task::yield_now().await;
    }
    (outcome, sender.is_ready())
}

/// Whether an outcome is the other client's, or stricter.
fn is_as_strict(lean: &Outcome, hyper: &Outcome) -> bool {
    match (lean, hyper) {
        (Outcome::Answer(a), Outcome::Answer(b)) => {
            let refused = matches!(a.body, Err(true));
            let waits = a.body == Err(false) && b.body == Err(true);
            let head = |t: &Told| (t.status, t.version, t.fields.clone());
            let same = a.body == b.body && a.trailers == b.trailers;
            head(a) == head(b) && (refused || waits || same)
        }
        (Outcome::Refused, _) => true,
        // A line that has no end yet is looked at when it has.
        (Outcome::Waits, other) => !matches!(other, Outcome::Answer(_)),
        (Outcome::Answer(_), _) => false,
    }
}

/// Gives both the same, and compares; gives what this client made of it.
async fn compare(method: &str, of: &[&[u8]], then: Then) -> (Outcome, bool) {
    let (lean, hyper) = (
        by_lean(method, of, then).await,
        by_hyper(method, of, then).await,
    );
    let shown: Vec<String> = of.iter().map(|p| p.escape_ascii().to_string()).collect();
    assert!(
        is_as_strict(&lean.0, &hyper.0),
        "{method} {then:?} {shown:?}\n{lean:?}\n{hyper:?}"
    );
    assert!(!lean.1 || hyper.1, "{method} {then:?} {shown:?} is kept");
    lean
}

fn local(test: impl Future<Output = ()>) {
    let mut builder = tokio::runtime::Builder::new_current_thread();
    let runtime = builder.enable_time().start_paused(true).build().unwrap();
    LocalSet::new().block_on(&runtime, test);
}

/// Answers as they should be: the framing, the connection and the status in all their ways.
fn good() -> Vec<String> {
    let bodies = [
        "Content-Length: 5\r\n\r\nhello",
        "Content-Length: 0\r\n\r\n",
        "Content-Length: 5\r\nContent-Length: 5\r\n\r\nhello",
        "Content-Length: 5, 5\r\n\r\nhello",
        "Transfer-Encoding: chunked\r\n\r\n5\r\nhello\r\n0\r\n\r\n",
        "Transfer-Encoding: Chunked\r\n\r\n3;a=b\r\nhel\r\n02 \t;x\r\nlo\r\n0;end\r\n\r\n",
        "Transfer-Encoding: chunked\r\nTrailer: Tide\r\n\r\n1\r\nx\r\n0\r\nTide: low\r\nFog: no\r\n\r\n",
        "\r\nuntil the end",
    ];
    let begins = [
        "HTTP/1.1 200 OK\r\n",
        "HTTP/1.1 200 OK\r\nConnection: close\r\n",
        "HTTP/1.1 404 \r\nConnection: Keep-Alive, X\r\nServer:\r\nX:  a  \r\n",
        "HTTP/1.0 200 Fine\r\n",
        "HTTP/1.0 500 Oh\r\nConnection: keep-alive\r\n",
        "HTTP/1.1 100 Continue\r\n\r\nHTTP/1.1 103 Hints\r\nLink: </x>\r\n\r\nHTTP/1.1 201 Made\r\n",
    ];
    let all = begins
        .iter()
        .flat_map(|b| bodies.iter().map(move |e| format!("{b}{e}")));
    let empty = [
        "HTTP/1.1 204 None\r\n\r\n",
        "HTTP/1.1 304 Same\r\nContent-Length: 9\r\n\r\n",
    ];
    all.chain(empty.map(str::to_owned)).collect()
}

/// Answers that are none, or that try something.
const ODD: [&str; 26] = [
    "",
    "HTTP/1.1",
    "SSH-2.0-Harbour\r\n",
    "\r\n\r\nHTTP/1.1 200 OK\r\nContent-Length: 0\r\n\r\n",
    "HTTP/2.0 200 OK\r\n\r\n",
    "HTTP/1.1 20 OK\r\n\r\n",
    "HTTP/1.1 200 OK\nContent-Length: 2\n\nhi",
    "HTTP/1.1 101 Switching\r\nUpgrade: x\r\n\r\nbytes",
    "HTTP/1.1 600 Odd\r\nContent-Length: 0\r\n\r\n",
    "HTTP/1.1 200 OK\r\nContent-Length: 5\r\nContent-Length: 6\r\n\r\nhello!",
    "HTTP/1.1 200 OK\r\nContent-Length: +5\r\n\r\nhello",
    "HTTP/1.1 200 OK\r\nContent-Length: \r\n\r\nhello",
    "HTTP/1.1 200 OK\r\nContent-Length: 99999999999999999999\r\n\r\nhello",
    "HTTP/1.1 200 OK\r\nContent-Length: 5\r\n\r\nhello and more",
    "HTTP/1.1 200 OK\r\nContent-Length: 3\r\nTransfer-Encoding: chunked\r\n\r\n5\r\nhello\r\n0\r\n\r\n",
    "HTTP/1.0 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n5\r\nhello\r\n0\r\n\r\n",
    "HTTP/1.1 200 OK\r\nTransfer-Encoding: gzip, chunked\r\n\r\n5\r\nhello\r\n0\r\n\r\n",
    "HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked, identity\r\n\r\n5\r\nhello\r\n0\r\n\r\n",
    "HTTP/1.1 200 OK\r\nTransfer-Encoding: identity\r\n\r\nhello",
    "HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n5\nhello\r\n0\r\n\r\n",
    "HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n\r\nhello\r\n0\r\n\r\n",
    "HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n-5\r\nhello\r\n0\r\n\r\n",
    "HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n10000000000000005\r\nhello\r\n0\r\n\r\n",
    "HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n5\r\nhelloXX0\r\n\r\n",
    "HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n5;a\rb\r\nhello\r\n0\r\n\r\n",
    "HTTP/1.1 200 OK\r\nConnection: close\r\nConnection: keep-alive\r\nContent-Length: 0\r\n\r\n",
];

#[test]
fn every_answer_is_the_same_wherever_it_is_cut() {
    local(async {
        for answer in good() {
            let bytes = answer.as_bytes();
            let whole = by_hyper("GET", &[bytes], Then::Close).await.0;
            for cut in 0..bytes.len() {
                let (a, b) = bytes.split_at(cut);
                for then in [Then::Close, Then::Wait] {
                    compare("GET", &[a], then).await;
                    compare("GET", &[a, b], then).await;
                }
                // What is good is taken, and not only refused as strictly.
                let lean = by_lean("GET", &[a, b], Then::Close).await.0;
                assert_eq!(lean, whole, "{answer:?} cut at {cut}");
            }
            let single: Vec<&[u8]> = bytes.chunks(1).collect();
            compare("GET", &single, Then::Close).await;
            compare("HEAD", &[bytes], Then::Close).await;
            compare("POST", &[bytes], Then::Wait).await;
        }
    });
}

#[test]
fn odd_answers_are_refused_as_strictly() {
    local(async {
        for answer in ODD {
            let bytes = answer.as_bytes();
            for then in [Then::Close, Then::Wait] {
                for cut in 0..=bytes.len() {
                    let (a, b) = bytes.split_at(cut);
                    compare("GET", &[a, b], then).await;
                }
            }
        }
    });
}

#[test]
fn mutilated_answers_are_refused_as_strictly() {
    let mut state = 0x9e37_79b9_7f4a_7c15u64;
    let mut random = move |below: usize| {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        (state % below as u64) as usize
    };
    const ODDITIES: [&[u8]; 12] = [
        b"\r", b"\n", b"\r\n", b" ", b"\t", b"\0", b":", b",", b"0", b"f", b"\xff", b"chunked",
    ];
    local(async {
        for answer in good() {
            for _ in 0..60 {
                let mut bytes = answer.clone().into_bytes();
                for _ in 0..=random(2) {
                    let at = random(bytes.len());
                    let odd = ODDITIES[random(ODDITIES.len())];
                    match random(3) {
                        0 => drop(bytes.remove(at)),
                        1 => drop(bytes.splice(at..at, odd.iter().copied())),
                        _ => drop(bytes.splice(at..=at, odd.iter().copied())),
                    }
                }
                let (a, b) = bytes.split_at(random(bytes.len()));
                compare("GET", &[a, b], Then::Close).await;
                compare("GET", &[&bytes], Then::Wait).await;
            }
        }
    });
}

#[test]
fn what_has_no_end_is_refused() {
    local(async {
        let field = "X: y\r\n".repeat(MAX_FIELDS_MORE);
        let long = "x".repeat(70_000);
        let interim = "HTTP/1.1 100 Continue\r\n\r\n".repeat(40);
        let chunked = "HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n";
        for (answer, head) in [
            (format!("HTTP/1.1 200 OK\r\n{field}\r\n"), false),
            (format!("HTTP/1.1 200 OK\r\nX: {long}"), false),
            (format!("HTTP/1.1 200 {long}"), false),
            (interim, false),
            (format!("{chunked}1;{long}"), true),
            (
                format!("{chunked}{}", "1;aaaa\r\nx\r\n".repeat(9_000)),
                true,
            ),
            (format!("{chunked}0\r\n{}", "X: y\r\n".repeat(9_000)), true),
        ] {
            let parts: Vec<&[u8]> = answer.as_bytes().chunks(1_000).collect();
            let (outcome, kept) = by_lean("GET", &parts, Then::Wait).await;
            let as_told = match &outcome {
                Outcome::Refused => !head,
                Outcome::Answer(told) => head && told.body == Err(true),
                Outcome::Waits => false,
            };
            assert!(as_told && !kept, "{:?}: {outcome:?}", &answer[..60]);
        }
    });
}

const MAX_FIELDS_MORE: usize = head::MAX_FIELDS + 1;

/// An answer may come before all of a request is taken; its connection is not used again then.
#[test]
fn an_early_answer_is_read_and_its_request_goes_on() {
    local(async {
        let (ours, mut theirs) = tokio::io::duplex(1024);
        let (pool, mut slot) = (Rc::<Pool>::default(), Some(request("POST")));
        slot.as_mut().unwrap().body = OutBody::Full(Some(vec![7; 9_000].into()));
        let answer = b"HTTP/1.1 413 No\r\nContent-Length: 2\r\n\r\n";
        let backend = tokio::task::spawn_local(async move {
            theirs.write_all(answer).await.unwrap();
            let mut sent = Vec::new();
            while sent.iter().filter(|b| **b == 7).count() < 9_000 {
                theirs.read_buf(&mut sent).await.unwrap();
            }
            theirs.write_all(b"no").await.unwrap();
            (String::from_utf8_lossy(&sent[..80]).into_owned(), theirs)
        });
        let mut conn = Conn::new(Stream::Memory(ours), &pool, (7, 0));
        let method = load(&mut conn, &mut slot).unwrap();
        let until = tokio::time::Instant::now() + Duration::from_secs(9);
        let head = exchange(&mut conn, &mut slot, &method, until).await;
        let head = head.unwrap().unwrap();
        assert!(slot.is_none(), "a part of it was sent");
        let answered = answered(conn, head);
        let body = answered.body.collect().await.unwrap().to_bytes();
        assert_eq!(
            (answered.head.status.as_u16(), &body[..]),
            (413, &b"no"[..])
        );
        let (sent, _open) = backend.await.unwrap();
        assert!(
            sent.starts_with(
                "POST /berths HTTP/1.1\r\nhost: harbour.example\r\ncontent-length: 9000\r\n\r\n"
            ),
            "{sent}"
        );
        assert!(pool.take((7, 0)).is_some(), "all was sent and all was read");
    });
}

#[test]
fn a_length_is_said_of_what_is_sent_and_of_nothing_else() {
    let written = |body: OutBody, field: (&str, &str)| {
        let mut request = request("POST");
        let value = http::HeaderValue::from_str(field.1).unwrap();
        let name: http::HeaderName = field.0.parse().unwrap();
        request.fields.append(name, value);
        let length = match &body {
            OutBody::Full(Some(bytes)) => Some(bytes.len()),
            _ => None,
        };
        let mut out = Vec::new();
        head::write(&request, length, &mut out);
        let text = String::from_utf8(out).unwrap();
        let (_, fields) = text.split_once("example\r\n").unwrap();
        fields.trim_end().to_owned()
    };
    let full = || OutBody::Full(Some("four".into()));
    assert_eq!(written(OutBody::Empty, ("content-length", "5")), "");
    assert_eq!(
        written(OutBody::Empty, ("content-length", "0")),
        "content-length: 0"
    );
    assert_eq!(
        written(full(), ("content-length", "5")),
        "content-length: 4"
    );
    assert_eq!(
        written(full(), ("transfer-encoding", "chunked")),
        "content-length: 4"
    );
}

/// What comes, or ends, while a connection waits makes it unfit.
#[test]
fn a_waiting_connection_that_says_something_is_not_used_again() {
    local(async {
        for said in [None, Some(&b"HTTP/1.1 200 OK\r\n\r\n"[..]), Some(&b""[..])] {
            let (ours, mut theirs) = tokio::io::duplex(1024);
            let pool = Rc::<Pool>::default();
            let conn = Conn::new(Stream::Memory(ours), &pool, (7, 0));
            conn.give_back();
            match said {
                None => {}
                Some(b"") => drop(theirs),
                Some(bytes) => theirs.write_all(bytes).await.unwrap(),
            }
            assert_eq!(pool.take((7, 0)).is_some(), said.is_none(), "{said:?}");
        }
    });
}

/// A connection's timer outlives an exchange: it ends none that began later, and each that has waited its time.
#[test]
fn each_exchange_has_its_own_time() {
    local(async {
        let (ours, theirs) = tokio::io::duplex(1024);
        let (pool, start) = (Rc::<Pool>::default(), tokio::time::Instant::now());
        let mut conn = Conn::new(Stream::Memory(ours), &pool, (7, 0));
        for (seconds, ends) in [(10, 10), (25, 25), (22, 25), (30, 30)] {
            let mut slot = Some(request("GET"));
            let method = load(&mut conn, &mut slot).unwrap();
            let until = start + Duration::from_secs(seconds);
            let late = exchange(&mut conn, &mut slot, &method, until).await;
            assert!(late.is_none());
            let passed = start.elapsed().as_secs();
            assert_eq!(passed, ends, "until {seconds}");
        }
        drop(theirs);
    });
}

/// A worker that ends leaves no connection behind.
#[test]
fn connections_end_with_their_pool() {
    local(async {
        let (ours, mut theirs) = tokio::io::duplex(1024);
        let pool = Rc::<Pool>::default();
        Conn::new(Stream::Memory(ours), &pool, (7, 0)).give_back();
        drop(pool);
        assert_eq!(theirs.read(&mut [0; 1]).await.unwrap(), 0, "it is closed");
    });
}
