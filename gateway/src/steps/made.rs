//! The request of a step: made by its protocol, changed as the documents say, and noted down.

use http::header;
use porch_facade::Transport;

use super::body;
use super::one::Call;
use crate::body::OutBody;
use crate::call::{CallerBody, Context, Prepared};
use crate::changes::{self, Notes};
use crate::exchange::state::Exchange;
use crate::failure::Failure;
use crate::fields::{TRACEPARENT, via};
use crate::outgoing::Outgoing;
use crate::problem::Problem;
use crate::steps::request::Request;
use crate::trace::{StageName, sent};

/// The prepared request, noted down.
pub(super) fn prepare(
    x: &Exchange<'_>,
    request: &Request<'_>,
    call: &Call<'_>,
    cx: &Context<'_>,
    body: CallerBody,
) -> Result<Prepared, Box<Problem>> {
    let from = x.recorder.borrow().begin();
    let before = if cx.keep {
        body::shown(cx, &body)
    } else {
        None
    };
    match made(x, request, call, cx, body) {
        Ok((mut prepared, changed)) => {
            add_common(x, call, cx, &mut prepared.request);
            if cx.keep {
                let mut seen = std::mem::take(&mut prepared.seen);
                let mut notes = std::mem::take(&mut seen.notes);
                notes.extend(changed);
                let origin = cx.address.origin(call.backend.transport);
                let after = sent(&prepared.request, &origin, seen);
                let mut recorder = x.recorder.borrow_mut();
                let at = (StageName::Prepare, from);
                call.note(&mut recorder, at, |stage| {
                    stage.before = before;
                    stage.after = Some(after);
                    stage.notes = notes;
                });
            }
            Ok(prepared)
        }
        Err(problem) => {
            let mut recorder = x.recorder.borrow_mut();
            let at = (StageName::Prepare, from);
            call.note(&mut recorder, at, |stage| {
                stage.before = before;
                stage.notes.push(problem.refusal.why.clone());
            });
            Err(problem)
        }
    }
}

/// The request as its protocol makes it, with what the documents change of it; what was changed is told.
fn made(
    x: &Exchange<'_>,
    request: &Request<'_>,
    call: &Call<'_>,
    cx: &Context<'_>,
    body: CallerBody,
) -> Result<(Prepared, Vec<String>), Box<Problem>> {
    let failed = |failure| call.problem(request, failure, StageName::Prepare);
    let mut prepared = call.protocol.prepare(cx, body).map_err(failed)?;
    let Some(changes) = cx
        .operation
        .changes
        .as_ref()
        .filter(|_| call.alone && !cx.native)
    else {
        return Ok((prepared, Vec::new()));
    };
    let mut notes = Notes::new(cx.keep);
    let (out, of) = (&mut prepared.request, (cx.scope, cx.backend));
    let changed = changes::request(out, changes, of, &x.share, &mut notes);
    if let Err(unmade) = changed.map_err(failed)? {
        let place = unmade.place;
        let failure = Failure::Unsuitable(place.rule.to_string(), unmade.source, unmade.why);
        return Err(failed(failure).of_rule(place));
    }
    if !changes.request_body.is_empty() && cx.keep {
        prepared.seen.streamed = false;
        if let OutBody::Full(Some(bytes)) = &prepared.request.body {
            prepared.seen.body = Some(bytes.to_vec());
        }
    }
    Ok((prepared, notes.into_list()))
}

/// What every backend request carries.
fn add_common(x: &Exchange<'_>, call: &Call<'_>, cx: &Context<'_>, request: &mut Outgoing) {
    let fields = &mut request.fields;
    fields.append(header::VIA, via(cx.parts.version));
    fields.set(&header::FORWARDED, x.origin.forwarded(&cx.parts.headers));
    fields.set(&TRACEPARENT, x.traceparent.clone());
    for (name, value) in &call.backend.credentials.headers {
        fields.set(name, value.clone());
    }
    if call.backend.transport == Transport::Http1 {
        let address = &call.backend.addresses[call.at()];
        fields.set(&header::HOST, address.host.clone());
    }
}

/// The request once more, where it may be repeated.
pub(super) fn remade(
    x: &Exchange<'_>,
    request: &Request<'_>,
    call: &Call<'_>,
    cx: &Context<'_>,
) -> Option<Outgoing> {
    made_anew(x, request, call, cx, CallerBody::Gone)
}

/// The same with a body that was read.
pub(super) fn made_anew(
    x: &Exchange<'_>,
    request: &Request<'_>,
    call: &Call<'_>,
    cx: &Context<'_>,
    body: CallerBody,
) -> Option<Outgoing> {
    let (mut prepared, _) = made(x, request, call, cx, body).ok()?;
    add_common(x, call, cx, &mut prepared.request);
    Some(prepared.request)
}
