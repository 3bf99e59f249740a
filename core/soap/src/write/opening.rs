//! What an envelope begins with: its start tag, the header elements that never change, the fields that go with it.

use serde_json::Value;

use super::EnvelopeWriter;
use crate::plan::{Member, Plan, TypeId, TypePlan};
use crate::tree::Json;
use crate::write_error::WriteError;
use crate::wsdl::{Message, Operation, SoapVersion};
use crate::xml::{SOAP_11, SOAP_12, XSD, XSI, escape_attribute};

/// The envelope's start tag, with all namespaces that the message can have.
pub(super) fn start_tag(
    plan: &Plan,
    operation: &Operation,
    input: &Message,
    encoded: Option<&'static str>,
) -> Vec<u8> {
    let namespace = match operation.version {
        SoapVersion::V11 => SOAP_11,
        SoapVersion::V12 => SOAP_12,
    };
    let mut open =
        format!("<soap:Envelope xmlns:soap=\"{namespace}\" xmlns:xsi=\"{XSI}\"").into_bytes();
    let mut used: Vec<u16> = Vec::new();
    for member in operation.headers.iter().chain(&input.element) {
        used.push(member.namespace);
        used.extend(plan.namespaces_below(member.type_id, encoded.is_some()));
    }
    used.extend(plan.namespaces_below(input.type_id, encoded.is_some()));
    used.sort_unstable();
    used.dedup();
    for id in used.into_iter().filter(|id| *id != 0) {
        open.extend_from_slice(format!(" xmlns:n{id}=\"").as_bytes());
        let _ = escape_attribute(&mut open, &plan.namespaces[id as usize]);
        open.push(b'"');
    }
    if let Some(encoding) = encoded {
        open.extend_from_slice(format!(" xmlns:enc=\"{encoding}\" xmlns:xsd=\"{XSD}\"").as_bytes());
    } else if input_holds_any(plan, &operation.headers, input) {
        open.extend_from_slice(format!(" xmlns:xsd=\"{XSD}\"").as_bytes());
    }
    open.push(b'>');
    open
}

/// Header elements that are the same in every message.
pub(super) fn fixed_headers(
    plan: &Plan,
    operation: &Operation,
    headers: &Value,
    encoded: Option<&'static str>,
) -> Result<Vec<u8>, Vec<WriteError>> {
    let mut fixed = Vec::new();
    let mut writer = EnvelopeWriter::new(plan, &mut fixed, encoded);
    for header in &operation.headers {
        if let Some(value) = headers.get(&header.json) {
            let value = lexical(plan, header.type_id, value);
            writer.within(&header.json, |w| w.element(header, &Json::of(&value)));
        }
    }
    if let Value::Object(map) = headers {
        let known = |name: &str| operation.headers.iter().any(|h| h.json == name);
        for name in map.keys().filter(|name| !known(name)) {
            writer.within(name, |w| w.error("the operation has no such header"));
        }
    }
    if writer.errors.is_empty() {
        Ok(fixed)
    } else {
        Err(writer.errors)
    }
}

/// A value of the documents as its type has it: texts, which secrets always are, become the numbers and booleans that they spell
/// (XML Schema part 2 §3.2).
fn lexical(plan: &Plan, type_id: TypeId, value: &Value) -> Value {
    match (plan.get(type_id), value) {
        (TypePlan::Simple(simple), Value::String(text)) => simple.json_of(text.trim()),
        (TypePlan::Object(object), Value::Object(map)) => {
            let member = |(name, value): (&String, &Value)| {
                let own = match (object.member(name), &object.text) {
                    (Some(member), _) => lexical(plan, member.type_id, value),
                    (None, Some((text, simple))) if text == name => match value {
                        Value::String(text) => simple.json_of(text.trim()),
                        other => other.clone(),
                    },
                    _ => value.clone(),
                };
                (name.clone(), own)
            };
            map.iter().map(member).collect()
        }
        (TypePlan::List(item), Value::Array(items)) => {
            let items = items.iter().map(|i| lexical(plan, item.type_id, i));
            items.collect()
        }
        (_, Value::Array(items)) => items.iter().map(|i| lexical(plan, type_id, i)).collect(),
        _ => value.clone(),
    }
}

/// `Content-Type` and `SOAPAction` (SOAP 1.1 §6, SOAP 1.2 part 2 §7.1.4).
pub(super) fn binding_fields(operation: &Operation) -> (String, Option<String>) {
    let action = operation.action.replace(['"', '\\'], "");
    match operation.version {
        SoapVersion::V11 => (
            "text/xml; charset=utf-8".to_owned(),
            Some(format!("\"{action}\"")),
        ),
        SoapVersion::V12 if action.is_empty() => {
            ("application/soap+xml; charset=utf-8".to_owned(), None)
        }
        SoapVersion::V12 => (
            format!("application/soap+xml; charset=utf-8; action=\"{action}\""),
            None,
        ),
    }
}

fn input_holds_any(plan: &Plan, headers: &[Member], input: &Message) -> bool {
    headers
        .iter()
        .map(|h| h.type_id)
        .chain([input.type_id])
        .any(|id| plan.holds_any(id))
}
