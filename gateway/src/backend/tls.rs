//! How backends' certificates are checked: each configuration is made once.

use std::cell::RefCell;
use std::collections::HashMap;
use std::sync::Arc;

use porch_facade::{OwnCertificate, Trust};
use porch_tls::{Own, Roots, TrustError};
use tokio_rustls::rustls::ClientConfig;

use super::failure::DialError;

/// What a configuration hangs on.
type Key = (Trust, Offer, Option<Arc<OwnCertificate>>);

/// The protocols that are offered (RFC 7301 §3.1).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub(super) enum Offer {
    Http1,
    Http2,
    /// Either; HTTP/2 sooner.
    Either,
}

impl Offer {
    /// By the names of RFC 9113 §3.1 and RFC 7301 §6.
    fn names(self) -> &'static [&'static [u8]] {
        match self {
            Self::Http1 => &[b"http/1.1"],
            Self::Http2 => &[HTTP2],
            Self::Either => &[HTTP2, b"http/1.1"],
        }
    }
}

/// The name of HTTP/2 (RFC 9113 §3.1).
pub(super) const HTTP2: &[u8] = b"h2";

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
        offer: Offer,
        own: Option<&Arc<OwnCertificate>>,
    ) -> Result<Arc<ClientConfig>, DialError> {
        let key = (trust.clone(), offer, own.cloned());
        if let Some(known) = self.known.borrow().get(&key) {
            return Ok(known.clone());
        }
        let roots = match trust {
            Trust::Machine => Roots::Machine,
            Trust::These(pem) => Roots::These(pem),
        };
        let own = own.map(|o| Own {
            chain: &o.chain,
            key: &o.key,
        });
        let config = porch_tls::client(roots, offer.names(), own).map_err(|e| match e {
            TrustError::Config(why) => DialError::Config(why),
            TrustError::Trust(why) => DialError::Trust(why),
            TrustError::Certificate(why) => DialError::Certificate(why),
        })?;
        let config = Arc::new(config);
        self.known.borrow_mut().insert(key, config.clone());
        Ok(config)
    }
}
