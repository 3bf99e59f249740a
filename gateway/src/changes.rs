//! Changes of messages that go through: fields, queries, statuses, and JSON in place.
//!
//! All of it lies aside of operations that change nothing.

use bytes::Bytes;
use http::{HeaderMap, HeaderName, HeaderValue, Response, StatusCode, header};
use porch_facade::{
    BodyChanges, Changes, CompiledBackend, FieldAction, FieldChange, RulePlace, percent_decode,
    percent_encode_segment,
};
use porch_rules::expr::{EvalError, Template};
use porch_rules::patch::Values;
use porch_rules::substitute::Substitution;
use serde_json::Value;

use crate::body::{OutBody, ReplyBody};
use crate::budget::Share;
use crate::call::http::{add_credentials, without_pairs};
use crate::failure::Failure;
use crate::outgoing::{Fields, Outgoing};
use crate::scope::{AnswerView, Scope, Within};
use crate::stage::is_session;
use crate::steps::refused::holds;

/// A change that could not be made.
pub(crate) struct Unmade<'c> {
    pub(crate) place: &'c RulePlace,
    pub(crate) source: String,
    pub(crate) why: String,
}

type Made<'c> = Result<(), Unmade<'c>>;

fn unmade(place: &RulePlace, (source, error): (String, EvalError)) -> Unmade<'_> {
    Unmade {
        place,
        source,
        why: error.to_string(),
    }
}

/// What was changed, where somebody looks.
pub(crate) struct Notes {
    all: Vec<String>,
    wanted: bool,
}

impl Notes {
    pub(crate) fn new(wanted: bool) -> Self {
        Self {
            all: Vec::new(),
            wanted,
        }
    }

    fn of(&mut self, place: &RulePlace) {
        if !self.wanted {
            return;
        }
        let RulePlace {
            rule,
            reach,
            file,
            line,
        } = place;
        self.all.push(format!("{rule} ({reach}, {file}:{line})"));
    }

    pub(crate) fn into_list(self) -> Vec<String> {
        self.all
    }
}

/// Whether a change is made.
fn is_made<'c>(change: &'c FieldChange, scope: &Scope<'_>) -> Result<bool, Unmade<'c>> {
    match &change.when {
        None => Ok(true),
        Some(when) => holds(when, scope).map_err(|e| unmade(&change.place, e)),
    }
}

fn text_of<'c>(
    change: &'c FieldChange,
    template: &Template,
    scope: &Scope<'_>,
) -> Result<Option<String>, Unmade<'c>> {
    let made = template.render_text(scope);
    made.map_err(|e| unmade(&change.place, e))
}

fn header_value<'c>(
    change: &'c FieldChange,
    template: &Template,
    scope: &Scope<'_>,
) -> Result<Option<HeaderValue>, Unmade<'c>> {
    let Some(text) = text_of(change, template, scope)? else {
        return Ok(None);
    };
    let value = HeaderValue::from_str(&text).map_err(|_| {
        let why = EvalError::Type("the text cannot stand in a header".into());
        unmade(&change.place, (source(template), why))
    })?;
    Ok(Some(value))
}

fn source(template: &Template) -> String {
    match template {
        Template::Expr(expr) => expr.source().to_owned(),
        _ => String::new(),
    }
}

/// Changes header fields.
pub(crate) fn fields<'c>(
    map: &mut HeaderMap,
    changes: &'c [FieldChange],
    scope: &Scope<'_>,
    notes: &mut Notes,
) -> Made<'c> {
    made_fields(map, changes, scope, true, notes)
}

fn made_fields<'c>(
    map: &mut HeaderMap,
    changes: &'c [FieldChange],
    scope: &Scope<'_>,
    success: bool,
    notes: &mut Notes,
) -> Made<'c> {
    for change in changes {
        if (change.of_success && !success) || !is_made(change, scope)? {
            continue;
        }
        let Ok(name) = change.name.parse::<HeaderName>() else {
            // All that begin so have names, and that need not be one.
            remove_all(map, change, notes);
            continue;
        };
        let acted = match &change.action {
            FieldAction::Set(template) => match header_value(change, template, scope)? {
                Some(value) => map.try_insert(name, value).is_ok(),
                None => map.remove(name).is_some(),
            },
            FieldAction::Add(template) => match header_value(change, template, scope)? {
                Some(value) => map.try_append(name, value).is_ok(),
                None => false,
            },
            FieldAction::Remove => map.remove(name).is_some(),
            FieldAction::RemoveAll => {
                remove_all(map, change, notes);
                continue;
            }
            FieldAction::Rename(to) => put(map, &name, to, true),
            FieldAction::Copy(to) => put(map, &name, to, false),
            FieldAction::Substitute(of) => substituted(map, &name, (change, of))?,
        };
        if acted {
            notes.of(&change.place);
        }
    }
    Ok(())
}

