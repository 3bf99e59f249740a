//! SOAP faults as callers are told of them.

use http::HeaderMap;
use porch_soap::Fault;
use serde_json::{Value, json};

use crate::call::Context;
use crate::failure::{Failure, Told};
use crate::language;

/// A fault: a declared status, else 400 for the caller's faults and 502 for the server's.
pub(super) fn told(cx: &Context<'_>, fault: &Fault, detail: &[u8]) -> Failure {
    let names = [
        fault.detail.as_deref().unwrap_or_default(),
        &fault.subcode,
        &fault.code,
    ];
    let mapped = names
        .iter()
        .filter(|n| !n.is_empty())
        .find_map(|n| cx.faults.get(*n).copied());
    let status = mapped.unwrap_or(if fault.is_callers() { 400 } else { 502 });
    let name = fault.detail.clone().unwrap_or_else(|| fault.code.clone());
    // The reason of an undeclared fault of the server may tell of its inside.
    let open = mapped.is_some() || fault.detail.is_some() || fault.is_callers();
    let reason = reason(fault, &cx.parts.headers);
    let text = if open && !reason.is_empty() {
        reason.to_owned()
    } else {
        "The backend reports a fault.".into()
    };
    let title = if status >= 500 {
        "The backend reports a fault"
    } else {
        "The backend refuses the request"
    };
    Failure::Told(Box::new(Told {
        status,
        kind: "fault",
        title,
        text,
        why: format!(
            "the backend answered with the fault {} {name}: {}",
            fault.code, fault.reason
        ),
        members: vec![("fault", member(fault, &name, detail, open))],
        fields: Vec::new(),
    }))
}

fn member(fault: &Fault, name: &str, detail: &[u8], open: bool) -> Value {
    let mut member = json!({ "name": name, "code": fault.code });
    if !fault.subcode.is_empty() {
        member["subcode"] = json!(fault.subcode);
    }
    if !open {
        return member;
    }
    if !fault.actor.is_empty() {
        member["actor"] = json!(fault.actor);
    }
    if !fault.reasons.is_empty() {
        member["reasons"] = fault
            .reasons
            .iter()
            .map(|(language, text)| json!({ "language": language, "text": text }))
            .collect();
    }
    if let Ok(value) = serde_json::from_slice::<Value>(detail) {
        member["detail"] = value;
    }
    member
}

/// The fault's text in the language that the caller likes best (RFC 9110 §12.5.4), when there are several.
fn reason<'f>(fault: &'f Fault, asked: &HeaderMap) -> &'f str {
    let ranges = language::ranges(asked);
    language::choose(&ranges, &fault.reasons, |(language, _)| language)
        .map_or(&fault.reason, |(_, text)| text)
}
