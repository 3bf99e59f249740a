//! Compiling HTTP calls.

use std::sync::Arc;

use ::http::{HeaderName, HeaderValue, Method};
use porch_contract::{PathTemplate, Piece, Segment, suggest};
use porch_rules::expr::Template;
use serde_json::{Map, Value};

use super::described::Description;
use super::{FixedFields, HeaderRule, HttpCall, PathPart};
use crate::kind::Compiled;
use crate::wiring::{CallCompiler, Shapes, Use, uses};

/// What can be sent by HTTP.
const PARTS: [&str; 5] = ["path", "query", "headers", "body", "form"];

impl<'a> CallCompiler<'a> {
    pub(super) fn http(&mut self) -> Option<Compiled> {
        let empty = Map::new();
        let send = self.http_send(&empty)?;
        self.known_parts(send);
        let definition = self.definition.clone();
        let description = (&*definition as &dyn std::any::Any).downcast_ref::<Description>();
        let called = self.described(description);
        // What XML becomes is the mapping's to say.
        let shape = called.as_ref().and_then(|c| c.shape());
        let shape = shape.filter(|_| self.backend.xml.is_none());
        let shapes = Shapes {
            answer: shape.as_ref().and_then(|s| s.of_body()),
            ..Shapes::default()
        };
        let target = called.as_ref().and_then(|c| c.body());
        let [path_values, query, headers, body, form] = PARTS.map(|name| {
            let value = send.get(name)?;
            let path = self.path(&["send", name]);
            let target = target.as_ref().filter(|_| name == "body");
            let values_are = match name {
                "path" | "query" => Use::Target,
                _ => Use::Sent,
            };
            self.template_as(values_are, (value, &path), false, &shapes, target)
        });
        let is_form = form.is_some();
        let body = self.only_one_body(body, form)?;
        let (path, fixed_query) = self.http_path(pairs(path_values).unwrap_or_default())?;
        let reply = self.reply(&shapes);
        let (query, headers) = (pairs(query), pairs(headers).unwrap_or_default());
        if let (Some(called), true) = (&called, query.is_some() || self.among.is_some()) {
            self.described_query(called, query.as_deref().unwrap_or_default());
        }
        let reads_body = [body.as_ref(), reply.as_ref()]
            .into_iter()
            .flatten()
            .chain(query.iter().flatten().chain(&headers).map(|(_, t)| t))
            .any(|t| uses(t, "body"));
        let method = self.http_method();
        let mut headers: Vec<(HeaderName, HeaderRule)> = headers
            .into_iter()
            .filter_map(|(name, template)| self.header_rule(&name, template))
            .collect();
        let fixed = FixedFields::of(&mut headers).map(Arc::new);
        headers.shrink_to_fit();
        let own = self.among.is_some();
        let call = HttpCall {
            own,
            query: query.or_else(|| own.then(Vec::new)),
            method,
            path,
            fixed_query,
            fixed,
            headers,
            body,
            is_form,
            reads_body,
        };
        Some(Compiled {
            shape,
            ..Compiled::new(Arc::new(call), reply)
        })
    }

