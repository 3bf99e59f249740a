//! One exchange by HTTP/1.1 (RFC 9112), bounded in size and time: to addresses that were looked at before, by TLS where the
//! address says so.

use std::io;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::{Duration, Instant};

use bytes::Bytes;
use http::{HeaderMap, HeaderValue, Request, StatusCode, header};
use http_body_util::{BodyExt, Full};
use hyper_util::rt::TokioIo;
use porch_tls::{Roots, Shown};
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::TcpStream;
use tokio_rustls::TlsConnector;
use tokio_rustls::client::TlsStream;
use url::Url;

use crate::{Allowed, FetchError, MAX_FILE, addresses, check, shown};

/// What was seen of a connection.
#[derive(Clone, Debug)]
pub struct Connection {
    /// The address that answered.
    pub address: SocketAddr,
    /// The version of TLS; empty without it.
    pub tls: String,
    /// The server's certificate.
    pub certificate: Option<Shown>,
}

/// An answer, read to its end.
#[derive(Debug)]
pub struct Got {
    /// Its status.
    pub status: StatusCode,
    /// Its header fields.
    pub fields: HeaderMap,
    /// Its body.
    pub body: Vec<u8>,
    /// Where it came from.
    pub connection: Connection,
}

pub(crate) trait Stream: AsyncRead + AsyncWrite + Unpin + Send {}
impl<T: AsyncRead + AsyncWrite + Unpin + Send> Stream for T {}

/// Carries out one exchange with a server by HTTP/1.1, within so much time; no redirect is followed.
///
/// # Errors
/// When there is no answer, or no whole one.
pub async fn call(
    address: &str,
    request: Request<Bytes>,
    allowed: &Allowed,
    within: Duration,
) -> Result<Got, FetchError> {
    let url =
        Url::parse(address).map_err(|e| FetchError::Address(address.to_owned(), e.to_string()))?;
    let request = request.map(Full::new);
    exchange(&url, request, allowed, Instant::now() + within).await
}

/// Carries out one exchange; no redirect is followed.
pub(crate) async fn exchange(
    url: &Url,
    request: Request<Full<Bytes>>,
    allowed: &Allowed,
    until: Instant,
) -> Result<Got, FetchError> {
    let left = until.saturating_duration_since(Instant::now());
    let late = || FetchError::Answer(shown(url), "no answer in time".into());
    let exchanged = exchanged(url, request, allowed, left);
    tokio::time::timeout(left, exchanged)
        .await
        .map_err(|_| late())?
}

async fn exchanged(
    url: &Url,
    mut request: Request<Full<Bytes>>,
    allowed: &Allowed,
    left: Duration,
) -> Result<Got, FetchError> {
    let failed = |what: String| FetchError::Answer(shown(url), what);
    let (stream, connection) = connect(url, allowed, left, b"http/1.1").await?;
    if !request.headers().contains_key(header::HOST) {
        let authority = authority(url);
        let value = HeaderValue::from_str(&authority).map_err(|e| failed(e.to_string()))?;
        request.headers_mut().insert(header::HOST, value);
    }
    let (mut sender, driver) = hyper::client::conn::http1::handshake(TokioIo::new(stream))
        .await
        .map_err(|e| failed(e.to_string()))?;
    let driver = Driver(tokio::spawn(async move {
        // What ends it is told by the exchange.
        let _ = driver.await;
    }));
    let answer = sender
        .send_request(request)
        .await
        .map_err(|e| failed(told(&e)))?;
    let (head, mut body) = answer.into_parts();
    let most = match allowed.most {
        0 => MAX_FILE,
        own => own,
    };
    let mut bytes = Vec::new();
    while let Some(frame) = body.frame().await {
        let frame = frame.map_err(|e| failed(told(&e)))?;
        if let Some(data) = frame.data_ref() {
            if bytes.len() + data.len() > most {
                let what = format!("more than {most} bytes");
                return Err(FetchError::TooMuch(shown(url), what));
            }
            bytes.extend_from_slice(data);
        }
    }
    drop(driver);
    Ok(Got {
        status: head.status,
        fields: head.headers,
        body: bytes,
        connection,
    })
}

