//! The caller's body, read as the calls need it.

use bytes::Bytes;
use http::request::Parts;
use porch_facade::{CompiledOperation, MediaType};
use serde_json::Value;

use crate::body::{InBody, ReadFailure};
use crate::call::{CallerBody, Needs};
use crate::exchange::state::Exchange;
use crate::failure::Failure;
use crate::media;
use crate::scope::Scope;

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
    scope.body = match needs {
        Needs::Json { value } => {
            is_json(parts)?;
            if value {
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
    Ok(CallerBody::Bytes(bytes))
}

/// Whether there is room for a body's value.
fn room(x: &Exchange<'_>, bytes: &Bytes) -> Result<(), Failure> {
    let read = x.share.read(bytes);
    read.map_err(|room| Failure::Body(ReadFailure::NoRoom(room)))
}

/// Whoever says nothing of the media type means JSON.
fn is_json(parts: &Parts) -> Result<(), Failure> {
    let essence = media::essence(&parts.headers);
    if essence.is_empty() || media::kind(&essence) == Some(MediaType::Json) {
        return Ok(());
    }
    let json = media::name(MediaType::Json);
    Err(Failure::MediaType(vec![json], essence))
}

/// The value of a body in one of the media types that the operation takes.
fn value(op: &CompiledOperation, parts: &Parts, bytes: &Bytes) -> Result<Value, Failure> {
    let essence = media::essence(&parts.headers);
    let offer = op.admission.media.as_ref();
    let taken = offer.map_or(&[MediaType::Json][..], |m| &m.offered);
    let Some(kind) = media::kind(&essence).filter(|k| taken.contains(k)) else {
        let shown = if essence.is_empty() {
            "no media type".to_owned()
        } else {
            essence
        };
        let names = taken.iter().map(|k| media::name(*k)).collect();
        return Err(Failure::MediaType(names, shown));
    };
    let mapping = offer.map(|m| m.mapping.clone()).unwrap_or_default();
    media::parse(kind, bytes, &parts.headers, &mapping).map_err(|e| Failure::body(e.to_string()))
}
