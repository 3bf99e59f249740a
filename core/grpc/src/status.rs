//! Statuses of calls: `google/rpc/code.proto`, `google/rpc/status.proto` and `google/rpc/error_details.proto`.

use serde_json::{Value, json};

use crate::json::read_varint;
use crate::read::status_types;
use crate::types::{JsonOptions, Types};

/// Codes by number: name, and status by HTTP, as the comments of `google/rpc/code.proto` map them.
const CODES: [(&str, u16); 17] = [
    ("OK", 200),
    ("CANCELLED", 499),
    ("UNKNOWN", 500),
    ("INVALID_ARGUMENT", 400),
    ("DEADLINE_EXCEEDED", 504),
    ("NOT_FOUND", 404),
    ("ALREADY_EXISTS", 409),
    ("PERMISSION_DENIED", 403),
    ("RESOURCE_EXHAUSTED", 429),
    ("FAILED_PRECONDITION", 400),
    ("ABORTED", 409),
    ("OUT_OF_RANGE", 400),
    ("UNIMPLEMENTED", 501),
    ("INTERNAL", 500),
    ("UNAVAILABLE", 503),
    ("DATA_LOSS", 500),
    ("UNAUTHENTICATED", 401),
];

/// The name of a code; `UNKNOWN` for those that there are not.
pub fn code_name(code: u32) -> &'static str {
    CODES.get(code as usize).map_or("UNKNOWN", |c| c.0)
}

/// A code's status by HTTP.
pub fn http_status(code: u32) -> u16 {
    CODES.get(code as usize).map_or(500, |c| c.1)
}

/// Whether a text names a code.
pub fn is_code(name: &str) -> bool {
    CODES.iter().skip(1).any(|c| c.0 == name)
}

/// The names of all codes that failed calls have.
pub fn code_names() -> impl Iterator<Item = &'static str> {
    CODES.iter().skip(1).map(|c| c.0)
}

/// The code that tells a native caller of a refusal by HTTP status.
pub fn code_for(status: u16) -> u32 {
    match status {
        400 | 415 => 3,
        401 => 16,
        403 => 7,
        404 | 405 => 12,
        408 | 504 => 4,
        409 => 10,
        413 | 429 => 8,
        502 | 503 => 14,
        _ => 13,
    }
}

/// What a failed call says of itself.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Details {
    /// Every detail as JSON, its type in `@type`.
    pub details: Vec<Value>,
    /// What is wrong with which field: JSON Pointer and words, from `BadRequest`.
    pub errors: Vec<(String, String)>,
    /// Seconds to wait, from `RetryInfo`, rounded up.
    pub retry_after: Option<u64>,
    /// Its text in a language, from `LocalizedMessage`.
    pub localized: Option<String>,
}

/// Decodes the `google.rpc.Status` of `grpc-status-details-bin`; types of the definition are understood too.
pub fn details(status: &[u8], types: &Types) -> Details {
    let mut found = Details::default();
    let mut pos = 0;
    while pos < status.len() {
        let Some(tag) = read_varint(status, &mut pos) else {
            break;
        };
        match tag {
            0x08 => {
                if read_varint(status, &mut pos).is_none() {
                    break;
                }
            }
            0x12 | 0x1a => {
                let Some(len) = read_varint(status, &mut pos).and_then(|n| usize::try_from(n).ok())
                else {
                    break;
                };
                let Some(content) = pos.checked_add(len).and_then(|end| status.get(pos..end))
                else {
                    break;
                };
                pos += len;
                if tag == 0x1a {
                    found.details.push(detail(content, types));
                }
            }
            _ => break,
        }
    }
    for detail in &found.details {
        let kind = detail["@type"]
            .as_str()
            .unwrap_or_default()
            .rsplit('/')
            .next()
            .unwrap_or_default();
        match kind {
            "google.rpc.BadRequest" => {
                for violation in detail["fieldViolations"].as_array().into_iter().flatten() {
                    let text = |name: &str| violation[name].as_str().unwrap_or_default();
                    found
                        .errors
                        .push((pointer(text("field")), text("description").to_owned()));
                }
            }
            "google.rpc.RetryInfo" => {
                let seconds = detail["retryDelay"]
                    .as_str()
                    .and_then(|t| t.trim_end_matches('s').parse::<f64>().ok());
                found.retry_after = seconds.filter(|s| *s >= 0.0).map(|s| s.ceil() as u64);
            }
            "google.rpc.LocalizedMessage" => {
                found.localized = detail["message"].as_str().map(str::to_owned)
            }
            _ => {}
        }
    }
    found
}