/// The task that drives a connection, which ends with the exchange.
pub(crate) struct Driver(pub(crate) tokio::task::JoinHandle<()>);

impl Drop for Driver {
    fn drop(&mut self) {
        self.0.abort();
    }
}

/// Why an exchange broke off, without the client's own words around it.
pub(crate) fn told(error: &hyper::Error) -> String {
    let mut deepest: &dyn std::error::Error = error;
    while let Some(source) = deepest.source() {
        deepest = source;
    }
    match error.is_incomplete_message() {
        true => "it closed the connection before its answer was whole".into(),
        false => deepest.to_string(),
    }
}

fn authority(url: &Url) -> String {
    let host = url.host_str().unwrap_or_default();
    match url.port() {
        Some(port) => format!("{host}:{port}"),
        None => host.to_owned(),
    }
}

/// Connects to the first address that takes it. Nothing is sent before the certificate was checked.
pub(crate) async fn connect(
    url: &Url,
    allowed: &Allowed,
    left: Duration,
    protocol: &[u8],
) -> Result<(Box<dyn Stream>, Connection), FetchError> {
    check(url)?;
    let failed = |what: String| FetchError::Answer(shown(url), what);
    let host = url.host_str().unwrap_or_default();
    let host = host.trim_matches(['[', ']']).to_owned();
    let port = url.port_or_known_default().unwrap_or(80);
    let found = addresses(url, (&host, port), left, allowed).await?;
    let mut stream = Err(io::Error::other("there is no such host"));
    for address in &found {
        // The connection goes to what was looked at, whatever the name means a moment later.
        stream = TcpStream::connect(address).await.map(|s| (s, *address));
        if stream.is_ok() {
            break;
        }
    }
    let (stream, address) = stream.map_err(|e| {
        failed(match e.kind() {
            io::ErrorKind::ConnectionRefused => "nothing answers there".into(),
            _ => format!("it cannot be reached: {e}"),
        })
    })?;
    let _ = stream.set_nodelay(true);
    let mut connection = Connection {
        address,
        tls: String::new(),
        certificate: None,
    };
    if url.scheme() != "https" {
        return Ok((Box::new(stream), connection));
    }
    let stream = secured(url, (&host, protocol), stream, allowed).await?;
    let (_, session) = stream.get_ref();
    let version = session.protocol_version();
    connection.tls = version
        .and_then(|v| v.as_str())
        .unwrap_or("TLS")
        .replace('v', " ")
        .replace('_', ".");
    let chain = session.peer_certificates();
    connection.certificate = chain.and_then(|c| porch_tls::shown(c.first()?));
    Ok((Box::new(stream), connection))
}

async fn secured(
    url: &Url,
    (host, protocol): (&str, &[u8]),
    stream: TcpStream,
    allowed: &Allowed,
) -> Result<TlsStream<TcpStream>, FetchError> {
    let failed = |what: String| FetchError::Answer(shown(url), what);
    let roots = match allowed.trust.as_str() {
        "" => Roots::Machine,
        pem => Roots::These(pem),
    };
    let own = allowed.own.as_ref().map(|o| porch_tls::Own {
        chain: &o.chain,
        key: &o.key,
    });
    let host = match allowed.server_name.as_str() {
        "" => host,
        name => name,
    };
    let config = porch_tls::client(roots, &[protocol], own)
        .map_err(|e| failed(format!("what is trusted cannot be used: {e}")))?;
    let name = rustls_pki_types::ServerName::try_from(host.to_owned())
        .map_err(|e| failed(format!("no certificate can be for it: {e}")))?;
    let connector = TlsConnector::from(Arc::new(config));
    connector.connect(name, stream).await.map_err(|e| {
        let why = e
            .get_ref()
            .map_or_else(|| e.to_string(), ToString::to_string);
        match why.contains("certificate") || why.contains("Certificate") {
            true => FetchError::Certificate(shown(url), why),
            false => failed(format!("TLS failed: {why}")),
        }
    })
}
