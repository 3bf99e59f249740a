//! A call that is made for each item of a list, so many at once.

use std::future::Future;
use std::pin::Pin;

use porch_facade::{Each, StepPlan};
use serde_json::Value;

use super::super::one::Call;
use super::{INSTEAD, answer, copy, next, shaped, stands_for};
use crate::call::CallerBody;
use crate::exchange::state::Exchange;
use crate::problem::Problem;
use crate::scope::{AnswerView, Scope, Within};
use crate::steps::request::Request;

type Running<'r> = Pin<Box<dyn Future<Output = Result<Value, Box<Problem>>> + 'r>>;

/// Calls for each item; the answer's body is the list of what they gave, in the order of the items.
pub(super) async fn run<'a>(
    x: &Exchange<'_>,
    request: &Request<'a>,
    call: &Call<'a>,
    (each, plan): (&'a Each, &'a StepPlan),
    scope: &Scope<'_>,
    body: &CallerBody,
) -> Result<AnswerView, Box<Problem>> {
    let items = items(request, call, each, scope)?;
    let of_item = |i: usize| Call {
        item: u32::try_from(i).ok(),
        ..call.again(x)
    };
    let calls: Vec<Call<'a>> = (0..items.len()).map(of_item).collect();
    let (items, calls) = (&items, &calls);
    let one = |i: usize| -> Running<'_> {
        Box::pin(async move {
            let within = Within {
                around: scope,
                item: Some(&items[i]),
                answer: None,
            };
            let inside = Scope::inside(&within);
            let call = &calls[i];
            let came = answer(x, request, call, &inside, copy(body)).await;
            let made = came.and_then(|came| {
                let came = (came, Some(&items[i]));
                shaped(request, call, plan, came, scope)
            });
            match (made, &plan.otherwise) {
                (Ok(mut made), _) => Ok(made.replace_body(Value::Null)),
                (Err(problem), Some(otherwise)) => {
                    stands_for(x, call, &problem);
                    let made = otherwise.render(&inside);
                    let made = made.map_err(|e| call.failed(request, INSTEAD, e))?;
                    Ok(made.unwrap_or(Value::Null))
                }
                (Err(problem), None) => Err(problem),
            }
        })
    };
    let mut gave: Vec<Value> = vec![Value::Null; items.len()];
    let mut waiting = 0..items.len();
    let mut running: Vec<(usize, Running<'_>)> = Vec::new();
    loop {
        while running.len() < each.at_once
            && let Some(i) = waiting.next()
        {
            running.push((i, one(i)));
        }
        if running.is_empty() {
            break;
        }
        let (i, value) = next(&mut running).await;
        gave[i] = value?;
    }
    let view = AnswerView::bare(200, Value::Array(gave));
    Ok(view.named(false))
}

/// The items of the list.
fn items(
    request: &Request<'_>,
    call: &Call<'_>,
    each: &Each,
    scope: &Scope<'_>,
) -> Result<Vec<Value>, Box<Problem>> {
    let what = "the list that it is called for";
    let made = each.list.render(scope);
    let items = match made.map_err(|e| call.failed(request, what, e))? {
        Some(Value::Array(items)) => items,
        None | Some(Value::Null) => Vec::new(),
        Some(_) => {
            let told = (source(each), "it is no list".to_owned());
            return Err(call.unusable(request, what, told));
        }
    };
    if items.len() > each.at_most {
        let most = each.at_most;
        let told = format!("it has {} items, and {most} are the most", items.len());
        return Err(call.unusable(request, what, (source(each), told)));
    }
    Ok(items)
}

fn source(each: &Each) -> String {
    match &each.list {
        porch_rules::expr::Template::Expr(expr) => expr.source().to_owned(),
        _ => String::new(),
    }
}
