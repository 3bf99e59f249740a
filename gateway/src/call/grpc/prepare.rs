//! Prepare: the message, and the request that carries it.

use std::time::Duration;

use http::Method;
use http::{HeaderMap, HeaderName, HeaderValue, header};
use porch_facade::kind::grpc::{GrpcCall, MessagePart};
use porch_facade::percent_decode;
use porch_grpc::JsonError;
use serde_json::Value;

use super::answer::GRPC_ENCODING;
use crate::body::OutBody;
use crate::call::Context;
use crate::failure::{Failure, Mistake};
use crate::outgoing::{Fields, Outgoing};
use crate::scope::Scope;

const TE: HeaderValue = HeaderValue::from_static("trailers");
pub(crate) const GRPC: HeaderValue = HeaderValue::from_static("application/grpc");
const GZIP: HeaderValue = HeaderValue::from_static("gzip");
pub(crate) const GRPC_TIMEOUT: HeaderName = HeaderName::from_static("grpc-timeout");
const GRPC_ACCEPT_ENCODING: HeaderName = HeaderName::from_static("grpc-accept-encoding");

fn mistakes_of(error: JsonError) -> Vec<Mistake> {
    match error {
        JsonError::Syntax(e) => vec![(String::new(), e.to_string())],
        JsonError::Mistakes(list) => list.into_iter().map(|m| (m.pointer, m.message)).collect(),
    }
}

/// Appends what a JSON body says to a message.
pub(crate) fn part_to_wire(
    call: &GrpcCall,
    json: &[u8],
    patch: bool,
    out: &mut Vec<u8>,
) -> Result<(), Vec<Mistake>> {
    let mut options = call.json;
    // What changes something need not be all of it.
    options.required &= !patch;
    match &call.body {
        MessagePart::None => Ok(()),
        MessagePart::Whole => {
            let given = &call.given;
            let types = &call.types;
            types.to_wire_beside(call.input, json, options, given, out)
        }
        MessagePart::Field(field) => call.types.field_to_wire(field, json, options, out),
    }
    .map_err(mistakes_of)
}

/// Appends a body as it is to a message: as a `google.api.HttpBody`, content type 1, data 2.
pub(crate) fn raw_to_wire(call: &GrpcCall, content_type: &str, data: &[u8], out: &mut Vec<u8>) {
    let mut body = Vec::with_capacity(data.len() + content_type.len() + 12);
    let put = |out: &mut Vec<u8>, tag: u8, bytes: &[u8]| {
        out.push(tag);
        porch_grpc::put_varint(out, bytes.len() as u64);
        out.extend_from_slice(bytes);
    };
    if !content_type.is_empty() {
        put(&mut body, 0x0a, content_type.as_bytes());
    }
    put(&mut body, 0x12, data);
    match &call.body {
        MessagePart::Field(field) => {
            porch_grpc::put_varint(out, u64::from(field.number) << 3 | 2);
            porch_grpc::put_varint(out, body.len() as u64);
            out.extend_from_slice(&body);
        }
        _ => out.extend_from_slice(&body),
    }
}

/// Query parameters that are fields, by their names in the order they came.
fn query_fields(call: &GrpcCall, query: &str) -> Result<Vec<(String, Vec<String>)>, Vec<Mistake>> {
    let (mut found, mut mistakes): (Vec<(String, Vec<String>)>, Vec<Mistake>) =
        (Vec::new(), Vec::new());
    for pair in query.split('&').filter(|p| !p.is_empty()) {
        let (name, value) = pair.split_once('=').unwrap_or((pair, ""));
        match (percent_decode(name, true), percent_decode(value, true)) {
            (Some(name), _) if call.used_query.iter().any(|u| *u == name) => {}
            (Some(name), Some(value)) => match found.iter_mut().find(|(n, _)| *n == name) {
                Some((_, values)) => values.push(value.into_owned()),
                None => found.push((name.into_owned(), vec![value.into_owned()])),
            },
            (name, _) => mistakes.push((
                format!("/query/{}", name.as_deref().unwrap_or("?")),
                "is not UTF-8 when percent-decoded".into(),
            )),
        }
    }
    if mistakes.is_empty() {
        Ok(found)
    } else {
        Err(mistakes)
    }
}

