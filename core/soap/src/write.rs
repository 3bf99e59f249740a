//! JSON → SOAP: envelopes.

mod attributes;
mod objects;
mod open;
mod opening;
mod straight;

use std::sync::Arc;

use serde_json::Value;

use self::opening::{binding_fields, fixed_headers, start_tag};
use crate::generic::{self, Mapping};
use crate::plan::{Member, MemberKind, ObjectPlan, Particle, Plan, TYPE_MEMBER, TypePlan};
use crate::simple::Simple;
use crate::tree::{self, Json};
use crate::write_error::{TextError, WriteError};
use crate::wsdl::{Message, Operation, SoapVersion};
use crate::xml::{ENCODING_11, ENCODING_12, escape_attribute, escape_text};

/// Values nested deeper than this are refused.
const MAX_DEPTH: usize = 128;
/// More mistakes than this are not listed.
const MAX_ERRORS: usize = 50;

/// Writes the envelopes of one operation.
#[derive(Debug)]
pub struct Envelope {
    plan: Arc<Plan>,
    input: Message,
    /// The envelope's start tag.
    open: Vec<u8>,
    /// Header elements that are the same in every message.
    fixed_headers: Vec<u8>,
    headers: Vec<Member>,
    encoded: Option<&'static str>,
    /// `Content-Type` of the request (SOAP 1.1 §6, SOAP 1.2 part 2 §7.1.4).
    pub content_type: String,
    /// `SOAPAction` header field, for SOAP 1.1 only (§6.1.1).
    pub soap_action: Option<String>,
}

impl Envelope {
    /// A writer for an operation; `headers` holds a value for each header element that is the same in every message, by
    /// its JSON name.
    ///
    /// # Errors
    /// What does not fit in the header values, or that the operation takes no input.
    pub fn new(
        plan: Arc<Plan>,
        operation: &Operation,
        headers: &Value,
    ) -> Result<Self, Vec<WriteError>> {
        let input = operation.input.clone().ok_or_else(|| {
            vec![WriteError {
                pointer: String::new(),
                message: "the operation takes no input".into(),
                header: false,
            }]
        })?;
        let encoded = operation
            .encoded
            .then_some(if operation.version == SoapVersion::V11 {
                ENCODING_11
            } else {
                ENCODING_12
            });
        let open = start_tag(&plan, operation, &input, encoded);
        let fixed_headers = fixed_headers(&plan, operation, headers, encoded)?;
        let (content_type, soap_action) = binding_fields(operation);
        Ok(Self {
            plan,
            input,
            open,
            fixed_headers,
            headers: operation.headers.clone(),
            encoded,
            content_type,
            soap_action,
        })
    }

    /// Appends the envelope for a body's value.
    ///
    /// # Errors
    /// Everything in the value that the schema rules out, each with a JSON Pointer.
    pub fn write(&self, value: &Value, out: &mut Vec<u8>) -> Result<(), Vec<WriteError>> {
        self.write_with(&Json::of(value), None, &[], out)
    }

    /// The same with header elements of this message: a value by JSON name, and elements that are written already.
    ///
    /// # Errors
    /// As [`Self::write`]; mistakes of header elements say so.
    pub fn write_with(
        &self,
        value: &Json<'_>,
        headers: Option<&Value>,
        more: &[u8],
        out: &mut Vec<u8>,
    ) -> Result<(), Vec<WriteError>> {
        self.whole(headers, more, out, |member, writer| match member {
            Some(member) => writer.element(member, value),
            None => writer.parts(self.input.type_id, value),
        })
    }

    /// The same for a body that is a JSON text.
    ///
    /// # Errors
    /// That it is no JSON, or as [`Self::write_with`].
    pub fn write_text(
        &self,
        text: &[u8],
        headers: Option<&Value>,
        more: &[u8],
        out: &mut Vec<u8>,
    ) -> Result<(), TextError> {
        let before = out.len();
        if let (Ok(text), Some(_)) = (std::str::from_utf8(text), &self.input.element) {
            let mut all = Some(());
            let written = self.whole(headers, more, out, |member, writer| {
                all = member.and_then(|member| writer.straight(member, text));
            });
            if all.is_some() && written.is_ok() {
                return Ok(());
            }
        }
        out.truncate(before);
        let value = Json::parse(text)?;
        Ok(self.write_with(&value, headers, more, out)?)
    }

