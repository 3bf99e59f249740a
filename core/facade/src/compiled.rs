//! The compiled porch: what the data plane works from.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::Duration;

use http::{HeaderName, HeaderValue, Method};
use porch_contract::{ParamType, Place};
use porch_grpc::{Field, JsonOptions, MessageId, Types};
use porch_rules::expr::{Expr, Template};
use porch_rules::limit::Limit;
use porch_soap::Envelope;
use porch_soap::generic::Mapping;
use porch_soap::read::AnswerPlan;
use porch_soap::security::UsernameToken;
use serde::Serialize;

use crate::documents::{MediaType, Per};
use crate::router::Router;

/// The immutable in-memory form of a release.
#[derive(Debug, Default)]
pub struct CompiledPorch {
    /// Number of the release; 0 for a draft.
    pub release: u64,
    /// Routes to operations.
    pub router: Router,
    /// Facades.
    pub facades: Vec<CompiledFacade>,
    /// Operations of all facades.
    pub operations: Vec<CompiledOperation>,
    /// Backends of all facades; each facade has its own copies.
    pub backends: Vec<Arc<CompiledBackend>>,
}

/// A facade, compiled.
#[derive(Debug)]
pub struct CompiledFacade {
    /// Name.
    pub name: String,
    /// Version of its contract.
    pub version: String,
    /// Base path without a slash at its end.
    pub base: String,
    /// Header field that carries the key.
    pub key_header: HeaderName,
    /// The same as the contract writes it, for people.
    pub key_header_shown: String,
}

/// Where a rule stands, for people who ask why.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct RulePlace {
    /// The rule in words: `limit 5 per 2m per consumer`.
    pub rule: String,
    /// Its reach: `everywhere`, `facade sailings`, `operation quoteFare`.
    pub reach: String,
    /// The document it stands in; empty for built-in rules.
    pub file: String,
    /// Line in it, from 1; 0 for built-in rules.
    pub line: usize,
}

/// A rate limit, compiled.
#[derive(Debug)]
pub struct LimitPlan {
    /// Number of its state, the same from release to release while the limit stays the same.
    pub id: u64,
    /// The limit.
    pub limit: Limit,
    /// Who shares it.
    pub per: Per,
    /// Name in the `RateLimit` fields.
    pub name: String,
    /// `RateLimit-Policy` of the replies.
    pub policy: HeaderValue,
    /// Where it stands.
    pub place: RulePlace,
}

/// One parameter, compiled.
#[derive(Debug)]
pub struct ParamPlan {
    /// Its name.
    pub name: String,
    /// Where it stands in the request.
    pub place: Place,
    /// Type of its value.
    pub kind: ParamType,
    /// Whether it must be there.
    pub required: bool,
    /// Allowed texts; none given: all.
    pub enumeration: Vec<String>,
}

/// One operation, compiled.
#[derive(Debug)]
pub struct CompiledOperation {
    /// `operationId`.
    pub id: String,
    /// Index of its facade.
    pub facade: usize,
    /// Method.
    pub method: String,
    /// Path template in the facade.
    pub path: String,
    /// Names of the path variables, in order.
    pub variables: Vec<String>,
    /// Those of them that take several segments.
    pub several: Vec<String>,
    /// Parameters.
    pub parameters: Vec<ParamPlan>,
    /// Where the rule that demands a key stands, if one does.
    pub key: Option<RulePlace>,
    /// Rate limits, the facade's first.
    pub limits: Vec<LimitPlan>,
    /// Greatest size of a request body in bytes, and where the rule stands.
    pub max_body: (u64, RulePlace),
    /// Whether a body must be sent.
    pub body_required: bool,
    /// Index of its backend.
    pub backend: usize,
    /// How it is carried out.
    pub wiring: Wiring,
    /// Where its wiring stands.
    pub place: RulePlace,
    /// Statuses for faults by name of the detail, or code.
    pub faults: HashMap<String, u16>,
    /// What callers may send and ask for; `None`: whatever the backend speaks.
    pub media: Option<Media>,
}

/// The media types that callers of an operation can choose from.
#[derive(Debug)]
pub struct Media {
    /// The types, the default first.
    pub offered: Vec<MediaType>,
    /// How their XML and JSON stand for each other.
    pub mapping: Mapping,
}

/// How an operation is carried out.
#[derive(Debug)]
pub enum Wiring {
    /// By one HTTP call.
    Http(Box<HttpWiring>),
    /// By one SOAP call.
    Soap(Box<SoapWiring>),
    /// By one gRPC call.
    Grpc(Box<GrpcWiring>),
}

/// Which field of a message a JSON body is.
#[derive(Clone, Debug)]
pub enum MessagePart {
    /// None: there is no body.
    None,
    /// The whole message.
    Whole,
    /// One field.
    Field(Field),
}

