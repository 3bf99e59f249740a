//! JSON → SOAP: envelopes.

use std::sync::Arc;

use serde_json::Value;

use crate::plan::{Member, ObjectPlan, Plan, TypePlan};
use crate::simple::kind_of;
use crate::wsdl::{Operation, SoapVersion};
use crate::xml::{SOAP_11, SOAP_12, XSI, escape_attribute, escape_text};

/// One thing in a JSON value that its type rules out.
#[derive(Clone, Debug, PartialEq, Eq, serde::Serialize)]
pub struct WriteError {
    /// JSON Pointer (RFC 6901) to the value.
    pub pointer: String,
    /// What is wrong with it.
    pub message: String,
}

/// Values nested deeper than this are refused.
const MAX_DEPTH: usize = 128;
/// More mistakes than this are not listed.
const MAX_ERRORS: usize = 50;

/// Writes the envelopes of one operation.
#[derive(Debug)]
pub struct Envelope {
    plan: Arc<Plan>,
    input: Member,
    open: Vec<u8>,
    close: &'static [u8],
    /// `Content-Type` of the request (SOAP 1.1 §6, SOAP 1.2 part 2 §7.1.4).
    pub content_type: String,
    /// `SOAPAction` header field, for SOAP 1.1 only (§6.1.1).
    pub soap_action: Option<String>,
}

impl Envelope {
    /// A writer for an operation; `headers` holds a value for each header element, by local name.
    ///
    /// # Errors
    /// What does not fit in the header values, or that the operation takes no input.
    pub fn new(plan: Arc<Plan>, operation: &Operation, headers: &Value) -> Result<Self, Vec<WriteError>> {
        let fail = |message: &str| vec![WriteError { pointer: String::new(), message: message.into() }];
        let input = operation.input.clone().ok_or_else(|| fail("the operation takes no input"))?;
        let namespace = if operation.version == SoapVersion::V11 { SOAP_11 } else { SOAP_12 };
        let mut open = format!("<soap:Envelope xmlns:soap=\"{namespace}\" xmlns:xsi=\"{XSI}\"").into_bytes();
        let mut used: Vec<u16> = Vec::new();
        for member in operation.headers.iter().chain([&input]) {
            used.push(member.namespace);
            used.extend(plan.namespaces_below(member.type_id));
        }
        used.sort_unstable();
        used.dedup();
        for id in used.into_iter().filter(|id| *id != 0) {
            open.extend_from_slice(format!(" xmlns:n{id}=\"").as_bytes());
            let _ = escape_attribute(&mut open, &plan.namespaces[id as usize]);
            open.push(b'"');
        }
        open.push(b'>');
        let mut writer = Writer { plan: &plan, out: &mut open, errors: Vec::new(), pointer: String::new(), depth: 0 };
        let mut begun = false;
        for header in &operation.headers {
            let Some(value) = headers.get(&header.local) else {
                continue;
            };
            if !std::mem::replace(&mut begun, true) {
                writer.out.extend_from_slice(b"<soap:Header>");
            }
            writer.within(&header.local, |w| w.element(header, value));
        }
        if begun {
            writer.out.extend_from_slice(b"</soap:Header>");
        }
        if let Value::Object(map) = headers {
            for name in map.keys().filter(|n| !operation.headers.iter().any(|h| h.local == **n)) {
                writer.within(name, |w| w.error("the operation has no such header".into()));
            }
        }
        if !writer.errors.is_empty() {
            return Err(writer.errors);
        }
        open.extend_from_slice(b"<soap:Body>");
        let action = &operation.action;
        let (content_type, soap_action) = match operation.version {
            SoapVersion::V11 => ("text/xml; charset=utf-8".to_owned(), Some(format!("\"{action}\""))),
            SoapVersion::V12 if action.is_empty() => ("application/soap+xml; charset=utf-8".to_owned(), None),
            SoapVersion::V12 => (format!("application/soap+xml; charset=utf-8; action=\"{action}\""), None),
        };
        Ok(Self { plan, input, open, close: b"</soap:Body></soap:Envelope>", content_type, soap_action })
    }

    /// Appends the envelope for a body's value.
    ///
    /// # Errors
    /// Everything in the value that the schema rules out, each with a JSON Pointer.
    pub fn write(&self, value: &Value, out: &mut Vec<u8>) -> Result<(), Vec<WriteError>> {
        out.extend_from_slice(&self.open);
        let mut writer = Writer { plan: &self.plan, out, errors: Vec::new(), pointer: String::new(), depth: 0 };
        writer.element(&self.input, value);
        if !writer.errors.is_empty() {
            return Err(writer.errors);
        }
        out.extend_from_slice(self.close);
        Ok(())
    }
}

struct Writer<'a> {
    plan: &'a Plan,
    out: &'a mut Vec<u8>,
    errors: Vec<WriteError>,
    pointer: String,
    depth: usize,
}

