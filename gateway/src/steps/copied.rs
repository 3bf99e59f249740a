//! Copies of calls to another backend, whose answers are only compared: behind the answer that the caller gets, and never in its way.

use std::rc::Rc;
use std::sync::Arc;
use std::time::Duration;

use http::Response;
use http_body_util::BodyExt;
use porch_facade::{CompiledBackend, Sensitive, Shadow, Share, Step};
use porch_rules::expr::Template;
use serde_json::Value;

use super::one::{Call, Done};
use super::refused;
use crate::answer::{Answer, Passing, json_of};
use crate::body::ReplyBody;
use crate::call::coding;
use crate::exchange::state::{Exchange, Mode};
use crate::exchange::{self, Copied, Copy, Inner, Origin};
use crate::failure::Failure;
use crate::problem::Problem;
use crate::scope::{AnswerView, Scope};
use crate::stage::{Gathered, gather};
use crate::steps::request::Request;
use crate::trace::sensitive;
use crate::usage::CopyRow;
use crate::worker::{Copying, InFlight, Worker};

/// Letters of a value that are told.
const TOLD: usize = 120;
/// Bytes of an answer that is compared by more than its status.
const COMPARED: usize = 1 << 20;
/// Bytes of a copy's answer that are read for nothing.
const DRAINED: usize = 1 << 20;
/// The same in time.
const DRAINED_WITHIN: Duration = Duration::from_secs(1);

/// The shadow that a call is copied to this time; or that it is the copy of.
fn shadow<'a>(x: &Exchange<'_>, step: &'a Step) -> Option<&'a Shadow> {
    let shadow = step.routing.as_ref()?.shadow.as_ref()?;
    let is_due = match x.mode {
        Mode::Live => number(x) < shadow.below,
        Mode::Trial => shadow.below > 0,
        Mode::Inside => x.copy().is_some(),
    };
    is_due.then_some(shadow)
}

/// A number of the exchange, of [`Share::ALL`].
fn number(x: &Exchange<'_>) -> u32 {
    let id = x.id().as_bytes();
    let last = id
        .rchunks(8)
        .next()
        .and_then(|c| std::str::from_utf8(c).ok());
    let number = last.and_then(|text| u32::from_str_radix(text, 16).ok());
    number.unwrap_or(0) % Share::ALL
}

/// Whether a call is copied, or is a copy.
pub(super) fn is_copied(x: &Exchange<'_>, step: &Step) -> bool {
    shadow(x, step).is_some()
}

/// Reads an answer that goes through, where more of it is compared than its status; the caller gets it byte for byte. What is
/// long goes on as it comes, and is compared by its status.
pub(super) async fn read(
    x: &Exchange<'_>,
    step: &Step,
    came: Result<Done, Box<Problem>>,
) -> Result<Done, Box<Problem>> {
    let compares = shadow(x, step).is_some_and(|s| !s.compare.is_empty());
    let mut done = came?;
    let Answer::Through(passing) = done.answer else {
        return Ok(done);
    };
    if !compares {
        done.answer = Answer::Through(passing);
        return Ok(done);
    }
    let of_backend = passing.of_backend;
    let response = Response::from_parts(passing.head, passing.body);
    let (head, body) = match gather(x, response, COMPARED).await? {
        Gathered::Whole(head, bytes) => (head, ReplyBody::Full(Some(bytes))),
        Gathered::Rest(response) => response.into_parts(),
    };
    done.answer = Answer::Through(Passing {
        head,
        body,
        of_backend,
    });
    Ok(done)
}

