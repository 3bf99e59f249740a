//! SOAP, described by a WSDL.

mod compile;
mod derive;
mod look;
mod read;

use std::sync::Arc;

use porch_contract::Finding;
use porch_grpc::read::Progress;
use porch_rules::expr::Template;
use porch_soap::read::AnswerPlan;
use porch_soap::{Envelope, JsonSchemas, Plan};
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

/// The value of `kind`.
pub const NAME: &str = "soap";

/// SOAP, described by a WSDL.
pub struct Soap;

impl Kind for Soap {
    fn name(&self) -> &'static str {
        NAME
    }

    fn label(&self) -> &'static str {
        "SOAP"
    }

    fn transport(&self) -> Transport {
        Transport::Http1
    }

    fn keys(&self) -> Keys {
        Keys {
            backend: &[
                "http2",
                "connections",
                "port",
                "names",
                "credentials.calling.soap-headers",
                "credentials.calling.ws-security",
            ],
            operation: &["soap-headers", "faults"],
            ..Keys::default()
        }
    }

    fn recognises(&self, source: &Source) -> bool {
        let text = source.main_text();
        text.starts_with('<') && !porch_odata::is_metadata(text)
    }

    fn look(&self, source: &Source, _: Progress<'_>) -> Result<Look, Box<Finding>> {
        porch_soap::read_definition(&source.files, &source.main).map(|d| look::look(&d))
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

    fn call(&self, compiler: &mut CallCompiler<'_>) -> Option<Compiled> {
        compiler.soap()
    }
}

/// A WSDL, read for one backend.
#[derive(Debug)]
struct Wsdl {
    definition: porch_soap::Definition,
    plan: Arc<Plan>,
}

impl Definition for Wsdl {
    fn findings(&self) -> &[Finding] {
        &self.definition.findings
    }

    fn sides(&self, operation: &OperationDoc) -> Option<Value> {
        let called = self
            .definition
            .operation(operation.call.as_ref()?.operation.as_deref()?)?;
        let mut schemas = JsonSchemas::new(&self.plan);
        let mut of = |m: &Option<porch_soap::Message>| {
            m.as_ref().map_or(json!({}), |m| schemas.of(m.type_id))
        };
        let (input, output) = (of(&called.input), of(&called.output));
        Some(json!({
            "components": { "schemas": schemas.schemas }, "input": input, "output": output,
        }))
    }
}

/// A SOAP call, compiled.
#[derive(Debug)]
pub struct SoapCall {
    /// Name of the operation in the definition.
    pub operation: String,
    /// Writes requests, credentials included.
    pub envelope: Envelope,
    /// What answers hold.
    pub answer: Arc<AnswerPlan>,
    /// The input.
    pub send: Template,
    /// Whether the input is the caller's body as it is, and nothing else looks into that body.
    pub direct: bool,
    /// Header elements of this operation's requests, by their JSON names.
    pub headers: Option<Template>,
    /// Whether an expression needs the caller's body.
    pub reads_body: bool,
}

impl Call for SoapCall {
    fn kind(&self) -> &'static str {
        NAME
    }

    fn rules(&self, backend: &CompiledBackend, reply: &Reply) -> CallRules {
        let whole = if reply.body.is_some() {
            "the answer is shaped as `reply` says"
        } else {
            "the whole answer becomes JSON"
        };
        CallRules {
            prepare: vec![format!(
                "JSON becomes a SOAP envelope for {}",
                self.operation
            )],
            call: format!("{} within {:?}", backend.name, backend.timeout),
            reply: whole.into(),
        }
    }
}
