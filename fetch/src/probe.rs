//! Backends, asked whether they are there: what connects, what is told of TLS, what is answered, and to what.

use std::time::{Duration, Instant};

use ::http::{HeaderMap, HeaderValue, Request, StatusCode};
use bytes::Bytes;
use http_body_util::{BodyExt, Full};
use hyper_util::rt::{TokioExecutor, TokioIo};
use porch_facade::{Address, CompiledBackend, Transport, Trust};
use url::Url;

use crate::http::{Connection, Driver, connect, exchange, told};
use crate::{Allowed, FetchError};

/// An address has so long to answer.
const TIME: Duration = Duration::from_secs(5);

/// What was found of one address.
#[derive(Debug)]
pub struct Probed {
    /// The address, as the backend's document or the environment has it.
    pub address: String,
    /// What was asked.
    pub asked: String,
    /// How it was reached; why it was not.
    pub reached: Result<Reached, FetchError>,
    /// How long it took.
    pub took: Duration,
}

/// An address that answered.
#[derive(Debug)]
pub struct Reached {
    /// Where, and what its certificate says.
    pub connection: Connection,
    /// The status of its answer; for gRPC the status of the call.
    pub status: String,
    /// Whether it refused what it was shown, or asked for something to be shown.
    pub refused: bool,
    /// gRPC: whether it said that it serves; a server that has no health checking says nothing of it.
    pub serves: Option<bool>,
}

impl Reached {
    /// Whether a gRPC server is well: it serves, or is there and tells nothing of its health.
    pub(crate) fn is_well(&self) -> bool {
        self.serves.unwrap_or(true)
    }
}

/// Asks all addresses of a backend at once. HTTP and SOAP backends are asked by GET for the address itself, with what they are
/// shown when they are called; gRPC backends by the method of gRPC's health checking protocol.
pub async fn probe(backend: &CompiledBackend) -> Vec<Probed> {
    let all = backend.addresses.iter();
    let all: Vec<_> = all.map(|address| one(backend, address)).collect();
    let mut probed = Vec::new();
    let mut running = tokio::task::JoinSet::new();
    for (i, asking) in all.into_iter().enumerate() {
        running.spawn(async move { (i, asking.await) });
    }
    while let Some(done) = running.join_next().await {
        probed.extend(done.ok());
    }
    probed.sort_by_key(|(i, _)| *i);
    probed.into_iter().map(|(_, probed)| probed).collect()
}

/// The probe of one address, which needs nothing of the backend once it has begun.
fn one(
    backend: &CompiledBackend,
    address: &Address,
) -> impl Future<Output = Probed> + Send + use<> {
    let shown = format!("{}{}", address.origin(backend.transport), address.path);
    let mut target = match address.path.as_str() {
        "" => "/".to_owned(),
        path => path.to_owned(),
    };
    let mut asked = match backend.transport {
        Transport::Http1 => format!("GET {target}"),
        Transport::Http2 => format!("POST {}{HEALTH}", address.path),
        Transport::Inside => "nothing: it is a facade of this porch".to_owned(),
    };
    if backend.credentials.client.is_some() {
        // Nobody is asked for a token who only wants to know whether somebody is there.
        asked.push_str(" (without a token)");
    }
    target = with_query(target, backend);
    let fields: HeaderMap = backend.credentials.headers.iter().cloned().collect();
    let health = format!("{shown}{HEALTH}");
    let allowed = allowed(backend);
    let (url, transport) = (Url::parse(&shown), backend.transport);
    async move {
        let begun = Instant::now();
        let reached = match (url, transport) {
            (_, Transport::Inside) => {
                let why = "it is a facade of the porch itself";
                Err(FetchError::Address(shown.clone(), why.into()))
            }
            (Err(e), _) => Err(FetchError::Address(shown.clone(), e.to_string())),
            (Ok(url), Transport::Http1) => by_get(&url, &target, fields, &allowed).await,
            (Ok(url), Transport::Http2) => {
                let until = tokio::time::timeout(TIME, by_health(&url, &health, fields, &allowed));
                let late = || FetchError::Answer(shown.clone(), "no answer in time".into());
                until.await.unwrap_or_else(|_| Err(late()))
            }
        };
        Probed {
            address: shown,
            asked,
            reached,
            took: begun.elapsed(),
        }
    }
}

/// A target with the query parameters that calls carry.
pub(crate) fn with_query(mut target: String, backend: &CompiledBackend) -> String {
    for (_, pair) in &backend.credentials.query {
        target.push(if target.contains('?') { '&' } else { '?' });
        target.push_str(pair);
    }
    target
}

