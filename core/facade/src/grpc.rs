//! Compiling gRPC calls.

use http::HeaderName;
use porch_contract::{Finding, Place, Severity, suggest};
use porch_grpc::{Cardinality, JsonOptions, MessageId, Method, Schemas, Types, WellKnown};
use porch_rules::expr::Template;
use serde_json::{Value, json};

use crate::compile::{Builder, Op, Wired, uses};
use crate::compiled::{GrpcWiring, MessagePart, Wiring};
use crate::documents::{FacadeDoc, UnknownFields};
use crate::fits::{Shapes, Target};

/// What JSON looks like in a facade.
pub(crate) fn json_options(facade: &FacadeDoc) -> JsonOptions {
    let doc = &facade.json;
    JsonOptions {
        defaults: doc.defaults,
        own_names: doc.proto_names,
        enum_numbers: doc.enum_numbers,
        ignore_unknown: doc.unknown_fields == UnknownFields::Ignore,
    }
}

fn is_raw(types: &Types, part: &MessagePart, whole: MessageId) -> bool {
    let id = match part {
        MessagePart::None => return false,
        MessagePart::Whole => whole,
        MessagePart::Field(field) => match field
            .kind
            .message()
            .filter(|_| field.cardinality == Cardinality::Single)
        {
            Some(id) => id,
            None => return false,
        },
    };
    types.message(id).well_known == Some(WellKnown::HttpBody)
}

