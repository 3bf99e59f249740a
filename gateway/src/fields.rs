//! Header fields that cross the porch, and those that end at it.

use http::{HeaderMap, HeaderName, HeaderValue, Version, header};
use porch_facade::{CompiledFacade, CompiledOperation};

use crate::outgoing::Fields;

/// Names of fields that have no constant elsewhere.
pub(crate) const TRACEPARENT: HeaderName = HeaderName::from_static("traceparent");
pub(crate) const PROXY_STATUS: HeaderName = HeaderName::from_static("proxy-status");
pub(crate) const RATE_LIMIT: HeaderName = HeaderName::from_static("ratelimit");
pub(crate) const RATE_LIMIT_POLICY: HeaderName = HeaderName::from_static("ratelimit-policy");
/// What answered, where it was no backend.
pub(crate) const ANSWERED_BY: HeaderName = HeaderName::from_static("elm-porch-answered-by");
pub(crate) const MAX_FORWARDS: HeaderName = HeaderName::from_static("max-forwards");
pub(crate) const SOAP_ACTION: HeaderName = HeaderName::from_static("soapaction");

/// The console's session, in both of its forms: the browser sends it to every port of its host.
pub(crate) const SESSION_COOKIES: [&str; 2] = ["porch-session", "__Host-porch-session"];

/// The porch in `Via` (RFC 9110 §7.6.3), behind the version of HTTP in which a message came.
pub(crate) fn via(version: Version) -> HeaderValue {
    static OF_10: HeaderValue = HeaderValue::from_static("1.0 elm-porch");
    static OF_11: HeaderValue = HeaderValue::from_static("1.1 elm-porch");
    static OF_2: HeaderValue = HeaderValue::from_static("2 elm-porch");
    match version {
        Version::HTTP_10 => OF_10.clone(),
        Version::HTTP_2 => OF_2.clone(),
        _ => OF_11.clone(),
    }
}

/// Whether a header field ends at the porch (RFC 9110 §7.6.1), or is written anew.
fn ends_here(name: &str) -> bool {
    matches!(
        name,
        "connection"
            | "keep-alive"
            | "proxy-connection"
            | "proxy-authenticate"
            | "proxy-authorization"
            | "te"
            | "trailer"
            | "transfer-encoding"
            | "upgrade"
            | "forwarded"
    )
}

/// Removes what must not travel further: hop-by-hop fields and those that `Connection` names.
pub(crate) fn strip_hop_by_hop(headers: &mut HeaderMap) {
    // Looked for first: most messages have none of them, and each removal looks for its name.
    if !headers.keys().any(|name| ends_here(name.as_str())) {
        return;
    }
    let ending = headers.keys().filter(|name| ends_here(name.as_str()));
    let all: Vec<HeaderName> = ending
        .cloned()
        .chain(named_by_connection(headers))
        .collect();
    for name in all {
        headers.remove(name);
    }
}

/// The caller's header fields that travel on, with room for more.
pub(crate) fn forwarded_fields(
    from: &HeaderMap,
    (facade, op): (&CompiledFacade, &CompiledOperation),
    room: usize,
) -> Fields {
    let key_header = &facade.key_header;
    let own = &op.admission.credentials;
    let mut headers = Fields::with_capacity(from.len() + room);
    for (name, value) in from {
        let text = name.as_str();
        let ends_here = name == key_header
            || matches!(text, "host" | "expect")
            || ends_here(text)
            // What callers show us is for us.
            || own.in_authorization && name == header::AUTHORIZATION
            || own.in_fields.contains(name)
            // Who called and how is told in `Forwarded`, by us alone.
            || text.starts_with("x-forwarded-")
            // What callers or proxies say of certificates is no word of ours (RFC 9440 §2.4).
            || text.starts_with("client-cert")
            // A proof that whoever called us has a key is none that we have it (RFC 9449 §4).
            || own.in_authorization && text == "dpop";
        if !ends_here {
            headers.append(name.clone(), value.clone());
        }
    }
    if from.contains_key(header::CONNECTION) {
        for named in named_by_connection(from) {
            headers.remove(&named);
        }
    }
    headers
}

/// The fields that `Connection` names.
fn named_by_connection(headers: &HeaderMap) -> impl Iterator<Item = HeaderName> + '_ {
    let values = headers
        .get_all(header::CONNECTION)
        .into_iter()
        .filter_map(|v| v.to_str().ok());
    values
        .flat_map(|v| v.split(','))
        .filter_map(|n| n.trim().parse().ok())
}

/// A field's text, or an empty one.
pub(crate) fn text<'h>(headers: &'h HeaderMap, name: &HeaderName) -> &'h str {
    headers
        .get(name)
        .and_then(|v| v.to_str().ok())
        .unwrap_or_default()
}
