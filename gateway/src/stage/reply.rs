//! Reply: what is made of the answers.

use bytes::Bytes;
use http::{HeaderMap, HeaderName, HeaderValue, Response, StatusCode, Version, header};
use porch_facade::{Changes, CompiledBackend, CompiledOperation, Example, MediaType};
use porch_rules::expr::Template;
use serde_json::Value;

use super::back::{Below, pass_on};
use crate::answer::{Answer, Content, Passed, Passing, Whole, json_of};
use crate::body::ReplyBody;
use crate::budget::Share;
use crate::changes::{self, Notes, Unmade};
use crate::exchange::state::Exchange;
use crate::failure::Failure;
use crate::fields::{ANSWERED_BY, via};
use crate::media;
use crate::problem::{Problem, bad_answer, of_failure};
use crate::scope::{AnswerView, Scope};
use crate::steps::refused;
use crate::steps::request::{Outcome, Request};
use crate::trace::StageName;

/// Links of one reply are led elsewhere so often at most: for each it is looked what the facade has.
const MOST_LINKS: usize = 1_000;

/// The reply of an exchange.
pub(crate) fn reply(
    x: &Exchange<'_>,
    request: &Request<'_>,
    mut outcome: Outcome<'_>,
    scope: &mut Scope<'_>,
) -> Result<Response<ReplyBody>, Box<Problem>> {
    let from = x.recorder.borrow().begin();
    if let (Outcome::One(answer, ..), false) = (&mut outcome, request.operation.refusals.is_empty())
    {
        refused::by_answer(x, request, answer, scope)?;
    }
    let changes = request.operation.changes.as_deref();
    let changes = changes.filter(|_| !request.native);
    if let (Outcome::One(answer, ..), Some(changes)) = (&outcome, changes) {
        let failed = |f| of_failure(f, request.operation, None, StageName::Reply);
        let view = refused::seen(answer, changes.looks_into, &x.share).map_err(failed)?;
        scope.answers = vec![view.into()];
    }
    let is_example = matches!(outcome, Outcome::Example(..));
    let made = made(x, request, outcome, scope, from);
    match changes.filter(|_| !is_example) {
        None => made,
        Some(changes) => changed(x, request, changes, made?, scope),
    }
}

/// A reply with what the documents change of its status and fields.
#[cold]
fn changed(
    x: &Exchange<'_>,
    request: &Request<'_>,
    changes: &Changes,
    mut response: Response<ReplyBody>,
    scope: &Scope<'_>,
) -> Result<Response<ReplyBody>, Box<Problem>> {
    let mut notes = Notes::new(x.recorder.borrow().full);
    changes::reply(&mut response, changes, scope, &mut notes)
        .map_err(|unmade| not_made(request, unmade))?;
    note(x, notes);
    Ok(response)
}

/// The problem of a change that could not be made.
fn not_made(request: &Request<'_>, unmade: Unmade<'_>) -> Box<Problem> {
    let source = match unmade.source.as_str() {
        "" => String::new(),
        source => format!("={source}: "),
    };
    let why = format!("{}: {source}{}", unmade.place.rule, unmade.why);
    let failure = Failure::Answer(why);
    of_failure(failure, request.operation, None, StageName::Reply).of_rule(unmade.place)
}

/// Says in the trace what was changed.
fn note(x: &Exchange<'_>, notes: Notes) {
    let mut recorder = x.recorder.borrow_mut();
    if let Some(last) = recorder.stages.last_mut()
        && last.name == StageName::Reply
    {
        last.notes.extend(notes.into_list());
    }
}

