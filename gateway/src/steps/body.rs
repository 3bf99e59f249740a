//! The caller's body, read as the calls need it.

use bytes::Bytes;
use http::header;
use http::request::Parts;
use porch_contract::FORM;
use porch_facade::{BodyPlan, BodyType, CompiledOperation, MediaType};
use porch_valid::Validator;
use serde_json::Value;

use super::form;
use crate::body::{InBody, ReadFailure};
use crate::call::{CallerBody, Context, Needs, coding};
use crate::exchange::state::Exchange;
use crate::failure::Failure;
use crate::media;
use crate::scope::Scope;
use crate::trace::{Message, StageName};

/// How a body is needed that two calls need; nothing streams to both.
pub(super) fn both(one: Needs, other: Needs) -> Needs {
    match (one, other) {
        (one, Needs::Nothing) => one,
        (Needs::Nothing, Needs::Stream) => Needs::Raw,
        (Needs::Nothing, one) => one,
        (Needs::Raw, Needs::Raw | Needs::Stream) => Needs::Raw,
        (Needs::Json { value: a }, Needs::Json { value: b }) => Needs::Json { value: a || b },
        (one, Needs::Raw | Needs::Stream) => one,
        _ => Needs::Value,
    }
}

/// How the body is needed where the contract says what it must be.
pub(super) fn demanded(
    op: &CompiledOperation,
    parts: &Parts,
    body: &InBody,
    needs: Needs,
) -> Result<Needs, Failure> {
    match &op.admission.body {
        Some(plan) => by_contract(op, plan, parts, body, needs),
        None => Ok(needs),
    }
}

#[cold]
fn by_contract(
    op: &CompiledOperation,
    plan: &BodyPlan,
    parts: &Parts,
    body: &InBody,
    needs: Needs,
) -> Result<Needs, Failure> {
    if body.length() == Some(0) {
        return match plan.required {
            true => Err(Failure::body("must be there")),
            false => Ok(needs),
        };
    }
    let essence = media::essence(&parts.headers);
    match known(&plan.types, &essence) {
        Known::Not if op.admission.media.is_none() => {
            let shown = match essence.is_empty() {
                true => "no media type".into(),
                false => essence,
            };
            let names = plan.types.iter().map(|t| t.name.clone());
            return Err(Failure::MediaType(names.collect(), shown));
        }
        // Where the facade says which types it takes, the call sees to it.
        Known::Not | Known::Passes => return Ok(needs),
        Known::Json(_) => {}
    }
    Ok(match needs {
        Needs::Value => Needs::Value,
        // Whether a value is needed to tell what is wrong is known when the body is there.
        Needs::Json { value } => Needs::Json { value },
        _ => Needs::Json { value: false },
    })
}

/// What the contract has for bodies of a media type.
pub(crate) enum Known<'p> {
    /// Nothing.
    Not,
    /// They pass as they are.
    Passes,
    /// They are JSON of this schema.
    Json(&'p Validator),
}

/// What the contract has for a media type, by the nearest of its own; whoever says nothing means JSON, where it has that by name.
pub(crate) fn known<'p>(of: &'p [BodyType], essence: &str) -> Known<'p> {
    let is = |name: &str| media::kind(name) == Some(MediaType::Json);
    let nearest = |t: &&BodyType| match t.name.as_str() {
        "*/*" => 2,
        name => u8::from(name.ends_with("/*")),
    };
    let types = || of.iter();
    let found = match essence {
        "" => types().find(|t| is(&t.name) || t.name == "*/*"),
        essence => types()
            .filter(|t| media::is_within(essence, &t.name))
            .min_by_key(nearest),
    };
    match found {
        None => Known::Not,
        Some(BodyType {
            name,
            json: Some(json),
        }) if is(essence) || (essence.is_empty() && is(name)) => Known::Json(json),
        Some(_) => Known::Passes,
    }
}

/// Whoever says nothing of the media type means JSON.
fn is_of_json(essence: &str) -> bool {
    essence.is_empty() || media::kind(essence) == Some(MediaType::Json)
}

