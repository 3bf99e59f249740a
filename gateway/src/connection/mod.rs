//! Callers' connections: HTTP/1.1, and HTTP/2 by prior knowledge.

mod line;
mod paced;
pub(crate) mod proxies;
mod socket;
mod stalled;
#[cfg(test)]
mod tests;
mod through;

use std::convert::Infallible;
use std::net::IpAddr;
use std::rc::Rc;
use std::sync::Arc;
use std::task::Poll;
use std::time::Duration;

use arc_swap::Cache;
use http::{Request, Response, header};
use hyper::body::Incoming;
use hyper::server::conn::{http1, http2};
use hyper::service::{Service, service_fn};
use hyper_util::rt::{TokioIo, TokioTimer};
use porch_tls::{AskCallers, OfCaller};
use tokio::net::TcpStream;
use tokio::sync::watch;
use tokio_rustls::TlsAcceptor;

use crate::body::{InBody, ReplyBody};
use crate::exchange::state::Mode;
use crate::exchange::{Origin, ShownCertificate, run};
use crate::stage;
use crate::worker::Worker;
pub(crate) use line::CallersBody;
use line::{Line, Socket};
pub use paced::Paced;
use socket::CallersSocket;
use stalled::Streams;

/// Heads of requests may have at most so many bytes.
const MAX_HEADERS: u32 = 64 << 10;
/// A connection may carry so many exchanges at the same time.
const MAX_STREAMS: u32 = 256;
/// How much of a body may be on its way unread: of one exchange, and of all of a connection.
const STREAM_WINDOW: u32 = 1 << 20;
const CONNECTION_WINDOW: u32 = 4 << 20;
const KEEP_ALIVE: Duration = Duration::from_secs(30);
/// How long a head, or the answer to a ping, may take.
const PATIENCE: Duration = Duration::from_secs(10);

/// How callers come in at one address.
#[derive(Clone)]
pub(crate) enum Door {
    /// As they are.
    Plain,
    /// They are told to come by TLS, at this port.
    Elsewhere(u16),
    /// By TLS; whether they are asked for certificates hangs on what is served.
    Secure(TlsAcceptor, Arc<AskCallers>),
}

/// Serves one connection until it ends, or the gateway stops.
pub(crate) async fn connection(
    worker: Rc<Worker>,
    stream: TcpStream,
    peer: IpAddr,
    door: Door,
    stop: watch::Receiver<bool>,
) {
    let _ = stream.set_nodelay(true);
    let mut certificate = None;
    let begun = match &door {
        Door::Secure(acceptor, asks) => {
            asks.want(worker.shared.porch.load().takes_certificates);
            let Some(shaken) = shaken(acceptor, stream).await else {
                return;
            };
            certificate = shaken.1;
            shaken.0
        }
        Door::Plain | Door::Elsewhere(_) => {
            // HTTP/2 without an upgrade begins with its preface (RFC 9113 §3.3); no HTTP/1 request does.
            let mut first = [0u8; 24];
            let peeked = tokio::time::timeout(PATIENCE, begins(&stream, &mut first)).await;
            let Ok(Some(is_http2)) = peeked else { return };
            (CallersSocket::Plain(stream), is_http2)
        }
    };
    let (stream, is_http2) = begun;
    let elsewhere = match door {
        Door::Elsewhere(port) => Some(port),
        _ => None,
    };
    let is_secure = matches!(door, Door::Secure(..));
    let origin = Origin::of(peer).by_tls(is_secure);
    let origin = Rc::new(origin.showing(certificate));
    let cache = std::cell::RefCell::new(Cache::new(&worker.shared.porch));
    let of_proxy = worker.proxies.trusts(peer);
    let exchange = |request: Request<CallersBody>| {
        let worker = worker.clone();
        let origin = match of_proxy {
            true => worker.proxies.origin(peer, is_secure, request.headers()),
            false => origin.clone(),
        };
        let porch = cache.borrow_mut().load().clone();
        async move {
            // Whoever came to a proxy by TLS came by TLS.
            if let Some(port) = elsewhere.filter(|_| !origin.is_secure()) {
                return Ok::<_, Infallible>(by_tls(request.map(drop), port));
            }
            if worker.is_full() {
                return Ok(overloaded());
            }
            let request = request.map(InBody::Incoming);
            if through::may_be(&porch, &request) {
                let carried = through::carried(worker, porch, request, origin);
                return Ok(Box::pin(carried).await);
            }
            let (response, _) = run(&worker, &porch, request, &origin, Mode::Live).await;
            Ok(response)
        }
    };
    if is_http2 {
        let service = service_fn(|r: Request<Incoming>| exchange(r.map(CallersBody::of_stream)));
        return streams(TokioIo::new(Paced::new(stream)), service, stop).await;
    }
    let line = Line::new(stream, PATIENCE);
    let service = service_fn(|r: Request<Incoming>| exchange(r.map(|body| line.begin(body))));
    requests(&line, service, stop).await;
}

