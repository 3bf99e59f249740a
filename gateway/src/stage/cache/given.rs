//! A reply that is kept, as a caller asked for it: conditions and ranges are answered from the whole.

use std::sync::Arc;
use std::time::Duration;

use bytes::Bytes;
use http::request::Parts;
use http::{HeaderMap, HeaderName, HeaderValue, Method, Response, StatusCode, header};
use smallvec::SmallVec;

use crate::body::ReplyBody;
use crate::cache::{Entry, date};
use crate::exchange::state::Exchange;
use crate::trace::StageName;

/// RFC 9211.
const CACHE_STATUS: HeaderName = HeaderName::from_static("cache-status");

/// Adds what the porch's cache did, behind what others did before it (RFC 9211 §2).
pub(super) fn say(response: &mut Response<ReplyBody>, told: &str) {
    append(response, &[told.as_bytes()]);
}

/// The same of parts. They are put together by hand: it is done for each reply that is kept.
fn append(response: &mut Response<ReplyBody>, parts: &[&[u8]]) {
    let mut text = SmallVec::<[u8; 96]>::new();
    text.extend_from_slice(b"elm-porch; ");
    parts.iter().for_each(|part| text.extend_from_slice(part));
    if let Ok(value) = HeaderValue::from_bytes(&text) {
        response.headers_mut().append(CACHE_STATUS, value);
    }
}

/// The reply.
pub(super) fn given(
    x: &Exchange<'_>,
    parts: &Parts,
    entry: &Arc<Entry>,
    told: &str,
) -> Response<ReplyBody> {
    let from = x.recorder.borrow().begin();
    let mut response = as_asked(parts, entry);
    let age = entry.age();
    // A reply that was made just now has no age (RFC 9111 §5.1).
    if told.starts_with("hit") || age.as_secs() > 0 {
        response
            .headers_mut()
            .insert(header::AGE, age.as_secs().into());
    }
    let ttl = match entry.left_at(age) {
        Ok(left) => left.as_secs() as i64,
        Err(over) => -(over.as_secs() as i64),
    };
    let mut digits = itoa::Buffer::new();
    let shown = digits.format(ttl).as_bytes();
    append(&mut response, &[told.as_bytes(), b"; ttl=", shown]);
    x.recorder
        .borrow_mut()
        .stage(StageName::Reply, from, |stage| {
            stage.notes.push(in_words(told, age, ttl));
        });
    response
}

fn in_words(told: &str, age: Duration, ttl: i64) -> String {
    let age = age.as_secs();
    let fresh = match ttl {
        0.. => format!("fresh for {ttl} s more"),
        over => format!("stale for {} s", -over),
    };
    match told.strip_prefix("hit") {
        Some("") => format!("what is kept is given: it is {age} s old, and {fresh}"),
        Some(more) => format!(
            "what is kept is given ({}): it is {age} s old, and {fresh}",
            more.trim_start_matches("; ")
        ),
        None if told.contains("fwd-status=304") => {
            format!("what is kept is true still: it is {age} s old, and {fresh}")
        }
        None if told.contains("fwd-status") => {
            format!("what is kept is given in place of a failure: it is {age} s old, and {fresh}")
        }
        None => format!("asked for ({told}), and {fresh}"),
    }
}

fn as_asked(parts: &Parts, entry: &Entry) -> Response<ReplyBody> {
    let mut response = Response::new(ReplyBody::Full(None));
    *response.status_mut() = entry.status;
    if entry.status == StatusCode::OK && is_known(&parts.headers, &entry.headers) {
        *response.status_mut() = StatusCode::NOT_MODIFIED;
        *response.headers_mut() = of_not_modified(&entry.headers);
        return response;
    }
    *response.headers_mut() = entry.headers.clone();
    let all = &entry.body;
    let range = match parts.method {
        Method::GET if entry.status == StatusCode::OK => {
            range(&parts.headers, &entry.headers, all.len())
        }
        _ => Range::All,
    };
    let headers = response.headers_mut();
    let body = match range {
        Range::All => all.clone(),
        Range::Part(from, to) => {
            let part = format!("bytes {from}-{}/{}", to - 1, all.len());
            set(headers, header::CONTENT_RANGE, &part);
            headers.remove(header::CONTENT_LENGTH);
            *response.status_mut() = StatusCode::PARTIAL_CONTENT;
            all.slice(from..to)
        }
        Range::None => {
            let part = format!("bytes */{}", all.len());
            set(headers, header::CONTENT_RANGE, &part);
            headers.remove(header::CONTENT_LENGTH);
            headers.remove(header::CONTENT_TYPE);
            *response.status_mut() = StatusCode::RANGE_NOT_SATISFIABLE;
            Bytes::new()
        }
    };
    *response.body_mut() = ReplyBody::Full((!body.is_empty()).then_some(body));
    response
}

