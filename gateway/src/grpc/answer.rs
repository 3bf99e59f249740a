//! Answers: messages one by one, then the status (PROTOCOL-HTTP2 of gRPC, “Responses”).

use bytes::Bytes;
use http::{HeaderMap, HeaderName, StatusCode, header};
use hyper::body::Incoming;
use porch_facade::{CompiledOperation, GrpcWiring, MessagePart};
use porch_grpc::status;
use serde_json::{Value, json};

use super::frames::Frames;
use crate::problem::Problem;
use crate::reply::bad_answer;

pub(crate) const GRPC_STATUS: HeaderName = HeaderName::from_static("grpc-status");
pub(crate) const GRPC_MESSAGE: HeaderName = HeaderName::from_static("grpc-message");
const GRPC_ENCODING: HeaderName = HeaderName::from_static("grpc-encoding");
const DETAILS: HeaderName = HeaderName::from_static("grpc-status-details-bin");

/// How a call ended.
#[derive(Clone, Debug, Default)]
pub(crate) struct Ended {
    pub(crate) code: u32,
    pub(crate) trailers: HeaderMap,
}

/// The status among header or trailer fields.
pub(crate) fn ended(fields: &HeaderMap) -> Option<Ended> {
    let code = fields.get(&GRPC_STATUS)?.to_str().ok()?.parse().ok()?;
    Some(Ended {
        code,
        trailers: fields.clone(),
    })
}

/// What comes next of an answer.
pub(crate) enum Part {
    Message(Bytes),
    Ended(Ended),
}

/// An answer while it arrives.
pub(crate) struct Answer {
    body: Incoming,
    frames: Frames,
    done: bool,
}

impl Answer {
    /// Looks at the head of an answer; `Err` says why it is none of gRPC.
    pub(crate) fn new(
        status: StatusCode,
        headers: &HeaderMap,
        body: Incoming,
        most: usize,
    ) -> Result<Self, String> {
        let kind = headers
            .get(header::CONTENT_TYPE)
            .and_then(|v| v.to_str().ok())
            .unwrap_or("no content type");
        if status != StatusCode::OK || !kind.starts_with("application/grpc") {
            return Err(format!("it answered {status} ({kind}), not with gRPC"));
        }
        let coding = headers
            .get(&GRPC_ENCODING)
            .and_then(|v| v.to_str().ok())
            .unwrap_or("identity");
        if !matches!(coding, "identity" | "gzip") {
            return Err(format!(
                "its messages are compressed with “{coding}”, which was not asked for"
            ));
        }
        Ok(Self {
            body,
            frames: Frames::new(most, coding == "gzip"),
            done: false,
        })
    }

    /// The next message, or how the call ended; `Err` says what is wrong with the answer.
    pub(crate) fn poll(
        &mut self,
        cx: &mut std::task::Context<'_>,
    ) -> std::task::Poll<Result<Part, String>> {
        use http_body::Body;
        use std::task::Poll;
        loop {
            if let Some(message) = self.frames.next()? {
                return Poll::Ready(Ok(Part::Message(message)));
            }
            if self.done {
                return Poll::Ready(Err("it ended without a status".into()));
            }
            match std::pin::Pin::new(&mut self.body).poll_frame(cx) {
                Poll::Pending => return Poll::Pending,
                Poll::Ready(Some(Ok(frame))) => match frame.into_data() {
                    Ok(data) => self.frames.push(&data),
                    Err(frame) => {
                        self.done = true;
                        if !self.frames.is_empty() {
                            return Poll::Ready(Err("it ended in the middle of a message".into()));
                        }
                        let trailers = frame.into_trailers().unwrap_or_default();
                        return Poll::Ready(
                            ended(&trailers)
                                .map(Part::Ended)
                                .ok_or_else(|| "its trailers have no status".into()),
                        );
                    }
                },
                Poll::Ready(Some(Err(e))) => {
                    self.done = true;
                    return Poll::Ready(Err(format!(
                        "it broke off in the middle of its answer: {}",
                        super::deepest(&e)
                    )));
                }
                Poll::Ready(None) => self.done = true,
            }
        }
    }

    pub(crate) async fn next(&mut self) -> Result<Part, String> {
        std::future::poll_fn(|cx| self.poll(cx)).await
    }
}

/// The one message of an answer, and how the call ended.
pub(crate) async fn only(mut answer: Answer) -> Result<(Option<Bytes>, Ended), String> {
    let mut message = None;
    loop {
        match answer.next().await? {
            Part::Message(_) if message.is_some() => {
                return Err(
                    "it answered with several messages, where its definition has one".into(),
                );
            }
            Part::Message(one) => message = Some(one),
            Part::Ended(ended) => return Ok((message, ended)),
        }
    }
}

