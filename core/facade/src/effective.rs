//! The rules that act on one operation, in the order in which they act.

use porch_contract::Place;
use serde::Serialize;

use crate::compiled::{Admission, CompiledFacade, CompiledOperation, Examples, RulePlace};

/// One rule that acts, with the stage of the exchange it acts in.
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[derive(Clone, Debug, Serialize)]
pub struct EffectiveRule {
    /// `match`, `admit`, `prepare`, `call`, `reply` or `record`.
    pub stage: &'static str,
    /// The rule and where it stands.
    #[serde(flatten)]
    pub place: RulePlace,
}

/// The rules that act on an operation of a facade.
pub fn effective(facade: &CompiledFacade, op: &CompiledOperation) -> Vec<EffectiveRule> {
    let rule = |stage, place| EffectiveRule { stage, place };
    let wiring = |text: String| op.place.with_rule(text);
    let (route, admission) = (&op.route, &op.admission);
    let matched = format!("{} {}{}", route.method, facade.base, route.path);
    let mut rules = vec![rule("match", wiring(matched))];
    for credential in admission.credentials.iter() {
        let text = format!(
            "{} in the header {}",
            credential.place.rule, facade.key_header_shown
        );
        rules.push(rule("admit", credential.place.with_rule(text)));
    }
    rules.extend(
        admission
            .limits
            .iter()
            .map(|l| rule("admit", l.place.clone())),
    );
    rules.push(rule("admit", (*admission.max_body_place).clone()));
    rules.extend(
        kept(admission)
            .into_iter()
            .map(|text| rule("admit", wiring(text))),
    );
    for step in &op.steps {
        let of_call = step.call.rules(&facade.backends[step.backend], &op.reply);
        rules.extend(
            of_call
                .prepare
                .into_iter()
                .map(|r| rule("prepare", wiring(r))),
        );
        rules.push(rule("call", wiring(of_call.call)));
        rules.push(rule("reply", wiring(of_call.reply)));
    }
    if let Some(answers) = &op.answers {
        let text = match answers.refuse {
            true => "replies that do not fit the contract are refused with 502",
            false => "replies that do not fit the contract are counted and told in traces",
        };
        rules.push(rule("reply", wiring(text.into())));
    }
    if let Some(examples) = &op.examples {
        let text = examples_text(examples);
        rules.push(rule("reply", wiring(text)));
    }
    let counted = "usage is counted; a trace is kept when refused, failed or sampled";
    rules.push(rule("record", RulePlace::built_in(counted)));
    rules
}

/// What of a request is held against the contract, in words.
fn kept(admission: &Admission) -> Vec<String> {
    let mut all: Vec<String> = Vec::new();
    let checked: Vec<&str> = admission
        .parameters
        .iter()
        .filter(|p| p.place != Place::Header || p.required)
        .map(|p| &*p.name)
        .collect();
    if !checked.is_empty() {
        let names = checked.join(", ");
        all.push(format!("parameters fit the contract: {names}"));
    }
    if admission.only_known_query {
        let text = "query parameters that the contract has not are refused";
        all.push(text.into());
    }
    if admission.drops_unknown_query {
        let text = "query parameters that the contract has not are taken out";
        all.push(text.into());
    }
    if admission.body.as_ref().is_some_and(|b| b.drops_read_only) {
        let text = "members that only the service sets are taken out of bodies";
        all.push(text.into());
    }
    if let Some(body) = &admission.body {
        let kinds: Vec<&str> = body.types.iter().map(|t| t.name.as_str()).collect();
        let kinds = kinds.join(", ");
        let text = match body.types.iter().any(|t| t.json.is_some()) {
            true => format!("bodies are {kinds}; JSON fits its schema"),
            false => format!("bodies are {kinds}"),
        };
        all.push(text);
    }
    all
}

/// What is answered where nothing is called.
fn examples_text(examples: &Examples) -> String {
    let given = examples.all.iter().filter(|e| !e.made).count();
    match given {
        0 => "nothing is called: the answer is made of the contract's schema".into(),
        1 => "nothing is called: the contract's example is answered".into(),
        n => format!("nothing is called: one of the contract's {n} examples is answered"),
    }
}
