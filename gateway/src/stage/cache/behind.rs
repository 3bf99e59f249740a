//! What is not true any more behind a request that changed something.

use http::request::Parts;
use http::{Response, header};
use porch_facade::CachePlan;

use super::super::find::Found;
use super::key::host;
use crate::body::ReplyBody;
use crate::exchange::state::{Exchange, target};
use crate::problem::Problem;

/// Lets go of it (RFC 9111 §4.4).
pub(super) fn behind(
    x: &Exchange<'_>,
    found: &Found<'_>,
    plan: &CachePlan,
    parts: &Parts,
    came: &Result<Response<ReplyBody>, Box<Problem>>,
) {
    let Ok(response) = came else { return };
    if !(200..400).contains(&response.status().as_u16()) {
        return;
    }
    let cache = &x.worker.shared.cache;
    let host = host(parts);
    cache.invalidate(&host, &target(parts));
    for name in [header::LOCATION, header::CONTENT_LOCATION] {
        let there = response.headers().get(name).and_then(|v| v.to_str().ok());
        if let Some(target) = there.and_then(|text| below_host(text, &host)) {
            cache.invalidate(&host, target);
        }
    }
    for tag in &plan.clears {
        cache.clear(&found.facade.name, tag);
    }
}

/// Path and query of a reference that leads to the same host.
fn below_host<'t>(text: &'t str, host: &str) -> Option<&'t str> {
    if text.starts_with('/') && !text.starts_with("//") {
        return Some(text);
    }
    let (scheme, rest) = text.split_once("://")?;
    let at = rest.find('/')?;
    let same = rest[..at].eq_ignore_ascii_case(host);
    (same && scheme.starts_with("http")).then(|| &rest[at..])
}