/// A message as JSON.
pub(crate) fn to_json(wiring: &GrpcWiring, message: &[u8]) -> Result<Vec<u8>, String> {
    let mut json = Vec::with_capacity(message.len() * 2 + 64);
    match &wiring.response {
        MessagePart::Field(field) => {
            wiring
                .types
                .field_to_json(wiring.output, field, message, wiring.json, &mut json)
        }
        _ => wiring
            .types
            .to_json(wiring.output, message, wiring.json, &mut json),
    }
    .map_err(|e| e.to_string())?;
    Ok(json)
}

/// Content type and data of a `google.api.HttpBody`.
pub(crate) fn raw(wiring: &GrpcWiring, message: &[u8]) -> Result<(String, Bytes), String> {
    let mut json = Vec::new();
    match &wiring.response {
        MessagePart::Field(field) => {
            wiring
                .types
                .field_to_json(wiring.output, field, message, Default::default(), &mut json)
        }
        _ => wiring
            .types
            .to_json(wiring.output, message, Default::default(), &mut json),
    }
    .map_err(|e| e.to_string())?;
    let value: Value = serde_json::from_slice(&json).map_err(|e| e.to_string())?;
    let text = |name: &str| value[name].as_str().unwrap_or_default().to_owned();
    let data = porch_soap::from_base64(&text("data")).unwrap_or_default();
    Ok((text("contentType"), data.into()))
}

/// The problem for a call that failed: status by the standard's table, unless the operation says otherwise.
pub(crate) fn failed(ended: &Ended, op: &CompiledOperation, wiring: &GrpcWiring) -> Box<Problem> {
    let name = status::code_name(ended.code);
    let said = ended
        .trailers
        .get(&GRPC_MESSAGE)
        .map_or_else(String::new, |v| status::message(v.as_bytes()));
    let details = ended
        .trailers
        .get(&DETAILS)
        .and_then(|v| status::binary(v.to_str().ok()?))
        .map(|bytes| status::details(&bytes, &wiring.types))
        .unwrap_or_default();
    let mapped = op.faults.get(name).copied();
    let http = mapped.unwrap_or_else(|| status::http_status(ended.code));
    // What a server says of its own failures may tell of its inside.
    let open = http < 500
        || mapped.is_some()
        || !details.details.is_empty()
        || matches!(name, "UNIMPLEMENTED" | "UNAVAILABLE");
    let text = details
        .localized
        .clone()
        .filter(|_| open)
        .unwrap_or_else(|| {
            if open && !said.is_empty() {
                said.clone()
            } else {
                "The backend reports a failure.".into()
            }
        });
    let title = match name {
        "NOT_FOUND" => "Not found",
        "ALREADY_EXISTS" => "There already",
        "PERMISSION_DENIED" => "Not allowed",
        "UNAUTHENTICATED" => "The backend wants other credentials",
        "INVALID_ARGUMENT" | "OUT_OF_RANGE" | "FAILED_PRECONDITION" => {
            "The backend refuses the request"
        }
        "RESOURCE_EXHAUSTED" => "Too much was asked for",
        "ABORTED" => "Something came in between",
        "UNAVAILABLE" => "The backend is not available",
        "DEADLINE_EXCEEDED" => "The backend is too slow",
        "UNIMPLEMENTED" => "The backend does not have this",
        _ => "The backend reports a failure",
    };
    let mut problem = Problem::new(http, "grpc", title, text, "reply")
        .why(format!(
            "the backend answered {name} ({}): {said}",
            ended.code
        ))
        .by(&op.place);
    problem = problem.with("code", json!(name));
    if open && !details.details.is_empty() {
        problem = problem.with("details", Value::Array(details.details));
    }
    if !details.errors.is_empty() {
        // Fields are told where the caller put them.
        let place = |pointer: String| match &wiring.body {
            MessagePart::Whole => format!("/body{pointer}"),
            MessagePart::Field(field)
                if pointer == format!("/{}", field.json)
                    || pointer.starts_with(&format!("/{}/", field.json)) =>
            {
                format!("/body{}", &pointer[field.json.len() + 1..])
            }
            _ => pointer,
        };
        problem = problem.with(
            "errors",
            details
                .errors
                .into_iter()
                .map(|(pointer, detail)| json!({ "pointer": place(pointer), "detail": detail }))
                .collect(),
        );
    }
    if let Some(seconds) = details.retry_after {
        problem = problem.header(header::RETRY_AFTER, &seconds.to_string());
    }
    problem
}

/// The problem for an answer that is not what it should be.
pub(crate) fn bad(op: &CompiledOperation, why: impl Into<String>) -> Box<Problem> {
    bad_answer(op, why.into())
}
