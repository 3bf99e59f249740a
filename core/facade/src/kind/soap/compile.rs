//! Compiling SOAP calls.

use std::sync::Arc;

use porch_contract::suggest;
use porch_rules::expr::Template;
use porch_soap::read::AnswerPlan;
use porch_soap::{Envelope, JsonSchemas, Plan};
use serde_json::{Map, Value, json};

use super::{SoapCall, Wsdl};
use crate::compiled::PLACEHOLDER;
use crate::kind::Compiled;
use crate::wiring::{AnswerShape, CallCompiler, Shapes, Target, uses};

impl CallCompiler<'_> {
    pub(super) fn soap(&mut self) -> Option<Compiled> {
        let definition = self.definition.clone();
        let wsdl = (&*definition as &dyn std::any::Any).downcast_ref::<Wsdl>()?;
        let operation = self.soap_operation(wsdl)?;
        self.soap_faults(operation);
        let envelope = self.envelope(wsdl, operation)?;
        let all = self.sides.clone();
        let document = all.get_or_init(|| sides(&wsdl.plan, &self.called(wsdl)));
        let own = &document["operations"][&operation.name];
        let shapes = Shapes {
            answer: Some((document, &own["output"])),
            soap_header: (!operation.output_headers.is_empty())
                .then(|| (document, &own["soapHeader"])),
        };
        let target = Target {
            what: format!("{}'s input", operation.name),
            root: document,
            schema: &own["input"],
        };
        let default = if self.contract_op.body.is_some() && self.among.is_none() {
            json!("=body")
        } else {
            json!({})
        };
        let send = self.doc.send.clone().unwrap_or(default);
        let path = self.path(&["send"]);
        let send = self.template(&send, &path, false, &shapes, Some(&target));
        let reply = self.reply(&shapes);
        let headers = self.soap_headers(&shapes, operation, &wsdl.plan);
        let send = send?;
        let others = || [reply.as_ref(), headers.as_ref()].into_iter().flatten();
        let whole = send
            .as_plain_path()
            .is_some_and(|p| p.iter().map(|s| s.name.as_str()).eq(["body"]));
        let others_read = others().any(|t| uses(t, "body"));
        let call = SoapCall {
            operation: operation.name.clone(),
            envelope,
            answer: Arc::new(AnswerPlan::of(wsdl.plan.clone(), operation)),
            direct: whole && !others_read,
            reads_body: uses(&send, "body") || others_read,
            send,
            headers,
        };
        let steps = |last: &str| {
            ["operations", &operation.name, last]
                .map(str::to_owned)
                .into()
        };
        let has_headers = !operation.output_headers.is_empty();
        Some(Compiled {
            shape: Some(AnswerShape {
                document: all.clone(),
                body: steps("output"),
                soap_header: has_headers.then(|| steps("soapHeader")),
            }),
            ..Compiled::new(Arc::new(call), reply)
        })
    }

    /// The operations of the definition that the facade calls.
    fn called<'w>(&self, wsdl: &'w Wsdl) -> Vec<&'w porch_soap::Operation> {
        let names = self.called_names();
        let all = wsdl.definition.operations.iter();
        all.filter(|o| names.contains(o.name.as_str())).collect()
    }

    fn soap_operation<'w>(&mut self, wsdl: &'w Wsdl) -> Option<&'w porch_soap::Operation> {
        let Some(name) = &self.call.operation else {
            let help = "add `operation: NAME` of the definition";
            self.error(self.at(&["call"]), "a SOAP call names its operation", help);
            return None;
        };
        let at = self.at(&["call", "operation"]);
        let names = || wsdl.definition.operations.iter().map(|o| o.name.as_str());
        let Some(operation) = wsdl.definition.operation(name) else {
            let help = self.known_names(name, names());
            self.error(
                at,
                format!("the definition has no operation “{name}”"),
                help,
            );
            return None;
        };
        if let Some(why) = &operation.unavailable {
            self.error(at, format!("{name} cannot be called: {why}"), "");
            return None;
        }
        Some(operation)
    }

    fn soap_faults(&mut self, operation: &porch_soap::Operation) {
        for key in self.doc.faults.keys() {
            let known = operation
                .faults
                .iter()
                .flat_map(|(n, m)| [n.as_str(), m.local.as_str()]);
            if !known.clone().any(|n| n == key) && !is_code(key) {
                let near = suggest(key, known)
                    .map_or_else(String::new, |n| format!("did you mean “{n}”?"));
                let message = format!("{} declares no fault “{key}”", operation.name);
                self.warn(self.at_key(&["faults", key]), message, near);
            }
        }
    }

    /// What writes requests, with the header elements that the backend's credentials give.
    fn envelope(&mut self, wsdl: &Wsdl, operation: &porch_soap::Operation) -> Option<Envelope> {
        // Only the headers that this operation wants and does not say itself.
        let own = self.doc.soap_headers.as_ref();
        let wanted: Map<String, Value> = self
            .backend
            .credentials
            .soap_headers
            .iter()
            .filter(|(k, _)| {
                operation.headers.iter().any(|h| h.json == **k)
                    && own.is_none_or(|o| o.get(k.as_str()).is_none())
            })
            .map(|(k, v)| (k.clone(), v.clone()))
            .collect();
        let mut wanted = wanted;
        let made = loop {
            let headers = Value::Object(wanted.clone());
            let made = Envelope::new(wsdl.plan.clone(), operation, &headers);
            // A secret that is only taken to be there has no value yet: it may be of any type.
            let unknown = made.as_ref().err().and_then(|errors| {
                let all = errors.iter().filter(|_| self.placeholders());
                let of = |e: &porch_soap::WriteError| {
                    headers.pointer(&e.pointer) == Some(&json!(PLACEHOLDER))
                };
                all.filter(|e| of(e))
                    .find_map(|e| e.pointer.split('/').nth(1))
            });
            let Some(name) = unknown else { break made };
            if wanted
                .shift_remove(&name.replace("~1", "/").replace("~0", "~"))
                .is_none()
            {
                break made;
            }
        };
        match made {
            Ok(envelope) => Some(envelope),
            Err(errors) => {
                let at = self.at(&["call"]);
                let backend = &self.call.backend;
                for e in errors {
                    let message = format!(
                        "the SOAP headers of “{backend}”{}: {}",
                        e.pointer, e.message
                    );
                    self.error(at, message, "");
                }
                None
            }
        }
    }

    /// The header elements of an operation's requests.
    fn soap_headers(
        &mut self,
        shapes: &Shapes<'_>,
        operation: &porch_soap::Operation,
        plan: &Plan,
    ) -> Option<Template> {
        let value = self.doc.soap_headers.as_ref()?;
        let mut schemas = JsonSchemas::new(plan);
        let properties: Map<String, Value> = operation
            .headers
            .iter()
            .map(|h| (h.json.clone(), schemas.of(h.type_id)))
            .collect();
        let root = json!({ "components": { "schemas": schemas.schemas }, "headers": { "type": "object", "properties": properties, "additionalProperties": false } });
        let target = Target {
            what: format!("the SOAP header of {}", operation.name),
            root: &root,
            schema: &root["headers"],
        };
        let path = self.path(&["soap-headers"]);
        let template = self.template(value, &path, false, shapes, Some(&target));
        if operation.headers.is_empty() {
            let message = format!("{} declares no SOAP headers", operation.name);
            self.error(self.at_key(&["soap-headers"]), message, "");
        }
        template
    }
}