    fn whole(
        &self,
        headers: Option<&Value>,
        more: &[u8],
        out: &mut Vec<u8>,
        body: impl FnOnce(Option<&Member>, &mut EnvelopeWriter<'_>),
    ) -> Result<(), Vec<WriteError>> {
        out.extend_from_slice(&self.open);
        let mut writer = EnvelopeWriter::new(&self.plan, out, self.encoded);
        if !self.fixed_headers.is_empty() || !more.is_empty() || headers.is_some() {
            writer.out.extend_from_slice(b"<soap:Header>");
            writer.out.extend_from_slice(more);
            writer.out.extend_from_slice(&self.fixed_headers);
            for header in &self.headers {
                if let Some(value) = headers.and_then(|h| h.get(&header.json)) {
                    writer.header = true;
                    writer.within(&header.json, |w| w.element(header, &Json::of(value)));
                    writer.header = false;
                }
            }
            writer.out.extend_from_slice(b"</soap:Header>");
        }
        writer.out.extend_from_slice(b"<soap:Body>");
        let member = self.input.element.as_ref();
        writer.top = member.is_some() && self.input.rpc;
        body(member, &mut writer);
        if !writer.errors.is_empty() {
            return Err(writer.errors);
        }
        out.extend_from_slice(b"</soap:Body></soap:Envelope>");
        Ok(())
    }
}

/// The members of a JSON object.
type Members<'m, 'j> = &'m [(std::borrow::Cow<'j, str>, Json<'j>)];

struct EnvelopeWriter<'a> {
    plan: &'a Plan,
    out: &'a mut Vec<u8>,
    errors: Vec<WriteError>,
    pointer: String,
    depth: usize,
    /// The namespace of the encoding, in encoded messages.
    encoded: Option<&'static str>,
    /// Whether the next element is the wrapper of an rpc message.
    top: bool,
    /// Whether header elements are written.
    header: bool,
    /// How many bytes of a text were read again.
    again: usize,
    /// The number of the namespace whose prefix is `xml`; 0 when there is none.
    xml: u16,
}

impl<'a> EnvelopeWriter<'a> {
    fn new(plan: &'a Plan, out: &'a mut Vec<u8>, encoded: Option<&'static str>) -> Self {
        Self {
            plan,
            out,
            errors: Vec::new(),
            pointer: String::new(),
            depth: 0,
            encoded,
            top: false,
            header: false,
            again: 0,
            xml: plan.namespace(crate::xml::XML).unwrap_or(0),
        }
    }

    fn error(&mut self, message: impl std::fmt::Display) {
        if self.errors.len() < MAX_ERRORS {
            self.errors.push(WriteError {
                pointer: self.pointer.clone(),
                message: message.to_string(),
                header: self.header,
            });
        }
    }

    fn within(&mut self, step: &str, f: impl FnOnce(&mut Self)) {
        let len = self.pointer.len();
        self.pointer.push('/');
        if step.contains(['~', '/']) {
            self.pointer
                .push_str(&step.replace('~', "~0").replace('/', "~1"));
        } else {
            self.pointer.push_str(step);
        }
        f(self);
        self.pointer.truncate(len);
    }

    /// `nN:`, the prefix of a namespace.
    fn prefix(&mut self, namespace: u16) {
        if namespace == 0 {
            return;
        }
        if namespace == self.xml {
            return self.out.extend_from_slice(b"xml:");
        }
        self.out.push(b'n');
        let mut n = [0u8; 5];
        let mut i = n.len();
        let mut id = namespace;
        while id > 0 {
            i -= 1;
            n[i] = b'0' + (id % 10) as u8;
            id /= 10;
        }
        self.out.extend_from_slice(&n[i..]);
        self.out.push(b':');
    }

    fn tag(&mut self, close: bool, member: &Member) {
        self.out.extend_from_slice(if close { b"</" } else { b"<" });
        self.prefix(member.namespace);
        self.out.extend_from_slice(member.local.as_bytes());
    }

    fn xsi_type(&mut self, namespace: u16, local: &str) {
        self.out.extend_from_slice(b" xsi:type=\"");
        self.prefix(namespace);
        self.out.extend_from_slice(local.as_bytes());
        self.out.push(b'"');
    }

