//! How backends' certificates are checked.

use std::cell::RefCell;
use std::collections::HashMap;
use std::sync::Arc;

use porch_facade::{Transport, Trust};
use rustls_pki_types::pem::PemObject;
use rustls_pki_types::{CertificateDer, ServerName, UnixTime};
use tokio_rustls::rustls::client::danger::{
    HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier,
};
use tokio_rustls::rustls::client::{WebPkiServerVerifier, verify_server_name};
use tokio_rustls::rustls::crypto::CryptoProvider;
use tokio_rustls::rustls::server::ParsedCertificate;
use tokio_rustls::rustls::{
    CertificateError, ClientConfig, DigitallySignedStruct, Error, RootCertStore, SignatureScheme,
};

use super::failure::DialError;

/// Configurations, each made once.
#[derive(Default)]
pub(super) struct Configs {
    known: RefCell<HashMap<(Trust, Transport), Arc<ClientConfig>>>,
}

impl Configs {
    /// The configuration for a trust; `Err` says what is wrong with it.
    pub(super) fn config(
        &self,
        trust: &Trust,
        transport: Transport,
    ) -> Result<Arc<ClientConfig>, DialError> {
        let key = (trust.clone(), transport);
        if let Some(known) = self.known.borrow().get(&key) {
            return Ok(known.clone());
        }
        let provider = Arc::new(tokio_rustls::rustls::crypto::ring::default_provider());
        let mut config = ClientConfig::builder_with_provider(provider.clone())
            .with_safe_default_protocol_versions()
            .map_err(|e| DialError::Config(e.to_string()))?
            .dangerous()
            .with_custom_certificate_verifier(Arc::new(Checked::new(trust, provider)?))
            .with_no_client_auth();
        // RFC 7301 §3.1 with the names of RFC 9113 §3.1 and RFC 7301 §6.
        config.alpn_protocols = vec![match transport {
            Transport::Http1 => b"http/1.1".to_vec(),
            Transport::Http2 => b"h2".to_vec(),
        }];
        let config = Arc::new(config);
        self.known.borrow_mut().insert(key, config.clone());
        Ok(config)
    }
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
    fn new(trust: &Trust, provider: Arc<CryptoProvider>) -> Result<Self, DialError> {
        let roots = Arc::new(roots(trust)?);
        if roots.is_empty() && *trust == Trust::Machine {
            // Nobody is trusted on this machine: whoever signed the backend's is not known.
            return Err(DialError::Certificate(CertificateError::UnknownIssuer));
        }
        let whole = WebPkiServerVerifier::builder_with_provider(roots, provider);
        Ok(Self {
            whole: whole.build().map_err(|e| DialError::Trust(e.to_string()))?,
            own: match trust {
                Trust::Machine => Vec::new(),
                Trust::These(pem) => CertificateDer::pem_slice_iter(pem.as_bytes())
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

fn roots(trust: &Trust) -> Result<RootCertStore, DialError> {
    let unreadable = |e: &dyn std::fmt::Display| DialError::Trust(e.to_string());
    let mut roots = RootCertStore::empty();
    match trust {
        Trust::Machine => {
            let found = rustls_native_certs::load_native_certs();
            roots.add_parsable_certificates(found.certs);
        }
        Trust::These(pem) => {
            for certificate in CertificateDer::pem_slice_iter(pem.as_bytes()) {
                let certificate = certificate.map_err(|e| unreadable(&e))?;
                roots.add(certificate).map_err(|e| unreadable(&e))?;
            }
        }
    }
    Ok(roots)
}
