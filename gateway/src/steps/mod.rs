//! The steps of an operation: its calls, and what their expressions see.
//!
//! Steps that wait for nothing start at once, the others when the answers that they need are there. One step alone is the
//! short way: its answer may go through to the caller as it comes.

mod attempts;
pub(crate) mod body;
mod copied;
mod example;
mod form;
mod given;
mod inside;
mod made;
mod many;
mod one;
pub(crate) mod refused;
pub(crate) mod request;
mod routed;
mod shown;
#[cfg(test)]
mod tests;

use porch_facade::{ANSWER, CompiledOperation, ITEM, REQUEST_ROOTS};
use porch_rules::expr::Expr;

use crate::body::InBody;
use crate::exchange::state::Exchange;
use crate::problem::Problem;
use crate::scope::Scope;
use request::{Outcome, Request};

/// Carries the steps out.
pub(crate) async fn run<'a>(
    x: &Exchange<'_>,
    request: &Request<'a>,
    scope: &mut Scope<'_>,
    body: InBody,
) -> Result<Outcome<'a>, Box<Problem>> {
    match request.operation.steps.as_slice() {
        [step] if step.plan.is_none() => one::run(x, request, scope, body).await,
        // Boxed: calls have no room for it.
        [] => Box::pin(example::run(x, request, scope, body)).await,
        steps => {
            Box::pin(many::run(x, request, steps, scope, body)).await?;
            Ok(Outcome::Many)
        }
    }
}

/// Whether an expression names answers of an operation's calls.
#[cold]
fn names_answers(op: &CompiledOperation, source: &str) -> bool {
    let mut roots: Vec<&str> = REQUEST_ROOTS.to_vec();
    roots.extend(op.steps.iter().map(|s| &*s.name));
    roots.extend([ITEM, ANSWER]);
    let Ok(expr) = Expr::compile(source, &roots) else {
        return false;
    };
    let mut named = expr.references().iter().map(|r| r.steps[0].name.as_str());
    named.any(|root| !REQUEST_ROOTS.contains(&root))
}