    /// What is sent, where it has parts.
    fn http_send<'s>(&mut self, empty: &'s Map<String, Value>) -> Option<&'s Map<String, Value>>
    where
        'a: 's,
    {
        if self.call.operation.is_some() {
            let at = self.at_key(&["call", "operation"]);
            let message = "an HTTP backend without a definition has no named operations";
            self.error(at, message, "an HTTP call has `method` and `path`");
        }
        if self.among.is_some() && self.call.path.is_none() {
            let help = "add `path: /…`, whose {variables} are those of the operation or stand below `send: path:`";
            self.error(
                self.at(&["call"]),
                "one of several calls says its path",
                help,
            );
            return None;
        }
        match &self.doc.send {
            Some(Value::Object(map)) => Some(map),
            None => Some(empty),
            Some(_) => {
                let message =
                    "what is sent by HTTP has `path`, `query`, `headers` and `body` or `form`";
                self.error(self.at(&["send"]), message, "");
                None
            }
        }
    }

    /// The method that is called; the caller's where nothing is said.
    fn http_method(&mut self) -> Option<Method> {
        let method = self.call.method.as_deref()?;
        if method.is_empty() || !method.bytes().all(|b| b.is_ascii_uppercase()) {
            let at = self.at(&["call", "method"]);
            let help = "methods are written in capitals: GET, POST …";
            self.error(at, format!("“{method}” is no method"), help);
        }
        method.parse().ok()
    }

    /// A body, or a form in its place.
    fn only_one_body(
        &mut self,
        body: Option<Template>,
        form: Option<Template>,
    ) -> Option<Option<Template>> {
        self.form_is_flat(form.as_ref());
        if body.is_some() && form.is_some() {
            let at = self.at_key(&["send", "form"]);
            let help = "`form` is a body too: application/x-www-form-urlencoded";
            self.error(at, "a request has one body", help);
            return None;
        }
        Some(body.or(form))
    }

    /// A form has no members within members.
    fn form_is_flat(&mut self, form: Option<&Template>) {
        let members = match form {
            Some(Template::Map(members)) => members.as_slice(),
            Some(Template::List(_) | Template::Literal(_)) => {
                let at = self.at(&["send", "form"]);
                return self.error(
                    at,
                    "a form has members, each with a text or a list of them",
                    "",
                );
            }
            _ => return,
        };
        for (name, value) in members {
            let deep = match value {
                Template::Map(_) => true,
                Template::List(items) => items
                    .iter()
                    .any(|i| matches!(i, Template::Map(_) | Template::List(_))),
                _ => false,
            };
            if deep {
                let at = self.at(&["send", "form", name]);
                self.error(at, "a member of a form is a text or a list of texts", "");
            }
        }
    }

    fn known_parts(&mut self, send: &Map<String, Value>) {
        for key in send.keys().filter(|k| !PARTS.contains(&k.as_str())) {
            let near = suggest(key, PARTS).map_or_else(
                || format!("known are {}", PARTS.join(", ")),
                |n| format!("did you mean “{n}”?"),
            );
            let at = self.at_key(&["send", key]);
            self.error(at, format!("“{key}” is not known here"), near);
        }
    }

    fn header_rule(&mut self, name: &str, template: Template) -> Option<(HeaderName, HeaderRule)> {
        let Ok(header) = name.parse::<HeaderName>() else {
            let at = self.at_key(&["send", "headers", name]);
            self.error(at, format!("“{name}” is no name of a header field"), "");
            return None;
        };
        let Template::Literal(value) = &template else {
            return Some((header, HeaderRule::Make(template)));
        };
        let text = value
            .as_str()
            .map_or_else(|| value.to_string(), str::to_owned);
        match HeaderValue::from_str(&text) {
            Ok(value) => Some((header, HeaderRule::Set(value))),
            Err(_) => {
                let at = self.at(&["send", "headers", name]);
                self.error(at, "this text cannot stand in a header field", "");
                None
            }
        }
    }

    fn http_path(
        &mut self,
        mut values: Vec<(String, Template)>,
    ) -> Option<(Vec<PathPart>, Option<Box<str>>)> {
        let own = self.contract_op.path.to_string();
        let text = self.call.path.as_deref().unwrap_or(&own);
        // A part of the query that never changes may stand behind the path.
        let (text, query) = match text.split_once('?') {
            Some((path, query)) => (path, Some(query)),
            None => (text, None),
        };
        if let Some(query) = query.filter(|q| !is_query(q)) {
            let at = self.at(&["call", "path"]);
            let message = format!("“?{query}” is no query that every request can have");
            let help = "what changes from request to request stands below `send: query:`";
            self.error(at, message, help);
            return None;
        }
        let template = match PathTemplate::parse(text) {
            Ok(template) => template,
            Err(e) => {
                let at = self.at(&["call", "path"]);
                self.error(at, format!("path “{text}”: {e}"), "");
                return None;
            }
        };
        let mut parts = Vec::new();
        for segment in &template.segments {
            let (name, rest) = match segment {
                Segment::Literal(text) => {
                    push_fixed(&mut parts, &format!("/{text}"));
                    continue;
                }
                Segment::Parameter(name) => (name, false),
                Segment::Rest(name) => (name, true),
                Segment::Mixed(mixed) => {
                    push_fixed(&mut parts, "/");
                    for piece in mixed.pieces() {
                        match piece {
                            Piece::Text(text) => push_fixed(&mut parts, text),
                            Piece::Variable(name) => {
                                parts.extend(self.variable(name, false, &mut values));
                            }
                        }
                    }
                    continue;
                }
            };
            push_fixed(&mut parts, "/");
            parts.extend(self.variable(name, rest, &mut values));
        }
        if let Some(verb) = &template.verb {
            push_fixed(&mut parts, &format!(":{verb}"));
        }
        for (name, _) in values {
            let at = self.at_key(&["send", "path", &name]);
            self.error(at, format!("the backend's path has no {{{name}}}"), "");
        }
        parts.shrink_to_fit();
        Some((parts, query.filter(|q| !q.is_empty()).map(Into::into)))
    }

    /// What a variable of the backend's path becomes.
    fn variable(
        &mut self,
        name: &str,
        rest: bool,
        values: &mut Vec<(String, Template)>,
    ) -> Option<PathPart> {
        if let Some(i) = values.iter().position(|(n, _)| n == name) {
            if let Template::Expr(expr) = values.remove(i).1 {
                return Some(PathPart::Value(expr));
            }
            let at = self.at(&["send", "path", name]);
            self.error(at, "a path variable needs an expression", "");
            return None;
        }
        let said = self
            .doc
            .send
            .as_ref()
            .and_then(|s| s.get("path")?.get(name));
        if said.is_some() {
            // What is wrong with it was told.
            return None;
        }
        let variables: Vec<&str> = self.contract_op.path.variables().collect();
        match variables.iter().position(|v| *v == name) {
            Some(i) if rest => Some(PathPart::CapturedRest(i)),
            Some(i) => Some(PathPart::Captured(i)),
            None => {
                let near = suggest(name, variables).map_or_else(
                    || format!("add `path: {{ {name}: … }}` below `send:`"),
                    |n| format!("did you mean “{n}”?"),
                );
                let at = self.at(&["call", "path"]);
                self.error(at, format!("nothing gives {{{name}}} a value"), near);
                None
            }
        }
    }
}

/// Whether a text can stand in a query as it is (RFC 3986 §3.4).
fn is_query(text: &str) -> bool {
    let bytes = text.as_bytes();
    let hex = |at: usize| bytes.get(at).is_some_and(u8::is_ascii_hexdigit);
    bytes.iter().enumerate().all(|(at, b)| match b {
        b'%' => hex(at + 1) && hex(at + 2),
        b => b.is_ascii_alphanumeric() || b"-._~!$&'()*+,;=:@/?".contains(b),
    })
}

fn pairs(template: Option<Template>) -> Option<Vec<(String, Template)>> {
    match template {
        Some(Template::Map(entries)) => Some(entries),
        _ => None,
    }
}

/// Text that follows text is one with it.
fn push_fixed(parts: &mut Vec<PathPart>, text: &str) {
    match parts.last_mut() {
        Some(PathPart::Fixed(before)) => before.push_str(text),
        _ => parts.push(PathPart::Fixed(text.to_owned())),
    }
}
