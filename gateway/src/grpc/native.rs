//! Native gRPC callers: what they are told when they are refused.

use bytes::Bytes;
use http::Method;
use http::{HeaderMap, HeaderValue, Response, header};
use porch_grpc::status;

use super::answer::{GRPC_MESSAGE, GRPC_STATUS};
use super::prepare::GRPC;
use crate::problem::Problem;
use crate::reply_body::ReplyBody;

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
