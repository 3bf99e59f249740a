//! Reply: what is made of the backend's answer.

use std::time::Duration;

use bytes::Bytes;
use http::{HeaderMap, HeaderName, HeaderValue, Response, StatusCode, header};
use http_body_util::BodyExt;
use hyper::body::Incoming;
use porch_facade::{CompiledBackend, CompiledFacade, CompiledOperation, MediaType};
use porch_rules::expr::Template;
use porch_soap::Fault;
use serde_json::{Value, json};

use crate::media;
use crate::pool::CallFailure;
use crate::prepare::strip_hop_by_hop;
use crate::problem::Problem;
use crate::scope::{AnswerView, Values};

/// Answers that must be read whole may have at most this many bytes.
pub(crate) const MAX_ANSWER: usize = 64 << 20;
const PROXY_STATUS: HeaderName = HeaderName::from_static("proxy-status");

/// The problem for a call that gave no answer. `Proxy-Status` as RFC 9209 §2.3 names the errors.
pub(crate) fn call_failed(
    failure: &CallFailure,
    op: &CompiledOperation,
    backend: &CompiledBackend,
) -> Box<Problem> {
    let (status, kind, title, error, why) = match failure {
        CallFailure::Connect(what) => (
            502,
            "backend-unreachable",
            "The backend cannot be reached",
            "connection_refused",
            format!(
                "no connection to {} ({}): {what}",
                backend.name, backend.authority
            ),
        ),
        CallFailure::Broken { what, .. } => (
            502,
            "backend-broke-off",
            "The backend broke off",
            "connection_terminated",
            format!("{} ({}) broke off: {what}", backend.name, backend.authority),
        ),
        CallFailure::Timeout => (
            504,
            "backend-slow",
            "The backend is too slow",
            "http_response_timeout",
            format!(
                "{} ({}) gave no answer within {:?}",
                backend.name, backend.authority, backend.timeout
            ),
        ),
    };
    let detail = if status == 504 {
        "It gave no answer in time. Try again later."
    } else {
        "The request may not have been carried out."
    };
    Problem::new(status, kind, title, detail, "call")
        .why(why)
        .by(&op.place)
        .header(PROXY_STATUS, &format!("elm-porch; error={error}"))
}

pub(crate) fn bad_answer(op: &CompiledOperation, why: String) -> Box<Problem> {
    let detail = "Its answer is not what its definition says.";
    Problem::new(
        502,
        "backend-answer",
        "The backend's answer cannot be used",
        detail,
        "reply",
    )
    .why(why)
    .by(&op.place)
    .header(PROXY_STATUS, "elm-porch; error=http_protocol_error")
}

/// Reads a whole answer.
pub(crate) async fn collect(
    mut body: Incoming,
    idle: Duration,
    op: &CompiledOperation,
) -> Result<Bytes, Box<Problem>> {
    let mut all = Vec::new();
    loop {
        match tokio::time::timeout(idle, body.frame()).await {
            Err(_) => return Err(silent(op)),
            Ok(None) => return Ok(all.into()),
            Ok(Some(Err(e))) => {
                return Err(bad_answer(
                    op,
                    format!("it broke off in the middle of its answer: {e}"),
                ));
            }
            Ok(Some(Ok(frame))) => {
                let Ok(data) = frame.into_data() else {
                    continue;
                };
                if all.len() + data.len() > MAX_ANSWER {
                    return Err(bad_answer(
                        op,
                        format!("it has more than {MAX_ANSWER} bytes"),
                    ));
                }
                all.extend_from_slice(&data);
            }
        }
    }
}

pub(crate) fn silent(op: &CompiledOperation) -> Box<Problem> {
    Problem::new(
        504,
        "backend-slow",
        "The backend is too slow",
        "It fell silent in the middle of its answer. Try again later.",
        "reply",
    )
    .why("it fell silent in the middle of its answer")
    .by(&op.place)
    .header(PROXY_STATUS, "elm-porch; error=http_response_timeout")
}

/// The problem for a SOAP fault: a declared status, else 400 for the caller's faults and 502 for the server's.
pub(crate) fn fault(
    fault: &Fault,
    detail: &[u8],
    op: &CompiledOperation,
    asked: &HeaderMap,
) -> Box<Problem> {
    let names = [
        fault.detail.as_deref().unwrap_or_default(),
        &fault.subcode,
        &fault.code,
    ];
    let mapped = names
        .iter()
        .filter(|n| !n.is_empty())
        .find_map(|n| op.faults.get(*n));
    let status = mapped
        .copied()
        .unwrap_or(if fault.is_callers() { 400 } else { 502 });
    let name = fault.detail.clone().unwrap_or_else(|| fault.code.clone());
    // The reason of an undeclared fault of the server may tell of its inside.
    let open = mapped.is_some() || fault.detail.is_some() || fault.is_callers();
    let reason = reason(fault, asked);
    let text = if open && !reason.is_empty() {
        reason.to_owned()
    } else {
        "The backend reports a fault.".into()
    };
    let mut member = json!({ "name": name, "code": fault.code });
    if !fault.subcode.is_empty() {
        member["subcode"] = json!(fault.subcode);
    }
    if open && !fault.reasons.is_empty() {
        member["reasons"] = fault
            .reasons
            .iter()
            .map(|(language, text)| json!({ "language": language, "text": text }))
            .collect();
    }
    if let Some(value) = serde_json::from_slice::<Value>(detail)
        .ok()
        .filter(|_| open)
    {
        member["detail"] = value;
    }
    let title = if status >= 500 {
        "The backend reports a fault"
    } else {
        "The backend refuses the request"
    };
    Problem::new(status, "fault", title, text, "reply")
        .why(format!(
            "the backend answered with the fault {} {}: {}",
            fault.code, name, fault.reason
        ))
        .by(&op.place)
        .with("fault", member)
}