/// The schemas of what operations take and give, by their names; what several of them have stands there once.
fn sides(plan: &Plan, operations: &[&porch_soap::Operation]) -> Value {
    let mut schemas = JsonSchemas::new(plan);
    let mut all = Map::new();
    for operation in operations {
        let mut of = |m: &Option<porch_soap::Message>| m.as_ref().map(|m| schemas.of(m.type_id));
        let (input, output) = (of(&operation.input), of(&operation.output));
        let headers = operation.output_headers.iter();
        let header: Map<String, Value> = headers
            .map(|h| (h.json.clone(), schemas.of(h.type_id)))
            .collect();
        let header =
            json!({ "type": "object", "properties": header, "additionalProperties": false });
        let sides = json!({ "input": input, "output": output.unwrap_or_else(|| json!({})), "soapHeader": header });
        all.entry(operation.name.clone()).or_insert(sides);
    }
    json!({ "components": { "schemas": schemas.schemas }, "operations": all })
}

/// Whether a fault's name is one of the codes that SOAP 1.1 §4.4.1 and SOAP 1.2 part 1 §5.4.6 define, or below one of them.
fn is_code(name: &str) -> bool {
    matches!(
        name.split('.').next(),
        Some(
            "Client"
                | "Server"
                | "Sender"
                | "Receiver"
                | "VersionMismatch"
                | "MustUnderstand"
                | "DataEncodingUnknown"
        )
    )
}