fn made(
    x: &Exchange<'_>,
    request: &Request<'_>,
    outcome: Outcome<'_>,
    scope: &mut Scope<'_>,
    from: std::time::Instant,
) -> Result<Response<ReplyBody>, Box<Problem>> {
    let (answer, backend, notes) = match outcome {
        Outcome::One(Answer::Through(passing), backend, notes) => {
            return Ok(pass(x, request, passing, backend, notes));
        }
        Outcome::One(Answer::Whole(whole), backend, notes) => (Some(*whole), Some(backend), notes),
        Outcome::Example(example, body) => return Ok(example_reply(x, request, example, body)),
        Outcome::Many => (None, None, Vec::new()),
    };
    let made = make(x, request, answer, backend, scope);
    x.recorder.borrow_mut().stage(StageName::Reply, from, |s| {
        s.notes = notes;
        if let Err(problem) = &made {
            s.notes.push(problem.refusal.why.clone());
        }
        if let Some(backend) = backend {
            s.mask(&backend.credentials.mask);
        }
    });
    made
}

/// An example of the contract: a field says that it is one, and so does the trace.
#[cold]
#[inline(never)]
fn example_reply(
    x: &Exchange<'_>,
    request: &Request<'_>,
    example: &Example,
    body: Bytes,
) -> Response<ReplyBody> {
    let from = x.recorder.borrow().begin();
    let has_body = !body.is_empty();
    let mut response = Response::new(ReplyBody::Full(has_body.then_some(body)));
    *response.status_mut() = example.status;
    let headers = response.headers_mut();
    for (name, value) in example.fields.iter() {
        headers.append(name, value.clone());
    }
    if let Some(media) = &example.media {
        headers.insert(header::CONTENT_TYPE, media.clone());
    }
    headers.append(header::VARY, HeaderValue::from_static("accept"));
    headers.insert(ANSWERED_BY, example_field(example));
    x.recorder.borrow_mut().stage(StageName::Reply, from, |s| {
        let id = &request.operation.id;
        let what = match (&example.name, example.made) {
            (_, true) => "an answer made of the contract's schema".to_owned(),
            (Some(name), _) => format!("the contract's example “{name}”"),
            (None, _) => "the contract's example".to_owned(),
        };
        s.notes
            .push(format!("“{id}” calls nothing: {what} is answered"));
    });
    response
}

/// What the reply says of an example: a token, with the example's name where a string can hold it (RFC 9651 §3.3).
fn example_field(example: &Example) -> HeaderValue {
    static MADE: HeaderValue = HeaderValue::from_static("contract;made");
    static ONE: HeaderValue = HeaderValue::from_static("contract");
    if example.made {
        return MADE.clone();
    }
    let Some(name) = &example.name else {
        return ONE.clone();
    };
    let escaped = name.replace('\\', "\\\\").replace('"', "\\\"");
    let printable = name.bytes().all(|b| (0x20..0x7f).contains(&b));
    let told = printable.then(|| HeaderValue::from_str(&format!("contract;example=\"{escaped}\"")));
    told.and_then(Result::ok).unwrap_or_else(|| ONE.clone())
}

/// An answer that goes to the caller as it comes.
fn pass(
    x: &Exchange<'_>,
    request: &Request<'_>,
    passing: Passing,
    backend: &CompiledBackend,
    notes: Vec<String>,
) -> Response<ReplyBody> {
    let mut head = passing.head;
    if passing.of_backend {
        let via = via(head.version);
        pass_on(&mut head.headers, backend, &Below::of(x, request));
        head.headers.append(header::VIA, via);
        if let Some(chosen) = x.chosen {
            let accept = HeaderValue::from_static("accept");
            head.headers.append(header::VARY, accept);
            // What a converted reply's validator says, the answer that it is still good says too (RFC 9110 §15.4.5).
            let speaks_xml = backend.xml.is_some();
            if head.status == StatusCode::NOT_MODIFIED && speaks_xml != (chosen == MediaType::Xml) {
                weaken(&mut head.headers);
            }
        }
    }
    // Our own; that of the backend's connection is its business (RFC 9110 §2.5).
    head.version = Version::default();
    let mut recorder = x.recorder.borrow_mut();
    let from = recorder.begin();
    recorder.stage(StageName::Reply, from, |s| s.notes = notes);
    Response::from_parts(head, passing.body)
}

