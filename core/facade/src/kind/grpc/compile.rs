//! Compiling gRPC calls.

use std::collections::HashMap;
use std::sync::{Arc, OnceLock};

use ::http::HeaderName;
use porch_contract::{Place, suggest};
use porch_grpc::{Cardinality, JsonOptions, MessageId, Method, Schemas, Types, WellKnown};
use porch_rules::expr::Template;
use serde_json::{Map, Value, json};

use super::{Described, GrpcCall, MessagePart};
use crate::documents::{Absent, EnumsAs, FacadeDoc, FieldNames, RequiredFields, UnknownFields};
use crate::kind::Compiled;
use crate::wiring::{AnswerShape, CallCompiler, Shapes, Target, uses};

/// Header fields that are no metadata: the protocol's own.
const OWN_FIELDS: [&str; 4] = ["te", "content-type", "host", "connection"];

/// What JSON looks like in a facade.
fn json_options(facade: &FacadeDoc) -> JsonOptions {
    let doc = &facade.json;
    JsonOptions {
        defaults: doc.absent == Absent::Show,
        own_names: doc.field_names == FieldNames::Proto,
        enum_numbers: doc.enums == EnumsAs::Number,
        ignore_unknown: doc.unknown_fields == UnknownFields::Ignore,
        required: doc.required_fields == RequiredFields::Check,
    }
}