/// What a handshake came to: the connection, whether HTTP/2 was chosen, and the certificate that was shown.
type Shaken = ((CallersSocket, bool), Option<Rc<ShownCertificate>>);

/// Carries out a handshake. What goes wrong in it is told to the caller by an alert (RFC 8446 §6.2).
async fn shaken(acceptor: &TlsAcceptor, stream: TcpStream) -> Option<Shaken> {
    let accepted = tokio::time::timeout(PATIENCE, acceptor.accept(stream)).await;
    let stream = accepted.ok()?.ok()?;
    let session = stream.get_ref().1;
    let is_http2 = session.alpn_protocol() == Some(HTTP2);
    let chain = session.peer_certificates();
    let certificate = chain.map(|chain| ShownCertificate::of(OfCaller::read(chain)));
    Some((
        (CallersSocket::Secure(Box::new(stream)), is_http2),
        certificate,
    ))
}

/// Serves a connection of HTTP/1.1.
async fn requests<S>(line: &Rc<Line>, service: S, mut stop: watch::Receiver<bool>)
where
    S: Service<Request<Incoming>, Response = Response<ReplyBody>, Error = Infallible>,
{
    let mut builder = http1::Builder::new();
    // The line itself sees to it that a caller who ends the connection is not answered any more.
    builder.half_close(true).max_buf_size(MAX_HEADERS as usize);
    let connection = builder.serve_connection(TokioIo::new(Socket(line.clone())), service);
    let mut connection = std::pin::pin!(connection);
    let state = stop.clone();
    let mut stopped = std::pin::pin!(stop.wait_for(|s| *s));
    let (mut waits, mut ends) = (false, false);
    std::future::poll_fn(|cx| {
        // What waits for the stop once is woken by it: there is no need to ask again in each turn.
        if !ends && (!waits || state.has_changed().unwrap_or(true)) {
            waits = true;
            if stopped.as_mut().poll(cx).is_ready() {
                ends = true;
                connection.as_mut().graceful_shutdown();
            }
        }
        // What goes wrong on a caller's connection is the caller's business.
        if connection.as_mut().poll(cx).is_ready() || line.is_left(cx) {
            Poll::Ready(())
        } else {
            Poll::Pending
        }
    })
    .await;
}

/// Runs the tasks of a connection on the worker's own thread.
#[derive(Clone, Copy, Debug)]
struct Local;

impl<F: Future + 'static> hyper::rt::Executor<F> for Local {
    fn execute(&self, future: F) {
        tokio::task::spawn_local(async move {
            future.await;
        });
    }
}