/// Whether a body of JSON keeps to the contract; every mistake is told. What came as XML was read by the mapping, which knows no
/// types, and is not looked at. What the backend gets in place of it is given where something was taken out.
fn keeps(
    op: &CompiledOperation,
    parts: &Parts,
    value: Option<&mut Value>,
    bytes: &[u8],
) -> Result<Option<Bytes>, Failure> {
    let (Some(plan), Some(value)) = (&op.admission.body, value) else {
        return Ok(None);
    };
    let Some(schema) = held_against(op, parts) else {
        return Ok(None);
    };
    if let Some(told) = porch_valid::doubled(bytes) {
        return Err(Failure::body(told));
    }
    let mut misfits = schema.misfits(value);
    let mut changed = None;
    // So many are told at once, and what is left is held against the schema once more: how many members there are may matter.
    let mut rounds = 0;
    while plan.drops_read_only && rounds < MAX_ROUNDS && misfits.iter().any(|m| m.read_only) {
        for misfit in misfits.iter().filter(|m| m.read_only) {
            take_out(value, &misfit.pointer);
        }
        misfits = schema.misfits(value);
        rounds += 1;
    }
    if rounds > 0 {
        changed = Some(value.to_string().into());
    }
    let mistakes = misfits.into_iter();
    let mistakes: Vec<_> = mistakes
        .map(|m| (format!("/body{}", m.pointer), m.told))
        .collect();
    match mistakes.is_empty() {
        true => Ok(changed),
        false => Err(Failure::Mistakes(mistakes)),
    }
}

/// The schema that a body of JSON must keep to.
fn held_against<'o>(op: &'o CompiledOperation, parts: &Parts) -> Option<&'o Validator> {
    let plan = op.admission.body.as_ref()?;
    match known(&plan.types, &media::essence(&parts.headers)) {
        Known::Json(schema) => Some(schema),
        Known::Not | Known::Passes => None,
    }
}

/// A body is looked at so many times while members are taken out of it.
const MAX_ROUNDS: usize = 32;

/// Takes a member out of a value, by its pointer (RFC 6901 §4).
#[cold]
fn take_out(value: &mut Value, pointer: &str) {
    let Some((of, name)) = pointer.rsplit_once('/') else {
        return;
    };
    let name = name.replace("~1", "/").replace("~0", "~");
    if let Some(Value::Object(members)) = value.pointer_mut(of) {
        members.shift_remove(&name);
    }
}

/// Reads the body as it is needed; a value goes into the scope.
pub(super) async fn receive(
    x: &Exchange<'_>,
    op: &CompiledOperation,
    parts: &Parts,
    needs: Needs,
    scope: &mut Scope<'_>,
    body: InBody,
) -> Result<CallerBody, Failure> {
    match needs {
        Needs::Nothing | Needs::Stream => return Ok(CallerBody::Unread(body)),
        Needs::Raw | Needs::Json { .. } | Needs::Value => {}
    }
    let bytes = body
        .collect(op.admission.max_body, &x.share)
        .await
        .map_err(Failure::Body)?;
    x.bytes_in.set(bytes.len() as u64);
    if bytes.is_empty() {
        if op.admission.body_required && needs != Needs::Raw {
            return Err(Failure::body("must be there"));
        }
        return Ok(CallerBody::Gone);
    }
    let bytes = match needs != Needs::Raw && media::is_coded(&parts.headers) {
        true => unpacked(x, op, parts, &bytes)?,
        false => bytes,
    };
    let schema = held_against(op, parts);
    let fits = schema.is_some_and(|s| s.surely_fits(&bytes));
    scope.body = match needs {
        Needs::Json { value } => {
            is_json(parts)?;
            if value || (schema.is_some() && !fits) {
                room(x, &bytes)?;
                let parsed = serde_json::from_slice(&bytes);
                Some(parsed.map_err(|e| Failure::body(format!("is no JSON: {e}")))?)
            } else {
                None
            }
        }
        Needs::Value => {
            room(x, &bytes)?;
            Some(value(op, parts, &bytes)?)
        }
        _ => None,
    };
    let changed = match fits {
        true => None,
        false => keeps(op, parts, scope.body.as_mut(), &bytes)?,
    };
    Ok(CallerBody::Bytes(changed.unwrap_or(bytes)))
}

