//! The console's listener: bounded in connections, in time for a request's head, in the rates of sending and reading.

use std::convert::Infallible;
use std::net::SocketAddr;
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};
use std::time::Duration;

use axum::Router;
use axum::body::Body;
use axum::extract::ConnectInfo;
use http_body::{Frame, SizeHint};
use hyper::body::Incoming;
use hyper::server::conn::http1;
use hyper::service::service_fn;
use hyper_util::rt::{TokioIo, TokioTimer};
use porch_gateway::{Pace, Paced};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::{Semaphore, watch};
use tower::ServiceExt;

/// How long the head of a request may take, the first one and every one after an answer.
const HEAD: Duration = Duration::from_secs(if cfg!(test) { 1 } else { 10 });
/// How long open requests may take to end when the service stops.
const DRAIN: Duration = Duration::from_secs(5);

/// Serves until `stop` is done, at most so many connections at the same time: more of them wait.
pub(crate) async fn serve(
    listener: TcpListener,
    router: Router,
    connections: usize,
    stop: impl Future<Output = ()>,
) {
    let places = Arc::new(Semaphore::new(connections.max(1)));
    let (stopping, watch) = watch::channel(false);
    let mut stop = std::pin::pin!(stop);
    loop {
        // A place first: who finds none waits in the queue of the system.
        let next = async {
            let place = places.clone().acquire_owned().await.ok();
            (place, listener.accept().await)
        };
        let (place, accepted) = tokio::select! {
            next = next => next,
            () = stop.as_mut() => break,
        };
        match accepted {
            Ok((stream, peer)) => {
                let (router, watch) = (router.clone(), watch.clone());
                tokio::spawn(async move {
                    connection(stream, peer, router, watch).await;
                    drop(place);
                });
            }
            // Out of file descriptors, say: wait a little for some to come free.
            Err(_) => tokio::time::sleep(Duration::from_millis(20)).await,
        }
    }
    let _ = stopping.send(true);
    let all = u32::try_from(connections.max(1)).unwrap_or(u32::MAX);
    let _ = tokio::time::timeout(DRAIN, places.acquire_many(all)).await;
}

async fn connection(
    stream: TcpStream,
    peer: SocketAddr,
    router: Router,
    mut stop: watch::Receiver<bool>,
) {
    let _ = stream.set_nodelay(true);
    let service = service_fn(move |request: http::Request<Incoming>| {
        let mut request = request.map(|body| Body::new(PacedBody(body, Pace::new())));
        request.extensions_mut().insert(ConnectInfo(peer));
        let router = router.clone();
        async move { Ok::<_, Infallible>(router.oneshot(request).await.unwrap_or_else(|e| match e {})) }
    });
    let mut builder = http1::Builder::new();
    builder
        .timer(TokioTimer::new())
        .header_read_timeout(HEAD)
        .max_buf_size(64 << 10);
    let io = TokioIo::new(Paced::new(stream));
    let mut connection = std::pin::pin!(builder.serve_connection(io, service));
    tokio::select! {
        _ = connection.as_mut() => return,
        _ = stop.wait_for(|s| *s) => connection.as_mut().graceful_shutdown(),
    }
    let _ = connection.await;
}

/// A request's body that must move at a least rate.
struct PacedBody(Incoming, Pace);

/// The caller sends too slowly.
#[derive(Debug, thiserror::Error)]
#[error("the body did not arrive in time")]
struct TooSlow;

impl http_body::Body for PacedBody {
    type Data = bytes::Bytes;
    type Error = Box<dyn std::error::Error + Send + Sync>;

    fn poll_frame(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
    ) -> Poll<Option<Result<Frame<Self::Data>, Self::Error>>> {
        match Pin::new(&mut self.0).poll_frame(cx) {
            Poll::Ready(Some(Ok(frame))) => {
                let bytes = frame.data_ref().map_or(0, bytes::Bytes::len);
                self.1.moved(bytes);
                Poll::Ready(Some(Ok(frame)))
            }
            Poll::Ready(Some(Err(e))) => Poll::Ready(Some(Err(e.into()))),
            Poll::Ready(None) => Poll::Ready(None),
            Poll::Pending if self.1.is_over(cx) => Poll::Ready(Some(Err(TooSlow.into()))),
            Poll::Pending => Poll::Pending,
        }
    }

