//! How backends' certificates are checked.

use std::cell::RefCell;
use std::collections::HashMap;
use std::sync::Arc;

use porch_facade::{Transport, Trust};
use rustls_pki_types::CertificateDer;
use rustls_pki_types::pem::PemObject;
use tokio_rustls::rustls::{ClientConfig, RootCertStore};

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
    ) -> Result<Arc<ClientConfig>, String> {
        let key = (trust.clone(), transport);
        if let Some(known) = self.known.borrow().get(&key) {
            return Ok(known.clone());
        }
        let provider = Arc::new(tokio_rustls::rustls::crypto::ring::default_provider());
        let mut config = ClientConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()
            .map_err(|e| e.to_string())?
            .with_root_certificates(roots(trust)?)
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

fn roots(trust: &Trust) -> Result<RootCertStore, String> {
    let unreadable = |e: &dyn std::fmt::Display| format!("its `trust` cannot be read: {e}");
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
