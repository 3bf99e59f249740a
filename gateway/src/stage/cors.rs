//! Pages of other origins: the CORS protocol (Fetch §3.3).
//!
//! A browser asks before it sends what a form could not (a preflight): it is answered here, before anybody is asked for a key.
//! Whatever else a page gets says whether it may be read, refusals too.

use http::request::Parts;
use http::{HeaderMap, HeaderName, HeaderValue, Method, Response, StatusCode, header};
use porch_facade::Cors;

use crate::body::ReplyBody;
use crate::exchange::state::Exchange;
use crate::fields;
use crate::problem::{self, Problem};

/// So many fields may be asked for.
const MOST: usize = 100;

/// The answer to a preflight (Fetch §3.3.2); `None` where the request is none, or where no rule says which pages may call.
#[cold]
pub(super) fn preflight(
    x: &Exchange<'_>,
    parts: &Parts,
    host: Option<&str>,
    path: &str,
) -> Option<Result<Response<ReplyBody>, Box<Problem>>> {
    let headers = &parts.headers;
    let origin = headers.get(header::ORIGIN)?;
    let method = headers.get(header::ACCESS_CONTROL_REQUEST_METHOD)?;
    let wanted = method.to_str().ok()?;
    let found = x.porch.router.find(host, wanted, path).ok()?;
    let (_, operation) = x.porch.at(found.operation)?;
    let own = operation.cors.as_deref();
    let asks = origin.to_str().unwrap_or_default();
    let cors = match x.worker.shared.portal_for(own, asks) {
        Some(portal) => portal,
        None => own?,
    };
    if !cors.allows(asks) {
        return Some(Err(problem::other_origin(cors)));
    }
    let mut response = Response::new(ReplyBody::Full(None));
    *response.status_mut() = StatusCode::NO_CONTENT;
    let fields = response.headers_mut();
    fields.insert(header::ACCESS_CONTROL_ALLOW_METHODS, method.clone());
    if let Some(names) = asked_for(headers) {
        fields.insert(header::ACCESS_CONTROL_ALLOW_HEADERS, names);
    }
    fields.insert(header::ACCESS_CONTROL_MAX_AGE, cors.max_age.clone());
    say(cors, Some(origin), fields);
    let varies = "origin, access-control-request-method, access-control-request-headers";
    fields.insert(header::VARY, HeaderValue::from_static(varies));
    Some(Ok(response))
}

/// The fields that a page wants to send: they may be any.
fn asked_for(headers: &HeaderMap) -> Option<HeaderValue> {
    let text = fields::text(headers, &header::ACCESS_CONTROL_REQUEST_HEADERS);
    let names = text.split(',').map(str::trim).filter(|n| !n.is_empty());
    let names: Vec<&str> = names.take(MOST).collect();
    let sound = names.iter().all(|n| n.parse::<HeaderName>().is_ok());
    let names = (sound && !names.is_empty()).then(|| names.join(", "))?;
    HeaderValue::from_str(&names).ok()
}

/// Says in a reply whether a page may read it.
#[cold]
pub(crate) fn tell(x: &Exchange<'_>, parts: &Parts, fields: &mut HeaderMap) {
    let found = x.at.get().and_then(|index| x.porch.at(index));
    let own = found.and_then(|(_, operation)| operation.cors.as_deref());
    let asks = parts.headers.get(header::ORIGIN);
    let asks = asks.and_then(|o| o.to_str().ok()).unwrap_or_default();
    let Some(cors) = x.worker.shared.portal_for(own, asks).or(own) else {
        return;
    };
    let own = |name: &&HeaderName| name.as_str().starts_with("access-control-");
    let of_backend: Vec<HeaderName> = fields.keys().filter(own).cloned().collect();
    for name in of_backend {
        fields.remove(name);
    }
    if !cors.any {
        fields.append(header::VARY, HeaderValue::from_static("origin"));
    }
    let origin = parts.headers.get(header::ORIGIN);
    let allowed = |o: &&HeaderValue| cors.allows(o.to_str().unwrap_or_default());
    if let Some(origin) = origin.filter(allowed) {
        say(cors, Some(origin), fields);
        fields.insert(header::ACCESS_CONTROL_EXPOSE_HEADERS, cors.expose.clone());
    }
}

fn say(cors: &Cors, origin: Option<&HeaderValue>, fields: &mut HeaderMap) {
    let shown = match origin {
        Some(origin) if !cors.any => origin.clone(),
        _ => HeaderValue::from_static("*"),
    };
    fields.insert(header::ACCESS_CONTROL_ALLOW_ORIGIN, shown);
    if cors.credentials {
        let yes = HeaderValue::from_static("true");
        fields.insert(header::ACCESS_CONTROL_ALLOW_CREDENTIALS, yes);
    }
}

/// Whether a page sent a request that is no preflight: what answers one says all of it itself.
#[inline]
pub(crate) fn is_of_page(parts: &Parts) -> bool {
    let headers = &parts.headers;
    let asks = || headers.contains_key(header::ACCESS_CONTROL_REQUEST_METHOD);
    headers.contains_key(header::ORIGIN) && !(may_be(parts) && asks())
}

/// Whether a request may be a preflight.
pub(super) fn may_be(parts: &Parts) -> bool {
    parts.method == Method::OPTIONS
}