impl Writer<'_> {
    fn error(&mut self, message: String) {
        if self.errors.len() < MAX_ERRORS {
            self.errors.push(WriteError { pointer: self.pointer.clone(), message });
        }
    }

    fn within(&mut self, step: &str, f: impl FnOnce(&mut Self)) {
        let len = self.pointer.len();
        self.pointer.push('/');
        if step.contains(['~', '/']) {
            self.pointer.push_str(&step.replace('~', "~0").replace('/', "~1"));
        } else {
            self.pointer.push_str(step);
        }
        f(self);
        self.pointer.truncate(len);
    }

    fn tag(&mut self, close: bool, member: &Member) {
        self.out.extend_from_slice(if close { b"</" } else { b"<" });
        if member.namespace != 0 {
            self.out.push(b'n');
            let mut n = [0u8; 5];
            let mut i = n.len();
            let mut id = member.namespace;
            while id > 0 {
                i -= 1;
                n[i] = b'0' + (id % 10) as u8;
                id /= 10;
            }
            self.out.extend_from_slice(&n[i..]);
            self.out.push(b':');
        }
        self.out.extend_from_slice(member.local.as_bytes());
    }

    fn element(&mut self, member: &Member, value: &Value) {
        self.tag(false, member);
        match (self.plan.get(member.type_id), value) {
            (_, Value::Null) if member.nillable => {
                return self.out.extend_from_slice(b" xsi:nil=\"true\"/>");
            }
            (_, Value::Null) => self.error("null is not allowed here: leave the member out".into()),
            (TypePlan::Simple(simple), value) => match simple.to_text(value) {
                Ok(text) => {
                    self.out.push(b'>');
                    self.text(&text);
                }
                Err(message) => self.error(message),
            },
            (TypePlan::Object(object), Value::Object(map)) => {
                self.depth += 1;
                if self.depth > MAX_DEPTH {
                    self.error(format!("nested more than {MAX_DEPTH} levels deep"));
                } else {
                    self.object(object, map);
                }
                self.depth -= 1;
            }
            (TypePlan::Object(_), other) => self.error(format!("an object is expected, not {}", kind_of(other))),
        }
        self.tag(true, member);
        self.out.push(b'>');
    }

    fn text(&mut self, text: &str) {
        if let Err(c) = escape_text(self.out, text) {
            self.error(format!("the character U+{:04X} cannot be written in XML", c as u32));
        }
    }

    fn object(&mut self, object: &ObjectPlan, map: &serde_json::Map<String, Value>) {
        for name in map.keys() {
            if object.member(name).is_none() && object.text.as_ref().is_none_or(|(t, _)| t != name) {
                let names = object.members.iter().map(|m| m.json.as_str());
                let near = porch_contract::suggest(name, names).map_or_else(String::new, |n| format!("; did you mean “{n}”?"));
                self.within(name, |w| w.error(format!("{} has no such member{near}", object.name)));
            }
        }
        for member in object.members.iter().filter(|m| m.attribute) {
            match map.get(&member.json) {
                Some(value) => self.within(&member.json, |w| w.attribute(member, value)),
                None => self.missing(member),
            }
        }
        self.out.push(b'>');
        for member in object.members.iter().filter(|m| !m.attribute) {
            match map.get(&member.json) {
                Some(value) => self.within(&member.json, |w| w.child(member, value)),
                None => self.missing(member),
            }
        }
        if let Some((name, simple)) = &object.text {
            match map.get(name).map(|v| simple.to_text(v)) {
                Some(Ok(text)) => self.text(&text),
                Some(Err(message)) => self.within(name, |w| w.error(message)),
                None => self.within(name, |w| w.error("must be there".into())),
            }
        }
        self.choices(object, map);
    }

    fn missing(&mut self, member: &Member) {
        if member.required() {
            self.within(&member.json, |w| w.error("must be there".into()));
        }
    }

    fn choices(&mut self, object: &ObjectPlan, map: &serde_json::Map<String, Value>) {
        for choice in &object.choices {
            let taken = choice.branches.iter().filter(|b| b.iter().any(|i| map.contains_key(&object.members[*i].json))).count();
            if taken > 1 || (taken == 0 && choice.required) {
                let names: Vec<&str> = choice.branches.iter().flatten().map(|i| object.members[*i].json.as_str()).collect();
                let few = if taken == 0 { "one of these must be there" } else { "only one of these may be there" };
                self.error(format!("{few}: {}", names.join(", ")));
            }
        }
    }

    fn attribute(&mut self, member: &Member, value: &Value) {
        let TypePlan::Simple(simple) = self.plan.get(member.type_id) else {
            return;
        };
        match simple.to_text(value) {
            Ok(text) => {
                self.out.push(b' ');
                if member.namespace != 0 {
                    self.out.extend_from_slice(format!("n{}:", member.namespace).as_bytes());
                }
                self.out.extend_from_slice(member.local.as_bytes());
                self.out.extend_from_slice(b"=\"");
                if let Err(c) = escape_attribute(self.out, &text) {
                    self.error(format!("the character U+{:04X} cannot be written in XML", c as u32));
                }
                self.out.push(b'"');
            }
            Err(message) => self.error(message),
        }
    }

    /// A member's value: an element, several, or a wrapper around several.
    fn child(&mut self, member: &Member, value: &Value) {
        if let Some(item) = &member.items {
            let Value::Array(values) = value else {
                return self.error(format!("an array is expected, not {}", kind_of(value)));
            };
            self.tag(false, member);
            self.out.push(b'>');
            self.list(item, values);
            self.tag(true, member);
            return self.out.push(b'>');
        }
        match value {
            Value::Array(values) if member.many => self.list(member, values),
            _ if member.many => self.error(format!("an array is expected, not {}", kind_of(value))),
            _ => self.element(member, value),
        }
    }

    fn list(&mut self, item: &Member, values: &[Value]) {
        if (values.len() as u64) < u64::from(item.min) {
            self.error(format!("{} items, but at least {} are needed", values.len(), item.min));
        }
        if item.max.is_some_and(|max| values.len() as u64 > u64::from(max)) {
            self.error(format!("{} items, but at most {} are allowed", values.len(), item.max.unwrap_or(0)));
        }
        for (i, value) in values.iter().enumerate() {
            self.within(&i.to_string(), |w| w.element(item, value));
        }
    }
}