fn remove_all(map: &mut HeaderMap, change: &FieldChange, notes: &mut Notes) {
    let all = map.keys().filter(|n| n.as_str().starts_with(&change.name));
    let all: Vec<HeaderName> = all.cloned().collect();
    if !all.is_empty() {
        notes.of(&change.place);
    }
    for name in all {
        map.remove(name);
    }
}

/// Replaces what a pattern finds in the values of a field.
fn substituted<'c>(
    map: &mut HeaderMap,
    name: &HeaderName,
    (change, of): (&'c FieldChange, &Substitution),
) -> Result<bool, Unmade<'c>> {
    let mut acted = false;
    for value in map.get_all(name).iter().cloned().collect::<Vec<_>>() {
        let Ok(text) = value.to_str() else { continue };
        let made = of.apply(text).map_err(|why| not_substituted(change, why))?;
        let Some(made) = made else { continue };
        let made = HeaderValue::from_str(&made);
        let told = "the text cannot stand in a header".to_owned();
        let made = made.map_err(|_| not_substituted(change, told))?;
        if let http::header::Entry::Occupied(mut all) = map.entry(name.clone()) {
            let of_it = all.iter_mut().find(|v| **v == value);
            of_it.into_iter().for_each(|v| *v = made.clone());
            acted = true;
        }
    }
    Ok(acted)
}

fn not_substituted(change: &FieldChange, why: String) -> Unmade<'_> {
    Unmade {
        place: &change.place,
        source: String::new(),
        why,
    }
}

/// Gives the values of one field to another, in place of what that has.
fn put(map: &mut HeaderMap, from: &HeaderName, to: &str, takes: bool) -> bool {
    let Ok(to) = to.parse::<HeaderName>() else {
        return false;
    };
    let values: Vec<HeaderValue> = map.get_all(from).iter().cloned().collect();
    if values.is_empty() || *from == to {
        return false;
    }
    if takes {
        map.remove(from);
    }
    map.remove(&to);
    for value in values {
        let _ = map.try_append(to.clone(), value);
    }
    true
}

/// A pair of a query: its name, and all of it as it is written.
struct Pair {
    name: String,
    written: String,
}

impl Pair {
    fn read(written: &str) -> Self {
        let name = written.split('=').next().unwrap_or_default();
        let decoded = percent_decode(name, true);
        Self {
            name: decoded.map_or_else(|| name.to_owned(), |n| n.into_owned()),
            written: written.to_owned(),
        }
    }

    fn new(name: &str, value: &str) -> Self {
        let mut written = String::new();
        percent_encode_segment(&mut written, name);
        written.push('=');
        percent_encode_segment(&mut written, value);
        let name = name.to_owned();
        Self { name, written }
    }

    fn value(&self) -> String {
        let value = self.written.split_once('=').map_or("", |(_, v)| v);
        let decoded = percent_decode(value, true);
        decoded.map_or_else(|| value.to_owned(), |v| v.into_owned())
    }

    fn called(&self, name: &str) -> Self {
        let mut written = String::new();
        percent_encode_segment(&mut written, name);
        if let Some((_, value)) = self.written.split_once('=') {
            written.push('=');
            written.push_str(value);
        }
        let name = name.to_owned();
        Self { name, written }
    }
}