impl CallCompiler<'_> {
    pub(super) fn grpc(&mut self) -> Option<Compiled> {
        let definition = self.definition.clone();
        let described = (&*definition as &dyn std::any::Any).downcast_ref::<Described>()?;
        let types = &described.descriptors.types;
        let method = self.method(described)?;
        self.no_stream_among_several(method)?;
        let body = self.body_part(types, method)?;
        let response = self.response_part(types, method)?;
        self.grpc_faults();
        let all = self.sides.clone();
        let document = all.get_or_init(|| self.sides_of(described));
        let own = &document["operations"][&method.full];
        let shape = shape(&all, method, &response);
        let shapes = shape.shapes();
        let target = Target {
            what: format!("{}'s message", method.name),
            root: document,
            schema: &own["input"],
        };
        let send = self.send(&shapes, &target)?;
        let reply = self.reply(&shapes);
        if method.server_streaming {
            self.of_stream(reply.as_ref());
        }
        let used_query = self.used_query(types, method, send.as_ref());
        self.unused(&body, send.as_ref());
        let (out, back) = self.crossing();
        let reads_body = send.iter().chain(reply.as_ref()).any(|t| uses(t, "body"));
        let call = GrpcCall {
            method: method.full.clone(),
            path: format!("/{}", method.full),
            types: types.clone(),
            input: method.input,
            output: method.output,
            own: self.among.is_some(),
            client_streaming: method.client_streaming,
            server_streaming: method.server_streaming,
            raw_body: body.is_raw(types, method.input),
            raw_response: response.is_raw(types, method.output),
            mask: mask(types, method, &body),
            body,
            reads_body,
            given: given(types, method.input, send.as_ref()),
            send,
            used_query: used_query.clone(),
            response,
            json: json_options(&self.facade.doc),
            metadata_out: out,
            metadata_back: back,
            max_message: self.backend.max_message,
            compress: self.backend.compress,
        };
        Some(Compiled {
            native: (self.facade.doc.native && self.among.is_none()).then(|| call.path.clone()),
            rest_may_be_empty: true,
            used_query: Some(used_query),
            spellings: self.spellings(types, method),
            shape: Some(shape),
            ..Compiled::new(Arc::new(call), reply)
        })
    }

    /// Streams have operations of their own.
    fn no_stream_among_several(&mut self, method: &Method) -> Option<()> {
        let is_list = self.among.is_some_and(|among| among.messages);
        let streams = method.client_streaming || (method.server_streaming && !is_list);
        if self.among.is_none() || !streams {
            return Some(());
        }
        if !method.client_streaming {
            let message = format!(
                "{} is a stream: how much of it is taken is not said",
                method.name
            );
            let help =
                "say so many messages, `messages: { at-most: 20 }`, or for so long: `within: 2s`";
            self.error(self.at(&["call", "operation"]), message, help);
            return None;
        }
        let message = format!("{} is a stream, and no one of several calls", method.name);
        let help = "give it an operation of its own, with `call:`";
        self.error(self.at(&["call", "operation"]), message, help);
        None
    }

    /// The metadata that crosses the porch, there and back.
    fn crossing(&mut self) -> (Vec<HeaderName>, Vec<HeaderName>) {
        let crossing = &self.facade.doc.metadata;
        let out = self.metadata(&crossing.request, "request");
        (out, self.metadata(&crossing.reply, "reply"))
    }

    /// What the called methods take and give; expressions and structures name its members as callers see them.
    fn sides_of(&self, described: &Described) -> Value {
        let (types, called) = (&described.descriptors.types, self.called_methods(described));
        match self.facade.doc.json.field_names {
            FieldNames::Json => sides(types, &called),
            FieldNames::Proto => sides(&types.in_own_names(), &called),
        }
    }

    /// The methods of the definition that the facade calls.
    fn called_methods<'d>(&self, described: &'d Described) -> Vec<&'d Method> {
        let names = self.called_names();
        let known = names.iter().filter_map(|n| described.descriptors.method(n));
        known.collect()
    }

    /// The part of the answer's message that callers get.
    fn response_part(&mut self, types: &Types, method: &Method) -> Option<MessagePart> {
        let named = self.doc.response_body.as_deref();
        Some(
            match self.part(types, method.output, named, "response-body")? {
                MessagePart::None => MessagePart::Whole,
                part => part,
            },
        )
    }

    /// The structure that makes the message, if the documents give one; `None` when it is wrong.
    fn send(&mut self, shapes: &Shapes<'_>, target: &Target<'_>) -> Option<Option<Template>> {
        let Some(value) = &self.doc.send else {
            return Some(None);
        };
        let path = self.path(&["send"]);
        self.template(value, &path, false, shapes, Some(target))
            .map(Some)
    }

    fn method<'d>(&mut self, described: &'d Described) -> Option<&'d Method> {
        let descriptors = &described.descriptors;
        let Some(name) = &self.call.operation else {
            let help = "add `operation: package.Service/Method` of the definition";
            self.error(self.at(&["call"]), "a gRPC call names its method", help);
            return None;
        };
        let found = descriptors.method(name);
        if found.is_none() {
            let names: Vec<&str> = descriptors.methods().map(|m| m.full.as_str()).collect();
            let help = self.known_names(name, names.into_iter());
            let at = self.at(&["call", "operation"]);
            self.error(at, format!("the definition has no method “{name}”"), help);
        }
        found
    }

    fn body_part(&mut self, types: &Types, method: &Method) -> Option<MessagePart> {
        let given = self.doc.body.as_deref();
        // Where nothing is said, a body is the message.
        match (
            self.part(types, method.input, given, "body")?,
            &self.doc.send,
        ) {
            (MessagePart::None, None) if self.among.is_some() => Some(MessagePart::None),
            (MessagePart::None, None) if self.contract_op.body.is_some() && given.is_none() => {
                Some(MessagePart::Whole)
            }
            (part, _) => Some(part),
        }
    }

    fn part(
        &mut self,
        types: &Types,
        message: MessageId,
        name: Option<&str>,
        key: &str,
    ) -> Option<MessagePart> {
        let name = match name {
            None | Some("") => return Some(MessagePart::None),
            Some("*") => return Some(MessagePart::Whole),
            Some(name) => name,
        };
        let of = types.message(message);
        if let Some(field) = of.field(name) {
            return Some(MessagePart::Field(field.clone()));
        }
        let near = suggest(name, of.fields.iter().map(|f| &*f.name)).map_or_else(
            || "only a field of the message itself can be".into(),
            |n| format!("did you mean “{n}”?"),
        );
        let at = self.at(&[key]);
        self.error(at, format!("“{name}” is no field of {}", of.name), near);
        None
    }

    fn grpc_faults(&mut self) {
        use porch_grpc::status::{code_names, is_code};
        for key in self.doc.faults.keys().filter(|k| !is_code(k)) {
            let near = suggest(key, code_names()).map_or_else(
                || format!("known are {}", code_names().collect::<Vec<_>>().join(", ")),
                |n| format!("did you mean “{n}”?"),
            );
            let at = self.at_key(&["faults", key]);
            self.error(at, format!("“{key}” is no code of gRPC"), near);
        }
    }

    /// What shapes the messages of a stream sees each of them, and nothing of the request, which is long gone.
    fn of_stream(&mut self, reply: Option<&Template>) {
        for root in crate::compiled::REQUEST_ROOTS {
            if reply.is_some_and(|t| uses(t, root)) {
                let message =
                    format!("the reply of a stream is made of its messages: there is no “{root}”");
                self.error(self.at_key(&["reply"]), message, "use `answer.body`");
            }
        }
    }

    /// Query parameters that an expression uses; every other one must be a field.
    fn used_query(
        &mut self,
        types: &Types,
        method: &Method,
        send: Option<&Template>,
    ) -> Vec<String> {
        if self.among.is_some() {
            return Vec::new();
        }
        let used = named_below(send, "query");
        for p in &self.contract_op.parameters {
            if p.place != Place::Query || used.contains(&p.name) {
                continue;
            }
            if let Err(e) = types.resolve(method.input, &p.name) {
                let message = format!("the query parameter “{}” goes nowhere: {e}", p.name);
                let help = "name it like the field in the contract, or use it in `send`";
                self.error(self.at_key(&["call"]), message, help);
            }
        }
        used
    }

    /// Fields have two names, in JSON and in their `.proto` file, and queries are read in either (`google/api/http.proto`).
    fn spellings(&self, types: &Types, method: &Method) -> HashMap<String, String> {
        let query = self.contract_op.parameters.iter();
        let query = query.filter(|p| p.place == Place::Query);
        let both = query.filter_map(|p| {
            let fields = types.resolve(method.input, &p.name).ok()?;
            let joined = |name: fn(&porch_grpc::Field) -> &str| {
                fields.iter().map(|f| name(f)).collect::<Vec<_>>().join(".")
            };
            let (json, own) = (joined(|f| &f.json), joined(|f| &f.name));
            let other = if json == p.name { own } else { json };
            (other != p.name).then(|| (p.name.clone(), other))
        });
        both.collect()
    }

    /// Values of the request that nothing uses.
    fn unused(&mut self, body: &MessagePart, send: Option<&Template>) {
        if self.among.is_some() {
            return;
        }
        let used = named_below(send, "path");
        for name in self.contract_op.path.variables() {
            if !used.iter().any(|u| u == name) {
                let help = format!("add `send: {{ FIELD: =path.{name} }}`");
                let message = format!("the path's {{{name}}} goes nowhere");
                self.warn(self.at_key(&["call"]), message, help);
            }
        }
        if matches!(body, MessagePart::None)
            && self.contract_op.body.is_some()
            && !send.is_some_and(|t| uses(t, "body"))
        {
            let help = "add `body: \"*\"`, `body: FIELD`, or use `=body.…` in `send`";
            let message = "the request's body is not sent anywhere";
            self.warn(self.at_key(&["call"]), message, help);
        }
    }

    fn metadata(&mut self, names: &[String], key: &str) -> Vec<HeaderName> {
        let mut all = Vec::new();
        for name in names {
            match name.parse::<HeaderName>() {
                Ok(header)
                    if !header.as_str().starts_with("grpc-")
                        && !OWN_FIELDS.contains(&header.as_str()) =>
                {
                    all.push(header);
                }
                _ => {
                    let at = self.facade_at(&["metadata", key]);
                    let help =
                        "names are lower-case; those that begin with grpc- belong to the protocol";
                    self.error(at, format!("“{name}” cannot be metadata"), help);
                }
            }
        }
        all
    }
}

