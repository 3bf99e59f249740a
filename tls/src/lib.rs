//! How servers' certificates are checked, and what they say: one way for backends, definitions and probes. And those that
//! callers are shown.

#![forbid(unsafe_code)]
#![warn(missing_docs)]

mod callers;
mod served;
mod shown;

use std::sync::Arc;

use rustls_pki_types::pem::PemObject;
use rustls_pki_types::{CertificateDer, PrivateKeyDer, ServerName, UnixTime};
use tokio_rustls::rustls::client::danger::{
    HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier,
};
use tokio_rustls::rustls::client::{WebPkiServerVerifier, verify_server_name};
use tokio_rustls::rustls::crypto::CryptoProvider;
use tokio_rustls::rustls::server::ParsedCertificate;
use tokio_rustls::rustls::{
    CertificateError, ClientConfig, DigitallySignedStruct, Error, RootCertStore, SignatureScheme,
};

pub use callers::{AskCallers, Authorities, OfCaller};
pub use served::{Certificates, ServedError};
pub use shown::{Shown, shown};

/// Whose signatures a certificate may have.
#[derive(Clone, Copy, Debug)]
pub enum Roots<'p> {
    /// Those that the machine trusts.
    Machine,
    /// These, in PEM (RFC 7468 §5).
    These(&'p str),
}

/// A certificate of one's own, with those between it and an authority, and its key; in PEM (RFC 7468 §5, §10).
#[derive(Clone, Copy)]
pub struct Own<'p> {
    /// The certificates.
    pub chain: &'p str,
    /// The private key.
    pub key: &'p str,
}

impl Own<'_> {
    fn read(&self) -> Result<(Vec<CertificateDer<'static>>, PrivateKeyDer<'static>), TrustError> {
        let wrong = |what: &str, e: &dyn std::fmt::Display| {
            TrustError::Config(format!("{what} cannot be read: {e}"))
        };
        let chain = CertificateDer::pem_slice_iter(self.chain.as_bytes());
        let chain = chain.collect::<Result<Vec<_>, _>>();
        let chain = chain.map_err(|e| wrong("the certificate that is shown", &e))?;
        // What is wrong with a key is told without it.
        let key = PrivateKeyDer::from_pem_slice(self.key.as_bytes());
        let key = key.map_err(|_| {
            wrong(
                "the key of the certificate that is shown",
                &"it is none in PEM",
            )
        })?;
        Ok((chain, key))
    }
}

/// Why nothing can be checked.
#[derive(Clone, Debug, PartialEq, thiserror::Error)]
pub enum TrustError {
    /// The library takes no such configuration.
    #[error("{0}")]
    Config(String),
    /// What is trusted cannot be read.
    #[error("{0}")]
    Trust(String),
    /// Nobody is trusted.
    #[error("nobody is trusted on this machine")]
    Certificate(CertificateError),
}

/// A client's configuration: TLS 1.2 and 1.3, and the protocols that are offered (RFC 7301 §3.1).
///
/// # Errors
/// When nothing could be checked with it.
pub fn client(
    roots: Roots<'_>,
    protocols: &[&[u8]],
    own: Option<Own<'_>>,
) -> Result<ClientConfig, TrustError> {
    let provider = Arc::new(tokio_rustls::rustls::crypto::ring::default_provider());
    let checked = Arc::new(Checked::new(&roots, provider.clone())?);
    let config = ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .map_err(|e| TrustError::Config(e.to_string()))?
        .dangerous()
        .with_custom_certificate_verifier(checked);
    let mut config = match own {
        None => config.with_no_client_auth(),
        Some(own) => {
            let (chain, key) = own.read()?;
            config
                .with_client_auth_cert(chain, key)
                .map_err(|e| TrustError::Config(format!("the certificate that is shown: {e}")))?
        }
    };
    config.alpn_protocols = protocols.iter().map(|p| p.to_vec()).collect();
    Ok(config)
}

/// Certificates are checked as RFC 5280 §6 says, and one that `trust` holds itself is taken for what it is: as the usual
/// tools make self-signed certificates, they are authorities' as well, which no server's may be in the eyes of the first
/// check. Name and dates count in any case.
#[derive(Debug)]
struct Checked {
    whole: Arc<WebPkiServerVerifier>,
    own: Vec<CertificateDer<'static>>,
}

impl Checked {
    fn new(trust: &Roots<'_>, provider: Arc<CryptoProvider>) -> Result<Self, TrustError> {
        let roots = Arc::new(roots(trust)?);
        if roots.is_empty() && matches!(trust, Roots::Machine) {
            // Nobody is trusted on this machine: whoever signed the backend's is not known.
            return Err(TrustError::Certificate(CertificateError::UnknownIssuer));
        }
        let whole = WebPkiServerVerifier::builder_with_provider(roots, provider);
        Ok(Self {
            whole: whole
                .build()
                .map_err(|e| TrustError::Trust(e.to_string()))?,
            own: match trust {
                Roots::Machine => Vec::new(),
                Roots::These(pem) => CertificateDer::pem_slice_iter(pem.as_bytes())
                    .filter_map(Result::ok)
                    .collect(),
            },
        })
    }
}

impl ServerCertVerifier for Checked {
    fn verify_server_cert(
        &self,
        end: &CertificateDer<'_>,
        between: &[CertificateDer<'_>],
        name: &ServerName<'_>,
        ocsp: &[u8],
        now: UnixTime,
    ) -> Result<ServerCertVerified, Error> {
        let whole = self.whole.verify_server_cert(end, between, name, ocsp, now);
        match whole {
            // Dates come first in that check: what is left is that it is an authority's.
            Err(Error::InvalidCertificate(CertificateError::Other(_)))
                if self.own.iter().any(|own| own == end) =>
            {
                verify_server_name(&ParsedCertificate::try_from(end)?, name)?;
                Ok(ServerCertVerified::assertion())
            }
            whole => whole,
        }
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        cert: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        self.whole.verify_tls12_signature(message, cert, signed)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        cert: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        self.whole.verify_tls13_signature(message, cert, signed)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.whole.supported_verify_schemes()
    }
}

fn roots(trust: &Roots<'_>) -> Result<RootCertStore, TrustError> {
    let unreadable = |e: &dyn std::fmt::Display| TrustError::Trust(e.to_string());
    let mut roots = RootCertStore::empty();
    match trust {
        Roots::Machine => {
            let found = rustls_native_certs::load_native_certs();
            roots.add_parsable_certificates(found.certs);
        }
        Roots::These(pem) => {
            for certificate in CertificateDer::pem_slice_iter(pem.as_bytes()) {
                let certificate = certificate.map_err(|e| unreadable(&e))?;
                roots.add(certificate).map_err(|e| unreadable(&e))?;
            }
        }
    }
    Ok(roots)
}