fn set(headers: &mut HeaderMap, name: HeaderName, value: &str) {
    if let Ok(value) = HeaderValue::from_str(value) {
        headers.insert(name, value);
    }
}

fn text<'h>(headers: &'h HeaderMap, name: &HeaderName) -> Option<&'h str> {
    headers.get(name).and_then(|v| v.to_str().ok())
}

/// Whether the caller has it already (RFC 9110 §13.2.2): tags go before dates.
fn is_known(asked: &HeaderMap, kept: &HeaderMap) -> bool {
    if asked.contains_key(header::IF_NONE_MATCH) {
        let own = text(kept, &header::ETAG).map(opaque);
        let all = asked.get_all(header::IF_NONE_MATCH).iter();
        let mut all = all.filter_map(|v| v.to_str().ok()).flat_map(tags);
        return all.any(|tag| tag == "*" || Some(opaque(tag)) == own);
    }
    let Some(since) = text(asked, &header::IF_MODIFIED_SINCE).and_then(date) else {
        return false;
    };
    let changed = text(kept, &header::LAST_MODIFIED).and_then(date);
    changed.is_some_and(|changed| changed <= since)
}

/// Tags are compared weakly (RFC 9110 §8.8.3.2).
fn opaque(tag: &str) -> &str {
    tag.strip_prefix("W/").unwrap_or(tag)
}

/// The tags of a list: commas stand in them too.
fn tags(list: &str) -> Vec<&str> {
    let (mut all, mut from, mut quoted) = (Vec::new(), 0, false);
    for (i, b) in list.bytes().enumerate() {
        match b {
            b'"' => quoted = !quoted,
            b',' if !quoted => {
                all.push(list[from..i].trim());
                from = i + 1;
            }
            _ => {}
        }
    }
    all.push(list[from..].trim());
    all
}

/// What a 304 says (RFC 9110 §15.4.5).
fn of_not_modified(kept: &HeaderMap) -> HeaderMap {
    let mut headers = kept.clone();
    for name in [
        header::CONTENT_LENGTH,
        header::CONTENT_TYPE,
        header::CONTENT_ENCODING,
        header::CONTENT_LANGUAGE,
        header::CONTENT_RANGE,
    ] {
        headers.remove(name);
    }
    headers
}

#[derive(Debug, PartialEq, Eq)]
enum Range {
    All,
    Part(usize, usize),
    /// None of it is there.
    None,
}

/// The part that is asked for; several are answered with all of it (RFC 9110 §14.2, §14.3).
fn range(asked: &HeaderMap, kept: &HeaderMap, length: usize) -> Range {
    let Some(wanted) = text(asked, &header::RANGE).and_then(|r| r.strip_prefix("bytes=")) else {
        return Range::All;
    };
    if !if_range(asked, kept) {
        return Range::All;
    }
    let Some((from, to)) = wanted
        .trim()
        .split_once('-')
        .filter(|_| !wanted.contains(','))
    else {
        return Range::All;
    };
    let number = |text: &str| {
        text.trim()
            .parse::<usize>()
            .ok()
            .filter(|_| !text.starts_with('+'))
    };
    match (number(from), number(to)) {
        (None, Some(last)) if from.is_empty() && last > 0 && length > 0 => {
            Range::Part(length - last.min(length), length)
        }
        (None, Some(_)) if from.is_empty() => Range::None,
        (Some(from), None) if to.is_empty() && from < length => Range::Part(from, length),
        (Some(from), Some(to)) if from > to => Range::All,
        (Some(from), Some(to)) if from < length => {
            Range::Part(from, to.saturating_add(1).min(length))
        }
        (Some(_), None) if !to.is_empty() => Range::All,
        (Some(_), _) => Range::None,
        _ => Range::All,
    }
}

