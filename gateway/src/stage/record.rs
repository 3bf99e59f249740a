//! Record: usage always; a trace when sampled, asked for, or failed.

use std::cell::Cell;

use http::Response;
use http::request::Parts;
use porch_facade::CompiledOperation;
use porch_rules::key::prefix;

use crate::body::ReplyBody;
use crate::exchange::state::{Exchange, Mode, target};
use crate::trace::{Message, Refusal, StageName, Trace, sensitive};
use crate::usage::Record;
use crate::worker::Ending;

/// Ends an exchange whose reply is known. The trace is given for trial runs; those of live traffic are handed out.
pub(crate) fn record(
    mut x: Exchange<'_>,
    parts: &Parts,
    refusal: Option<Refusal>,
    response: &mut Response<ReplyBody>,
) -> Option<Box<Trace>> {
    let status = response.status().as_u16();
    if let Some(inflight) = x.inflight.take() {
        let made = matches!(response.body(), ReplyBody::Made { .. });
        let outline = made.then(|| {
            let mut outline = Box::new(outline(&x, parts, status));
            if let Some((facade, op)) = x.at.get().and_then(|index| x.porch.at(index)) {
                outline.mask(&facade.mask);
                sensitive::hide(&mut outline, facade, op);
            }
            outline
        });
        response.body_mut().set_ending(Ending {
            inflight,
            porch: x.porch.clone(),
            started: x.recorder.borrow().started,
            operation: x.at.get(),
            consumer: x.caller.consumer_id(),
            status,
            bytes_in: x.bytes_in.get(),
            misfit: x.misfit.borrow().is_some(),
            bytes_out: Cell::new(0),
            outline,
            rare: x.rare.take(),
        });
    }
    let full = x.recorder.borrow().full;
    let told = || refusal.is_some() || x.misfit.borrow().is_some();
    let short = || told() && x.mode != Mode::Inside && x.worker.may_tell(x.now);
    if !full && !short() {
        return None;
    }
    let mut trace = Box::new(trace(&x, parts, refusal, response));
    told_of_keys(&x, &mut trace);
    trace.hide_keys();
    match x.mode {
        Mode::Trial | Mode::Inside => Some(trace),
        Mode::Live => {
            x.worker.shared.send(Record::Trace(trace));
            None
        }
    }
}

/// Tells of live keys that stand where others read them: in a target, which logs and histories keep, or in a body.
fn told_of_keys(x: &Exchange<'_>, trace: &mut Trace) {
    let found = trace.keys_in_the_open();
    if found.is_empty() {
        return;
    }
    let grants = x.worker.shared.grants.load();
    let at = x.at.get().and_then(|index| x.porch.at(index));
    let in_query = |op: &CompiledOperation| !op.admission.credentials.in_query.is_empty();
    let by_rule = at.is_some_and(|(_, op)| in_query(op));
    for (place, key) in found {
        let (Ok(grant), Some(known)) = (grants.check(&key, x.now / 1000), prefix(&key)) else {
            continue;
        };
        if place == "the target" && by_rule {
            continue;
        }
        let note = format!(
            "a good key of {}, “{known}…”, stands in {place}: it is masked here, but whoever saw the request can use it; renew it",
            grant.consumer.name
        );
        if let Some(stage) = trace.stages.first_mut()
            && !stage.notes.contains(&note)
        {
            stage.notes.push(note);
        }
    }
}

fn trace(
    x: &Exchange<'_>,
    parts: &Parts,
    refusal: Option<Refusal>,
    response: &Response<ReplyBody>,
) -> Trace {
    last_stages(x, refusal.as_ref(), response);
    let mut recorder = x.recorder.borrow_mut();
    let mut trace = Trace {
        us: recorder.started.elapsed().as_micros() as u64,
        refusal,
        stages: std::mem::take(&mut recorder.stages),
        misfit: x.misfit.borrow().as_deref().unwrap_or_default().to_owned(),
        ..outline(x, parts, response.status().as_u16())
    };
    // What a backend was shown for a while is masked as what it is always shown.
    if let Some((facade, op)) = x.at.get().and_then(|index| x.porch.at(index)) {
        let backends = op.backends(facade);
        let grants = backends.filter_map(|b| b.credentials.client.as_ref());
        for mask in grants.map(|g| x.worker.shared.tokens.mask(g)) {
            trace.mask(&mask);
        }
        trace.mask(&facade.mask);
        // A trial run shows the reply besides, once all of it is here.
        if x.mode != Mode::Trial {
            sensitive::hide(&mut trace, facade, op);
        }
    }
    trace
}

/// What is known of an exchange but its stages.
fn outline(x: &Exchange<'_>, parts: &Parts, status: u16) -> Trace {
    let at = x.at.get().and_then(|index| x.porch.at(index));
    Trace {
        id: x.id().to_owned(),
        at: x.now,
        release: match x.mode {
            Mode::Live | Mode::Inside => x.porch.release,
            Mode::Trial => 0,
        },
        facade: at.map_or_else(String::new, |(facade, _)| facade.name.clone()),
        operation: at.map_or_else(String::new, |(_, op)| op.id.clone()),
        consumer: x.caller.consumer_id(),
        consumer_name: x.caller.consumer_name().to_owned(),
        key: x.caller.shown().to_owned(),
        address: x.origin.address.to_string(),
        method: parts.method.to_string(),
        target: target(parts),
        status,
        ..Trace::default()
    }
}

/// The stage that refused, where it noted nothing down itself, and the reply as it leaves.
fn last_stages(x: &Exchange<'_>, refusal: Option<&Refusal>, response: &Response<ReplyBody>) {
    let mut recorder = x.recorder.borrow_mut();
    if let Some(refusal) = refusal
        && !recorder.stages.iter().any(|s| s.name == refusal.stage)
    {
        let from = recorder.since_last();
        recorder.stage(refusal.stage, from, |s| s.notes.push(refusal.why.clone()));
    }
    let ReplyBody::Full(bytes) = response.body() else {
        return;
    };
    if !recorder.full {
        return;
    }
    if recorder
        .stages
        .last()
        .is_none_or(|s| s.name != StageName::Reply)
    {
        let from = recorder.begin();
        recorder.stage(StageName::Reply, from, |_| ());
    }
    let head = response.status().to_string();
    let mut message =
        Message::new(head, response.headers(), "").body(bytes.as_deref().unwrap_or_default());
    if let Some((facade, op)) = x.at.get().and_then(|index| x.porch.at(index)) {
        for backend in op.backends(facade) {
            message.mask(&backend.credentials.mask);
        }
    }
    if let Some(last) = recorder.stages.last_mut() {
        last.after = Some(message);
    }
}
