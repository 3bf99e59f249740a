//! Refusals in the facade's own words.

use porch_facade::Refusal;
use porch_rules::expr::{EvalError, Template, Val};

use crate::answer::{Answer, Content, json_of};
use crate::exchange::state::Exchange;
use crate::failure::Failure;
use crate::problem::{Problem, in_own_words, of_failure};
use crate::scope::{AnswerView, Scope};
use crate::steps::request::Request;
use crate::trace::StageName;

/// Asks for those that look at the request alone.
#[cold]
pub(super) fn by_request(request: &Request<'_>, scope: &Scope<'_>) -> Result<(), Box<Problem>> {
    let all = request.operation.refusals.iter();
    let mut early = all.filter(|r| r.needs.is_empty());
    early.try_for_each(|refusal| ask(request, refusal, scope))
}

/// Asks for those that look at the answer of the only call.
#[cold]
pub(crate) fn by_answer(
    x: &Exchange<'_>,
    request: &Request<'_>,
    answer: &mut Answer,
    scope: &mut Scope<'_>,
) -> Result<(), Box<Problem>> {
    let op = request.operation;
    if op.refusals.iter().all(|r| r.needs.is_empty()) {
        return Ok(());
    }
    let null = serde_json::Value::Null;
    // The body is lent, and taken back where nothing is refused.
    let mut lent = false;
    let view = match answer {
        Answer::Through(passing) => {
            let head = &passing.head;
            AnswerView::new(head.status.as_u16(), head.headers.clone(), null, None)
        }
        Answer::Whole(whole) => {
            let body = match std::mem::replace(&mut whole.body, Content::Empty) {
                Content::Json(json) if op.reply.looks_into => {
                    let value = json_of(&json, &x.share);
                    lent = true;
                    value.map_err(|f| of_failure(f, op, None, StageName::Reply))?
                }
                Content::Value(value) => {
                    lent = true;
                    value
                }
                other => {
                    whole.body = other;
                    null
                }
            };
            let headers = whole.soap_headers.clone();
            AnswerView::new(whole.status.as_u16(), whole.fields.clone(), body, headers)
        }
    };
    scope.answers = vec![view.into()];
    let scope_then: &Scope<'_> = scope;
    let late = op.refusals.iter().filter(|r| !r.needs.is_empty());
    late.into_iter()
        .try_for_each(|refusal| ask(request, refusal, scope_then))?;
    let view = scope
        .answers
        .pop()
        .and_then(std::cell::OnceCell::into_inner);
    if let (Answer::Whole(whole), Some(mut view)) = (answer, view)
        && lent
    {
        whole.body = Content::Value(view.replace_body(serde_json::Value::Null));
    }
    Ok(())
}

/// What expressions see of the only answer; its body where one of them looks into it.
#[cold]
pub(crate) fn seen(
    answer: &Answer,
    looks_into: bool,
    share: &crate::budget::Share<'_>,
) -> Result<AnswerView, Failure> {
    let null = serde_json::Value::Null;
    let whole = match answer {
        Answer::Through(passing) => {
            let head = &passing.head;
            let status = head.status.as_u16();
            return Ok(AnswerView::new(status, head.headers.clone(), null, None));
        }
        Answer::Whole(whole) => whole,
    };
    let body = match &whole.body {
        _ if !looks_into => null,
        Content::Json(json) => json_of(json, share)?,
        Content::Value(value) => value.clone(),
        Content::Empty | Content::Raw(..) => null,
    };
    let headers = whole.soap_headers.clone();
    let status = whole.status.as_u16();
    Ok(AnswerView::new(status, whole.fields.clone(), body, headers))
}

/// Asks for one.
pub(super) fn ask(
    request: &Request<'_>,
    refusal: &Refusal,
    scope: &Scope<'_>,
) -> Result<(), Box<Problem>> {
    let unclear = |(source, e): (String, EvalError)| {
        let op = request.operation;
        let failure = match refusal.needs.is_empty() {
            true => Failure::unsuitable("whether it is refused", (source, e)),
            false => Failure::Answer(format!("whether it is refused: ={source}: {e}")),
        };
        of_failure(failure, op, None, StageName::Prepare).of_rule(&refusal.place)
    };
    if !holds(&refusal.when, scope).map_err(unclear)? {
        return Ok(());
    }
    let detail = match &refusal.detail {
        Some(template) => template.render_text(scope).map_err(unclear)?,
        None => None,
    };
    let mut members = Vec::with_capacity(refusal.members.len());
    for (name, template) in &refusal.members {
        if let Some(value) = template.render(scope).map_err(unclear)? {
            members.push((name.as_str(), value));
        }
    }
    Err(in_own_words(refusal, detail, members))
}

/// Whether a condition holds.
pub(crate) fn holds(when: &Template, scope: &Scope<'_>) -> Result<bool, (String, EvalError)> {
    let Template::Expr(expr) = when else {
        return Ok(false);
    };
    let failed = |e| (expr.source().to_owned(), e);
    match expr.eval(scope).map_err(failed)? {
        Val::Bool(held) => Ok(held),
        other => {
            let told = format!("it is {}, and neither true nor false", other.kind());
            Err(failed(EvalError::Type(told)))
        }
    }
}
