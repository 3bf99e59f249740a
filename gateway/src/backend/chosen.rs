//! What an address speaks by TLS, where it may choose between HTTP/1.1 and HTTP/2 (RFC 7301, RFC 9113 §3.2).

use std::cell::RefCell;
use std::collections::HashMap;
use std::rc::Rc;

use http::header::{self, CONTENT_LENGTH, HOST};
use http::uri::{Authority, Scheme};
use http::{HeaderName, HeaderValue, Uri};
use porch_facade::{Address, CompiledBackend, Transport};
use tokio::sync::Mutex;
use tokio::time::Instant;

use super::tls::Offer;
use super::{Backends, CallFailure, Key, http2, lean};
use crate::body::OutBody;
use crate::outgoing::Outgoing;

/// What addresses have chosen, as this worker knows it.
#[derive(Default)]
pub(super) struct Chosen {
    known: RefCell<HashMap<Key, Transport>>,
    /// Addresses that are being asked: whoever else calls them waits.
    asking: RefCell<HashMap<Key, Rc<Mutex<()>>>>,
}

/// Fields that are of one connection by HTTP/1.1, and must not be sent by HTTP/2 (RFC 9113 §8.2.2).
const OF_CONNECTIONS: [HeaderName; 6] = [
    header::CONNECTION,
    HeaderName::from_static("keep-alive"),
    HeaderName::from_static("proxy-connection"),
    header::TRANSFER_ENCODING,
    header::UPGRADE,
    header::TE,
];

impl Chosen {
    /// Forgets what an address chose; whether it was HTTP/2.
    pub(super) fn forget(&self, key: Key) -> bool {
        self.known.borrow_mut().remove(&key) == Some(Transport::Http2)
    }

    /// What was chosen on connections that are gone is let go: the next one asks again, at no cost. So is what nobody asks any more.
    pub(super) fn sweep(&self, open: impl Fn(&Key) -> bool) {
        self.known.borrow_mut().retain(|key, _| open(key));
        let mut asking = self.asking.borrow_mut();
        asking.retain(|_, lock| Rc::strong_count(lock) > 1);
    }

    fn known(&self, key: Key) -> Option<Transport> {
        self.known.borrow().get(&key).copied()
    }

    fn lock(&self, key: Key) -> Rc<Mutex<()>> {
        self.asking.borrow_mut().entry(key).or_default().clone()
    }
}

impl Backends {
    /// How an address is called, where that is known.
    pub(super) fn transport(&self, backend: &CompiledBackend, at: usize) -> Option<Transport> {
        match backend.may_choose(at) {
            false => Some(backend.transport),
            true => self.chosen.known((backend.identity, at as u32)),
        }
    }

    /// Lets an address choose. The connection that it chose on is kept for the call that asked.
    pub(super) async fn ask(
        &self,
        backend: &CompiledBackend,
        at: usize,
        until: Instant,
    ) -> Result<Transport, CallFailure> {
        let (key, to) = self.to(backend, at);
        let lock = self.chosen.lock(key);
        let asked = async {
            let _one_at_a_time = lock.lock().await;
            if let Some(known) = self.chosen.known(key) {
                return Ok(known);
            }
            let stream = to.connect(Offer::Either).await?;
            let chosen = match stream.speaks_http2() {
                true => {
                    self.http2.adopt(key, http2::begin(stream).await?);
                    Transport::Http2
                }
                false => {
                    lean::adopt(&self.lean, key, stream);
                    Transport::Http1
                }
            };
            self.chosen.known.borrow_mut().insert(key, chosen);
            Ok(chosen)
        };
        let asked = tokio::time::timeout_at(until, asked).await;
        asked.unwrap_or(Err(CallFailure::Timeout))
    }
}

/// Writes an address into a request that is sent by HTTP/2 (RFC 9113 §8.3.1).
pub(super) fn aim_http2(request: &mut Outgoing, address: &Address, was_http1: bool) {
    let mut parts = std::mem::take(&mut request.uri).into_parts();
    parts.scheme = Some(match address.tls {
        true => Scheme::HTTPS,
        false => Scheme::HTTP,
    });
    parts.authority = address.authority.parse::<Authority>().ok();
    if let Ok(uri) = Uri::from_parts(parts) {
        request.uri = uri;
    }
    if !was_http1 {
        return;
    }
    request.fields.remove(&HOST);
    for name in &OF_CONNECTIONS {
        request.fields.remove(name);
    }
    if let OutBody::Full(Some(bytes)) = &request.body {
        let length = HeaderValue::from(bytes.len());
        request.fields.set(&CONTENT_LENGTH, length);
    }
}

/// Writes it back as HTTP/1.1 has it, where an address chose otherwise this time.
pub(super) fn aim_http1(request: &mut Outgoing, address: &Address) {
    request.fields.set(&HOST, address.host.clone());
    if request.uri.scheme().is_some() {
        request.fields.remove(&CONTENT_LENGTH);
        let mut parts = std::mem::take(&mut request.uri).into_parts();
        (parts.scheme, parts.authority) = (None, None);
        if let Ok(uri) = Uri::from_parts(parts) {
            request.uri = uri;
        }
    }
}