fn make(
    x: &Exchange<'_>,
    request: &Request<'_>,
    answer: Option<Whole>,
    backend: Option<&CompiledBackend>,
    scope: &mut Scope<'_>,
) -> Result<Response<ReplyBody>, Box<Problem>> {
    let op = request.operation;
    let failed = |failure| of_failure(failure, op, backend, StageName::Reply);
    let Some(mut whole) = answer else {
        let body = match &op.reply.body {
            Some(template) => render(template, scope).map_err(failed)?,
            None => Bytes::new(),
        };
        let body = in_place(x, request, body, scope)?;
        return Ok(own(x, op.reply.status, in_chosen_type(x, op, body)?));
    };
    let template = op.reply.body.as_ref();
    let template = template.filter(|_| whole.status.is_success());
    if let (None, Content::Raw(..)) = (template, &whole.body) {
        return Ok(raw(whole));
    }
    let status = whole.status;
    let bytes = match template {
        Some(template) => {
            let value = value_of(whole.body, &x.share).map_err(failed)?;
            let headers = &whole.fields;
            let soap_headers = whole.soap_headers.take();
            let view = AnswerView::new(status.as_u16(), headers.clone(), value, soap_headers);
            scope.answers = vec![view.into()];
            render(template, scope).map_err(failed)?
        }
        None => match whole.body {
            Content::Empty | Content::Raw(..) => Bytes::new(),
            Content::Json(json) => json,
            Content::Value(value) => value.to_string().into(),
        },
    };
    let bytes = match status.is_success() {
        true => in_place(x, request, bytes, scope)?,
        false => bytes,
    };
    let mut response = own(x, status, in_chosen_type(x, op, bytes)?);
    match whole.passed {
        Passed::None => {}
        Passed::All if template.is_some() => {}
        Passed::All => {
            let mut fields = whole.fields;
            if let Some(backend) = backend {
                pass_on(&mut fields, backend, &Below::of(x, request));
            }
            converted(&mut fields, response.headers());
            *response.headers_mut() = fields;
        }
        Passed::These(fields) => {
            for (name, value) in fields {
                response.headers_mut().append(name, value);
            }
        }
    }
    Ok(response)
}