/// Serves a connection of HTTP/2, and looks after its streams.
async fn streams<S>(io: TokioIo<Paced<CallersSocket>>, service: S, mut stop: watch::Receiver<bool>)
where
    S: Service<Request<Incoming>, Response = Response<ReplyBody>, Error = Infallible>,
    S::Future: 'static,
{
    let mut builder = http2::Builder::new(Local);
    builder
        .timer(TokioTimer::new())
        .max_concurrent_streams(MAX_STREAMS)
        .max_header_list_size(MAX_HEADERS)
        .initial_stream_window_size(STREAM_WINDOW)
        .initial_connection_window_size(CONNECTION_WINDOW)
        .keep_alive_interval(KEEP_ALIVE)
        .keep_alive_timeout(PATIENCE);
    let streams = Rc::new(Streams::default());
    let of_connection = streams.clone();
    let watching = service_fn(move |request| {
        let (served, streams) = (service.call(request), of_connection.clone());
        async move { served.await.map(|r| r.map(|body| streams.watch(body))) }
    });
    let mut connection = std::pin::pin!(builder.serve_connection(io, watching));
    tokio::select! {
        _ = connection.as_mut() => return,
        () = streams.look() => {}
        _ = stop.wait_for(|s| *s) => connection.as_mut().graceful_shutdown(),
    }
    tokio::select! {
        _ = connection => {}
        () = streams.look() => {}
    }
}

/// The protocols that callers may choose by TLS, and HTTP/2 among them (RFC 7301 §6, RFC 9113 §3.2).
pub(crate) const PROTOCOLS: [&[u8]; 2] = [HTTP2, b"http/1.1"];
const HTTP2: &[u8] = b"h2";

/// The same by TLS: the method and the body stay what they are (RFC 9110 §15.4.9).
fn by_tls(request: Request<()>, port: u16) -> Response<ReplyBody> {
    let (mut parts, ()) = request.into_parts();
    let mut response = Response::new(ReplyBody::Full(None));
    let host = match stage::sound(&mut parts) {
        Ok(_) => parts
            .headers
            .get(header::HOST)
            .and_then(|h| h.to_str().ok()),
        Err(_) => None,
    };
    let Some(host) = host else {
        *response.status_mut() = http::StatusCode::BAD_REQUEST;
        return response;
    };
    // The port of a name, or of an address in brackets.
    let bare = match host.rfind(':').filter(|at| !host[*at..].contains(']')) {
        Some(at) => &host[..at],
        None => host,
    };
    let port = if port == 443 {
        String::new()
    } else {
        format!(":{port}")
    };
    let path = parts.uri.path_and_query().map_or("/", |p| p.as_str());
    let path = if path.starts_with('/') { path } else { "/" };
    let to = http::HeaderValue::from_str(&format!("https://{bare}{port}{path}"));
    match to {
        Ok(to) => {
            *response.status_mut() = http::StatusCode::PERMANENT_REDIRECT;
            response.headers_mut().insert(header::LOCATION, to);
        }
        Err(_) => *response.status_mut() = http::StatusCode::BAD_REQUEST,
    }
    response
}

const PREFACE: &[u8; 24] = b"PRI * HTTP/2.0\r\n\r\nSM\r\n\r\n";

/// Whether a connection begins with HTTP/2's preface; `None` when it ends before that is clear.
async fn begins(stream: &TcpStream, first: &mut [u8; 24]) -> Option<bool> {
    let mut wait = Duration::from_millis(1);
    loop {
        let n = stream.peek(first).await.ok().filter(|n| *n > 0)?;
        if first[..n] != PREFACE[..n] {
            return Some(false);
        }
        if n == PREFACE.len() {
            return Some(true);
        }
        // What is there stays there, so waiting for it to be readable would not wait.
        // Whoever sends a byte at a time is looked at less and less often.
        tokio::time::sleep(wait).await;
        wait = (wait * 2).min(Duration::from_millis(500));
    }
}

fn overloaded() -> Response<ReplyBody> {
    let text = r#"{"type":"urn:elm-porch:problem:overloaded","title":"Overloaded","status":503,"detail":"Too many exchanges are under way. Try again in a second."}"#;
    let mut response = Response::new(ReplyBody::Full(Some(bytes::Bytes::from_static(
        text.as_bytes(),
    ))));
    *response.status_mut() = http::StatusCode::SERVICE_UNAVAILABLE;
    response.headers_mut().insert(
        header::CONTENT_TYPE,
        http::HeaderValue::from_static("application/problem+json"),
    );
    response
        .headers_mut()
        .insert(header::RETRY_AFTER, http::HeaderValue::from_static("1"));
    response
}
