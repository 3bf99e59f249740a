//! A call that is made for page after page of a list.

use porch_facade::Pages;
use porch_rules::expr::Template;
use serde_json::Value;

use super::super::one::Call;
use super::{answer, copy};
use crate::call::CallerBody;
use crate::exchange::state::Exchange;
use crate::failure::Failure;
use crate::problem::Problem;
use crate::scope::{AnswerView, Scope, Within};
use crate::steps::request::Request;
use crate::trace::StageName;

/// All pages together have at most so many items.
const MOST_ITEMS: usize = 100_000;

/// Calls for page after page; the answer's body is the list of all items.
pub(super) async fn run<'a>(
    x: &Exchange<'_>,
    request: &Request<'a>,
    call: &Call<'a>,
    pages: &Pages,
    scope: &Scope<'_>,
    body: &CallerBody,
) -> Result<AnswerView, Box<Problem>> {
    let first = pages.first.render(scope);
    let mut page = first
        .map_err(|e| call.failed(request, "its first page", e))?
        .unwrap_or(Value::Null);
    let mut all: Vec<Value> = Vec::new();
    for number in 0..pages.at_most {
        let own = Call {
            item: u32::try_from(number).ok(),
            ..call.again(x)
        };
        let came = {
            let within = Within {
                around: scope,
                item: Some(&page),
                answer: None,
            };
            answer(x, request, &own, &Scope::inside(&within), copy(body)).await?
        };
        let of = |template: &Template| {
            let within = Within {
                around: scope,
                item: Some(&page),
                answer: Some(&came),
            };
            let made = template.render(&Scope::inside(&within));
            made.map_err(|(source, e)| wrong(request, &own, format!("={source}: {e}")))
        };
        match of(&pages.items)? {
            Some(Value::Array(items)) => all.extend(items),
            None | Some(Value::Null) => {}
            Some(_) => return Err(wrong(request, &own, "its items are no list".into())),
        }
        if all.len() > MOST_ITEMS {
            let why = format!("its pages have more than {MOST_ITEMS} items");
            return Err(wrong(request, &own, why));
        }
        let next = of(&pages.next)?.filter(leads_on);
        let Some(next) = next else {
            let view = AnswerView::bare(200, Value::Array(all));
            return Ok(view.named(false));
        };
        if next == page {
            let why = "its next page is the same one".to_owned();
            return Err(wrong(request, &own, why));
        }
        page = next;
    }
    let why = format!("there are more than {} pages", pages.at_most);
    Err(wrong(request, call, why))
}

/// Whether there is another page.
fn leads_on(next: &Value) -> bool {
    match next {
        Value::Null | Value::Bool(false) => false,
        Value::String(text) => !text.is_empty(),
        _ => true,
    }
}

fn wrong(request: &Request<'_>, call: &Call<'_>, why: String) -> Box<Problem> {
    let why = format!("its pages cannot be followed: {why}");
    call.problem(request, Failure::Answer(why), StageName::Reply)
}