/// A gRPC call, compiled.
#[derive(Debug)]
pub struct GrpcWiring {
    /// `package.Service/Method`.
    pub method: String,
    /// The path that it is called at.
    pub path: String,
    /// The types of the definition.
    pub types: Arc<Types>,
    /// What it takes.
    pub input: MessageId,
    /// What it gives.
    pub output: MessageId,
    /// Whether several messages are sent.
    pub client_streaming: bool,
    /// Whether several messages come.
    pub server_streaming: bool,
    /// What the caller's body is.
    pub body: MessagePart,
    /// Whether that part is a `google.api.HttpBody`: the caller's body as it is.
    pub raw_body: bool,
    /// What is laid over the message, from path, query and body.
    pub send: Option<Template>,
    /// Query parameters that an expression uses; all others are fields.
    pub used_query: Vec<String>,
    /// What the reply's body is.
    pub response: MessagePart,
    /// Whether that part is a `google.api.HttpBody`: the reply's body as it is.
    pub raw_response: bool,
    /// Reply to build from each message; the message itself when not given.
    pub reply: Option<Template>,
    /// The field with the mask of what is changed, and the message that the body is: a mask that is not sent is made
    /// from the members that are.
    pub mask: Option<(Field, MessageId)>,
    /// What JSON looks like.
    pub json: JsonOptions,
    /// Metadata that is sent on.
    pub metadata_out: Vec<HeaderName>,
    /// Metadata that is passed back.
    pub metadata_back: Vec<HeaderName>,
    /// Whether an expression needs the caller's body.
    pub reads_body: bool,
    /// Greatest size of one message in bytes.
    pub max_message: usize,
    /// Whether messages are sent compressed.
    pub compress: bool,
    /// Whether calls and messages are passed through as they come, for native callers.
    pub native: bool,
}

/// Roots that expressions of a request may name, in the order of their numbers.
pub const REQUEST_ROOTS: [&str; 5] = ["path", "query", "header", "body", "caller"];
/// Roots that expressions of a reply may name.
pub const REPLY_ROOTS: [&str; 6] = ["path", "query", "header", "body", "caller", "answer"];

/// A part of a backend path.
#[derive(Debug)]
pub enum PathPart {
    /// Fixed text.
    Fixed(String),
    /// A value, percent-encoded.
    Value(Expr),
    /// A path variable of the facade, by index.
    Captured(usize),
    /// A trailing variable, its slashes kept.
    CapturedRest(usize),
}

/// What becomes of a header field.
#[derive(Debug)]
pub enum HeaderRule {
    /// Always this.
    Set(HeaderValue),
    /// What an expression says; removed when that is absent.
    Make(Template),
}

/// An HTTP call, compiled.
#[derive(Debug)]
pub struct HttpWiring {
    /// Method; the caller's when not given.
    pub method: Option<Method>,
    /// Path behind the backend's own.
    pub path: Vec<PathPart>,
    /// Query parameters; the caller's own query when not given.
    pub query: Option<Vec<(String, Template)>>,
    /// Header fields to set.
    pub headers: Vec<(HeaderName, HeaderRule)>,
    /// How the backend's XML and JSON stand for each other, when it speaks XML.
    pub xml: Option<Mapping>,
    /// Body to build; the caller's own, streamed, when not given.
    pub body: Option<Template>,
    /// Reply to build; the answer's own body, streamed, when not given.
    pub reply: Option<Template>,
    /// Whether an expression needs the caller's body.
    pub reads_body: bool,
}

/// A SOAP call, compiled.
#[derive(Debug)]
pub struct SoapWiring {
    /// Name of the operation in the definition.
    pub operation: String,
    /// Writes requests, credentials included.
    pub envelope: Envelope,
    /// What answers hold.
    pub answer: Arc<AnswerPlan>,
    /// The input.
    pub send: Template,
    /// Reply to build; the whole answer, streamed, when not given.
    pub reply: Option<Template>,
    /// Whether the input is the caller's body as it is, and nothing else looks into that body.
    pub direct: bool,
    /// Header elements of this operation's requests, by their JSON names.
    pub headers: Option<Template>,
    /// Whether an expression needs the caller's body.
    pub reads_body: bool,
}

/// A backend, compiled.
#[derive(Debug)]
pub struct CompiledBackend {
    /// Name.
    pub name: String,
    /// Kind, for people.
    pub kind: &'static str,
    /// `host:port`, as it stands in the `Host` field.
    pub authority: String,
    /// Path of its address, without a slash at its end.
    pub path: String,
    /// How long an answer may take.
    pub timeout: Duration,
    /// The same as the value of a `Host` field.
    pub host: HeaderValue,
    /// Header fields with credentials.
    pub headers: Vec<(HeaderName, HeaderValue)>,
    /// User and password for WS-Security.
    pub token: Option<UsernameToken>,
    /// Other addresses that share the calls; all of them, when there are several.
    pub addresses: Vec<String>,
    /// How its certificate is checked, when it is called by TLS.
    pub tls: Option<Trust>,
    /// Takes out texts that must never be shown.
    pub mask: crate::Mask,
}

/// Whose signatures a backend's certificate may have.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Trust {
    /// Those that the machine trusts.
    Machine,
    /// These, in PEM.
    These(Arc<str>),
}

impl CompiledPorch {
    /// The operation of a facade by its `operationId`.
    pub fn operation(&self, facade: &str, id: &str) -> Option<u32> {
        self.operations
            .iter()
            .position(|o| o.id == id && self.facades[o.facade].name == facade)
            .map(|i| i as u32)
    }
}
