//! What goes wrong, with details (`google/rpc/error_details.proto`).

use prost::Message;
use tonic::{Code, Status};

#[derive(Clone, PartialEq, Message)]
pub(super) struct RpcStatus {
    #[prost(int32, tag = "1")]
    pub(super) code: i32,
    #[prost(string, tag = "2")]
    pub(super) message: String,
    #[prost(message, repeated, tag = "3")]
    pub(super) details: Vec<prost_types::Any>,
}

#[derive(Clone, PartialEq, Message)]
pub(super) struct FieldViolation {
    #[prost(string, tag = "1")]
    pub(super) field: String,
    #[prost(string, tag = "2")]
    pub(super) description: String,
}

#[derive(Clone, PartialEq, Message)]
pub(super) struct BadRequest {
    #[prost(message, repeated, tag = "1")]
    pub(super) field_violations: Vec<FieldViolation>,
}

#[derive(Clone, PartialEq, Message)]
pub(super) struct RetryInfo {
    #[prost(message, optional, tag = "1")]
    pub(super) retry_delay: Option<prost_types::Duration>,
}

#[derive(Clone, PartialEq, Message)]
pub(super) struct ErrorInfo {
    #[prost(string, tag = "1")]
    pub(super) reason: String,
    #[prost(string, tag = "2")]
    pub(super) domain: String,
}

pub(super) fn detail(name: &str, message: &impl Message) -> prost_types::Any {
    prost_types::Any {
        type_url: format!("type.googleapis.com/google.rpc.{name}"),
        value: message.encode_to_vec(),
    }
}

pub(super) fn status(code: Code, message: &str, details: Vec<prost_types::Any>) -> Status {
    let all = RpcStatus {
        code: code as i32,
        message: message.into(),
        details,
    };
    Status::with_details(code, message, all.encode_to_vec().into())
}

pub(super) fn unknown(name: &str) -> Status {
    let info = ErrorInfo {
        reason: "NO_SUCH_VESSEL".into(),
        domain: "fleet.skerry.example".into(),
    };
    status(
        Code::NotFound,
        &format!("there is no {name}"),
        vec![detail("ErrorInfo", &info)],
    )
}

pub(super) fn bad(field: &str, description: &str) -> Status {
    let bad = BadRequest {
        field_violations: vec![FieldViolation {
            field: field.into(),
            description: description.into(),
        }],
    };
    status(
        Code::InvalidArgument,
        "the request cannot be used",
        vec![detail("BadRequest", &bad)],
    )
}
