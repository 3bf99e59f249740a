//! Answers: messages one by one, then the status (PROTOCOL-HTTP2 of gRPC, “Responses”).

use bytes::Bytes;
use http::{HeaderMap, HeaderName, StatusCode, header, response};
use porch_facade::kind::grpc::{GrpcCall, MessagePart};

use super::frames::{FrameError, Frames};
use crate::backend::{Came, Lease, deepest};
use crate::failure::Failure;
use porch_grpc::WireError;

pub(crate) const GRPC_STATUS: HeaderName = HeaderName::from_static("grpc-status");
pub(crate) const GRPC_MESSAGE: HeaderName = HeaderName::from_static("grpc-message");
pub(crate) const GRPC_ENCODING: HeaderName = HeaderName::from_static("grpc-encoding");

/// How a call ended.
#[derive(Clone, Debug, Default)]
pub(crate) struct Ended {
    pub(crate) code: u32,
    pub(crate) trailers: HeaderMap,
}

/// The status among header or trailer fields.
pub(crate) fn ended(fields: &HeaderMap) -> Option<Ended> {
    let code = code(fields)?;
    Some(Ended {
        code,
        trailers: fields.clone(),
    })
}

fn code(fields: &HeaderMap) -> Option<u32> {
    fields.get(&GRPC_STATUS)?.to_str().ok()?.parse().ok()
}

/// Why an answer is none of gRPC, or none of its definition.
#[derive(Debug, thiserror::Error)]
pub(crate) enum AnswerError {
    #[error("it answered {0} ({1}), not with gRPC")]
    NotGrpc(StatusCode, String),
    #[error("its messages are compressed with “{0}”, which was not asked for")]
    Compression(String),
    #[error(transparent)]
    Frame(#[from] FrameError),
    #[error("it ended without a status")]
    Unended,
    #[error("it ended in the middle of a message")]
    MidMessage,
    #[error("its trailers have no status")]
    NoStatus,
    #[error("it broke off in the middle of its answer: {0}")]
    BrokeOff(String),
    #[error("it answered with several messages, where its definition has one")]
    Several,
    #[error(transparent)]
    Wire(#[from] WireError),
}

impl From<AnswerError> for Failure {
    fn from(wrong: AnswerError) -> Self {
        Self::Answer(wrong.to_string())
    }
}

/// What comes next of an answer.
pub(crate) enum Part {
    Message(Bytes),
    Ended(Ended),
}

/// An answer while it arrives.
pub(crate) struct Answer {
    body: Came,
    frames: Frames,
    done: bool,
    /// The call's place on its connection, as long as its answer may come.
    _lease: Option<Lease>,
}

impl Answer {
    /// Looks at the head of an answer; `Err` says why it is none of gRPC.
    pub(crate) fn new(
        head: &response::Parts,
        (body, lease): (Came, Option<Lease>),
        most: usize,
    ) -> Result<Self, AnswerError> {
        let (status, headers) = (head.status, &head.headers);
        let kind = headers
            .get(header::CONTENT_TYPE)
            .and_then(|v| v.to_str().ok())
            .unwrap_or("no content type");
        if status != StatusCode::OK || !kind.starts_with("application/grpc") {
            return Err(AnswerError::NotGrpc(status, kind.to_owned()));
        }
        let coding = headers
            .get(&GRPC_ENCODING)
            .and_then(|v| v.to_str().ok())
            .unwrap_or("identity");
        if !matches!(coding, "identity" | "gzip") {
            return Err(AnswerError::Compression(coding.to_owned()));
        }
        Ok(Self {
            body,
            frames: Frames::new(most, coding == "gzip"),
            done: false,
            _lease: lease,
        })
    }

    /// The next message, or how the call ended; `Err` says what is wrong with the answer.
    pub(crate) fn poll(
        &mut self,
        cx: &mut std::task::Context<'_>,
    ) -> std::task::Poll<Result<Part, AnswerError>> {
        use http_body::Body;
        use std::task::Poll;
        loop {
            if let Some(message) = self.frames.next()? {
                return Poll::Ready(Ok(Part::Message(message)));
            }
            if self.done {
                return Poll::Ready(Err(AnswerError::Unended));
            }
            match std::pin::Pin::new(&mut self.body).poll_frame(cx) {
                Poll::Pending => return Poll::Pending,
                Poll::Ready(Some(Ok(frame))) => match frame.into_data() {
                    Ok(data) => self.frames.push(&data),
                    Err(frame) => {
                        self.done = true;
                        if !self.frames.is_empty() {
                            return Poll::Ready(Err(AnswerError::MidMessage));
                        }
                        let trailers = frame.into_trailers().unwrap_or_default();
                        return Poll::Ready(match code(&trailers) {
                            Some(code) => Ok(Part::Ended(Ended { code, trailers })),
                            None => Err(AnswerError::NoStatus),
                        });
                    }
                },
                Poll::Ready(Some(Err(e))) => {
                    self.done = true;
                    return Poll::Ready(Err(AnswerError::BrokeOff(deepest(&e))));
                }
                Poll::Ready(None) => self.done = true,
            }
        }
    }

    pub(crate) async fn next(&mut self) -> Result<Part, AnswerError> {
        std::future::poll_fn(|cx| self.poll(cx)).await
    }
}

/// The one message of an answer, and how the call ended.
pub(crate) async fn only(answer: &mut Answer) -> Result<(Option<Bytes>, Ended), AnswerError> {
    let mut message = None;
    loop {
        match answer.next().await? {
            Part::Message(_) if message.is_some() => {
                return Err(AnswerError::Several);
            }
            Part::Message(one) => message = Some(one),
            Part::Ended(ended) => return Ok((message, ended)),
        }
    }
}

/// A message as JSON.
pub(crate) fn to_json(call: &GrpcCall, message: &[u8]) -> Result<Vec<u8>, AnswerError> {
    let mut json = Vec::with_capacity(message.len() * 2 + 64);
    match &call.response {
        MessagePart::Field(field) => {
            call.types
                .field_to_json(call.output, field, message, call.json, &mut json)
        }
        _ => call
            .types
            .to_json(call.output, message, call.json, &mut json),
    }?;
    Ok(json)
}

/// Content type and data of a `google.api.HttpBody`; the data is a part of the message, not a copy.
pub(crate) fn raw(call: &GrpcCall, message: &Bytes) -> Result<(String, Bytes), AnswerError> {
    let field = match &call.response {
        MessagePart::Field(field) => Some(field.number),
        _ => None,
    };
    let (kind, data) = porch_grpc::http_body(message, field)?;
    Ok((kind.to_owned(), message.slice_ref(data)))
}
