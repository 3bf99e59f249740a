//! gRPC, described by `.proto` files or a descriptor set.

mod compile;
mod derive;
mod look;
mod read;

use std::sync::Arc;

use ::http::HeaderName;
use porch_contract::Finding;
use porch_grpc::read::Progress;
use porch_grpc::{
    Cardinality, Definition as Descriptors, Field, JsonOptions, MessageId, Schemas, Types,
    WellKnown,
};
use porch_rules::expr::Template;
use serde_json::{Value, json};

use super::{Compiled, Keys, Kind};
use crate::Files;
use crate::compiled::{Call, CallRules, CompiledBackend, Definition, Reply, Transport};
use crate::derive::{Derived, Wanted};
use crate::documents::{BackendDoc, OperationDoc};
use crate::look::Look;
use crate::read::Document;
use crate::source::Source;
use crate::wiring::CallCompiler;

pub(crate) use read::files_of;

/// The value of `kind`.
pub const NAME: &str = "grpc";

/// gRPC, described by `.proto` files or a descriptor set.
pub struct Grpc;

impl Kind for Grpc {
    fn name(&self) -> &'static str {
        NAME
    }

    fn label(&self) -> &'static str {
        "gRPC"
    }

    fn transport(&self) -> Transport {
        Transport::Http2
    }

    fn keys(&self) -> Keys {
        Keys {
            backend: &["max-message", "compress"],
            facade: &["native", "json", "metadata"],
            operation: &["body", "response-body", "faults"],
        }
    }

    fn recognises(&self, source: &Source) -> bool {
        !source.main_text().starts_with('<') && porch_grpc::read::is_definition(source.main_text())
    }

    fn look(&self, source: &Source, progress: Progress<'_>) -> Result<Look, Box<Finding>> {
        porch_grpc::read(&source.files, progress).map(|d| look::look(&d, source))
    }

    fn derive(&self, source: &Source, wanted: &Wanted<'_>) -> Result<Derived, Box<Finding>> {
        derive::derive(source, wanted)
    }

    fn sources(&self, files: &Files, backend: &Document<BackendDoc>) -> Vec<String> {
        read::sources(files, backend)
    }

    fn definition(
        &self,
        files: &Files,
        backend: &Document<BackendDoc>,
    ) -> Result<Arc<dyn Definition>, Box<Finding>> {
        Ok(Arc::new(read::definition(files, backend)?))
    }

    fn has_own_query(&self) -> bool {
        true
    }

    fn call(&self, compiler: &mut CallCompiler<'_>) -> Option<Compiled> {
        compiler.grpc()
    }
}

/// The services and types of a backend.
#[derive(Debug)]
struct Described {
    descriptors: Descriptors,
}

impl Definition for Described {
    fn findings(&self) -> &[Finding] {
        &self.descriptors.findings
    }

    fn sides(&self, operation: &OperationDoc) -> Option<Value> {
        let types = &self.descriptors.types;
        let method = self
            .descriptors
            .method(operation.call.as_ref()?.operation.as_deref()?)?;
        let mut schemas = Schemas::new(types);
        let (input, output) = (schemas.of(method.input), schemas.of(method.output));
        let part = operation.response_body.as_ref();
        let output = part
            .and_then(|name| types.message(method.output).field(name))
            .map_or(output, |f| schemas.field(f));
        Some(json!({
            "components": { "schemas": schemas.schemas }, "input": input, "output": output,
        }))
    }

    fn is_of_messages(&self) -> bool {
        true
    }
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

impl MessagePart {
    /// Whether it is a `google.api.HttpBody`, whose bytes go through as they are.
    fn is_raw(&self, types: &Types, whole: MessageId) -> bool {
        match self {
            Self::None => false,
            Self::Whole => is_raw_message(types, whole),
            Self::Field(field) => is_raw_field(types, field),
        }
    }
}

fn is_raw_message(types: &Types, id: MessageId) -> bool {
    types.message(id).well_known == Some(WellKnown::HttpBody)
}

fn is_raw_field(types: &Types, field: &Field) -> bool {
    field.cardinality == Cardinality::Single
        && field
            .kind
            .message()
            .is_some_and(|id| is_raw_message(types, id))
}

/// A gRPC call, compiled.
#[derive(Debug)]
pub struct GrpcCall {
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
    /// Whether nothing of the caller's request is sent but what `send` says.
    pub own: bool,
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
    /// The fields that this gives, whatever the body says.
    pub given: Vec<u32>,
    /// Query parameters that an expression uses; all others are fields.
    pub used_query: Vec<String>,
    /// What the reply's body is.
    pub response: MessagePart,
    /// Whether that part is a `google.api.HttpBody`: the reply's body as it is.
    pub raw_response: bool,
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
}

impl Call for GrpcCall {
    fn kind(&self) -> &'static str {
        NAME
    }

    fn takes_messages(&self) -> bool {
        self.client_streaming
    }

    fn gives_messages(&self) -> bool {
        self.server_streaming
    }

    fn rules(&self, backend: &CompiledBackend, reply: &Reply) -> CallRules {
        let stream = if self.client_streaming {
            "lines of JSON become messages"
        } else {
            "JSON becomes a message"
        };
        let mut prepare = vec![format!("{stream} for {}", self.method)];
        if self.mask.is_some() {
            prepare.push("a mask that is not sent is made from the members that are".into());
        }
        let call = format!(
            "{} within {:?}; each message at most {} bytes",
            backend.name, backend.timeout, self.max_message
        );
        let reply = match (&reply.body, self.server_streaming) {
            (Some(_), _) => "each message is shaped as `reply` says",
            (None, true) => "each message becomes a line of JSON, or an event, as it comes",
            (None, false) => "the message becomes JSON",
        };
        CallRules {
            prepare,
            call,
            reply: reply.into(),
        }
    }
}
