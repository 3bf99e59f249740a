//! What a reply is found by.

use http::header;
use http::request::Parts;
use porch_facade::Keeping;

use super::super::find::Found;
use crate::cache::Key;
use crate::exchange::state::{Exchange, target};

/// The host that was asked.
pub(super) fn host(parts: &Parts) -> String {
    let host = parts
        .headers
        .get(header::HOST)
        .and_then(|h| h.to_str().ok());
    let host = host.or_else(|| parts.uri.authority().map(|a| a.as_str()));
    host.unwrap_or_default().to_ascii_lowercase()
}

/// What a reply is found by: the address; facade, operation and media type; and what of callers it hangs on.
pub(super) fn key(x: &Exchange<'_>, found: &Found<'_>, keeping: &Keeping, parts: &Parts) -> Key {
    let mut rest: Vec<u8> = Vec::with_capacity(128);
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
    Key {
        uri: Key::uri(&host(parts), &target(parts)),
        rest: rest.into(),
    }
}
