//! Calls on a connection to a server of `h2`, on the virtual clock.

use std::pin::Pin;
use std::task::{Context, Poll};

use h2::server::SendResponse;
use h2::{Reason, RecvStream};
use http::{HeaderMap, Method, Request, Response};
use http_body_util::BodyExt;
use tokio::time::Instant;

use super::*;
use crate::backend::places::Limits;
use crate::backend::tls;
use crate::body::{BodyError, Pieces};
use crate::outgoing::{Fields, Outgoing};
use crate::testing::on_virtual_clock;
use porch_facade::{Address, CompiledBackend, Credentials, Transport, Trust};

const KEY: Key = (7, 0);

/// Channels with one connection, and its other side.
async fn connected() -> (Rc<Channels>, tokio::io::DuplexStream) {
    let (ours, theirs) = tokio::io::duplex(64 << 10);
    let channels = Rc::<Channels>::default();
    let channel = begin(Stream::Memory(ours)).await.unwrap();
    channels.open.borrow_mut().insert(KEY, vec![channel]);
    (channels, theirs)
}

fn request(body: OutBody) -> Outgoing {
    Outgoing {
        method: Method::POST,
        uri: "http://fleet.example/fleet.v1.Vessels/Get".parse().unwrap(),
        fields: Fields::default(),
        body,
    }
}

fn backend(address: Address) -> CompiledBackend {
    CompiledBackend {
        name: "fleet".into(),
        kind: "grpc",
        identity: KEY.0,
        transport: Transport::Http2,
        offers_http2: false,
        addresses: vec![address],
        turns: Box::default(),
        trust: Trust::Machine,
        server_name: None,
        connections: None,
        waiting: None,
        timeout: Duration::from_secs(2),
        attempts: None,
        circuit: None,
        health: None,
        connect: Duration::from_secs(2),
        idle: Duration::from_secs(2),
        max_message: 1 << 20,
        compress: false,
        xml: None,
        credentials: Credentials::default(),
    }
}

/// One call; the address is one that nobody listens at.
async fn call(channels: &Channels, body: OutBody) -> Result<Answered, CallFailure> {
    let address = Address {
        authority: "127.0.0.1:1".into(),
        host: http::HeaderValue::from_static("127.0.0.1:1"),
        path: String::new(),
        tls: false,
        weight: 1,
    };
    let to = To {
        backend: &backend(address),
        at: 0,
        tls: &tls::Configs::default(),
        limits: &Limits::default(),
    };
    let mut slot = Some(request(body));
    let sent = channels.send(KEY, &to, &mut slot).await;
    sent.map_err(|attempt| attempt.failure)
}

/// Serves each request by a function, in a task of its own.
fn serve<F: Future<Output = ()> + 'static>(
    side: tokio::io::DuplexStream,
    answer: impl Fn(Request<RecvStream>, SendResponse<Bytes>) -> F + 'static,
) {
    tokio::task::spawn_local(async move {
        let mut connection = h2::server::handshake(side).await.unwrap();
        while let Some(Ok((request, respond))) = connection.accept().await {
            tokio::task::spawn_local(answer(request, respond));
        }
    });
}

/// Reads a request's body to its end, or to what broke it.
async fn read(body: &mut RecvStream) -> Result<Vec<u8>, h2::Error> {
    let mut all = Vec::new();
    while let Some(data) = body.data().await {
        let data = data?;
        let _ = body.flow_control().release_capacity(data.len());
        all.extend_from_slice(&data);
    }
    Ok(all)
}

/// Answers with what came, and trailers behind it.
async fn echo(request: Request<RecvStream>, mut respond: SendResponse<Bytes>) {
    let all = read(&mut request.into_body()).await.unwrap();
    let mut to = respond.send_response(Response::new(()), false).unwrap();
    to.send_data(all.into(), false).unwrap();
    let mut trailers = HeaderMap::new();
    trailers.insert("grpc-status", http::HeaderValue::from_static("0"));
    to.send_trailers(trailers).unwrap();
}

/// Pieces that come every second, as many as are there; then nothing, without an end, when it says so.
struct Slow {
    left: usize,
    ends: bool,
    next: Pin<Box<tokio::time::Sleep>>,
}

impl Slow {
    fn body(left: usize, ends: bool) -> OutBody {
        let next = Box::pin(tokio::time::sleep(Duration::from_secs(1)));
        OutBody::Made(Box::new(Self { left, ends, next }))
    }
}

impl Pieces for Slow {
    fn poll(&mut self, cx: &mut Context<'_>) -> Poll<Option<Result<Bytes, BodyError>>> {
        if self.left == 0 {
            return if self.ends {
                Poll::Ready(None)
            } else {
                Poll::Pending
            };
        }
        std::task::ready!(self.next.as_mut().poll(cx));
        self.left -= 1;
        self.next
            .as_mut()
            .reset(Instant::now() + Duration::from_secs(1));
        Poll::Ready(Some(Ok(Bytes::from_static(b"piece"))))
    }
}

