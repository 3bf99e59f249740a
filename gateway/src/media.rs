//! JSON and XML: what a caller asks for, and bodies in either.

use http::{HeaderMap, header};
use porch_facade::MediaType;
use porch_soap::WriteError;
use porch_soap::generic::{Mapping, to_json, to_xml};
use porch_soap::related::parameter;
use porch_soap::xml::XmlError;
use porch_soap::{NotEncoded, decode_document};
use serde_json::Value;

/// The media type's name without parameters, in lower case.
pub(crate) fn essence(headers: &HeaderMap) -> String {
    let text = headers
        .get(header::CONTENT_TYPE)
        .and_then(|v| v.to_str().ok())
        .unwrap_or_default();
    text.split(';')
        .next()
        .unwrap_or_default()
        .trim()
        .to_ascii_lowercase()
}

/// Whether a media type is JSON or XML (RFC 6839 §3.1, RFC 7303 §8).
pub(crate) fn kind(essence: &str) -> Option<MediaType> {
    match essence {
        "application/json" => Some(MediaType::Json),
        "application/xml" | "text/xml" => Some(MediaType::Xml),
        other if other.ends_with("+json") => Some(MediaType::Json),
        other if other.ends_with("+xml") => Some(MediaType::Xml),
        _ => None,
    }
}

/// Whether a media type is one of a range (RFC 9110 §12.5.1).
pub(crate) fn is_within(essence: &str, range: &str) -> bool {
    let range = range.split(';').next().unwrap_or_default().trim();
    match range.strip_suffix("/*") {
        Some("*") => true,
        Some(kind) => essence.split('/').next() == Some(kind),
        None => essence == range,
    }
}

/// Whether a body is coded (RFC 9110 §8.4).
pub(crate) fn is_coded(headers: &HeaderMap) -> bool {
    let mut fields = headers.get_all(header::CONTENT_ENCODING).into_iter();
    fields.any(|v| !v.as_bytes().eq_ignore_ascii_case(b"identity"))
}

pub(crate) fn name(kind: MediaType) -> &'static str {
    match kind {
        MediaType::Json => "application/json",
        MediaType::Xml => "application/xml",
    }
}

/// How much a caller likes media types (RFC 9110 §12.5.1).
pub(crate) struct Liking(Option<Vec<(String, f32)>>);

impl Liking {
    pub(crate) fn of(headers: &HeaderMap) -> Self {
        let fields = headers.get_all(header::ACCEPT).into_iter();
        let ranges = ranges(fields.filter_map(|v| v.to_str().ok()));
        Self((!ranges.is_empty()).then_some(ranges))
    }

    /// From 0, not at all, to 1; the most specific range that fits says it.
    pub(crate) fn of_type(&self, essence: &str) -> f32 {
        let Some(ranges) = &self.0 else { return 1.0 };
        let exactness = |range: &str| match range {
            "*/*" => 0,
            range if range.ends_with("/*") => 1,
            _ => 2,
        };
        let fitting = ranges.iter().filter(|(r, _)| is_within(essence, r));
        let best = fitting.max_by(|a, b| {
            let order = exactness(&a.0).cmp(&exactness(&b.0));
            order.then(a.1.total_cmp(&b.1))
        });
        best.map_or(0.0, |(_, quality)| *quality)
    }
}

/// The media ranges of `Accept`, each with its quality.
fn ranges<'f>(fields: impl Iterator<Item = &'f str>) -> Vec<(String, f32)> {
    let all = fields.flat_map(|f| f.split(','));
    let all = all.filter(|r| !r.trim().is_empty());
    let all = all.map(|range| {
        let mut parts = range.split(';').map(str::trim);
        let name = parts.next().unwrap_or_default().to_ascii_lowercase();
        let quality = parts
            .find_map(|p| p.strip_prefix("q=").or_else(|| p.strip_prefix("Q=")))
            .map_or(1.0, |q| q.parse::<f32>().unwrap_or(0.0).clamp(0.0, 1.0));
        (name, quality)
    });
    all.collect()
}