/// What is known of a method's answer, or of the part of it that callers get.
fn shape(all: &Arc<OnceLock<Value>>, method: &Method, response: &MessagePart) -> AnswerShape {
    let mut body = vec!["operations".to_owned(), method.full.clone()];
    match response {
        MessagePart::Field(field) => body.extend(["fields".to_owned(), field.name.to_string()]),
        _ => body.push("output".to_owned()),
    }
    AnswerShape {
        document: all.clone(),
        body,
        soap_header: None,
    }
}

/// The fields of a message that a structure gives.
fn given(types: &Types, message: MessageId, send: Option<&Template>) -> Vec<u32> {
    let Some(Template::Map(entries)) = send else {
        return Vec::new();
    };
    let of = types.message(message);
    let fields = entries.iter().filter_map(|(name, _)| of.field(name));
    fields.map(|f| f.number).collect()
}

/// The members of a root that a template names.
fn named_below(template: Option<&Template>, root: &str) -> Vec<String> {
    let mut names = Vec::new();
    if let Some(template) = template {
        template.each_expr(&mut Vec::new(), &mut |_, expr| {
            let of_root = expr.references().iter().filter(|r| r.steps[0].name == root);
            names.extend(of_root.filter_map(|r| Some(r.steps.get(1)?.name.clone())));
        });
    }
    names
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

/// The schemas of what methods take and give, by their full names; what several of them have stands there once. What is laid
/// over a message need not be all of it.
fn sides(types: &Types, methods: &[&Method]) -> Value {
    let mut schemas = Schemas::lenient(types);
    let mut all = Map::new();
    for method in methods {
        let (input, output) = (schemas.of(method.input), schemas.of(method.output));
        let fields = &types.message(method.output).fields;
        let fields: Map<String, Value> = fields
            .iter()
            .map(|f| (f.name.to_string(), schemas.field(f)))
            .collect();
        let sides = json!({ "input": input, "output": output, "fields": fields });
        all.insert(method.full.clone(), sides);
    }
    let named = schemas.schemas.values_mut();
    for schema in named.filter_map(Value::as_object_mut) {
        schema.shift_remove("required");
    }
    json!({ "components": { "schemas": schemas.schemas }, "operations": all })
}