/// A reply's JSON with what the documents change in it.
fn in_place(
    x: &Exchange<'_>,
    request: &Request<'_>,
    bytes: Bytes,
    scope: &Scope<'_>,
) -> Result<Bytes, Box<Problem>> {
    let op = request.operation;
    let changes = op.changes.as_ref().filter(|_| !request.native);
    let Some(changes) = changes.filter(|c| !c.reply_body.is_empty() && !bytes.is_empty()) else {
        return Ok(bytes);
    };
    let from = x.recorder.borrow().begin();
    let mut notes = Notes::new(x.recorder.borrow().full);
    let below = Below::of(x, request);
    let led = std::cell::Cell::new(0);
    let links = |link: &str| {
        led.set(led.get() + 1);
        if led.get() > MOST_LINKS {
            return Err(format!("it has more than {MOST_LINKS} links"));
        }
        let mut backends = op.backends(request.facade);
        Ok(backends.find_map(|backend| below.link(link, backend)))
    };
    let within = (scope, Some(&links as changes::Links<'_>));
    let changed = changes::json(&bytes, &changes.reply_body, within, &x.share, &mut notes)
        .map_err(|f| of_failure(f, op, None, StageName::Reply))?;
    let changed = changed.map_err(|unmade| not_made(request, unmade))?;
    let mut recorder = x.recorder.borrow_mut();
    recorder.stage(StageName::Reply, from, |s| s.notes = notes.into_list());
    drop(recorder);
    Ok(changed)
}

fn value_of(content: Content, share: &Share<'_>) -> Result<Value, Failure> {
    match content {
        Content::Empty => Ok(Value::Null),
        Content::Json(json) => json_of(&json, share),
        Content::Value(value) => Ok(value),
        Content::Raw(kind, _) => Err(Failure::Answer(format!(
            "an expression cannot look into {kind}"
        ))),
    }
}

fn render(template: &Template, scope: &Scope<'_>) -> Result<Bytes, Failure> {
    match template.render(scope) {
        Ok(None) => Ok(Bytes::new()),
        // Not by its `Display`, which goes through a formatter.
        Ok(Some(value)) => match serde_json::to_vec(&value) {
            Ok(bytes) => Ok(bytes.into()),
            Err(e) => Err(Failure::Answer(e.to_string())),
        },
        Err((source, error)) => Err(Failure::Answer(format!(
            "the reply cannot be built: ={source}: {error}"
        ))),
    }
}

/// Bytes of some media type, as they are.
fn raw(whole: Whole) -> Response<ReplyBody> {
    let (kind, data) = match whole.body {
        Content::Raw(kind, data) => (kind, data),
        _ => (String::new(), Bytes::new()),
    };
    let mut response = Response::new(ReplyBody::Full(Some(data)));
    if let Ok(kind) = HeaderValue::from_str(&kind) {
        response.headers_mut().insert(header::CONTENT_TYPE, kind);
    }
    if let Passed::These(fields) = whole.passed {
        for (name, value) in fields {
            response.headers_mut().append(name, value);
        }
    }
    response
}

/// A reply's JSON in the media type that the caller gets.
fn in_chosen_type(
    x: &Exchange<'_>,
    op: &CompiledOperation,
    json: Bytes,
) -> Result<Bytes, Box<Problem>> {
    let (Some(MediaType::Xml), Some(offer)) = (x.chosen, &op.admission.media) else {
        return Ok(json);
    };
    if json.is_empty() {
        return Ok(json);
    }
    let room = x.share.read(&json);
    room.map_err(|e| of_failure(e.into(), op, None, StageName::Reply))?;
    let bad = |why| bad_answer(op, why);
    let value =
        serde_json::from_slice(&json).map_err(|e| bad(format!("its body is no JSON: {e}")))?;
    media::render(MediaType::Xml, &value, &offer.mapping)
        .map(Bytes::from)
        .map_err(|errors| {
            let list: Vec<String> = errors
                .iter()
                .map(|e| format!("{} {}", e.pointer, e.message))
                .collect();
            bad(format!("it cannot be written as XML: {}", list.join("; ")))
        })
}

/// A reply that was made here; where there is a choice of media types, caches must know.
fn own(x: &Exchange<'_>, status: StatusCode, body: Bytes) -> Response<ReplyBody> {
    let has_body = !body.is_empty();
    let mut response = Response::new(ReplyBody::Full(has_body.then_some(body)));
    *response.status_mut() = status;
    let headers = response.headers_mut();
    if has_body {
        let kind = media::name(x.chosen.unwrap_or(MediaType::Json));
        headers.insert(header::CONTENT_TYPE, HeaderValue::from_static(kind));
    }
    if x.chosen.is_some() {
        headers.insert(header::VARY, HeaderValue::from_static("accept"));
    }
    response
}

/// Fields that describe bytes which are no longer the same.
const OF_OLD_BYTES: [HeaderName; 5] = [
    header::CONTENT_LENGTH,
    header::CONTENT_ENCODING,
    header::ACCEPT_RANGES,
    HeaderName::from_static("content-digest"),
    HeaderName::from_static("repr-digest"),
];

/// Other bytes of the same meaning: the validator is weak now (RFC 9110 §8.8.1).
pub(super) fn weaken(headers: &mut HeaderMap) {
    if let Some(tag) = headers
        .get(header::ETAG)
        .and_then(|v| v.to_str().ok())
        .filter(|t| t.starts_with('"'))
        && let Ok(weak) = HeaderValue::from_str(&format!("W/{tag}"))
    {
        headers.insert(header::ETAG, weak);
    }
}

/// The header fields of an answer whose body was converted: what described the old bytes is gone or weakened.
fn converted(headers: &mut HeaderMap, new: &HeaderMap) {
    for name in &OF_OLD_BYTES {
        headers.remove(name);
    }
    weaken(headers);
    for (name, value) in new {
        if name == header::VARY && headers.contains_key(header::VARY) {
            headers.append(name, value.clone());
        } else {
            headers.insert(name, value.clone());
        }
    }
}
