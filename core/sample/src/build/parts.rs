//! Parts of samples: addresses, bodies, fields.

use serde_json::{Map, Value};

use crate::command::decoded;
use crate::secrets::is_secret;
use crate::shape::{MAX_SECRETS, typed};

/// A body deeper than this is no value (the reader of JSON has a bound of its own).
const MAX_DEPTH: usize = 120;

/// So many segments of a path are looked at.
const MAX_SEGMENTS: usize = 100;
/// So many query parameters and header fields of a request.
pub(super) const MAX_FIELDS: usize = 200;

/// An address, taken apart (RFC 3986 §3).
#[derive(Debug, Default, PartialEq, Eq)]
pub(super) struct Address {
    /// Scheme and host; empty where only a path was given.
    pub(super) origin: String,
    /// Whether it has more than is looked at.
    pub(super) long: bool,
    /// The segments of its path, as they are meant.
    pub(super) segments: Vec<String>,
    /// The pairs of its query, as they are meant.
    pub(super) query: Vec<(String, String)>,
}

impl Address {
    pub(super) fn of(url: &str) -> Self {
        let (origin, rest) = match url.split_once("://") {
            Some((scheme, rest)) => {
                let end = rest.find(['/', '?']).unwrap_or(rest.len());
                (format!("{scheme}://{}", &rest[..end]), &rest[end..])
            }
            None => (String::new(), url),
        };
        let (path, query) = rest.split_once('?').unwrap_or((rest, ""));
        let all = path.split('/').filter(|s| !s.is_empty());
        let long = all.clone().count() > MAX_SEGMENTS;
        let segments = all.take(MAX_SEGMENTS);
        // A slash that came encoded is none between segments.
        let segment = |text: &str| match decoded(text) {
            meant if meant.contains('/') => text.to_owned(),
            meant => meant,
        };
        let plus = |text: &str| decoded(&text.replace('+', " "));
        let all = query.split('&').filter(|p| !p.is_empty());
        let long = long || all.clone().count() > MAX_FIELDS;
        let pairs = all.take(MAX_FIELDS);
        Self {
            origin,
            long,
            segments: segments.map(segment).collect(),
            query: pairs
                .map(|p| p.split_once('=').unwrap_or((p, "")))
                .map(|(name, value)| (plus(name), plus(value)))
                .collect(),
        }
    }
}

/// Whether a media type is JSON (RFC 6839 §3.1).
fn is_json(kind: &str) -> bool {
    kind == "application/json" || kind.ends_with("+json")
}

/// The value of a body, where it is one that has a value: JSON, or a form.
pub(super) fn body_value(kind: &str, body: &[u8]) -> Option<Value> {
    if is_json(kind) {
        return serde_json::from_slice(body).ok();
    }
    if kind != "application/x-www-form-urlencoded" {
        return None;
    }
    let text = std::str::from_utf8(body).ok()?;
    let pairs = Address::of(&format!("?{text}")).query;
    let members = pairs.into_iter().map(|(name, value)| (name, typed(&value)));
    Some(Value::Object(members.collect()))
}

/// A body as it is kept as an example: nothing of it may be a secret.
pub(super) fn example_of(
    kind: &str,
    bytes: &[u8],
    value: Option<&Value>,
    secrets: &[String],
) -> Result<Option<Value>, &'static str> {
    let text = std::str::from_utf8(bytes).ok();
    if secrets.len() > MAX_SECRETS {
        return Err("there are too many secrets to look for");
    }
    let shows = |text: &str| secrets.iter().any(|s| text.contains(s.as_str()));
    match (value, text) {
        (Some(value), _) if is_json(kind) => {
            let mut value = value.clone();
            without_secrets(&mut value, 0);
            // As it is read, not as it was written: escapes hide nothing.
            match says(&value, &shows) {
                true => Err("it says a secret of the request again"),
                false => Ok(Some(value)),
            }
        }
        (Some(Value::Object(members)), _) => {
            let hidden = |(name, value): (&String, &Value)| is_secret(name) || says(value, &shows);
            match members.iter().any(hidden) {
                true => Err("it has a secret in it"),
                false => Ok(text.map(Into::into)),
            }
        }
        (None, Some(text)) if is_json(kind) && !text.trim().is_empty() => Err("it is no JSON"),
        (_, Some(text)) if kind.starts_with("text/") || kind.ends_with("xml") => {
            match shows(text) {
                true => Err("it says a secret of the request again"),
                false => Ok(Some(text.into())),
            }
        }
        _ => Ok(None),
    }
}

/// Takes out members whose names say that they are secrets.
fn without_secrets(value: &mut Value, depth: usize) {
    if depth > MAX_DEPTH {
        *value = Value::Null;
        return;
    }
    match value {
        Value::Array(items) => items.iter_mut().for_each(|v| without_secrets(v, depth + 1)),
        Value::Object(members) => {
            let kept: Map<String, Value> = std::mem::take(members)
                .into_iter()
                .filter(|(name, value)| {
                    !(is_secret(name) && !value.is_null() && !value.is_boolean())
                })
                .collect();
            *members = kept;
            members
                .values_mut()
                .for_each(|v| without_secrets(v, depth + 1));
        }
        _ => {}
    }
}

/// Whether a text of a value is one that must not be shown.
fn says(value: &Value, shows: &dyn Fn(&str) -> bool) -> bool {
    match value {
        Value::String(text) => shows(text),
        Value::Number(number) => shows(&number.to_string()),
        Value::Array(items) => items.iter().any(|v| says(v, shows)),
        Value::Object(members) => members
            .iter()
            .any(|(name, v)| shows(name) || says(v, shows)),
        _ => false,
    }
}

/// Fields that every client sends, or that are of the message and not of the service (RFC 9110).
pub(super) fn is_usual_field(name: &str) -> bool {
    let name = name.to_ascii_lowercase();
    let usual = [
        "accept",
        "content-type",
        "content-length",
        "content-encoding",
        "user-agent",
        "host",
        "connection",
        "referer",
        "origin",
        "cache-control",
        "pragma",
        "te",
        "dnt",
        "priority",
        "upgrade-insecure-requests",
        "transfer-encoding",
        "expect",
        "via",
        "forwarded",
        "traceparent",
        "tracestate",
        "date",
        "x-requested-with",
        "keep-alive",
        "upgrade",
        "trailer",
        "proxy-connection",
    ];
    let of_kind = ["accept-", "sec-", "if-", "x-forwarded-"];
    usual.contains(&name.as_str()) || of_kind.iter().any(|p| name.starts_with(p))
}

/// Fields of answers that are of the message, of caches, or of whoever serves it (RFC 9110, RFC 9111).
pub(super) fn is_usual_answer(name: &str) -> bool {
    let name = name.to_ascii_lowercase();
    let usual = [
        "server",
        "vary",
        "etag",
        "last-modified",
        "expires",
        "age",
        "allow",
        "accept-ranges",
        "set-cookie",
        "alt-svc",
        "nel",
        "report-to",
        "x-powered-by",
        "strict-transport-security",
        "www-authenticate",
    ];
    let of_kind = ["content-", "access-control-", "cross-origin-"];
    is_usual_field(&name)
        || usual.contains(&name.as_str())
        || of_kind.iter().any(|p| name.starts_with(p))
}