/// Appends the fields that the query gives.
fn query_to_wire(
    call: &GrpcCall,
    fields: &[(String, Vec<String>)],
    out: &mut Vec<u8>,
) -> Result<(), Vec<Mistake>> {
    let (mut mistakes, mut given) = (Vec::new(), porch_grpc::Given::default());
    for (name, values) in fields {
        if call.json.ignore_unknown && call.types.resolve(call.input, name).is_err() {
            continue;
        }
        let texts: Vec<&str> = values.iter().map(String::as_str).collect();
        // A body that is the whole message leaves no field for the query (`google/api/http.proto`).
        let result = match call.body {
            MessagePart::Whole => Err(porch_grpc::BindError(
                "has no place: the body is the whole message".into(),
            )),
            _ => given
                .add(&call.types, call.input, name)
                .and_then(|()| call.types.bind(call.input, name, &texts, out)),
        };
        if let Err(e) = result {
            mistakes.push((format!("/query/{name}"), e.0));
        }
    }
    if mistakes.is_empty() {
        Ok(())
    } else {
        Err(mistakes)
    }
}

/// What path and query say of the message: to be laid over what the body says.
pub(crate) struct Bound {
    /// The query's fields, before the body.
    pub(crate) query: Vec<u8>,
    /// What `send` makes, behind the body, so that it wins.
    pub(crate) over: Vec<u8>,
    /// Whether the query has the mask.
    masked: bool,
}

pub(crate) fn bound(call: &GrpcCall, scope: &Scope<'_>, query: &str) -> Result<Bound, Failure> {
    let (mut before, mut over) = (Vec::new(), Vec::new());
    let fields = query_fields(call, query).map_err(Failure::Mistakes)?;
    query_to_wire(call, &fields, &mut before).map_err(Failure::Mistakes)?;
    if let Some(template) = &call.send {
        let value = template
            .render(scope)
            .map_err(|e| Failure::unsuitable("the message", e))?
            .unwrap_or(Value::Object(Default::default()));
        let json = serde_json::to_vec(&value).unwrap_or_default();
        // What the documents make is theirs to answer for; values of the path are the caller's.
        call.types
            .lay_over(call.input, &json, call.json, &mut over)
            .map_err(|e| {
                let place = |(p, m)| (format!("/message{p}"), m);
                Failure::Mistakes(mistakes_of(e).into_iter().map(place).collect())
            })?;
    }
    let masked = call.mask.as_ref().is_some_and(|(field, _)| {
        fields
            .iter()
            .any(|(n, _)| **n == *field.json || **n == *field.name)
    });
    Ok(Bound {
        query: before,
        over,
        masked,
    })
}

/// The whole message of a call with one, and the paths of the mask that was made for it.
pub(crate) fn message(
    call: &GrpcCall,
    bound: &Bound,
    body: Option<&[u8]>,
    content_type: &str,
    patch: bool,
) -> Result<(Vec<u8>, Vec<String>), Vec<Mistake>> {
    let mut made = Vec::new();
    let mut wire =
        Vec::with_capacity(body.map_or(0, <[u8]>::len) + bound.query.len() + bound.over.len());
    wire.extend_from_slice(&bound.query);
    if let Some(body) = body {
        if call.raw_body {
            raw_to_wire(call, content_type, body, &mut wire);
        } else {
            part_to_wire(call, body, patch, &mut wire).map_err(|list| {
                list.into_iter()
                    .map(|(p, m)| (format!("/body{p}"), m))
                    .collect::<Vec<_>>()
            })?;
            if let (Some((field, about)), true, false) = (&call.mask, patch, bound.masked) {
                let value: Value = serde_json::from_slice(body)
                    .map_err(|e| vec![("/body".to_owned(), format!("is no JSON: {e}"))])?;
                let paths = call.types.mask_of(*about, &value);
                let mut mask = Vec::new();
                for path in &paths {
                    mask.push(0x0a);
                    porch_grpc::put_varint(&mut mask, path.len() as u64);
                    mask.extend_from_slice(path.as_bytes());
                }
                made = paths;
                if !mask.is_empty() {
                    porch_grpc::put_varint(&mut wire, u64::from(field.number) << 3 | 2);
                    porch_grpc::put_varint(&mut wire, mask.len() as u64);
                    wire.extend_from_slice(&mask);
                }
            }
        }
    }
    wire.extend_from_slice(&bound.over);
    Ok((wire, made))
}