    fn is_end_stream(&self) -> bool {
        self.0.is_end_stream()
    }

    fn size_hint(&self) -> SizeHint {
        self.0.size_hint()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use axum::routing::{get, post};
    use tokio::io::{AsyncReadExt, AsyncWriteExt};

    async fn started(
        connections: usize,
    ) -> (
        SocketAddr,
        tokio::sync::oneshot::Sender<()>,
        tokio::task::JoinHandle<()>,
    ) {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let address = listener.local_addr().unwrap();
        let peer =
            |ConnectInfo(peer): ConnectInfo<SocketAddr>| async move { peer.ip().to_string() };
        let length = |text: String| async move { text.len().to_string() };
        let router = Router::new()
            .route("/peer", get(peer))
            .route("/length", post(length));
        let (stop, stopped) = tokio::sync::oneshot::channel();
        let stopped = async move {
            let _ = stopped.await;
        };
        let served = tokio::spawn(serve(listener, router, connections, stopped));
        (address, stop, served)
    }

    async fn asked(stream: &mut TcpStream, request: &str, end: &str) -> String {
        stream.write_all(request.as_bytes()).await.unwrap();
        let (mut seen, mut byte) = (String::new(), [0]);
        while !seen.ends_with(end) && stream.read(&mut byte).await.is_ok_and(|n| n > 0) {
            seen.push(byte[0] as char);
        }
        seen
    }

    #[tokio::test]
    async fn more_connections_than_there_may_be_wait_and_all_end_with_the_service() {
        let (address, stop, served) = started(1).await;
        let get = "GET /peer HTTP/1.1\r\nHost: x\r\n\r\n";
        let mut first = TcpStream::connect(address).await.unwrap();
        assert!(asked(&mut first, get, "127.0.0.1").await.contains("200 OK"));
        let mut second = TcpStream::connect(address).await.unwrap();
        let waiting = asked(&mut second, get, "127.0.0.1");
        let early = tokio::time::timeout(Duration::from_millis(50), waiting).await;
        assert!(early.is_err(), "{early:?}");
        drop(first);
        assert!(asked(&mut second, "", "127.0.0.1").await.contains("200 OK"));
        stop.send(()).unwrap();
        served.await.unwrap();
        assert!(TcpStream::connect(address).await.is_err());
    }

    #[tokio::test]
    async fn the_service_stops_although_every_place_is_taken() {
        let (address, stop, served) = started(1).await;
        let mut only = TcpStream::connect(address).await.unwrap();
        let get = "GET /peer HTTP/1.1\r\nHost: x\r\n\r\n";
        assert!(asked(&mut only, get, "127.0.0.1").await.contains("200 OK"));
        stop.send(()).unwrap();
        served.await.unwrap();
        // The connection had nothing to end.
        assert_eq!(asked(&mut only, "", "\0").await, "");
    }

    #[tokio::test]
    async fn heads_and_bodies_that_do_not_come_are_given_up() {
        let (address, _stop, _served) = started(8).await;
        // The clock runs by itself from here: whatever waits for time alone is woken at once.
        tokio::time::pause();
        let mut half = TcpStream::connect(address).await.unwrap();
        let none = asked(&mut half, "GET /peer HT", "\0").await;
        assert!(!none.contains("200"), "{none}");
        let mut body = TcpStream::connect(address).await.unwrap();
        let head = "POST /length HTTP/1.1\r\nHost: x\r\nContent-Length: 10\r\n\r\n12";
        let refused = asked(&mut body, head, "\0").await;
        assert!(refused.contains(" 400 "), "{refused}");
    }
}
