//! How backends' certificates are checked: each configuration is made once.

use std::cell::RefCell;
use std::collections::HashMap;
use std::sync::Arc;

use porch_facade::{OwnCertificate, Transport, Trust};
use porch_tls::{Own, Roots, TrustError};
use tokio_rustls::rustls::ClientConfig;

use super::failure::DialError;

/// What a configuration hangs on.
type Key = (Trust, Transport, Option<Arc<OwnCertificate>>);

/// Configurations, each made once.
#[derive(Default)]
pub(super) struct Configs {
    known: RefCell<HashMap<Key, Arc<ClientConfig>>>,
}

impl Configs {
    /// The configuration for a trust; `Err` says what is wrong with it.
    pub(super) fn config(
        &self,
        trust: &Trust,
        transport: Transport,
        own: Option<&Arc<OwnCertificate>>,
    ) -> Result<Arc<ClientConfig>, DialError> {
        let key = (trust.clone(), transport, own.cloned());
        if let Some(known) = self.known.borrow().get(&key) {
            return Ok(known.clone());
        }
        let roots = match trust {
            Trust::Machine => Roots::Machine,
            Trust::These(pem) => Roots::These(pem),
        };
        // The names of RFC 9113 §3.1 and RFC 7301 §6.
        let protocol: &[u8] = match transport {
            Transport::Http1 | Transport::Inside => b"http/1.1",
            Transport::Http2 => b"h2",
        };
        let own = own.map(|o| Own {
            chain: &o.chain,
            key: &o.key,
        });
        let config = porch_tls::client(roots, &[protocol], own).map_err(|e| match e {
            TrustError::Config(why) => DialError::Config(why),
            TrustError::Trust(why) => DialError::Trust(why),
            TrustError::Certificate(why) => DialError::Certificate(why),
        })?;
        let config = Arc::new(config);
        self.known.borrow_mut().insert(key, config.clone());
        Ok(config)
    }
}
