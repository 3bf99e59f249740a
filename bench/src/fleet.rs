//! The gRPC backend of the benchmarks: answers that were made once, sent at once.
//!
//! `bench-fleet PORT`: `GetVessel` (about 1 KB), `ListVessels` (10,000 elements), `StreamPositions` (1,000 messages).

use std::convert::Infallible;

use bytes::{BufMut, Bytes, BytesMut};
use http_body::Frame;
use http_body_util::{BodyExt, StreamBody};
use hyper::body::Incoming;
use hyper::header::HeaderValue;
use hyper::service::service_fn;
use hyper::{HeaderMap, Request, Response};
use hyper_util::rt::{TokioExecutor, TokioIo};
use porch_bench::vessel;
use porch_standins::vessels::pb::skerry::fleet::v1::{ListVesselsResponse, Position};
use prost::Message;

type Frames = std::vec::IntoIter<Result<Frame<Bytes>, Infallible>>;

fn framed(message: &impl Message) -> Bytes {
    let mut out = BytesMut::new();
    out.put_u8(0);
    out.put_u32(message.encoded_len() as u32);
    // A buffer that grows takes every message.
    let _ = message.encode(&mut out);
    out.freeze()
}

#[tokio::main(flavor = "current_thread")]
async fn main() -> std::io::Result<()> {
    let port: u16 = std::env::args()
        .nth(1)
        .and_then(|p| p.parse().ok())
        .unwrap_or(3874);
    let answers = Answers::new();
    let listener = tokio::net::TcpListener::bind(("127.0.0.1", port)).await?;
    loop {
        let (socket, _) = listener.accept().await?;
        let _ = socket.set_nodelay(true);
        let answers = answers.clone();
        tokio::spawn(async move {
            let service = service_fn(move |request: Request<Incoming>| {
                let answers = answers.clone();
                async move {
                    let path = request.uri().path().to_owned();
                    let _ = request.into_body().collect().await;
                    Ok::<_, Infallible>(answers.to(&path))
                }
            });
            let mut builder = hyper::server::conn::http2::Builder::new(TokioExecutor::new());
            builder
                .initial_stream_window_size(1 << 20)
                .initial_connection_window_size(8 << 20)
                .max_concurrent_streams(1024);
            let _ = builder
                .serve_connection(TokioIo::new(socket), service)
                .await;
        });
    }
}

/// What each method gives, framed beforehand.
#[derive(Clone)]
struct Answers {
    one: Bytes,
    many: Bytes,
    stream: Vec<Bytes>,
}

impl Answers {
    fn new() -> Self {
        let position = |i: usize| Position {
            vessel: format!("vessels/v{}", i % 40),
            latitude: 61.2 + i as f64 / 1000.0,
            longitude: 6.1,
            speed: 9.5,
            time: Some(prost_types::Timestamp {
                seconds: 1_793_000_000 + i as i64,
                nanos: 0,
            }),
        };
        let positions: Vec<Bytes> = (0..1000).map(|i| framed(&position(i))).collect();
        Self {
            one: framed(&vessel(1, 16)),
            many: framed(&ListVesselsResponse {
                vessels: (0..10_000).map(|i| vessel(i, 1)).collect(),
                next_page_token: String::new(),
                total: 10_000,
            }),
            // Thirty-two messages a piece, as a busy connection carries them.
            stream: positions
                .chunks(32)
                .map(|c| Bytes::from(c.concat()))
                .collect(),
        }
    }

    fn to(&self, path: &str) -> Response<StreamBody<tokio_stream::Iter<Frames>>> {
        let pieces = if path.ends_with("/ListVessels") {
            vec![self.many.clone()]
        } else if path.ends_with("/StreamPositions") {
            self.stream.clone()
        } else {
            vec![self.one.clone()]
        };
        let trailers = Frame::trailers(HeaderMap::from_iter([(
            hyper::header::HeaderName::from_static("grpc-status"),
            HeaderValue::from_static("0"),
        )]));
        let frames: Vec<Result<Frame<Bytes>, Infallible>> = pieces
            .into_iter()
            .map(Frame::data)
            .chain([trailers])
            .map(Ok)
            .collect();
        let frames: Frames = frames.into_iter();
        let mut response = Response::new(StreamBody::new(tokio_stream::iter(frames)));
        response
            .headers_mut()
            .insert("content-type", HeaderValue::from_static("application/grpc"));
        response
    }
}