/// The fault's text in the language that the caller likes best (RFC 9110 §12.5.4), when there are several.
fn reason<'f>(fault: &'f Fault, asked: &HeaderMap) -> &'f str {
    let wanted = asked
        .get(header::ACCEPT_LANGUAGE)
        .and_then(|v| v.to_str().ok())
        .unwrap_or_default();
    let mut ranges: Vec<(&str, f32)> = wanted
        .split(',')
        .filter_map(|range| {
            let (tag, rest) = range.split_once(';').unwrap_or((range, ""));
            let quality = rest
                .trim()
                .strip_prefix("q=")
                .map_or(Some(1.0), |q| q.parse().ok())?;
            Some((tag.trim(), quality))
        })
        .collect();
    ranges.sort_by(|a, b| b.1.total_cmp(&a.1));
    let fits = |language: &str, range: &str| {
        language.eq_ignore_ascii_case(range)
            || language
                .split('-')
                .next()
                .is_some_and(|l| l.eq_ignore_ascii_case(range))
    };
    ranges
        .iter()
        .find_map(|(range, _)| {
            fault
                .reasons
                .iter()
                .find(|(language, _)| fits(language, range))
        })
        .map_or(&fault.reason, |(_, text)| text)
}

/// The body of a reply that is built from an answer.
pub(crate) fn shape(
    template: &Template,
    values: &mut Values<'_>,
    status: StatusCode,
    headers: &HeaderMap,
    body: Value,
    soap_headers: Option<Value>,
) -> Result<Bytes, Box<Problem>> {
    values.answer = Some(AnswerView::new(
        status.as_u16(),
        headers,
        body,
        soap_headers,
    ));
    match template.render(&*values) {
        Ok(value) => Ok(value.map_or_else(Bytes::new, |v| v.to_string().into())),
        Err((source, error)) => Err(bad_answer(
            values.operation,
            format!("the reply cannot be built: ={source}: {error}"),
        )),
    }
}

/// The JSON value of an answer's body that a reply is built from.
pub(crate) fn json_of(bytes: &[u8], op: &CompiledOperation) -> Result<Value, Box<Problem>> {
    if bytes.is_empty() {
        return Ok(Value::Null);
    }
    serde_json::from_slice(bytes).map_err(|e| bad_answer(op, format!("its body is no JSON: {e}")))
}

/// A reply that was made here; where there is a choice of media types, caches must know.
pub(crate) fn own_reply(chosen: Option<MediaType>, body: Bytes) -> Response<Option<Bytes>> {
    let mut response = Response::new(Some(body));
    response.headers_mut().insert(
        header::CONTENT_TYPE,
        HeaderValue::from_static(media::name(chosen.unwrap_or(MediaType::Json))),
    );
    if chosen.is_some() {
        response
            .headers_mut()
            .insert(header::VARY, HeaderValue::from_static("accept"));
    }
    response
}

/// The header fields of an answer whose body was converted: what described the old bytes is gone or weakened.
pub(crate) fn converted(headers: &mut HeaderMap, new: &HeaderMap) {
    for name in [
        header::CONTENT_LENGTH,
        header::CONTENT_ENCODING,
        header::ACCEPT_RANGES,
        HeaderName::from_static("content-digest"),
        HeaderName::from_static("repr-digest"),
    ] {
        headers.remove(name);
    }
    // Other bytes of the same meaning: the validator is weak now (RFC 9110 §8.8.1).
    if let Some(tag) = headers
        .get(header::ETAG)
        .and_then(|v| v.to_str().ok())
        .filter(|t| t.starts_with('"'))
        && let Ok(weak) = HeaderValue::from_str(&format!("W/{tag}"))
    {
        headers.insert(header::ETAG, weak);
    }
    for (name, value) in new {
        if name == header::VARY && headers.contains_key(header::VARY) {
            headers.append(name, value.clone());
        } else {
            headers.insert(name, value.clone());
        }
    }
}

/// The header fields of an answer that is passed on: hop-by-hop fields gone, addresses translated.
pub(crate) fn pass_on(headers: &mut HeaderMap, backend: &CompiledBackend, facade: &CompiledFacade) {
    strip_hop_by_hop(headers);
    for name in [header::LOCATION, header::CONTENT_LOCATION] {
        let Some(text) = headers.get(&name).and_then(|v| v.to_str().ok()) else {
            continue;
        };
        let own = text
            .strip_prefix("http://")
            .and_then(|t| t.strip_prefix(backend.authority.as_str()))
            .unwrap_or(text);
        let translated = match own.strip_prefix(backend.path.as_str()) {
            Some(rest) if rest.starts_with('/') => format!("{}{rest}", facade.base),
            _ => continue,
        };
        if let Ok(value) = HeaderValue::from_str(&translated) {
            headers.insert(name, value);
        }
    }
}