    /// What encoded messages say of an element (SOAP 1.1 §5, §7).
    fn encoding_marks(&mut self, member: &Member, value: &Json<'_>) {
        let Some(encoding) = self.encoded else { return };
        if std::mem::take(&mut self.top) {
            let mark = format!(" soap:encodingStyle=\"{encoding}\"");
            return self.out.extend_from_slice(mark.as_bytes());
        }
        if let TypePlan::List(item) = self.plan.get(member.type_id) {
            let count = if let Json::Array(values) = value {
                values.len()
            } else {
                0
            };
            if encoding == ENCODING_12 {
                self.out.extend_from_slice(b" enc:itemType=\"");
            } else {
                self.out
                    .extend_from_slice(b" xsi:type=\"enc:Array\" enc:arrayType=\"");
            }
            match &item.type_name {
                Some((namespace, local)) => {
                    self.prefix(*namespace);
                    self.out.extend_from_slice(local.as_bytes());
                }
                None => self.out.extend_from_slice(b"xsd:anyType"),
            }
            let size = if encoding == ENCODING_12 {
                format!("\" enc:arraySize=\"{count}\"")
            } else {
                format!("[{count}]\"")
            };
            self.out.extend_from_slice(size.as_bytes());
        } else if let Some((namespace, local)) = &member.type_name
            && value.get(TYPE_MEMBER).is_none()
        {
            self.xsi_type(*namespace, local);
        }
    }

    fn element(&mut self, member: &Member, value: &Json<'_>) {
        if let TypePlan::Any = self.plan.get(member.type_id) {
            return self.any(member, value);
        }
        self.tag(false, member);
        if matches!(value, Json::Null) && member.nillable {
            return self.out.extend_from_slice(b" xsi:nil=\"true\"/>");
        }
        self.encoding_marks(member, value);
        match (self.plan.get(member.type_id), value) {
            (_, Json::Null) => self.error("null is not allowed here: leave the member out"),
            (TypePlan::Simple(simple), value) => self.simple(member, simple, value),
            (TypePlan::List(item), Json::Array(values)) => {
                self.out.push(b'>');
                self.deeper(|w| w.list(item, values));
            }
            (TypePlan::Object(object), Json::Object(map)) => {
                self.deeper(|w| w.object(object, map, false))
            }
            (TypePlan::Object(_), other) => {
                self.error(format!("an object is expected, not {}", other.kind()))
            }
            (_, other) => self.error(format!("an array is expected, not {}", other.kind())),
        }
        self.tag(true, member);
        self.out.push(b'>');
    }

    fn deeper(&mut self, f: impl FnOnce(&mut Self)) {
        self.depth += 1;
        if self.depth > MAX_DEPTH {
            self.error(format!("nested more than {MAX_DEPTH} levels deep"));
        } else {
            f(self);
        }
        self.depth -= 1;
    }

    fn simple(&mut self, member: &Member, simple: &Simple, value: &Json<'_>) {
        match simple.to_text(value) {
            Ok(text) => {
                self.fixed(member, &text);
                self.out.push(b'>');
                self.text(&text);
            }
            Err(message) => self.error(message),
        }
    }

    fn fixed(&mut self, member: &Member, text: &str) {
        if let (true, Some(fixed)) = (member.fixed, &member.default)
            && fixed.trim() != text.trim()
        {
            self.error(format!("“{text}” is not what the schema fixes: “{fixed}”"));
        }
    }

    fn text(&mut self, text: &str) {
        if let Err(c) = escape_text(self.out, text) {
            self.error(format!(
                "the character U+{:04X} cannot be written in XML",
                c as u32
            ));
        }
    }

    /// A member's value: an element, several, or a wrapper around several.
    fn child(&mut self, member: &Member, value: &Json<'_>) {
        if let Some(item) = &member.items {
            if matches!(value, Json::Null) && member.nillable {
                self.tag(false, member);
                return self.out.extend_from_slice(b" xsi:nil=\"true\"/>");
            }
            let Json::Array(values) = value else {
                return self.error(format!("an array is expected, not {}", value.kind()));
            };
            self.tag(false, member);
            self.encoding_marks(member, value);
            self.out.push(b'>');
            self.list(item, values);
            self.tag(true, member);
            return self.out.push(b'>');
        }
        match value {
            Json::Array(values) if member.many => self.list(member, values),
            _ if member.many => self.error(format!("an array is expected, not {}", value.kind())),
            _ => self.element(member, value),
        }
    }

    fn list(&mut self, item: &Member, values: &[Json<'_>]) {
        if (values.len() as u64) < u64::from(item.min) {
            self.error(format!(
                "{} items, but at least {} are needed",
                values.len(),
                item.min
            ));
        }
        if item
            .max
            .is_some_and(|max| values.len() as u64 > u64::from(max))
        {
            self.error(format!(
                "{} items, but at most {} are allowed",
                values.len(),
                item.max.unwrap_or(0)
            ));
        }
        for (i, value) in values.iter().enumerate() {
            self.within(&i.to_string(), |w| match item.kind {
                MemberKind::Group => w.deeper(|w| w.parts(item.type_id, value)),
                MemberKind::Any => w.open_element(value),
                _ => w.element(item, value),
            });
        }
    }
}
