//! The calls of an operation, as people look at them.

use serde::Serialize;

use crate::compiled::{CompiledFacade, CompiledOperation, Refusal, Step};
use porch_rules::expr::Template;

/// One of several calls.
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[derive(Clone, Debug, Serialize, PartialEq, Eq)]
pub struct WiredCall {
    /// Its name.
    pub name: String,
    /// The backend that it calls.
    pub backend: String,
    /// So many calls are done before it at least: those with the same number may run at once.
    pub turn: usize,
    /// Names of the calls whose answers it needs.
    pub needs: Vec<String>,
    /// When it is made; always where nothing stands here.
    pub when: String,
    /// The list that it is made for; none where nothing stands here.
    pub each: String,
    /// What leads to the next page of what comes in pages; it comes at once where nothing stands here.
    pub pages: String,
    /// What is taken of a stream as a list; nothing where it is none.
    pub messages: String,
    /// Whether it changes something.
    pub writes: bool,
    /// Whether something stands for its answer where it fails.
    pub otherwise: bool,
    /// Whether another call takes it back.
    pub undone: bool,
}

/// A refusal in the facade's own words.
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[derive(Clone, Debug, Serialize, PartialEq, Eq)]
pub struct WiredRefusal {
    /// When, as an expression.
    pub when: String,
    /// Status of the reply.
    pub status: u16,
    /// What is said.
    pub title: String,
    /// Names of the calls whose answers it looks at.
    pub needs: Vec<String>,
}

/// The calls of an operation that has several, by the turns in which they may begin.
pub fn wired_calls(facade: &CompiledFacade, op: &CompiledOperation) -> Vec<WiredCall> {
    let mut turns: Vec<Option<usize>> = vec![None; op.steps.len()];
    // Each round one more is known, since none waits for itself.
    for _ in 0..op.steps.len() {
        for (i, step) in op.steps.iter().enumerate() {
            let behind = step.plan.as_ref().map_or(&[][..], |p| &p.behind);
            let before: Option<Vec<usize>> = behind.iter().map(|b| turns[*b]).collect();
            turns[i] = before.map(|all| all.into_iter().max().map_or(0, |last| last + 1));
        }
    }
    let several = op.steps.iter().zip(turns);
    let several = several.filter(|(step, _)| step.plan.is_some());
    let mut calls: Vec<WiredCall> = several
        .map(|(step, turn)| call(facade, op, step, turn.unwrap_or(0)))
        .collect();
    calls.sort_by_key(|c| c.turn);
    calls
}

fn call(facade: &CompiledFacade, op: &CompiledOperation, step: &Step, turn: usize) -> WiredCall {
    let plan = step.plan.as_ref();
    let each = plan.and_then(|p| p.each.as_ref());
    WiredCall {
        name: step.name.to_string(),
        backend: facade.backends[step.backend].name.clone(),
        turn,
        needs: names(op, &step.needs),
        when: source(plan.and_then(|p| p.when.as_ref())),
        each: source(each.map(|e| &e.list)),
        pages: source(plan.and_then(|p| p.pages.as_ref()).map(|p| &p.next)),
        messages: plan
            .and_then(|p| p.messages.as_ref())
            .map_or_else(String::new, |of| of.told()),
        writes: plan.is_some_and(|p| p.writes),
        otherwise: plan.is_some_and(|p| p.otherwise.is_some()),
        undone: plan.is_some_and(|p| p.undo.is_some()),
    }
}

/// The refusals of an operation, in their order.
pub fn wired_refusals(op: &CompiledOperation) -> Vec<WiredRefusal> {
    let one = |r: &Refusal| WiredRefusal {
        when: source(Some(&r.when)),
        status: r.status,
        title: r.title.clone(),
        needs: names(op, &r.needs),
    };
    op.refusals.iter().map(one).collect()
}

fn names(op: &CompiledOperation, steps: &[usize]) -> Vec<String> {
    let all = steps.iter().filter_map(|n| op.steps.get(*n));
    all.map(|s| s.name.to_string()).collect()
}

fn source(template: Option<&Template>) -> String {
    match template {
        Some(Template::Expr(expr)) => expr.source().to_owned(),
        _ => String::new(),
    }
}
