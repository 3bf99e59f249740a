//! The request of an HTTP call.

use std::borrow::Cow;

use bytes::Bytes;
use http::{HeaderValue, Uri, header};
use porch_contract::Place;
use porch_facade::kind::http::{HeaderRule, HttpCall, PathPart};
use porch_facade::{percent_decode, percent_encode_segment};
use porch_rules::expr::EvalError;
use serde_json::Value;

use super::speaks;
use crate::body::OutBody;
use crate::call::Context;
use crate::failure::Failure;
use crate::fields::forwarded_fields;
use crate::media;
use crate::outgoing::{Fields, Outgoing};

/// The request, without the caller's own body.
pub(super) fn request(
    call: &HttpCall,
    cx: &Context<'_>,
    convert: bool,
) -> Result<Outgoing, Failure> {
    let mut target = target(call, cx)?;
    if !cx.backend.credentials.query.is_empty() {
        add_credentials(&mut target, &cx.backend.credentials.query);
    }
    let mut headers = headers(call, cx)?;
    let built = match &call.body {
        Some(template) => {
            let value = template
                .render(cx.scope)
                .map_err(|e| Failure::unsuitable("the body", e))?;
            Some(value)
        }
        None if convert => cx.scope.body.clone().map(Some),
        None => None,
    };
    let mut body = OutBody::Empty;
    if let Some(value) = built {
        headers.remove(&header::CONTENT_LENGTH);
        headers.remove(&header::CONTENT_ENCODING);
        if let Some(value) = value {
            body = match call.is_form {
                true => form(&value, &mut headers)?,
                false => own_body(cx, &value, &mut headers)?,
            };
        }
    }
    let offers = cx.operation.admission.media.is_some();
    if offers {
        let accept = HeaderValue::from_static(media::name(speaks(cx)));
        headers.set(&header::ACCEPT, accept);
    }
    if cx.whole || offers || cx.operation.answers.is_some() {
        // The answer must be readable here; without the field any coding would do (RFC 9110 §12.5.3).
        headers.set(
            &header::ACCEPT_ENCODING,
            HeaderValue::from_static("identity"),
        );
    }
    if cx.whole {
        // A part of an answer cannot be looked into (RFC 9110 §14.2: a range may be ignored).
        headers.remove(&header::RANGE);
        headers.remove(&header::IF_RANGE);
    }
    // The text becomes the target as it is, without a copy: it is no longer than its room.
    let uri = match Uri::from_maybe_shared(Bytes::from(target)) {
        Ok(uri) => uri,
        Err(_) => return Err(Failure::Target(self::target(call, cx)?)),
    };
    let method = call.method.as_ref().unwrap_or(&cx.parts.method);
    Ok(Outgoing {
        method: method.clone(),
        uri,
        fields: headers,
        body,
    })
}

fn target(call: &HttpCall, cx: &Context<'_>) -> Result<String, Failure> {
    let mut target = String::with_capacity(room(call, cx));
    target.push_str(&cx.address.path);
    for part in &call.path {
        match part {
            PathPart::Fixed(text) => target.push_str(text),
            // Captured segments are normalised already, so they are passed on as they stand.
            PathPart::Captured(i) | PathPart::CapturedRest(i) => {
                match cx.captured.get(*i) {
                    Some(segments) => target.push_str(segments),
                    // None of several: the slash before them is none either.
                    None if target.ends_with('/') => drop(target.pop()),
                    None => {}
                }
            }
            PathPart::Value(expr) => {
                let failed = |e| Failure::unsuitable("the path", (expr.source().to_owned(), e));
                let value = expr.eval(cx.scope).map_err(failed)?;
                let Some(text) = value.to_text() else {
                    let why = format!("a path segment cannot be {}", value.kind());
                    return Err(failed(EvalError::Type(why)));
                };
                // A backend that decodes slashes finds no way up in it, either.
                let leads_up = |s: &str| s == "." || s == "..";
                if text.is_empty() || text.split(['/', '\\']).any(leads_up) {
                    let why = "a path segment is neither empty nor made of dots";
                    return Err(failed(EvalError::Type(why.into())));
                }
                percent_encode_segment(&mut target, &text);
            }
        }
    }
    if target.is_empty() {
        target.push('/');
    }
    query(call, cx, &mut target)?;
    Ok(target)
}