/// Changes query parameters; the others stay as they were written.
fn query<'c>(
    text: &str,
    changes: &'c [FieldChange],
    scope: &Scope<'_>,
    notes: &mut Notes,
) -> Result<String, Unmade<'c>> {
    let pairs = text.split('&').filter(|p| !p.is_empty());
    let mut pairs: Vec<Pair> = pairs.map(Pair::read).collect();
    for change in changes {
        if !is_made(change, scope)? {
            continue;
        }
        let is_it = |pair: &Pair| match change.action {
            FieldAction::RemoveAll => pair.name.starts_with(&change.name),
            _ => pair.name == change.name,
        };
        let there = pairs.iter().any(is_it);
        match &change.action {
            FieldAction::Set(template) => {
                let value = text_of(change, template, scope)?;
                pairs.retain(|p| !is_it(p));
                pairs.extend(value.map(|v| Pair::new(&change.name, &v)));
            }
            FieldAction::Add(template) => {
                let value = text_of(change, template, scope)?;
                pairs.extend(value.map(|v| Pair::new(&change.name, &v)));
            }
            _ if !there => continue,
            FieldAction::Remove | FieldAction::RemoveAll => pairs.retain(|p| !is_it(p)),
            FieldAction::Substitute(of) => {
                for pair in pairs.iter_mut().filter(|p| is_it(p)) {
                    let made = of.apply(&pair.value());
                    let made = made.map_err(|why| not_substituted(change, why))?;
                    if let Some(made) = made {
                        *pair = Pair::new(&pair.name, &made);
                    }
                }
            }
            FieldAction::Rename(to) | FieldAction::Copy(to) => {
                let takes = matches!(change.action, FieldAction::Rename(_));
                let own = pairs.iter().filter(|p| is_it(p)).map(|p| p.called(to));
                let own: Vec<Pair> = own.collect();
                pairs.retain(|p| p.name != *to && !(takes && is_it(p)));
                pairs.extend(own);
            }
        }
        notes.of(&change.place);
    }
    let written: Vec<&str> = pairs.iter().map(|p| p.written.as_str()).collect();
    Ok(written.join("&"))
}

/// Makes links of backends links of the facade.
pub(crate) type Links<'l> = &'l dyn Fn(&str) -> Result<Option<String>, String>;

/// Gives structures of changes their values.
struct OfScope<'s>(&'s Scope<'s>, Option<Links<'s>>);

impl Values for OfScope<'_> {
    fn value(
        &self,
        template: &Template,
        item: Option<&Value>,
    ) -> Result<Option<Value>, (String, EvalError)> {
        match item {
            None => template.render(self.0),
            Some(_) => {
                let within = Within {
                    around: self.0,
                    item,
                    answer: None,
                };
                template.render(&Scope::inside(&within))
            }
        }
    }

    fn link(&self, link: &str) -> Result<Option<String>, String> {
        self.1.map_or(Ok(None), |links| links(link))
    }
}

/// Changes JSON in place.
pub(crate) fn json<'c>(
    bytes: &Bytes,
    all: &'c [BodyChanges],
    (scope, links): (&Scope<'_>, Option<Links<'_>>),
    share: &Share<'_>,
    notes: &mut Notes,
) -> Result<Result<Bytes, Unmade<'c>>, Failure> {
    if let Some(changed) = swift(bytes, all, scope) {
        all.iter().for_each(|c| notes.of(&c.place));
        return Ok(Ok(changed));
    }
    share.read(bytes)?;
    let value = serde_json::from_slice(bytes);
    let mut value: Value =
        value.map_err(|e| Failure::Answer(format!("its body is no JSON: {e}")))?;
    for changes in all {
        match changes.patch.apply(value, &OfScope(scope, links)) {
            Ok(changed) => value = changed,
            Err(e) => {
                return Ok(Err(Unmade {
                    place: &changes.place,
                    source: String::new(),
                    why: e.to_string(),
                }));
            }
        }
        notes.of(&changes.place);
    }
    Ok(Ok(value.to_string().into()))
}

/// The same over bytes, where that is sure.
fn swift(bytes: &Bytes, all: &[BodyChanges], scope: &Scope<'_>) -> Option<Bytes> {
    let values = OfScope(scope, None);
    let mut changes = all.iter();
    let first = changes.next()?.patch.swift(bytes, &values)?;
    let all = changes.try_fold(first, |made, c| c.patch.swift(&made, &values));
    all.map(Bytes::from)
}

