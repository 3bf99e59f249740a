//! Replies compressed for callers who like it so (RFC 9110 §8.4, §12.5.3).

use std::rc::Rc;

use http::request::Parts;
use http::{HeaderMap, HeaderName, HeaderValue, Method, Response, StatusCode, header};
use http_body::Body;

use super::reply::weaken;
use crate::body::{Packed, PackingPlace, ReplyBody};
use crate::media;
use crate::worker::Worker;

/// Shorter bodies are not compressed.
const LEAST: u64 = 1 << 10;
/// Fields that are of the bytes as they were.
const OF_BYTES: [HeaderName; 4] = [
    header::CONTENT_LENGTH,
    header::ACCEPT_RANGES,
    HeaderName::from_static("content-digest"),
    HeaderName::from_static("repr-digest"),
];

/// Compresses a reply, where that is of use and the caller takes it.
#[cold]
pub(crate) fn pack(worker: &Rc<Worker>, parts: &Parts, response: &mut Response<ReplyBody>) {
    let not_modified = response.status() == StatusCode::NOT_MODIFIED;
    if !may_be_packed(response) && !not_modified {
        return;
    }
    let vary = HeaderValue::from_static("accept-encoding");
    response.headers_mut().append(header::VARY, vary);
    if !takes_gzip(&parts.headers) {
        return;
    }
    if not_modified {
        // What is still good is what was given, with its validator.
        weaken(response.headers_mut());
        return;
    }
    let size = response.body().size_hint().exact();
    if parts.method == Method::HEAD || size.is_some_and(|size| size < LEAST) {
        return;
    }
    let Some(place) = PackingPlace::take(worker) else {
        return;
    };
    let headers = response.headers_mut();
    for name in &OF_BYTES {
        headers.remove(name);
    }
    weaken(headers);
    headers.insert(header::CONTENT_ENCODING, HeaderValue::from_static("gzip"));
    let body = std::mem::replace(response.body_mut(), ReplyBody::Full(None));
    *response.body_mut() = ReplyBody::Packed(Box::new(Packed::new(body, place)));
}

/// Whether a reply is whole, of a kind that becomes shorter, and nobody said that it stays as it is (RFC 9110 §7.7).
fn may_be_packed(response: &Response<ReplyBody>) -> bool {
    let headers = response.headers();
    let has_part = matches!(response.status().as_u16(), 204..=206);
    let stays = headers.get_all(header::CACHE_CONTROL).iter().any(|v| {
        let text = v.to_str().unwrap_or_default().to_ascii_lowercase();
        text.contains("no-transform")
    });
    !has_part && !stays && !headers.contains_key(header::CONTENT_ENCODING) && is_text(headers)
}

/// Whether a media type is of texts; events of a stream are sent one by one, and not compressed.
fn is_text(headers: &HeaderMap) -> bool {
    let essence = media::essence(headers);
    match essence.split_once('/') {
        Some(("text", kind)) => kind != "event-stream",
        Some(("application", kind)) => {
            let known = ["json", "xml", "javascript", "x-ndjson", "graphql"];
            known.contains(&kind) || kind.ends_with("+json") || kind.ends_with("+xml")
        }
        Some(("image", kind)) => kind == "svg+xml",
        _ => false,
    }
}

/// Whether a caller takes gzip: by its name, else by `*` (RFC 9110 §12.5.3); whoever says nothing is given what there is.
fn takes_gzip(headers: &HeaderMap) -> bool {
    let all = headers.get_all(header::ACCEPT_ENCODING).into_iter();
    let all = all
        .filter_map(|v| v.to_str().ok())
        .flat_map(|v| v.split(','));
    let (mut named, mut any) = (None, None);
    for one in all {
        let (name, rest) = one.split_once(';').unwrap_or((one, ""));
        let quality = rest
            .trim()
            .strip_prefix("q=")
            .map(|q| q.trim().parse::<f32>());
        let good = quality.is_none_or(|q| q.is_ok_and(|q| q > 0.0));
        match name.trim().to_ascii_lowercase().as_str() {
            "gzip" | "x-gzip" => named = Some(good),
            "*" => any = Some(good),
            _ => {}
        }
    }
    named.or(any).unwrap_or(false)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn gzip_is_taken_by_whoever_says_so() {
        for (said, takes) in [
            (None, false),
            (Some(""), false),
            (Some("gzip"), true),
            (Some("deflate, GZIP;q=0.5"), true),
            (Some("gzip;q=0, *"), false),
            (Some("*;q=0.1"), true),
            (Some("*;q=0"), false),
            (Some("br, x-gzip"), true),
            (Some("gzip;q=nonsense"), false),
            (Some("identity"), false),
        ] {
            let mut headers = HeaderMap::new();
            if let Some(said) = said {
                headers.insert(header::ACCEPT_ENCODING, said.parse().unwrap());
            }
            assert_eq!(takes_gzip(&headers), takes, "{said:?}");
        }
    }
}
