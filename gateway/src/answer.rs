//! Answers of backends, as values.

use std::time::Duration;

use bytes::Bytes;
use http::{HeaderMap, HeaderName, HeaderValue, StatusCode, response};
use http_body_util::BodyExt;
use serde_json::Value;

use crate::backend::Came;
use crate::body::ReplyBody;
use crate::budget::Share;
use crate::failure::Failure;

/// What there is to see of a message.
#[derive(Debug, Default)]
pub(crate) struct Seen {
    pub(crate) notes: Vec<String>,
    /// Header fields, where they are more than those of the head.
    pub(crate) fields: Option<HeaderMap>,
    /// Its body, or the beginning.
    pub(crate) body: Option<Vec<u8>>,
    /// Length of the whole body.
    pub(crate) bytes: Option<u64>,
    /// Whether it goes through unseen.
    pub(crate) streamed: bool,
}

/// An answer.
pub(crate) enum Answer {
    /// It goes to the caller as it comes.
    Through(Passing),
    /// It was read.
    Whole(Box<Whole>),
}

/// An answer that goes to the caller as it comes.
pub(crate) struct Passing {
    pub(crate) head: response::Parts,
    pub(crate) body: ReplyBody,
    /// Whether its fields are the backend's, to be cleaned and translated.
    pub(crate) of_backend: bool,
}

/// An answer that was read.
pub(crate) struct Whole {
    /// Status that the reply has.
    pub(crate) status: StatusCode,
    /// Fields of the answer.
    pub(crate) fields: HeaderMap,
    pub(crate) body: Content,
    /// Header elements of a SOAP envelope.
    pub(crate) soap_headers: Option<Value>,
    pub(crate) passed: Passed,
}

/// The body of an answer that was read.
pub(crate) enum Content {
    Empty,
    /// JSON, as bytes.
    Json(Bytes),
    Value(Value),
    /// Bytes of some media type, which no expression looks into.
    Raw(String, Bytes),
}

/// Fields of an answer that go to the caller.
pub(crate) enum Passed {
    None,
    /// All of them, where the body is not built anew.
    All,
    These(Vec<(HeaderName, HeaderValue)>),
}

/// Answers that must be read whole may have at most this many bytes.
pub(crate) const MAX_ANSWER: usize = 64 << 20;

impl Whole {
    /// An answer without header elements.
    pub(crate) fn of(
        status: StatusCode,
        fields: &HeaderMap,
        body: Content,
        passed: Passed,
    ) -> Answer {
        Answer::Whole(Box::new(Self {
            status,
            fields: fields.clone(),
            body,
            soap_headers: None,
            passed,
        }))
    }
}

/// Reads a whole answer.
pub(crate) async fn collect(
    mut body: Came,
    idle: Duration,
    share: &Share<'_>,
) -> Result<Bytes, Failure> {
    let mut all = Vec::new();
    loop {
        match tokio::time::timeout(idle, body.frame()).await {
            Err(_) => return Err(Failure::Silent),
            Ok(None) => return Ok(all.into()),
            Ok(Some(Err(e))) => {
                let why = format!("it broke off in the middle of its answer: {e}");
                return Err(Failure::Answer(why));
            }
            Ok(Some(Ok(frame))) => {
                let Ok(data) = frame.into_data() else {
                    continue;
                };
                if all.len() + data.len() > MAX_ANSWER {
                    let why = format!("it has more than {MAX_ANSWER} bytes");
                    return Err(Failure::Answer(why));
                }
                share.gather(data.len())?;
                all.extend_from_slice(&data);
            }
        }
    }
}

/// The JSON value of an answer's body.
pub(crate) fn json_of(bytes: &[u8], share: &Share<'_>) -> Result<Value, Failure> {
    if bytes.is_empty() {
        return Ok(Value::Null);
    }
    share.read(bytes)?;
    serde_json::from_slice(bytes).map_err(|e| Failure::Answer(format!("its body is no JSON: {e}")))
}