/// Length of a target that is put together from what is there already.
fn room(call: &HttpCall, cx: &Context<'_>) -> usize {
    let of = |part: &PathPart| match part {
        PathPart::Fixed(text) => text.len(),
        PathPart::Captured(i) | PathPart::CapturedRest(i) => {
            cx.captured.get(*i).map_or(0, |text| text.len())
        }
        PathPart::Value(_) => 32,
    };
    let query = cx.parts.uri.query().map_or(0, |query| query.len() + 1);
    let fixed = call.fixed_query.as_ref().map_or(0, |fixed| fixed.len() + 1);
    cx.address.path.len() + call.path.iter().map(of).sum::<usize>() + query + fixed
}

fn query(call: &HttpCall, cx: &Context<'_>, target: &mut String) -> Result<(), Failure> {
    let mut mark = '?';
    if let Some(fixed) = &call.fixed_query {
        target.push('?');
        target.push_str(fixed);
        mark = '&';
    }
    let Some(pairs) = &call.query else {
        if let Some(query) = cx
            .parts
            .uri
            .query()
            .filter(|q| mark == '?' || !q.is_empty())
        {
            if cx.operation.admission.drops_unknown_query {
                known_pairs(cx, query, mark, target);
            } else {
                target.push(mark);
                target.push_str(query);
            }
        }
        return Ok(());
    };
    for (name, template) in pairs {
        let text = template
            .render_text(cx.scope)
            .map_err(|e| Failure::unsuitable(name, e))?;
        let Some(text) = text else { continue };
        target.push(mark);
        mark = '&';
        percent_encode_segment(target, name);
        target.push('=');
        percent_encode_segment(target, &text);
    }
    Ok(())
}

/// Adds what the contract has of the caller's query, as the caller wrote it.
#[cold]
fn known_pairs(cx: &Context<'_>, query: &str, mut mark: char, target: &mut String) {
    let all = &cx.operation.admission.parameters;
    for pair in query.split('&').filter(|p| !p.is_empty()) {
        let name = pair.split('=').next().unwrap_or_default();
        let Some(name) = percent_decode(name, true) else {
            continue;
        };
        let mut known = all.iter().filter(|p| p.place == Place::Query);
        if known.any(|p| *p.name == *name || p.other.as_deref() == Some(&*name)) {
            target.push(mark);
            target.push_str(pair);
            mark = '&';
        }
    }
}

/// Adds the backend's credentials to a query, in place of whatever has the same names already.
#[cold]
pub(crate) fn add_credentials(target: &mut String, credentials: &[(String, String)]) {
    without_pairs(target, credentials);
    for (_, pair) in credentials {
        target.push(if target.contains('?') { '&' } else { '?' });
        target.push_str(pair);
    }
}

/// Takes the pairs with these names out of the query of a target.
pub(crate) fn without_pairs(target: &mut String, names: &[(String, String)]) {
    let Some((path, query)) = target.split_once('?') else {
        return;
    };
    let is_named = |pair: &&str| {
        let name = pair.split('=').next().unwrap_or_default();
        let name = percent_decode(name, true);
        !name.is_some_and(|name| names.iter().any(|(n, _)| *n == name))
    };
    let kept: Vec<&str> = query.split('&').filter(is_named).collect();
    let kept = kept.join("&");
    *target = match kept.is_empty() {
        true => path.to_owned(),
        false => format!("{path}?{kept}"),
    };
}