/// The offered type that the caller likes best (RFC 9110 §12.5.1); `None` when none of them will do.
pub(crate) fn choose(headers: &HeaderMap, offered: &[MediaType]) -> Option<MediaType> {
    let mut fields = headers
        .get_all(header::ACCEPT)
        .into_iter()
        .filter_map(|v| v.to_str().ok())
        .peekable();
    if fields.peek().is_none() {
        return offered.first().copied();
    }
    let ranges = ranges(fields);
    if ranges.is_empty() {
        return offered.first().copied();
    }
    let names = |kind: MediaType| match kind {
        MediaType::Json => ["application/json", "application/json"],
        MediaType::Xml => ["application/xml", "text/xml"],
    };
    // The most specific range that fits says how much it is liked.
    let quality = |kind: MediaType| {
        let exact = ranges
            .iter()
            .filter(|(r, _)| names(kind).contains(&r.as_str()))
            .map(|(_, q)| *q)
            .max_by(f32::total_cmp);
        let group = ranges
            .iter()
            .find(|(r, _)| r == "application/*" || (kind == MediaType::Xml && r == "text/*"))
            .map(|(_, q)| *q);
        let any = ranges.iter().find(|(r, _)| r == "*/*").map(|(_, q)| *q);
        exact.or(group).or(any).unwrap_or(0.0)
    };
    let mut best: Option<(MediaType, f32)> = None;
    for kind in offered {
        let q = quality(*kind);
        if q > 0.0 && best.is_none_or(|(_, b)| q > b) {
            best = Some((*kind, q));
        }
    }
    best.map(|(kind, _)| kind)
}

/// Why a body has no value.
#[derive(Debug, thiserror::Error)]
pub(crate) enum Unreadable {
    #[error("is no JSON: {0}")]
    Json(#[from] serde_json::Error),
    #[error("is not {}", .0.0)]
    Encoding(#[from] NotEncoded),
    #[error("is no well-formed XML: {0}")]
    Xml(#[from] XmlError),
}

/// The value of a body.
///
/// # Errors
/// What is wrong with it.
pub(crate) fn parse(
    kind: MediaType,
    bytes: &[u8],
    headers: &HeaderMap,
    mapping: &Mapping,
) -> Result<Value, Unreadable> {
    match kind {
        MediaType::Json => Ok(serde_json::from_slice(bytes)?),
        MediaType::Xml => {
            let whole = headers
                .get(header::CONTENT_TYPE)
                .and_then(|v| v.to_str().ok())
                .unwrap_or_default();
            let text = decode_document(bytes, parameter(whole, "charset").as_deref())?;
            Ok(to_json(&text, mapping)?)
        }
    }
}

/// The body of a value.
///
/// # Errors
/// What the media type cannot hold.
pub(crate) fn render(
    kind: MediaType,
    value: &Value,
    mapping: &Mapping,
) -> Result<Vec<u8>, Vec<WriteError>> {
    match kind {
        MediaType::Json => Ok(value.to_string().into_bytes()),
        MediaType::Xml => {
            let mut out = b"<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n".to_vec();
            to_xml(value, mapping, &mut out)?;
            Ok(out)
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_most_specific_range_says_how_much_a_type_is_liked() {
        let liked = |accept: Option<&str>, essence: &str| {
            let mut headers = HeaderMap::new();
            if let Some(accept) = accept {
                headers.insert(header::ACCEPT, accept.parse().unwrap());
            }
            Liking::of(&headers).of_type(essence)
        };
        for (accept, essence, much) in [
            (None, "text/csv", 1.0),
            (Some(""), "text/csv", 1.0),
            (Some("text/csv"), "text/csv", 1.0),
            (Some("Text/*;q=0.5, */*;q=0.1"), "text/csv", 0.5),
            (Some("*/*, text/*, text/csv;q=0"), "text/csv", 0.0),
            (Some("application/json"), "text/csv", 0.0),
            (Some("text"), "text/csv", 0.0),
        ] {
            assert_eq!(liked(accept, essence), much, "{accept:?} {essence}");
        }
    }

    #[test]
    fn the_caller_s_favourite_wins() {
        use MediaType::{Json, Xml};
        for (accept, offered, chosen) in [
            (None, &[Json, Xml][..], Some(Json)),
            (Some(""), &[Xml, Json], Some(Xml)),
            (Some("*/*"), &[Xml, Json], Some(Xml)),
            (Some("application/xml"), &[Json, Xml], Some(Xml)),
            (Some("text/xml"), &[Json, Xml], Some(Xml)),
            (
                Some("application/xml;q=0.5, application/json;q=0.4"),
                &[Json, Xml],
                Some(Xml),
            ),
            (
                Some("application/xml;q=0.5, application/json"),
                &[Xml, Json],
                Some(Json),
            ),
            (
                Some("application/*;q=0.2, application/json;q=0"),
                &[Json, Xml],
                Some(Xml),
            ),
            (Some("*/*;q=0.1, application/xml;q=0"), &[Xml], None),
            (Some("text/html, image/png"), &[Json, Xml], None),
            (Some("text/html, */*;q=0.8"), &[Json], Some(Json)),
            (Some("application/json;q=nonsense"), &[Json], None),
        ] {
            let mut headers = HeaderMap::new();
            if let Some(accept) = accept {
                headers.insert(header::ACCEPT, accept.parse().unwrap());
            }
            assert_eq!(choose(&headers, offered), chosen, "{accept:?}");
        }
    }
}