/// Changes a request on its way to the backend.
#[cold]
pub(crate) fn request<'c>(
    made: &mut Outgoing,
    changes: &'c Changes,
    (scope, backend): (&Scope<'_>, &CompiledBackend),
    share: &Share<'_>,
    notes: &mut Notes,
) -> Result<Made<'c>, Failure> {
    if !changes.query.is_empty()
        && let Err(unmade) = change_query(made, changes, (scope, backend), notes)?
    {
        return Ok(Err(unmade));
    }
    if !changes.request.is_empty() {
        let mut map = std::mem::take(&mut made.fields).into_map();
        if let Err(unmade) = fields(&mut map, &changes.request, scope, notes) {
            return Ok(Err(unmade));
        }
        made.fields = Fields::of_map(&map);
    }
    if let (OutBody::Full(Some(bytes)), false) = (&made.body, changes.request_body.is_empty()) {
        let changed = match json(bytes, &changes.request_body, (scope, None), share, notes) {
            Ok(Ok(changed)) => changed,
            Ok(Err(unmade)) => return Ok(Err(unmade)),
            Err(Failure::Answer(why)) => return Err(Failure::body(why)),
            Err(other) => return Err(other),
        };
        made.body = OutBody::Full(Some(changed));
        for name in [header::CONTENT_LENGTH, header::CONTENT_ENCODING] {
            made.fields.remove(&name);
        }
    }
    Ok(Ok(()))
}

/// Changes the query but for the backend's credentials: no change sees them, or puts anything in their place.
fn change_query<'c>(
    made: &mut Outgoing,
    changes: &'c Changes,
    (scope, backend): (&Scope<'_>, &CompiledBackend),
    notes: &mut Notes,
) -> Result<Made<'c>, Failure> {
    let target = made.uri.path_and_query();
    let mut target = target
        .map_or("/", http::uri::PathAndQuery::as_str)
        .to_owned();
    let credentials = &backend.credentials.query;
    without_pairs(&mut target, credentials);
    let (path, text) = target.split_once('?').unwrap_or((&target, ""));
    let changed = match query(text, &changes.query, scope, notes) {
        Ok(changed) => changed,
        Err(unmade) => return Ok(Err(unmade)),
    };
    let mut target = match changed.is_empty() {
        true => path.to_owned(),
        false => format!("{path}?{changed}"),
    };
    if !credentials.is_empty() {
        add_credentials(&mut target, credentials);
    }
    made.uri = target.parse().map_err(|_| Failure::Target(target))?;
    Ok(Ok(()))
}

/// Changes status and fields of a reply.
#[cold]
pub(crate) fn reply<'c>(
    response: &mut Response<ReplyBody>,
    changes: &'c Changes,
    scope: &Scope<'_>,
    notes: &mut Notes,
) -> Made<'c> {
    let body = scope.answers.first().and_then(|a| a.get());
    let success = response.status().is_success() && body.is_none_or(AnswerView::has_body);
    let status = response.status().as_u16();
    let is_of = |(first, last): (u16, u16)| (first..=last).contains(&status);
    // The last that fits is the narrowest reach.
    let changed = changes.status.iter().rev().find(|c| is_of(c.of));
    // What has no body stays what it is (RFC 9110 §15.3.5, §15.4.5).
    if let (Some(change), false) = (changed, [204, 205, 304].contains(&status))
        && let Ok(to) = StatusCode::from_u16(change.to)
    {
        *response.status_mut() = to;
        notes.of(&change.place);
    }
    let fields = response.headers_mut();
    made_fields(fields, &changes.reply, scope, success, notes)?;
    without_sessions(response.headers_mut());
    Ok(())
}

/// No facade may set the console's own cookie.
fn without_sessions(headers: &mut HeaderMap) {
    let is_own = |v: &HeaderValue| v.to_str().is_ok_and(is_session);
    if !headers.get_all(header::SET_COOKIE).iter().any(is_own) {
        return;
    }
    let all: Vec<HeaderValue> = headers
        .get_all(header::SET_COOKIE)
        .iter()
        .filter(|v| !is_own(v))
        .cloned()
        .collect();
    headers.remove(header::SET_COOKIE);
    for cookie in all {
        headers.append(header::SET_COOKIE, cookie);
    }
}
