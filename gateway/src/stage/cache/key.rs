//! What a reply is found by.

use http::header;
use http::request::Parts;
use porch_facade::Keeping;
use smallvec::SmallVec;

use super::super::find::Found;
use crate::cache::Key;
use crate::exchange::state::{Exchange, target};

/// What a reply is sought by; most need no memory of their own for that.
pub(super) struct Sought {
    /// Host, and path with query.
    pub(super) uri: SmallVec<[u8; 192]>,
    /// Facade, operation, and what of callers it hangs on.
    pub(super) rest: SmallVec<[u8; 128]>,
}

impl Sought {
    /// The same to be kept by.
    pub(super) fn key(&self) -> Key {
        Key {
            uri: self.uri.as_slice().into(),
            rest: self.rest.as_slice().into(),
        }
    }
}

/// The host that was asked, as it was written.
fn asked_host(parts: &Parts) -> &str {
    let host = parts
        .headers
        .get(header::HOST)
        .and_then(|h| h.to_str().ok());
    let host = host.or_else(|| parts.uri.authority().map(|a| a.as_str()));
    host.unwrap_or_default()
}

/// The host that was asked.
pub(super) fn host(parts: &Parts) -> String {
    asked_host(parts).to_ascii_lowercase()
}

/// The first part of a key, as [`Key::uri`] makes it.
fn uri(parts: &Parts) -> SmallVec<[u8; 192]> {
    let mut uri = SmallVec::new();
    uri.extend(asked_host(parts).bytes().map(|b| b.to_ascii_lowercase()));
    uri.push(0);
    match parts.uri.path_and_query() {
        Some(target) => uri.extend_from_slice(target.as_str().as_bytes()),
        None => uri.extend_from_slice(target(parts).as_bytes()),
    }
    uri
}

/// What a reply is found by: the address; facade, operation and media type; and what of callers it hangs on.
pub(super) fn sought(
    x: &Exchange<'_>,
    found: &Found<'_>,
    keeping: &Keeping,
    parts: &Parts,
) -> Sought {
    let mut rest: SmallVec<[u8; 128]> = SmallVec::new();
    // Each part says how long it is, so that no two lists of parts are one.
    let mut add = |part: &[u8]| {
        rest.extend_from_slice(&(part.len() as u32).to_le_bytes());
        rest.extend_from_slice(part);
    };
    add(found.facade.name.as_bytes());
    add(found.operation.id.as_bytes());
    add(x.chosen.map_or("", crate::media::name).as_bytes());
    let apart = &keeping.apart;
    if apart.consumer || apart.key {
        add(&x.caller.consumer_id().to_le_bytes());
        add(x.caller.consumer_name().as_bytes());
    }
    if apart.key {
        add(x.caller.shown().as_bytes());
        // The key itself, where the backend is shown it.
        let shown = parts.headers.get(&found.facade.key_header);
        add(shown.map_or(&[][..], |v| v.as_bytes()));
    }
    if apart.address {
        add(x.origin.address.to_string().as_bytes());
    }
    for name in &apart.fields {
        let all = parts.headers.get_all(name);
        add(&(all.iter().count() as u32).to_le_bytes());
        all.iter().for_each(|v| add(v.as_bytes()));
    }
    Sought {
        uri: uri(parts),
        rest,
    }
}
