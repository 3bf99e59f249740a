//! Calls that failed: status by the standard's table, unless the operation says otherwise.

use http::{HeaderName, HeaderValue, header};
use porch_facade::kind::grpc::{GrpcCall, MessagePart};
use porch_grpc::status;
use serde_json::{Value, json};

use super::answer::{Ended, GRPC_MESSAGE};
use super::metadata;
use crate::failure::{Failure, Told};

const DETAILS: HeaderName = HeaderName::from_static("grpc-status-details-bin");

/// What the caller is told of a call that ended badly.
pub(super) fn told(
    call: &GrpcCall,
    faults: &std::collections::HashMap<String, u16>,
    ended: &Ended,
) -> Failure {
    let name = status::code_name(ended.code);
    let trailer = |name: &HeaderName| ended.trailers.get(name);
    let said = trailer(&GRPC_MESSAGE).map_or_else(String::new, |v| status::message(v.as_bytes()));
    let details = trailer(&DETAILS)
        .and_then(|v| status::binary(v.to_str().ok()?))
        .map(|bytes| status::details(&bytes, &call.types))
        .unwrap_or_default();
    let mapped = faults.get(name).copied();
    let http = mapped.unwrap_or_else(|| status::http_status(ended.code));
    // What a server says of its own failures may tell of its inside.
    let open = http < 500
        || mapped.is_some()
        || !details.details.is_empty()
        || matches!(name, "UNIMPLEMENTED" | "UNAVAILABLE");
    let text = match details.localized.clone() {
        Some(localized) if open => localized,
        _ if open && !said.is_empty() => said.clone(),
        _ => "The backend reports a failure.".into(),
    };
    let mut members = vec![("code", json!(name))];
    if text != said && open && !said.is_empty() {
        // A text in the caller's language does not take its place: it is what one searches for.
        members.push(("message", json!(said)));
    }
    if open && !details.details.is_empty() {
        members.push(("details", Value::Array(details.details)));
    }
    if !details.errors.is_empty() {
        let errors = details.errors.into_iter().map(|(pointer, detail)| {
            let pointer = place(call, pointer);
            json!({ "pointer": pointer, "detail": detail })
        });
        members.push(("errors", errors.collect()));
    }
    let mut fields: Vec<(HeaderName, HeaderValue)> = Vec::new();
    if let Some(seconds) = details.retry_after {
        fields.push((header::RETRY_AFTER, HeaderValue::from(seconds)));
    }
    fields.extend(metadata(call, &ended.trailers));
    Failure::Told(Box::new(Told {
        status: http,
        kind: "grpc",
        title: title(name),
        text,
        why: format!("the backend answered {name} ({}): {said}", ended.code),
        members,
        fields,
    }))
}

/// Fields are told where the caller put them.
fn place(call: &GrpcCall, pointer: String) -> String {
    match &call.body {
        MessagePart::Whole => format!("/body{pointer}"),
        MessagePart::Field(field) => {
            let own = format!("/{}", field.json);
            match pointer.strip_prefix(&own) {
                Some(rest) if rest.is_empty() || rest.starts_with('/') => format!("/body{rest}"),
                _ => pointer,
            }
        }
        MessagePart::None => pointer,
    }
}

fn title(name: &str) -> &'static str {
    match name {
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
    }
}
