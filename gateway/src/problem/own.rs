//! Refusals in the facade's own words (RFC 9457 §3).

use porch_facade::{Cors, Refusal, RulePlace};
use serde_json::Value;

use super::Problem;
use crate::trace::StageName;

/// A refusal that the documents word.
pub(crate) fn in_own_words(
    refusal: &Refusal,
    detail: Option<String>,
    members: Vec<(&str, Value)>,
) -> Box<Problem> {
    let stage = match refusal.needs.is_empty() {
        true => StageName::Prepare,
        false => StageName::Call,
    };
    let condition = match &refusal.when {
        porch_rules::expr::Template::Expr(expr) => expr.source(),
        _ => "",
    };
    let detail = detail.unwrap_or_default();
    let title = &refusal.title;
    let mut problem = Problem::new(refusal.status, "refused", title, detail, stage)
        .why(format!("{title}: ={condition}"))
        .by(&refusal.place);
    if let Some(kind) = &refusal.kind {
        problem.kind.clone_from(kind);
    }
    for (name, value) in members {
        problem = problem.with(name, value);
    }
    problem
}

/// A page of another origin than those that may call (Fetch §3.3).
pub(crate) fn other_origin(cors: &Cors) -> Box<Problem> {
    let detail = "Pages of this origin may not call here.";
    let title = "The origin is not allowed";
    Problem::new(403, "origin", title, detail, StageName::Match).by(&cors.place)
}

impl Problem {
    /// The same, said by another rule.
    pub(crate) fn of_rule(self: Box<Self>, place: &RulePlace) -> Box<Self> {
        self.by(place)
    }

    /// What the publisher is told besides.
    pub(crate) fn also(&mut self, told: &str) {
        let why = &mut self.refusal.why;
        why.push_str("; ");
        why.push_str(told);
    }
}