/// Behind an answer: notes what a copy gave, or begins one.
#[cold]
pub(super) async fn behind(
    x: &Exchange<'_>,
    request: &Request<'_>,
    call: &Call<'_>,
    scope: &Scope<'_>,
    came: &Result<Done, Box<Problem>>,
) {
    let Some(shadow) = shadow(x, call.step) else {
        return;
    };
    let own = seen(x, request, shadow, scope, came);
    if let Some(copy) = x.copy() {
        *copy.seen.borrow_mut() = Some(own);
        return;
    }
    let to = request.facade.backends.get(shadow.way.backend);
    // Where the call went there itself there is nothing to compare.
    if to.is_some_and(|to| std::ptr::eq(&**to, call.backend)) {
        return;
    }
    let row = CopyRow {
        facade: request.facade.name.clone(),
        operation: request.operation.id.clone(),
        backend: to.map_or_else(String::new, |b| b.name.clone()),
        ..CopyRow::default()
    };
    let Some(copying) = Copying::begin(x.worker) else {
        x.worker.copied(CopyRow { left_out: 1, ..row });
        return;
    };
    let names: Vec<String> = shadow
        .compare
        .iter()
        .map(|(text, _)| text.clone())
        .collect();
    let made = copy(x, request);
    let masks = Masks::of(request, call.step);
    if x.is_trial() {
        let mut row = made(own, names, row).await;
        masks.hide(x.worker, &mut row.told);
        note(x, call, &row, shadow);
        return;
    }
    let worker = x.worker.clone();
    tokio::task::spawn_local(async move {
        let _counted = (copying, InFlight::new(&worker));
        let mut row = made(own, names, row).await;
        masks.hide(&worker, &mut row.told);
        worker.copied(row);
    });
}

fn note(x: &Exchange<'_>, call: &Call<'_>, row: &CopyRow, shadow: &Shadow) {
    let took = row.copies_us as f64 / 1_000.0;
    let told = match (row.same, row.told.as_str()) {
        (1, _) => "the same came of it".to_owned(),
        (_, told) => told.to_owned(),
    };
    let text = format!(
        "a copy to {} took {took:.1} ms: {told} ({})",
        row.backend,
        shadow.place.told()
    );
    call.tell(x, text);
}

/// What came of a call, as far as it is compared.
fn seen(
    x: &Exchange<'_>,
    request: &Request<'_>,
    shadow: &Shadow,
    scope: &Scope<'_>,
    came: &Result<Done, Box<Problem>>,
) -> Copied {
    let us = x.recorder.borrow().started.elapsed().as_micros() as u64;
    let done = match came {
        Ok(done) => done,
        Err(problem) => {
            return Copied {
                status: problem.status.as_u16(),
                us,
                failed: problem.refusal.why.clone(),
                values: Vec::new(),
            };
        }
    };
    let values = match view(x, &done.answer, !shadow.compare.is_empty()) {
        Err(why) => shadow.compare.iter().map(|_| Err(why.clone())).collect(),
        Ok(view) => {
            let parameters = (scope.path.clone(), scope.query.clone());
            let by = (scope.caller, scope.address);
            let mut own = Scope::of(request.operation, scope.headers, parameters, by);
            own.answers.push(view.into());
            let value = |(_, template): &(String, Template)| {
                let value = template.render(&own);
                value.map_err(|(_, e)| e.to_string())
            };
            shadow.compare.iter().map(value).collect()
        }
    };
    Copied {
        status: done.status.as_u16(),
        us,
        failed: String::new(),
        values,
    }
}

/// What expressions see of an answer; why they cannot look into it.
fn view(x: &Exchange<'_>, answer: &Answer, looks_into: bool) -> Result<AnswerView, String> {
    let told = |failure: Failure| match failure {
        Failure::Answer(why) => why,
        _ => "there is no room for it".to_owned(),
    };
    let passing = match answer {
        Answer::Through(passing) if looks_into => passing,
        other => return refused::seen(other, looks_into, &x.share).map_err(told),
    };
    let head = &passing.head;
    let body = match &passing.body {
        ReplyBody::Full(Some(bytes)) => {
            let plain = coding::decoded(&head.headers, bytes.clone()).map_err(told)?;
            json_of(&plain, &x.share).map_err(told)?
        }
        ReplyBody::Full(None) => Value::Null,
        _ => return Err("it is long, or does not end".to_owned()),
    };
    Ok(AnswerView::new(
        head.status.as_u16(),
        head.headers.clone(),
        body,
        None,
    ))
}