/// Whether a part is wanted of what is kept (RFC 9110 §13.1.5): only strong validators count.
fn if_range(asked: &HeaderMap, kept: &HeaderMap) -> bool {
    let Some(condition) = asked.get(header::IF_RANGE) else {
        return true;
    };
    let Ok(condition) = condition.to_str() else {
        return false;
    };
    if condition.starts_with('"') {
        return text(kept, &header::ETAG) == Some(condition);
    }
    // A date is strong where it is the same (RFC 9110 §8.8.2.2 asks for a minute between, which is not known here).
    !condition.starts_with("W/") && text(kept, &header::LAST_MODIFIED) == Some(condition)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn headers(lines: &[(HeaderName, &str)]) -> HeaderMap {
        let all = lines.iter().map(|(n, v)| (n.clone(), v.parse().unwrap()));
        all.collect()
    }

    #[test]
    fn ranges_are_parts_of_the_whole_or_all_of_it() {
        for (wanted, expected) in [
            ("bytes=0-3", Range::Part(0, 4)),
            ("bytes=4-", Range::Part(4, 10)),
            ("bytes=-3", Range::Part(7, 10)),
            ("bytes=-30", Range::Part(0, 10)),
            ("bytes=8-99", Range::Part(8, 10)),
            ("bytes=9-9", Range::Part(9, 10)),
            ("bytes=10-", Range::None),
            ("bytes=10-12", Range::None),
            ("bytes=-0", Range::None),
            ("bytes=5-2", Range::All),
            ("bytes=0-1,4-5", Range::All),
            ("bytes=a-b", Range::All),
            ("bytes=+1-2", Range::All),
            ("bytes=", Range::All),
            ("lines=0-3", Range::All),
            ("bytes=0-99999999999999999999999", Range::All),
        ] {
            let asked = headers(&[(header::RANGE, wanted)]);
            assert_eq!(range(&asked, &HeaderMap::new(), 10), expected, "{wanted}");
        }
        let none = headers(&[(header::RANGE, "bytes=-3")]);
        assert_eq!(range(&none, &HeaderMap::new(), 0), Range::None);
    }

    #[test]
    fn a_part_is_only_given_of_the_same_bytes() {
        let kept = headers(&[
            (header::ETAG, "\"a\""),
            (header::LAST_MODIFIED, "Fri, 14 May 2027 12:00:00 GMT"),
        ]);
        for (condition, given) in [
            ("\"a\"", true),
            ("\"b\"", false),
            ("W/\"a\"", false),
            ("Fri, 14 May 2027 12:00:00 GMT", true),
            ("Fri, 14 May 2027 12:00:01 GMT", false),
        ] {
            let asked = headers(&[(header::RANGE, "bytes=0-0"), (header::IF_RANGE, condition)]);
            assert_eq!(
                range(&asked, &kept, 10) == Range::Part(0, 1),
                given,
                "{condition}"
            );
        }
    }

    #[test]
    fn whoever_has_it_is_told_so() {
        let kept = headers(&[
            (header::ETAG, "W/\"a,b\""),
            (header::LAST_MODIFIED, "Fri, 14 May 2027 12:00:00 GMT"),
        ]);
        for (name, value, known) in [
            (header::IF_NONE_MATCH, "\"x\", \"a,b\"", true),
            (header::IF_NONE_MATCH, "W/\"a,b\"", true),
            (header::IF_NONE_MATCH, "*", true),
            (header::IF_NONE_MATCH, "\"a\"", false),
            (
                header::IF_MODIFIED_SINCE,
                "Fri, 14 May 2027 12:00:00 GMT",
                true,
            ),
            (
                header::IF_MODIFIED_SINCE,
                "Fri, 14 May 2027 11:59:59 GMT",
                false,
            ),
            (header::IF_MODIFIED_SINCE, "yesterday", false),
        ] {
            let asked = headers(&[(name, value)]);
            assert_eq!(is_known(&asked, &kept), known, "{value}");
        }
        // Tags go before dates.
        let asked = headers(&[
            (header::IF_NONE_MATCH, "\"x\""),
            (header::IF_MODIFIED_SINCE, "Fri, 14 May 2027 12:00:00 GMT"),
        ]);
        assert!(!is_known(&asked, &kept));
    }
}
