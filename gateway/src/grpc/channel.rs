//! Connections to gRPC backends: HTTP/2, one a worker and address, shared by all calls.

use std::cell::{Cell, RefCell};
use std::collections::HashMap;
use std::sync::Arc;
use std::time::{Duration, Instant};

use http::uri::Authority;
use http::{Request, Response, Uri};
use hyper::body::Incoming;
use hyper::client::conn::http2::{self, SendRequest};
use hyper_util::rt::{TokioIo, TokioTimer};
use porch_facade::{CompiledBackend, Trust};
use rustls_pki_types::ServerName;
use rustls_pki_types::pem::PemObject;
use tokio::net::TcpStream;
use tokio_rustls::TlsConnector;
use tokio_rustls::rustls::{ClientConfig, RootCertStore};

use super::deepest;
use crate::pool::CallFailure;
use crate::request_body::OutBody;

const CONNECT: Duration = Duration::from_secs(5);
/// How much may be on its way to us unread: of one call, and of all calls of a connection.
const STREAM_WINDOW: u32 = 1 << 20;
const CONNECTION_WINDOW: u32 = 8 << 20;

/// Runs the tasks of a connection on the worker's own thread.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Local;

impl<F: Future + 'static> hyper::rt::Executor<F> for Local {
    fn execute(&self, future: F) {
        tokio::task::spawn_local(async move {
            future.await;
        });
    }
}

type Tls = (Trust, Arc<ClientConfig>);

/// The connections of one worker.
#[derive(Default)]
pub(crate) struct Channels {
    open: RefCell<HashMap<Box<str>, SendRequest<OutBody>>>,
    tls: RefCell<Vec<Tls>>,
    turn: Cell<usize>,
    /// Addresses that took no connection, and when.
    down: RefCell<HashMap<Box<str>, Instant>>,
}

/// An address that took no connection is left alone for so long, while there are others.
const DOWN: Duration = Duration::from_secs(5);

impl Channels {
    /// Sends a request to one of a backend's addresses, taking turns, and waits for the head of its answer. An address
    /// that takes no connection is passed over: nothing was sent to it.
    pub(crate) async fn send(
        &self,
        backend: &CompiledBackend,
        request: Request<OutBody>,
    ) -> Result<Response<Incoming>, CallFailure> {
        let turn = self.turn.get();
        self.turn.set(turn.wrapping_add(1));
        let count = backend.addresses.len().max(1);
        let (mut request, mut last) = (
            Some(request),
            CallFailure::Connect("it has no address".into()),
        );
        // Each address once, and the first once more: its old connection may have been closed behind our back.
        let mut order: Vec<&str> = (0..=count)
            .filter_map(|i| backend.addresses.get((turn + i) % count))
            .map(String::as_str)
            .collect();
        if count > 1 {
            let down = self.down.borrow();
            order.sort_by_key(|a| down.get(*a).is_some_and(|since| since.elapsed() < DOWN));
        }
        for authority in order {
            let Some(mut one) = request.take() else { break };
            let mut sender = match self.channel(backend, authority).await {
                Ok(sender) => sender,
                Err(failure) => {
                    self.down
                        .borrow_mut()
                        .insert(authority.into(), Instant::now());
                    last = failure;
                    request = Some(one);
                    continue;
                }
            };
            address(&mut one, authority, backend);
            match sender.try_send_request(one).await {
                Ok(answer) => return Ok(answer),
                Err(mut e) => {
                    let unsent = e.take_message();
                    last = CallFailure::Broken {
                        reused: true,
                        unsent: None,
                        what: deepest(e.error()),
                    };
                    self.open.borrow_mut().retain(|_, s| !s.is_closed());
                    request = unsent;
                }
            }
        }
        Err(last)
    }

    /// Lets go of a backend's connections: calls on them go on, new ones get others. For when one gave no answer in time,
    /// and may be dead.
    pub(crate) fn forget(&self, backend: &CompiledBackend) {
        self.open
            .borrow_mut()
            .retain(|authority, _| !backend.addresses.iter().any(|a| **a == **authority));
    }

    async fn channel(
        &self,
        backend: &CompiledBackend,
        authority: &str,
    ) -> Result<SendRequest<OutBody>, CallFailure> {
        let known = self
            .open
            .borrow()
            .get(authority)
            .filter(|s| !s.is_closed())
            .cloned();
        if let Some(mut sender) = known
            && sender.ready().await.is_ok()
        {
            return Ok(sender);
        }
        let sender = self.connect(backend, authority).await?;
        self.open
            .borrow_mut()
            .insert(authority.into(), sender.clone());
        Ok(sender)
    }