/// How long a caller is willing to wait: `grpc-timeout`, at most eight digits and a unit.
pub(crate) fn deadline(headers: &HeaderMap) -> Option<Duration> {
    let text = headers.get(&GRPC_TIMEOUT)?.to_str().ok()?.trim();
    let (digits, unit) = text.split_at_checked(text.len().checked_sub(1)?)?;
    let n: u64 = digits
        .parse()
        .ok()
        .filter(|_| digits.len() <= 8 && digits.bytes().all(|b| b.is_ascii_digit()))?;
    match unit {
        "H" => Some(Duration::from_secs(n * 3600)),
        "M" => Some(Duration::from_secs(n * 60)),
        "S" => Some(Duration::from_secs(n)),
        "m" => Some(Duration::from_millis(n)),
        "u" => Some(Duration::from_micros(n)),
        "n" => Some(Duration::from_nanos(n)),
        _ => None,
    }
}

/// A time as `grpc-timeout` has it.
fn timeout_text(d: Duration) -> String {
    let (number, unit) = match d.as_millis() {
        0 => (d.as_micros().max(1), "u"),
        ms if ms < 100_000_000 => (ms, "m"),
        ms => ((ms / 1000).min(99_999_999), "S"),
    };
    // Without the general machine for texts: every call has it.
    let mut text = itoa::Buffer::new().format(number).to_owned();
    text.push_str(unit);
    text
}

/// The request of a call (PROTOCOL-HTTP2 of gRPC, “Requests”). The backend is told how long it has: all of the time for a
/// single message, and for a stream, which may go on for as long as something comes, only what the caller says.
pub(crate) fn request(
    call: &GrpcCall,
    cx: &Context<'_>,
    within: Duration,
    body: OutBody,
) -> Result<Outgoing, Failure> {
    let mut fields = Fields::with_capacity(12);
    fields.append(header::TE, TE);
    fields.append(header::CONTENT_TYPE, GRPC);
    fields.append(GRPC_ACCEPT_ENCODING, GZIP);
    if call.compress {
        fields.append(GRPC_ENCODING, GZIP);
    }
    let told = if call.server_streaming || call.client_streaming {
        deadline(&cx.parts.headers)
    } else {
        Some(within)
    };
    if let Some(value) = told.and_then(|d| HeaderValue::from_str(&timeout_text(d)).ok()) {
        fields.append(GRPC_TIMEOUT, value);
    }
    if !cx.native {
        for name in &call.metadata_out {
            for value in cx.parts.headers.get_all(name) {
                fields.append(name.clone(), value.clone());
            }
        }
    }
    let path = [cx.address.path.as_str(), call.path.as_str()].concat();
    let uri = http::Uri::try_from(path.as_str()).map_err(|_| Failure::Target(path))?;
    Ok(Outgoing {
        method: Method::POST,
        uri,
        fields,
        body,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn deadlines_are_read_and_written_as_the_protocol_has_them() {
        for (text, found) in [
            ("100m", Some(100)),
            ("2S", Some(2000)),
            ("1M", Some(60_000)),
            ("1H", Some(3_600_000)),
            ("999999999m", None),
            ("m", None),
            ("1x", None),
            ("+1S", None),
            ("", None),
        ] {
            let headers =
                HeaderMap::from_iter([(GRPC_TIMEOUT, HeaderValue::from_str(text).unwrap())]);
            assert_eq!(deadline(&headers).map(|d| d.as_millis()), found, "{text}");
        }
        assert_eq!(
            (
                timeout_text(Duration::from_millis(1500)),
                timeout_text(Duration::from_micros(20))
            ),
            ("1500m".into(), "20u".into())
        );
    }
}