fn headers(call: &HttpCall, cx: &Context<'_>) -> Result<Fields, Failure> {
    // Four that every request has are among them.
    let room = call.headers.len() + cx.backend.credentials.headers.len() + 4;
    let mut headers = match call.own {
        false => forwarded_fields(&cx.parts.headers, (cx.facade, cx.operation), room),
        true => own_fields(cx, room),
    };
    if cx.unpacked {
        headers.remove(&header::CONTENT_ENCODING);
    }
    if cx.backend.credentials.callers_key {
        let own = &cx.operation.admission.credentials;
        let bearer = own.in_authorization.then_some(&header::AUTHORIZATION);
        let names = own.in_fields.iter().chain(bearer);
        for name in names.chain(own.in_fields.is_empty().then_some(&cx.facade.key_header)) {
            for value in cx.parts.headers.get_all(name) {
                headers.append(name.clone(), value.clone());
            }
        }
    }
    if let Some(fixed) = &call.fixed {
        headers.set_fixed(fixed);
    }
    for (name, rule) in &call.headers {
        let text = match rule {
            HeaderRule::Set(value) => {
                headers.set(name, value.clone());
                continue;
            }
            HeaderRule::Make(template) => template
                .render_text(cx.scope)
                .map_err(|e| Failure::unsuitable(name.as_str(), e))?,
        };
        match text.map(|t| HeaderValue::from_str(&t)) {
            Some(Ok(value)) => headers.set(name, value),
            Some(Err(_)) => {
                let why = EvalError::Type("the text cannot stand in a header".into());
                return Err(Failure::unsuitable(name.as_str(), (String::new(), why)));
            }
            None => headers.remove(name),
        }
    }
    Ok(headers)
}

/// The fields of a request that is not the caller's: what is wanted, and the languages that the caller asked for.
#[cold]
fn own_fields(cx: &Context<'_>, room: usize) -> Fields {
    let mut fields = Fields::with_capacity(room + 2);
    let accept = HeaderValue::from_static(media::name(speaks(cx)));
    fields.append(header::ACCEPT, accept);
    for languages in cx.parts.headers.get_all(header::ACCEPT_LANGUAGE) {
        fields.append(header::ACCEPT_LANGUAGE, languages.clone());
    }
    fields
}

/// An object's members as a form (WHATWG URL §5.2): a list's items stand below one name, and what is absent is left out.
fn form(value: &Value, headers: &mut Fields) -> Result<OutBody, Failure> {
    let wrong = |what: &str| {
        let why = EvalError::Type(what.into());
        Failure::unsuitable("the form", ("form".into(), why))
    };
    let members = value.as_object();
    let members = members.ok_or_else(|| wrong("only an object is a form"))?;
    let mut made = String::new();
    for (name, value) in members {
        let items = match value {
            Value::Array(items) => items.as_slice(),
            one => std::slice::from_ref(one),
        };
        for item in items {
            let text = match item {
                Value::Null => continue,
                Value::String(text) => Cow::Borrowed(text.as_str()),
                Value::Array(_) | Value::Object(_) => {
                    return Err(wrong(&format!("“{name}” has no plain text")));
                }
                other => Cow::Owned(other.to_string()),
            };
            if !made.is_empty() {
                made.push('&');
            }
            escape(&mut made, name);
            made.push('=');
            escape(&mut made, &text);
        }
    }
    let kind = HeaderValue::from_static("application/x-www-form-urlencoded");
    headers.set(&header::CONTENT_TYPE, kind);
    Ok(OutBody::Full(Some(made.into())))
}

/// A text in a form (WHATWG URL §1.3, the percent-encode set of forms).
fn escape(into: &mut String, text: &str) {
    for byte in text.bytes() {
        match byte {
            b' ' => into.push('+'),
            b if b.is_ascii_alphanumeric() || b"*-._".contains(&b) => into.push(b as char),
            b => {
                into.push('%');
                for digit in [b >> 4, b & 15] {
                    let digit = char::from_digit(digit.into(), 16).unwrap_or('0');
                    into.push(digit.to_ascii_uppercase());
                }
            }
        }
    }
}

/// A value as a body for the backend.
fn own_body(cx: &Context<'_>, value: &Value, headers: &mut Fields) -> Result<OutBody, Failure> {
    let kind = speaks(cx);
    let mapping = cx.backend.xml.clone().unwrap_or_default();
    let bytes = media::render(kind, value, &mapping).map_err(|errors| {
        let place = |e: porch_soap::WriteError| (format!("/body{}", e.pointer), e.message);
        Failure::Mistakes(errors.into_iter().map(place).collect())
    })?;
    let content_type = HeaderValue::from_static(media::name(kind));
    headers.set(&header::CONTENT_TYPE, content_type);
    Ok(OutBody::Full(Some(bytes.into())))
}
