//! No step at all: an example of the contract is the answer.
//!
//! The example whose parameters are the request's comes first, then what fits `Accept`, then what is made of the schema; equal
//! requests get equal answers.

use bytes::Bytes;
use http::request::Parts;
use porch_contract::Place;
use porch_facade::{CompiledOperation, Example, Examples, Given, MediaType};
use serde_json::Value;

use super::{body, refused};
use crate::body::InBody;
use crate::call::{CallerBody, Needs};
use crate::exchange::state::Exchange;
use crate::failure::Failure;
use crate::media::{self, Liking};
use crate::problem::{Problem, no_example, not_acceptable, not_wired, of_failure};
use crate::scope::Scope;
use crate::steps::request::{Outcome, Request};
use crate::trace::StageName;

#[cold]
pub(super) async fn run<'a>(
    x: &Exchange<'_>,
    request: &Request<'a>,
    scope: &mut Scope<'_>,
    body: InBody,
) -> Result<Outcome<'a>, Box<Problem>> {
    let op = request.operation;
    let Some(examples) = &op.examples else {
        return Err(not_wired(op));
    };
    let refused = |failure| of_failure(failure, op, None, StageName::Admit);
    receive(x, request, examples, scope, body)
        .await
        .map_err(refused)?;
    if !op.refusals.is_empty() {
        refused::by_request(request, scope)?;
    }
    let found = choose(op, examples, request.parts, scope)?;
    let body = filled(found, scope).unwrap_or_else(|| found.body.clone());
    Ok(Outcome::Example(found, body))
}

/// Reads the caller's body, which is held against the contract as if it went somewhere.
async fn receive(
    x: &Exchange<'_>,
    request: &Request<'_>,
    examples: &Examples,
    scope: &mut Scope<'_>,
    from: InBody,
) -> Result<(), Failure> {
    let (op, parts) = (request.operation, request.parts);
    let asked = examples.all.iter().flat_map(|e| &e.given);
    let is_asked = asked.into_iter().any(|g| g.place.is_none());
    let is_json = media::kind(&media::essence(&parts.headers)) == Some(MediaType::Json);
    let needs = match from.length() {
        Some(0) => Needs::Nothing,
        _ if op.reply.reads_body => Needs::Value,
        // What is made of a schema says what the request says.
        _ if is_json && (is_asked || op.admission.body.is_some()) => Needs::Json { value: true },
        _ => Needs::Raw,
    };
    let needs = body::demanded(op, parts, &from, needs)?;
    let came = body::receive(x, op, parts, needs, scope, from).await?;
    let missing = matches!(came, CallerBody::Gone) && op.admission.body_required;
    match missing {
        true => Err(Failure::body("must be there")),
        false => Ok(()),
    }
}

/// The example that answers a request.
fn choose<'e>(
    op: &CompiledOperation,
    examples: &'e Examples,
    parts: &Parts,
    scope: &Scope<'_>,
) -> Result<&'e Example, Box<Problem>> {
    let liking = Liking::of(&parts.headers);
    let much = |e: &Example| match &e.media {
        None => 1.0,
        Some(media) => liking.of_type(media.to_str().unwrap_or_default()),
    };
    let good = || examples.all.iter().filter(|e| much(e) > 0.0);
    // Of several that fit, the one that says most of the request; of those, the first.
    let meant = good().filter(|e| !e.given.is_empty() && e.given.iter().all(|g| is(g, scope)));
    let meant = meant.rev().max_by(|a, b| {
        let most = a.given.len().cmp(&b.given.len());
        most.then(much(a).total_cmp(&much(b)))
    });
    // The media type that is liked best, then what says nothing of the request before what is of another.
    let usual = || {
        let usual = || good().filter(|e| e.usual);
        let liked = usual().rev().max_by(|a, b| {
            let order = much(a).total_cmp(&much(b));
            order.then(b.made.cmp(&a.made))
        })?;
        let alike = || usual().filter(|e| e.media == liked.media && e.made == liked.made);
        alike()
            .find(|e| e.given.is_empty())
            .or_else(|| alike().next())
    };
    if let Some(found) = meant.or_else(usual) {
        return Ok(found);
    }
    let mut names: Vec<&str> = Vec::new();
    for media in examples.all.iter().filter(|e| e.usual) {
        let name = media.media.as_ref().and_then(|m| m.to_str().ok());
        names.extend(name.filter(|n| !names.contains(n)));
    }
    Err(match names.as_slice() {
        [] => no_example(op),
        names => not_acceptable(names, op),
    })
}

/// Whether a request has a value.
fn is(given: &Given, scope: &Scope<'_>) -> bool {
    let wanted = &*given.value;
    match given.place {
        Some(Place::Header) => {
            let field = scope.headers.get(&*given.name);
            let text = field.and_then(|v| v.to_str().ok());
            text.is_some_and(|t| t.trim() == text_of(wanted))
        }
        place => {
            let value = match place {
                None => scope.body.as_ref(),
                Some(place) => sent(place, &given.name, scope),
            };
            value.is_some_and(|v| v == wanted || text_of(v) == text_of(wanted))
        }
    }
}

fn text_of(value: &Value) -> String {
    value
        .as_str()
        .map_or_else(|| value.to_string(), str::to_owned)
}

/// The value of a parameter that was sent.
fn sent<'s>(place: Place, name: &str, scope: &'s Scope<'_>) -> Option<&'s Value> {
    match place {
        Place::Path => {
            let names = &scope.operation.route.variables;
            scope.path.get(names.iter().position(|n| n == name)?)
        }
        Place::Query => scope.query.iter().find(|(n, _)| *n == name).map(|(_, v)| v),
        Place::Header => None,
    }
}

/// A made answer with what the request says of the members of the same names, where it still keeps to its schema.
fn filled(example: &Example, scope: &Scope<'_>) -> Option<Bytes> {
    let (json, schema) = example.json.as_ref()?;
    let mut value = (**json).clone();
    let members = value.as_object_mut()?;
    let body = scope.body.as_ref().and_then(Value::as_object);
    for (name, own) in members.iter_mut() {
        if let Some(sent) = body.and_then(|b| b.get(name)) {
            *own = sent.clone();
        }
    }
    for given in &example.echoed {
        let sent = given.place.and_then(|p| sent(p, &given.name, scope));
        if let (Some(own), Some(sent)) = (members.get_mut(&*given.name), sent) {
            *own = sent.clone();
        }
    }
    let fits = schema.as_ref().is_none_or(|s| s.fits(&value));
    fits.then(|| value.to_string().into())
}