impl Builder<'_> {
    pub(crate) fn grpc(&mut self, op: &Op<'_>, wired: &Wired) -> Option<Wiring> {
        let definition = wired.grpc.as_ref()?;
        let method = self.method(op, definition)?;
        let types = &definition.types;
        let body = self.part(op, types, method.input, op.doc.body.as_deref(), "body")?;
        // Where nothing is said, a body is the message.
        let body = match (body, &op.doc.send) {
            (MessagePart::None, None) if op.contract_op.body.is_some() && op.doc.body.is_none() => {
                MessagePart::Whole
            }
            (part, _) => part,
        };
        let response = match self.part(
            op,
            types,
            method.output,
            op.doc.response_body.as_deref(),
            "response-body",
        )? {
            MessagePart::None => MessagePart::Whole,
            part => part,
        };
        for key in op
            .doc
            .faults
            .keys()
            .filter(|k| !porch_grpc::status::is_code(k))
        {
            let near = suggest(key, porch_grpc::status::code_names()).map_or_else(
                || {
                    format!(
                        "known are {}",
                        porch_grpc::status::code_names()
                            .collect::<Vec<_>>()
                            .join(", ")
                    )
                },
                |n| format!("did you mean “{n}”?"),
            );
            self.findings.push(
                Finding::error(
                    &op.facade.file,
                    op.at_key(&["faults", key]),
                    format!("“{key}” is no code of gRPC"),
                )
                .help(near),
            );
        }
        let mut schemas = Schemas::lenient(types);
        let (input, output) = (schemas.of(method.input), schemas.of(method.output));
        let output = match &response {
            MessagePart::Field(field) => schemas.field(field),
            _ => output,
        };
        let document = json!({ "components": { "schemas": schemas.schemas }, "input": input, "output": output });
        let document = without_required(document);
        let templates = self.templates(op);
        let shapes = Shapes {
            answer: Some((&document, &document["output"])),
            soap_header: None,
        };
        let target = Target {
            what: format!("{}'s message", method.name),
            root: &document,
            schema: &document["input"],
        };
        let send = match &op.doc.send {
            None => None,
            Some(value) => {
                let (template, found) =
                    templates.compile(value, &op.path(&["send"]), false, &shapes, Some(&target));
                self.findings.extend(found);
                Some(template?)
            }
        };
        let reply = self.reply(op, &templates, &shapes);
        if method.server_streaming {
            self.of_stream(op, reply.as_ref());
        }
        let used_query = self.query(op, types, method, send.as_ref());
        self.path_values(op, send.as_ref());
        let raw_body = is_raw(types, &body, method.input);
        let raw_response = is_raw(types, &response, method.output);
        if matches!(body, MessagePart::None)
            && op.contract_op.body.is_some()
            && !send.as_ref().is_some_and(|t| uses(t, "body"))
        {
            self.findings.push(
                Finding::new(
                    Severity::Warning,
                    &op.facade.file,
                    op.at_key(&["call"]),
                    "the request's body is not sent anywhere",
                )
                .help("add `body: \"*\"`, `body: FIELD`, or use `=body.…` in `send`"),
            );
        }
        let reads_body = [send.as_ref(), reply.as_ref()]
            .into_iter()
            .flatten()
            .any(|t| uses(t, "body"));
        let mask = mask(types, method, &body);
        Some(Wiring::Grpc(Box::new(GrpcWiring {
            method: method.full.clone(),
            path: format!("/{}", method.full),
            types: types.clone(),
            input: method.input,
            output: method.output,
            client_streaming: method.client_streaming,
            server_streaming: method.server_streaming,
            body,
            raw_body,
            send,
            used_query,
            response,
            raw_response,
            reply,
            mask,
            json: json_options(&op.facade.doc),
            metadata_out: self.metadata(op, &op.facade.doc.metadata.request, "request"),
            metadata_back: self.metadata(op, &op.facade.doc.metadata.reply, "reply"),
            reads_body,
            max_message: wired.messages.0,
            compress: wired.messages.1,
            native: op.facade.doc.native,
        })))
    }

    fn method<'d>(
        &mut self,
        op: &Op<'_>,
        definition: &'d porch_grpc::Definition,
    ) -> Option<&'d Method> {
        let Some(name) = &op.doc.call.operation else {
            let help = "add `operation: package.Service/Method` of the definition";
            self.findings.push(
                Finding::error(
                    &op.facade.file,
                    op.at(&["call"]),
                    "a gRPC call names its method",
                )
                .help(help),
            );
            return None;
        };
        let found = definition.method(name);
        if found.is_none() {
            let near = suggest(name, definition.methods().map(|m| m.full.as_str()));
            let help = near.map_or_else(
                || {
                    format!(
                        "it has: {}",
                        definition
                            .methods()
                            .take(12)
                            .map(|m| m.full.clone())
                            .collect::<Vec<_>>()
                            .join(", ")
                    )
                },
                |n| format!("did you mean “{n}”?"),
            );
            self.findings.push(
                Finding::error(
                    &op.facade.file,
                    op.at(&["call", "operation"]),
                    format!("the definition has no method “{name}”"),
                )
                .help(help),
            );
        }
        found
    }

    fn part(
        &mut self,
        op: &Op<'_>,
        types: &Types,
        message: MessageId,
        name: Option<&str>,
        key: &str,
    ) -> Option<MessagePart> {
        match name {
            None | Some("") => Some(MessagePart::None),
            Some("*") => Some(MessagePart::Whole),
            Some(name) => match types.message(message).field(name) {
                Some(field) => Some(MessagePart::Field(field.clone())),
                None => {
                    let of = types.message(message);
                    let near = suggest(name, of.fields.iter().map(|f| &*f.name)).map_or_else(
                        || "only a field of the message itself can be".into(),
                        |n| format!("did you mean “{n}”?"),
                    );
                    self.findings.push(
                        Finding::error(
                            &op.facade.file,
                            op.at(&[key]),
                            format!("“{name}” is no field of {}", of.name),
                        )
                        .help(near),
                    );
                    None
                }
            },
        }
    }

    /// What shapes the messages of a stream sees each of them, and nothing of the request, which is long gone.
    fn of_stream(&mut self, op: &Op<'_>, reply: Option<&Template>) {
        for root in ["path", "query", "header", "body", "caller"] {
            if reply.is_some_and(|t| uses(t, root)) {
                let message =
                    format!("the reply of a stream is made of its messages: there is no “{root}”");
                self.findings.push(
                    Finding::error(&op.facade.file, op.at_key(&["reply"]), message)
                        .help("use `answer.body`"),
                );
            }
        }
    }

    /// Query parameters that an expression uses; every other one must be a field.
    fn query(
        &mut self,
        op: &Op<'_>,
        types: &Types,
        method: &Method,
        send: Option<&Template>,
    ) -> Vec<String> {
        let mut used = Vec::new();
        if let Some(template) = send {
            template.each_expr(&mut Vec::new(), &mut |_, expr| {
                for reference in expr
                    .references()
                    .iter()
                    .filter(|r| r.steps[0].name == "query")
                {
                    used.extend(reference.steps.get(1).map(|s| s.name.clone()));
                }
            });
        }
        for p in op
            .contract_op
            .parameters
            .iter()
            .filter(|p| p.place == Place::Query && !used.contains(&p.name))
        {
            if let Err(e) = types.resolve(method.input, &p.name) {
                let message = format!("the query parameter “{}” goes nowhere: {e}", p.name);
                self.findings.push(
                    Finding::error(&op.facade.file, op.at_key(&["call"]), message)
                        .help("name it like the field in the contract, or use it in `send`"),
                );
            }
        }
        used
    }

    /// Variables of the path that nothing uses.
    fn path_values(&mut self, op: &Op<'_>, send: Option<&Template>) {
        let mut used: Vec<String> = Vec::new();
        if let Some(template) = send {
            template.each_expr(&mut Vec::new(), &mut |_, expr| {
                used.extend(
                    expr.references()
                        .iter()
                        .filter(|r| r.steps[0].name == "path")
                        .filter_map(|r| r.steps.get(1))
                        .map(|s| s.name.clone()),
                );
            });
        }
        for name in op
            .contract_op
            .path
            .variables()
            .filter(|v| !used.iter().any(|u| u == v))
        {
            let message = format!("the path's {{{name}}} goes nowhere");
            self.findings.push(
                Finding::new(
                    Severity::Warning,
                    &op.facade.file,
                    op.at_key(&["call"]),
                    message,
                )
                .help(format!("add `send: {{ FIELD: =path.{name} }}`")),
            );
        }
    }

    fn metadata(&mut self, op: &Op<'_>, names: &[String], key: &str) -> Vec<HeaderName> {
        let mut all = Vec::new();
        for name in names {
            let at = op.facade.node.locate(
                &["metadata", key].map(|k| porch_contract::Step::Key(k.into())),
                false,
            );
            match name.parse::<HeaderName>() {
                Ok(header) if !header.as_str().starts_with("grpc-") && !["te", "content-type", "host", "connection"].contains(&header.as_str()) => all.push(header),
                _ => self.findings.push(Finding::error(&op.facade.file, at, format!("“{name}” cannot be metadata")).help("names are lower-case; those that begin with grpc- belong to the protocol")),
            }
        }
        all
    }
}

/// The field with the mask of an update, when the body is the message that it is about (`field_mask.proto`).
fn mask(
    types: &Types,
    method: &Method,
    body: &MessagePart,
) -> Option<(porch_grpc::Field, MessageId)> {
    let MessagePart::Field(about) = body else {
        return None;
    };
    let about = about
        .kind
        .message()
        .filter(|id| types.message(*id).well_known.is_none())?;
    let masks = || {
        types.message(method.input).fields.iter().filter(|f| {
            f.cardinality == Cardinality::Single
                && f.kind
                    .message()
                    .is_some_and(|id| types.message(id).well_known == Some(WellKnown::FieldMask))
        })
    };
    let one = masks().next().filter(|_| masks().count() == 1)?;
    Some((one.clone(), about))
}

/// What is laid over a message need not be all of it.
fn without_required(mut document: Value) -> Value {
    if let Some(schemas) = document
        .pointer_mut("/components/schemas")
        .and_then(Value::as_object_mut)
    {
        for schema in schemas.values_mut().filter_map(Value::as_object_mut) {
            schema.shift_remove("required");
        }
    }
    document
}
