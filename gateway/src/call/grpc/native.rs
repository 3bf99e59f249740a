//! Native gRPC callers: let through as they are, and told in their own way when they are refused.

use std::time::Duration;

use bytes::Bytes;
use http::Method;
use http::{HeaderMap, HeaderValue, Response, header};
use porch_facade::kind::grpc::GrpcCall;
use porch_grpc::status;

use super::answer::{GRPC_MESSAGE, GRPC_STATUS};
use super::prepare::GRPC;
use crate::answer::Seen;
use crate::body::{InBody, OutBody, ReplyBody};
use crate::call::{CallerBody, Context, Prepared};
use crate::failure::{Complaint, Failure};
use crate::fields::forwarded_fields;
use crate::problem::Problem;

/// Fields that are between the caller and the backend.
const BETWEEN: [&str; 3] = ["content-type", "grpc-accept-encoding", "grpc-encoding"];

/// Whether a request is a native call (PROTOCOL-HTTP2 of gRPC, “Requests”).
pub(crate) fn is_native(method: &Method, headers: &HeaderMap) -> bool {
    *method == Method::POST
        && headers.get(header::CONTENT_TYPE).is_some_and(|v| {
            v.as_bytes().starts_with(b"application/grpc")
                && !v.as_bytes().starts_with(b"application/grpc-web")
        })
}

/// A refusal as a native caller understands it: status 200, and the call's status among the header fields (“Trailers-Only”).
pub(crate) fn refusal(problem: &Problem) -> Response<ReplyBody> {
    let mut response = Response::new(ReplyBody::Full(None::<Bytes>));
    let headers = response.headers_mut();
    headers.insert(header::CONTENT_TYPE, GRPC);
    headers.insert(
        GRPC_STATUS,
        HeaderValue::from(status::code_for(problem.status.as_u16())),
    );
    let text = format!("{}: {}", problem.title(), problem.detail());
    if let Ok(value) = HeaderValue::from_str(&status::encode_message(&text)) {
        headers.insert(GRPC_MESSAGE, value);
    }
    response
}

/// A native request: passed through as it comes. How its messages are compressed is between the caller and the backend.
pub(super) fn prepare(
    call: &GrpcCall,
    cx: &Context<'_>,
    within: Duration,
    body: CallerBody,
) -> Result<Prepared, Failure> {
    let complaint = Complaint::default();
    let out = match body {
        CallerBody::Unread(InBody::Incoming(body)) if call.client_streaming => {
            OutBody::messages(body, u64::MAX, complaint.clone())
        }
        CallerBody::Unread(InBody::Incoming(body)) => {
            OutBody::stream(body, cx.operation.admission.max_body, complaint.clone())
        }
        CallerBody::Unread(InBody::Full(bytes)) | CallerBody::Bytes(bytes) => {
            OutBody::Full(Some(bytes))
        }
        CallerBody::Gone => OutBody::Empty,
    };
    let mut request = super::prepare::request(call, cx, within, out)?;
    let own = std::mem::take(&mut request.fields);
    let mut fields = forwarded_fields(&cx.parts.headers, (cx.facade, cx.operation), 8);
    for (name, value) in own.into_list() {
        if !BETWEEN.contains(&name.as_str()) {
            fields.set(&name, value);
        }
    }
    request.fields = fields;
    let mut seen = Seen {
        streamed: true,
        ..Seen::default()
    };
    if cx.keep {
        seen.notes.push(format!(
            "a native call of {}: passed through as it comes",
            call.method
        ));
    }
    Ok(Prepared {
        request,
        within,
        again: false,
        complaint: Some(complaint),
        seen,
    })
}