/// What is allowed where a backend is asked: it is called there anyhow.
pub(crate) fn allowed(backend: &CompiledBackend) -> Allowed {
    Allowed {
        local: true,
        only_public: false,
        most: 0,
        login: None,
        trust: match &backend.trust {
            Trust::Machine => String::new(),
            Trust::These(pem) => pem.to_string(),
        },
        server_name: backend.server_name.clone().unwrap_or_default(),
        own: backend.credentials.certificate.clone(),
    }
}

async fn by_get(
    url: &Url,
    target: &str,
    fields: HeaderMap,
    allowed: &Allowed,
) -> Result<Reached, FetchError> {
    let bad = |e: ::http::Error| FetchError::Address(url.to_string(), e.to_string());
    let request = Request::get(target).body(Full::default());
    let mut request = request.map_err(bad)?;
    *request.headers_mut() = fields;
    let got = exchange(url, request, allowed, Instant::now() + TIME).await?;
    Ok(Reached {
        connection: got.connection,
        status: got.status.to_string(),
        refused: refuses(got.status),
        serves: None,
    })
}

fn refuses(status: StatusCode) -> bool {
    matches!(status.as_u16(), 401 | 403 | 407)
}

/// The method of gRPC's health checking protocol; a server that does not have it answers so, and is there.
pub(crate) const HEALTH: &str = "/grpc.health.v1.Health/Check";
/// A message without fields, uncompressed (gRPC over HTTP/2, Length-Prefixed-Message).
const NO_FIELDS: &[u8] = &[0, 0, 0, 0, 0];

pub(crate) async fn by_health(
    url: &Url,
    health: &str,
    fields: HeaderMap,
    allowed: &Allowed,
) -> Result<Reached, FetchError> {
    let failed = |what: String| FetchError::Answer(url.to_string(), what);
    let (stream, connection) = connect(url, allowed, TIME, b"h2").await?;
    let executor = TokioExecutor::new();
    let handshake = hyper::client::conn::http2::handshake(executor, TokioIo::new(stream)).await;
    let (mut sender, driver) = handshake.map_err(|e| failed(told(&e)))?;
    let _driver = Driver(tokio::spawn(async move {
        let _ = driver.await;
    }));
    let request = Request::post(health).body(Full::new(Bytes::from_static(NO_FIELDS)));
    let mut request = request.map_err(|e| failed(e.to_string()))?;
    *request.headers_mut() = fields;
    let grpc = HeaderValue::from_static("application/grpc");
    request
        .headers_mut()
        .insert(::http::header::CONTENT_TYPE, grpc);
    request
        .headers_mut()
        .insert(::http::header::TE, HeaderValue::from_static("trailers"));
    let answer = sender.send_request(request).await;
    let (head, mut body) = answer.map_err(|e| failed(told(&e)))?.into_parts();
    let mut status = head.headers.get("grpc-status").cloned();
    let mut room: usize = 64 << 10;
    let mut message = Vec::new();
    while let (None, Some(frame)) = (&status, body.frame().await) {
        let frame = frame.map_err(|e| failed(told(&e)))?;
        match frame.into_trailers() {
            Ok(trailers) => status = trailers.get("grpc-status").cloned(),
            Err(data) => {
                let data = data.into_data().unwrap_or_default();
                match room.checked_sub(data.len()) {
                    Some(left) => room = left,
                    None => break,
                }
                message.extend_from_slice(&data);
            }
        }
    }
    let code = status
        .as_ref()
        .and_then(|s| s.to_str().ok()?.parse::<u8>().ok());
    Ok(Reached {
        connection,
        // UNIMPLEMENTED: it is there.
        serves: (code != Some(12)).then(|| code == Some(0) && serves(&message)),
        status: match code {
            Some(0) if !serves(&message) => "0 OK, and it does not serve".into(),
            Some(0) => "0 OK".into(),
            Some(12) => "12 UNIMPLEMENTED (it is there, and tells nothing of its health)".into(),
            Some(code) => format!("gRPC status {code}"),
            None => format!("{} without a gRPC status", head.status),
        },
        // PERMISSION_DENIED and UNAUTHENTICATED.
        refused: matches!(code, Some(7 | 16)) || refuses(head.status),
    })
}

/// Whether a message of a `HealthCheckResponse` says SERVING: 1, in the field 1 (`grpc/health/v1/health.proto`).
fn serves(message: &[u8]) -> bool {
    message.get(5..).is_some_and(|m| m.starts_with(&[0x08, 1]))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_server_serves_where_its_message_says_so() {
        for (message, is_so) in [
            (&[0, 0, 0, 0, 2, 8, 1][..], true),
            (&[0, 0, 0, 0, 2, 8, 2], false),
            (&[0, 0, 0, 0, 0], false),
            (&[], false),
        ] {
            assert_eq!(serves(message), is_so, "{message:?}");
        }
    }
}