fn calls(channels: &Channels) -> usize {
    channels.open.borrow()[&KEY][0].state.calls.get()
}

#[test]
fn bodies_go_whole_or_in_pieces_and_places_are_given_back_with_the_last_byte() {
    on_virtual_clock(async {
        let (channels, side) = connected().await;
        serve(side, echo);
        // More than the other side takes at once.
        let large = Bytes::from(vec![7u8; 300_000]);
        for (body, sent) in [
            (OutBody::Full(Some(large.clone())), large),
            (OutBody::Full(Some("four".into())), "four".into()),
            (OutBody::Empty, Bytes::new()),
            (Slow::body(3, true), "piecepiecepiece".into()),
        ] {
            let answered = call(&channels, body).await.unwrap();
            assert_eq!(calls(&channels), 1);
            let mut body = answered.body;
            let mut came = Vec::new();
            let trailers = loop {
                match body.frame().await.unwrap().unwrap().into_data() {
                    Ok(data) => came.extend_from_slice(&data),
                    Err(frame) => break frame.into_trailers().unwrap(),
                }
            };
            assert!(came == sent, "{} bytes of {}", came.len(), sent.len());
            assert_eq!(trailers["grpc-status"], "0");
            assert_eq!(calls(&channels), 0, "while the body is still held");
        }
    });
}

#[test]
fn whoever_gives_up_a_call_takes_it_back() {
    on_virtual_clock(async {
        let (channels, side) = connected().await;
        let ends = Rc::new(RefCell::new(Vec::new()));
        let seen = ends.clone();
        serve(side, move |request, mut respond| {
            let seen = seen.clone();
            async move {
                let mut to = respond.send_response(Response::new(()), false).unwrap();
                to.send_data("early".into(), false).unwrap();
                let end = read(&mut request.into_body()).await;
                seen.borrow_mut().push(end.err().and_then(|e| e.reason()));
            }
        });
        // Its answer has begun while its request goes on; then the answer is not wanted any more.
        let answered = call(&channels, Slow::body(2, false)).await.unwrap();
        drop(answered);
        tokio::time::sleep(Duration::from_secs(5)).await;
        assert_eq!(*ends.borrow(), [Some(Reason::CANCEL)]);
        assert_eq!(calls(&channels), 0);
    });
}

#[test]
fn a_connection_that_is_dead_is_found_out_and_left() {
    on_virtual_clock(async {
        let (channels, side) = connected().await;
        // The other side reads and says nothing at all.
        tokio::task::spawn_local(async move {
            let (mut read, _write) = tokio::io::split(side);
            let _ = tokio::io::copy(&mut read, &mut tokio::io::sink()).await;
        });
        let start = Instant::now();
        let waiting =
            tokio::time::timeout(Duration::from_secs(600), call(&channels, OutBody::Empty));
        assert!(matches!(waiting.await, Ok(Err(CallFailure::Broken(_)))));
        let found = start.elapsed().as_secs();
        assert!((40..=70).contains(&found), "{found} s");
        // The next one looks for another connection; nobody listens there.
        let next = call(&channels, OutBody::Empty).await;
        assert!(matches!(next, Err(CallFailure::Connect(_))));
    });
}

#[test]
fn a_connection_that_is_idle_is_not_asked() {
    on_virtual_clock(async {
        let (channels, side) = connected().await;
        // Nobody answers there yet.
        tokio::time::sleep(Duration::from_secs(3_600)).await;
        serve(side, echo);
        assert!(call(&channels, OutBody::Empty).await.is_ok());
    });
}

#[test]
fn a_connection_that_takes_no_more_calls_is_left_and_its_calls_go_on() {
    on_virtual_clock(async {
        let (channels, side) = connected().await;
        tokio::task::spawn_local(async move {
            let mut connection = h2::server::handshake(side).await.unwrap();
            let (request, respond) = connection.accept().await.unwrap().unwrap();
            connection.graceful_shutdown();
            tokio::task::spawn_local(echo(request, respond));
            while connection.accept().await.is_some() {}
        });
        let first = call(&channels, Slow::body(3, true));
        let second = async {
            tokio::time::sleep(Duration::from_secs(1)).await;
            call(&channels, OutBody::Empty).await
        };
        let (first, second) = tokio::join!(first, second);
        let body = first.unwrap().body.collect().await.unwrap().to_bytes();
        assert_eq!(body, "piecepiecepiece");
        assert!(matches!(second, Err(CallFailure::Connect(_))));
    });
}
