//! Stand-ins by TLS, with an authority of the demo's own.

use std::io;
use std::net::SocketAddr;
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use axum::Extension;
use axum::serve::Listener;
use tokio::net::{TcpListener, TcpStream};
use tokio_rustls::TlsAcceptor;
use tokio_rustls::rustls::ServerConfig;
use tokio_rustls::rustls::pki_types::pem::PemObject;
use tokio_rustls::rustls::pki_types::{CertificateDer, PrivateKeyDer};
use tokio_rustls::server::TlsStream;

use crate::{Standin, router};

/// An authority, and a server's certificate for `localhost` and `127.0.0.1` that it signed.
pub struct Authority {
    /// The authority's certificate, in PEM: whoever trusts it trusts the stand-ins.
    pub pem: String,
    config: Arc<ServerConfig>,
}

/// The files of an authority in its folder: its certificate, the server's with its key, and those of the boarding gates, which call
/// the gateway.
const FILES: [&str; 5] = [
    "ca.pem",
    "localhost.pem",
    "localhost.key",
    "gates.pem",
    "gates.key",
];

impl Authority {
    /// A new one, which is nowhere but here.
    ///
    /// # Errors
    /// When no key can be made.
    pub fn new() -> io::Result<Self> {
        let [pem, certificate, key, ..] = made()?;
        Self::of(pem, &certificate, &key)
    }

    /// The one of a folder, made when there is none.
    ///
    /// # Errors
    /// When the folder cannot be read or written.
    pub fn of_folder(folder: &Path) -> io::Result<Self> {
        let paths = FILES.map(|name| folder.join(name));
        if !paths.iter().all(|p| p.is_file()) {
            std::fs::create_dir_all(folder)?;
            for (path, text) in paths.iter().zip(made()?) {
                std::fs::write(path, text)?;
            }
        }
        let [pem, certificate, key, ..] = paths.map(std::fs::read_to_string);
        Self::of(pem?, &certificate?, &key?)
    }

    fn of(pem: String, certificate: &str, key: &str) -> io::Result<Self> {
        let chain = CertificateDer::pem_slice_iter(certificate.as_bytes());
        let chain: Result<Vec<_>, _> = chain.collect();
        let key = PrivateKeyDer::from_pem_slice(key.as_bytes()).map_err(io::Error::other)?;
        let provider = Arc::new(tokio_rustls::rustls::crypto::ring::default_provider());
        let mut config = ServerConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()
            .map_err(io::Error::other)?
            .with_no_client_auth()
            .with_single_cert(chain.map_err(io::Error::other)?, key)
            .map_err(io::Error::other)?;
        config.alpn_protocols = vec![b"h2".to_vec(), b"http/1.1".to_vec()];
        Ok(Self {
            pem,
            config: Arc::new(config),
        })
    }
}

fn made() -> io::Result<[String; 5]> {
    let other = |e: rcgen::Error| io::Error::other(e);
    let mut authority = rcgen::CertificateParams::new(Vec::new()).map_err(other)?;
    authority.is_ca = rcgen::IsCa::Ca(rcgen::BasicConstraints::Constrained(0));
    authority.key_usages = vec![rcgen::KeyUsagePurpose::KeyCertSign];
    let name = rcgen::DnType::CommonName;
    authority
        .distinguished_name
        .push(name.clone(), "Skerry Line demo authority");
    authority.not_after = rcgen::date_time_ymd(2036, 1, 1);
    let key = rcgen::KeyPair::generate().map_err(other)?;
    let signed = authority.self_signed(&key).map_err(other)?;
    let issuer = rcgen::Issuer::new(authority, key);
    let names = vec!["localhost".to_owned(), "127.0.0.1".to_owned()];
    let mut server = rcgen::CertificateParams::new(names).map_err(other)?;
    server
        .distinguished_name
        .push(name.clone(), "Skerry Line backends");
    server.not_after = rcgen::date_time_ymd(2032, 1, 1);
    let own = rcgen::KeyPair::generate().map_err(other)?;
    let certificate = server.signed_by(&own, &issuer).map_err(other)?;
    let mut gates =
        rcgen::CertificateParams::new(vec!["gates.skerry-line.example".into()]).map_err(other)?;
    gates.distinguished_name.push(name, "Boarding gates");
    gates.extended_key_usages = vec![rcgen::ExtendedKeyUsagePurpose::ClientAuth];
    gates.not_after = rcgen::date_time_ymd(2032, 1, 1);
    let theirs = rcgen::KeyPair::generate().map_err(other)?;
    let shown = gates.signed_by(&theirs, &issuer).map_err(other)?;
    Ok([
        signed.pem(),
        certificate.pem(),
        own.serialize_pem(),
        shown.pem(),
        theirs.serialize_pem(),
    ])
}

/// Marks requests that came by TLS.
#[derive(Clone, Copy)]
pub(crate) struct ByTls;

/// Takes connections, and gives those whose handshake is done.
struct Secure {
    listener: TcpListener,
    acceptor: TlsAcceptor,
}

impl Listener for Secure {
    type Io = TlsStream<TcpStream>;
    type Addr = SocketAddr;

    async fn accept(&mut self) -> (Self::Io, Self::Addr) {
        loop {
            let (stream, address) = Listener::accept(&mut self.listener).await;
            let _ = stream.set_nodelay(true);
            // Nobody keeps the others waiting for long.
            let within = Duration::from_secs(2);
            let shaken = tokio::time::timeout(within, self.acceptor.accept(stream)).await;
            if let Ok(Ok(stream)) = shaken {
                return (stream, address);
            }
        }
    }

    fn local_addr(&self) -> io::Result<SocketAddr> {
        self.listener.local_addr()
    }
}

/// Serves a stand-in by TLS until `stop` is done; gives its address and the server.
///
/// # Errors
/// When the address cannot be listened on.
pub async fn serve_secure<S: Future<Output = ()> + Send + 'static>(
    standin: Standin,
    address: SocketAddr,
    authority: &Authority,
    stop: S,
) -> io::Result<(SocketAddr, impl Future<Output = io::Result<()>> + use<S>)> {
    let listener = TcpListener::bind(address).await?;
    let address = listener.local_addr()?;
    let secure = Secure {
        listener,
        acceptor: TlsAcceptor::from(authority.config.clone()),
    };
    Ok((address, async move {
        axum::serve(secure, router(standin).layer(Extension(ByTls)))
            .with_graceful_shutdown(stop)
            .await
    }))
}