/// One detail; what cannot be read is shown by its type only.
fn detail(any: &[u8], types: &Types) -> Value {
    for types in [types, status_types()] {
        let Some(id) = types
            .find("google.protobuf.Any")
            .or_else(|| status_types().find("google.protobuf.Any"))
        else {
            continue;
        };
        let mut out = Vec::new();
        let readable = types.find("google.protobuf.Any").is_some()
            && types
                .to_json(id, any, JsonOptions::default(), &mut out)
                .is_ok();
        if let (true, Ok(value)) = (readable, serde_json::from_slice(&out)) {
            return value;
        }
    }
    let url = any
        .get(2..)
        .and_then(|rest| rest.get(..usize::from(*any.get(1)?)))
        .and_then(|b| std::str::from_utf8(b).ok())
        .unwrap_or_default();
    json!({ "@type": url })
}

/// `vessel.names[2].text` as a JSON Pointer, in lower camel case.
fn pointer(field: &str) -> String {
    let steps = field
        .split(['.', '['])
        .map(|s| s.trim_end_matches(']').trim_matches('"'))
        .filter(|s| !s.is_empty());
    steps
        .map(|s| format!("/{}", crate::build::lower_camel(s)))
        .collect()
}

/// The bytes of binary metadata: base64, padded or not (PROTOCOL-HTTP2 of gRPC, “Binary-Header”).
pub fn binary(text: &str) -> Option<Vec<u8>> {
    use base64::Engine;
    base64::engine::general_purpose::STANDARD_NO_PAD
        .decode(text.trim().trim_end_matches('='))
        .ok()
}

/// Undoes the percent-encoding of `grpc-message`.
pub fn message(encoded: &[u8]) -> String {
    let mut out = Vec::with_capacity(encoded.len());
    let mut i = 0;
    while i < encoded.len() {
        let hex = (encoded[i] == b'%')
            .then(|| encoded.get(i + 1..i + 3))
            .flatten();
        let code = hex
            .and_then(|h| std::str::from_utf8(h).ok())
            .and_then(|h| u8::from_str_radix(h, 16).ok());
        out.push(code.unwrap_or(encoded[i]));
        i += if code.is_some() { 3 } else { 1 };
    }
    String::from_utf8_lossy(&out).into_owned()
}

/// A text as `grpc-message` carries it.
pub fn encode_message(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for b in text.bytes() {
        if (0x20..0x7f).contains(&b) && b != b'%' {
            out.push(b as char);
        } else {
            out.push_str(&format!("%{b:02X}"));
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn details_become_json_errors_and_a_time_to_wait() {
        let types = status_types();
        let id = types.find("google.rpc.Status").unwrap();
        let json = br#"{"code": 3, "message": "no", "details": [
            {"@type": "type.googleapis.com/google.rpc.BadRequest", "fieldViolations": [{"field": "vessel.home_ports[0].code", "description": "is unknown"}]},
            {"@type": "type.googleapis.com/google.rpc.RetryInfo", "retryDelay": "1.2s"}]}"#;
        let mut wire = Vec::new();
        types
            .to_wire(id, json, JsonOptions::default(), &mut wire)
            .unwrap();
        // One more, of a type that nobody knows: x/y.Z.
        wire.extend_from_slice(b"\x1a\x09\x0a\x05x/y.Z\x12\x00");
        let found = details(&wire, &Types::default());
        assert_eq!(
            found.errors,
            [(
                "/vessel/homePorts/0/code".to_owned(),
                "is unknown".to_owned()
            )]
        );
        assert_eq!(found.retry_after, Some(2));
        assert_eq!(found.details[2], json!({"@type": "x/y.Z"}));
        assert_eq!(details(b"\x1a\xff", types), Details::default());
    }

    #[test]
    fn messages_are_percent_encoded() {
        assert_eq!(message(b"caf%C3%A9 100%"), "café 100%");
        assert_eq!(encode_message("café\n%"), "caf%C3%A9%0A%25");
        assert_eq!(
            (code_name(5), http_status(5), code_name(99), is_code("OK")),
            ("NOT_FOUND", 404, "UNKNOWN", false)
        );
    }
}