/// A body without its content coding (RFC 9110 §8.4); what it grows to is bounded as bodies are.
#[cold]
fn unpacked(
    x: &Exchange<'_>,
    op: &CompiledOperation,
    parts: &Parts,
    coded: &Bytes,
) -> Result<Bytes, Failure> {
    let mut fields = parts.headers.get_all(header::CONTENT_ENCODING).iter();
    let is_one = fields.next().is_some() && fields.next().is_none();
    let coding = coding::Coding::of(&parts.headers).ok().filter(|_| is_one);
    let Some(mut coding) = coding else {
        return Err(Failure::Coding);
    };
    let mut whole = Vec::new();
    let broken = |_| Failure::body("is broken: its content coding cannot be undone");
    let mut add = |piece: Bytes| {
        if (whole.len() + piece.len()) as u64 > op.admission.max_body {
            return Err(Failure::Body(ReadFailure::TooLarge));
        }
        let room = x.share.gather(piece.len());
        room.map_err(|room| Failure::Body(ReadFailure::NoRoom(room)))?;
        whole.extend_from_slice(&piece);
        Ok(())
    };
    for from in (0..coded.len()).step_by(PIECE) {
        let piece = coded.slice(from..coded.len().min(from + PIECE));
        add(coding.decode(piece).map_err(broken)?)?;
    }
    add(coding.finish().map_err(broken)?)?;
    x.unpacked.set(true);
    let mut recorder = x.recorder.borrow_mut();
    let from = recorder.begin();
    recorder.stage(StageName::Prepare, from, |stage| {
        let (came, is) = (coded.len(), whole.len());
        let told = format!("the body came compressed: {came} bytes, and has {is}");
        stage.notes.push(told);
    });
    Ok(whole.into())
}

/// A compressed body is read in pieces of so many bytes, so that one that grows without end is noticed.
const PIECE: usize = 1024;

/// Whether there is room for a body's value.
fn room(x: &Exchange<'_>, bytes: &Bytes) -> Result<(), Failure> {
    let read = x.share.read(bytes);
    read.map_err(|room| Failure::Body(ReadFailure::NoRoom(room)))
}

fn is_json(parts: &Parts) -> Result<(), Failure> {
    let essence = media::essence(&parts.headers);
    if is_of_json(&essence) {
        return Ok(());
    }
    let json = media::name(MediaType::Json).to_owned();
    Err(Failure::MediaType(vec![json], essence))
}

/// The value of a body in one of the media types that the operation takes.
fn value(op: &CompiledOperation, parts: &Parts, bytes: &Bytes) -> Result<Value, Failure> {
    let essence = media::essence(&parts.headers);
    if let Some(plan) = op.admission.form.as_ref().filter(|_| essence == FORM) {
        return form::read(plan, bytes);
    }
    let offer = op.admission.media.as_ref();
    let taken = offer.map_or(&[MediaType::Json][..], |m| &m.offered);
    let Some(kind) = media::kind(&essence).filter(|k| taken.contains(k)) else {
        let shown = if essence.is_empty() {
            "no media type".to_owned()
        } else {
            essence
        };
        let names = taken.iter().map(|k| media::name(*k).to_owned());
        let form = op.admission.form.iter().map(|_| FORM.to_owned());
        let names = names.chain(form).collect();
        return Err(Failure::MediaType(names, shown));
    };
    let mapping = offer.map(|m| m.mapping.clone()).unwrap_or_default();
    media::parse(kind, bytes, &parts.headers, &mapping).map_err(|e| Failure::body(e.to_string()))
}

/// The caller's body as it is shown, as far as it was read.
pub(super) fn shown(cx: &Context<'_>, body: &CallerBody) -> Option<Message> {
    match (body.bytes(), &cx.scope.body) {
        (Some(bytes), _) => Some(Message::default().body(bytes)),
        (None, Some(value)) => Some(Message::default().body(value.to_string().as_bytes())),
        (None, None) => None,
    }
}