/// What any backend of a call was shown is told by nothing that is said of its answers.
struct Masks(Vec<Arc<CompiledBackend>>, Option<Arc<Sensitive>>);

impl Masks {
    fn of(request: &Request<'_>, step: &Step) -> Self {
        let all = step
            .ways()
            .filter_map(|(at, _)| request.facade.backends.get(at));
        let sensitive = request.operation.sensitive.clone();
        Self(all.cloned().collect(), sensitive)
    }

    fn hide(&self, worker: &Worker, told: &mut String) {
        if let Some(hidden) = &self.1 {
            sensitive::hide_in(told, hidden);
        }
        for backend in &self.0 {
            backend.credentials.mask.text(told);
            if let Some(grant) = &backend.credentials.client {
                worker.shared.tokens.mask(grant).text(told);
            }
        }
    }
}

/// Makes the copy, as an exchange of its own inside of this one, and compares.
fn copy(
    x: &Exchange<'_>,
    request: &Request<'_>,
) -> impl AsyncFnOnce(Copied, Vec<String>, CopyRow) -> CopyRow + use<> {
    let (worker, porch) = (x.worker.clone(), x.porch.clone());
    let copy = Rc::new(Copy::default());
    let inner = Inner {
        copy: Some(copy.clone()),
        ..Inner::of(x)
    };
    let origin = Origin::inside(x.origin.address, inner);
    let again = exchange::again(request.parts);
    async move |own: Copied, names: Vec<String>, row: CopyRow| {
        let running = exchange::run(&worker, &porch, again, &origin, Mode::Inside);
        let (response, _) = Box::pin(running).await;
        // One that never ends is let go.
        let drained = drained(response.into_body());
        let _ = tokio::time::timeout(DRAINED_WITHIN, drained).await;
        let other = copy.seen.borrow_mut().take();
        compared(&own, other, &names, row)
    }
}

/// Reads what is left of an answer, so that its connection serves the next copy; not of a long one.
async fn drained(mut body: ReplyBody) {
    let mut left = DRAINED;
    while let Some(Ok(frame)) = body.frame().await {
        let length = frame.data_ref().map_or(0, bytes::Bytes::len);
        match left.checked_sub(length) {
            Some(less) => left = less,
            None => return,
        }
    }
}

fn compared(own: &Copied, other: Option<Copied>, names: &[String], row: CopyRow) -> CopyRow {
    let Some(other) = other else {
        let told = "it was not made: the request did not come so far".to_owned();
        return CopyRow {
            failed: 1,
            told,
            ..row
        };
    };
    if !other.failed.is_empty() && own.failed.is_empty() {
        let told = other.failed;
        return CopyRow {
            failed: 1,
            told,
            ..row
        };
    }
    let row = CopyRow {
        us: own.us,
        copies_us: other.us,
        ..row
    };
    match difference(own, &other, names) {
        None => CopyRow { same: 1, ..row },
        Some(told) => CopyRow {
            different: 1,
            told,
            ..row
        },
    }
}

/// What is different, in words.
fn difference(own: &Copied, other: &Copied, names: &[String]) -> Option<String> {
    if own.status != other.status {
        return Some(format!("status {} against {}", other.status, own.status));
    }
    let both = own.values.iter().zip(&other.values).zip(names);
    let different = both.filter(|((own, other), _)| own != other);
    let told: Vec<String> = different
        .take(3)
        .map(|((own, other), name)| format!("{name}: {} against {}", shown(other), shown(own)))
        .collect();
    (!told.is_empty()).then(|| told.join("; "))
}

fn shown(value: &Result<Option<Value>, String>) -> String {
    match value {
        Ok(None) => "nothing".to_owned(),
        Err(why) => format!("no value ({why})"),
        Ok(Some(value)) => {
            let text = value.to_string();
            match text.char_indices().nth(TOLD) {
                Some((end, _)) => format!("{}…", &text[..end]),
                None => text,
            }
        }
    }
}
