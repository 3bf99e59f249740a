//! Refusals and failures as problem documents (RFC 9457): all that callers are told is said in this folder.

mod limits;
mod of_failure;
mod own;
mod refusals;
mod tell;
mod worded;

use bytes::Bytes;
use http::{HeaderMap, HeaderName, HeaderValue, StatusCode, header};
use porch_facade::{MediaType, RulePlace};
use serde::ser::{Serialize, SerializeMap, Serializer};
use serde_json::{Map, Value};

pub(crate) use limits::*;
pub(crate) use of_failure::{not_as_agreed, of_failure};
pub(crate) use own::{in_own_words, other_origin};
pub(crate) use refusals::*;
pub(crate) use tell::Tell;

use porch_rules::grant::Grant;

use crate::caller::Caller;
use crate::media;
use crate::trace::{Refusal, StageName};

/// A refusal on its way to the caller.
pub(crate) struct Problem {
    pub(crate) status: StatusCode,
    kind: String,
    title: String,
    detail: String,
    extra: Map<String, Value>,
    pub(crate) headers: Vec<(HeaderName, HeaderValue)>,
    /// What the publisher is told; callers are not.
    pub(crate) refusal: Refusal,
    /// Whether another backend could have answered.
    pub(crate) lost: Lost,
    /// Who called, where that is known and it is refused all the same.
    pub(crate) caller: Option<Caller>,
}

/// Whether a call gave no answer that another backend could give.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) enum Lost {
    /// It is no question of the backend, or no time is left.
    #[default]
    No,
    /// Nothing of it was sent.
    Unsent,
    /// It may have been carried out.
    Perhaps,
    /// It came too late, or cannot be used: no time is left for another one.
    Late,
}

/// The prefix of every problem type that the porch defines.
const TYPE: &str = "urn:elm-porch:problem:";

impl Problem {
    /// A problem; `why` is for the publisher, `detail` for the caller.
    fn new(
        status: u16,
        kind: &str,
        title: &str,
        detail: impl Into<String>,
        stage: StageName,
    ) -> Box<Self> {
        let detail = detail.into();
        let refusal = Refusal {
            stage,
            why: detail.clone(),
            ..Refusal::default()
        };
        // Documents word problems by their reasons.
        debug_assert!(porch_facade::REASONS.contains(&kind), "{kind}");
        let status = StatusCode::from_u16(status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
        Box::new(Self {
            status,
            kind: format!("{TYPE}{kind}"),
            title: title.into(),
            detail,
            extra: Map::new(),
            headers: Vec::new(),
            refusal,
            lost: Lost::No,
            caller: None,
        })
    }

    fn lost(mut self: Box<Self>, lost: Lost) -> Box<Self> {
        self.lost = lost;
        self
    }

    /// It is the one of a grant who is refused.
    fn of(mut self: Box<Self>, grant: &Grant) -> Box<Self> {
        self.caller = Some(Caller::of(grant, None));
        self
    }

    fn why(mut self: Box<Self>, why: impl Into<String>) -> Box<Self> {
        self.refusal.why = why.into();
        self
    }

    fn by(mut self: Box<Self>, place: &RulePlace) -> Box<Self> {
        let why = std::mem::take(&mut self.refusal.why);
        self.refusal = Refusal::new(self.refusal.stage, why, place);
        self
    }

    fn with(mut self: Box<Self>, name: &str, value: Value) -> Box<Self> {
        self.extra.insert(name.into(), value);
        self
    }

    /// With what must be signed (RFC 9421 §5.1).
    pub(crate) fn accepting(self: Box<Self>, signed: &str) -> Box<Self> {
        self.header(HeaderName::from_static("accept-signature"), signed)
    }

    pub(crate) fn title(&self) -> &str {
        &self.title
    }

    pub(crate) fn detail(&self) -> &str {
        &self.detail
    }

    fn header(mut self: Box<Self>, name: HeaderName, value: &str) -> Box<Self> {
        if let Ok(value) = HeaderValue::from_str(value) {
            self.headers.push((name, value));
        }
        self
    }

    /// The document, in JSON, or in XML when that is all the caller accepts (RFC 9457 appendix B).
    pub(crate) fn render(&self, id: &str, request: &HeaderMap) -> (HeaderValue, Bytes) {
        let document = Document { problem: self, id };
        if request.contains_key(header::ACCEPT) && only_xml(request) {
            let doc = serde_json::to_value(&document).unwrap_or_default();
            let mut out =
                b"<?xml version=\"1.0\" encoding=\"UTF-8\"?><problem xmlns=\"urn:ietf:rfc:7807\">"
                    .to_vec();
            xml(&mut out, &doc);
            out.extend_from_slice(b"</problem>");
            return (
                HeaderValue::from_static("application/problem+xml"),
                out.into(),
            );
        }
        (
            HeaderValue::from_static("application/problem+json"),
            serde_json::to_vec(&document).unwrap_or_default().into(),
        )
    }
}

/// A problem document with its members in the order of RFC 9457 §3.1; refusals may be many, so no tree is made of it.
struct Document<'a> {
    problem: &'a Problem,
    id: &'a str,
}

impl Serialize for Document<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let Problem { extra, .. } = self.problem;
        let instance = ["urn:elm-porch:exchange:", self.id].concat();
        let status = self.problem.status.as_u16();
        let mut map = serializer.serialize_map(None)?;
        for (name, text) in [
            ("type", self.problem.kind.as_str()),
            ("title", &self.problem.title),
            ("status", ""),
            ("detail", &self.problem.detail),
            ("instance", &instance),
        ] {
            match name {
                // A member of that name that belongs to the problem stands behind the others.
                _ if extra.contains_key(name) => {}
                "detail" if text.is_empty() => {}
                "status" => map.serialize_entry(name, &status)?,
                _ => map.serialize_entry(name, text)?,
            }
        }
        for (name, value) in extra {
            map.serialize_entry(name, value)?;
        }
        map.end()
    }
}

/// Whether the caller likes XML better than JSON (RFC 9110 §12.5.1).
fn only_xml(request: &HeaderMap) -> bool {
    let mut plain = HeaderMap::new();
    for accept in request.get_all(header::ACCEPT) {
        // Problem documents have media types of their own.
        if let Ok(value) =
            HeaderValue::from_str(&accept.to_str().unwrap_or_default().replace("problem+", ""))
        {
            plain.append(header::ACCEPT, value);
        }
    }
    media::choose(&plain, &[MediaType::Json, MediaType::Xml]) == Some(MediaType::Xml)
}

fn xml(out: &mut Vec<u8>, value: &Value) {
    match value {
        Value::Object(map) => {
            for (name, value) in map {
                // Names of members are ours or the schema's, so they are names in XML too.
                let name: String = name
                    .chars()
                    .filter(|c| c.is_alphanumeric() || matches!(c, '_' | '-' | '.'))
                    .collect();
                out.extend_from_slice(format!("<{name}>").as_bytes());
                xml(out, value);
                out.extend_from_slice(format!("</{name}>").as_bytes());
            }
        }
        Value::Array(items) => {
            for item in items {
                out.extend_from_slice(b"<i>");
                xml(out, item);
                out.extend_from_slice(b"</i>");
            }
        }
        Value::String(text) => drop(porch_soap::xml::escape_text(out, text)),
        other => out.extend_from_slice(other.to_string().as_bytes()),
    }
}