    async fn connect(
        &self,
        backend: &CompiledBackend,
        authority: &str,
    ) -> Result<SendRequest<OutBody>, CallFailure> {
        let failed = |e: &dyn std::error::Error| CallFailure::Connect(deepest(e));
        let with_port = if authority
            .rsplit_once(':')
            .is_some_and(|(_, p)| p.parse::<u16>().is_ok())
        {
            authority.to_owned()
        } else {
            format!(
                "{authority}:{}",
                if backend.tls.is_some() { 443 } else { 80 }
            )
        };
        let stream = match tokio::time::timeout(
            backend.timeout.min(CONNECT),
            TcpStream::connect(&with_port),
        )
        .await
        {
            Err(_) => return Err(CallFailure::Timeout),
            Ok(Err(e)) => return Err(failed(&e)),
            Ok(Ok(stream)) => stream,
        };
        let _ = stream.set_nodelay(true);
        let mut builder = http2::Builder::new(Local);
        builder
            .timer(TokioTimer::new())
            .keep_alive_interval(Duration::from_secs(30))
            .keep_alive_timeout(Duration::from_secs(10))
            .initial_stream_window_size(STREAM_WINDOW)
            .initial_connection_window_size(CONNECTION_WINDOW)
            .max_header_list_size(64 << 10);
        let sender = match &backend.tls {
            None => {
                let (sender, connection) = builder
                    .handshake(TokioIo::new(stream))
                    .await
                    .map_err(|e| failed(&e))?;
                tokio::task::spawn_local(async move {
                    // An error here shows up where the connection is used.
                    let _ = connection.await;
                });
                sender
            }
            Some(trust) => {
                let host = with_port
                    .rsplit_once(':')
                    .map_or(authority, |(h, _)| h)
                    .trim_matches(['[', ']'])
                    .to_owned();
                let name = ServerName::try_from(host).map_err(|e| failed(&e))?;
                let stream = TlsConnector::from(self.config(trust)?)
                    .connect(name, stream)
                    .await
                    .map_err(|e| failed(&e))?;
                let (sender, connection) = builder
                    .handshake(TokioIo::new(stream))
                    .await
                    .map_err(|e| failed(&e))?;
                tokio::task::spawn_local(async move {
                    let _ = connection.await;
                });
                sender
            }
        };
        Ok(sender)
    }

    /// How certificates are checked; made once.
    fn config(&self, trust: &Trust) -> Result<Arc<ClientConfig>, CallFailure> {
        if let Some((_, config)) = self.tls.borrow().iter().find(|(t, _)| t == trust) {
            return Ok(config.clone());
        }
        let mut roots = RootCertStore::empty();
        match trust {
            Trust::Machine => drop(
                roots.add_parsable_certificates(rustls_native_certs::load_native_certs().certs),
            ),
            Trust::These(pem) => {
                for certificate in rustls_pki_types::CertificateDer::pem_slice_iter(pem.as_bytes())
                {
                    let certificate = certificate.map_err(|e| {
                        CallFailure::Connect(format!("its `trust` cannot be read: {e}"))
                    })?;
                    roots.add(certificate).map_err(|e| {
                        CallFailure::Connect(format!("its `trust` cannot be read: {e}"))
                    })?;
                }
            }
        }
        let provider = Arc::new(tokio_rustls::rustls::crypto::ring::default_provider());
        let config = ClientConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()
            .map_err(|e| CallFailure::Connect(e.to_string()))?;
        let mut config = config.with_root_certificates(roots).with_no_client_auth();
        config.alpn_protocols = vec![b"h2".to_vec()];
        let config = Arc::new(config);
        self.tls.borrow_mut().push((trust.clone(), config.clone()));
        Ok(config)
    }
}

/// Writes the address into a request's target (RFC 9113 §8.3.1).
fn address(request: &mut Request<OutBody>, authority: &str, backend: &CompiledBackend) {
    let mut parts = std::mem::take(request.uri_mut()).into_parts();
    parts.scheme = Some(if backend.tls.is_some() {
        http::uri::Scheme::HTTPS
    } else {
        http::uri::Scheme::HTTP
    });
    parts.authority = authority.parse::<Authority>().ok();
    if let Ok(uri) = Uri::from_parts(parts) {
        *request.uri_mut() = uri;
    }
}
