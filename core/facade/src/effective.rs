//! The rules that act on one operation, in the order in which they act.

use std::sync::Arc;

use porch_contract::Place;
use porch_rules::expr::Template;
use serde::Serialize;

use crate::compiled::{
    Admission, CachePlan, Changes, CompiledFacade, CompiledOperation, Examples, RulePlace, Step,
    StepPlan,
};
use crate::documents::Relaxed;

/// One rule that acts, with the stage of the exchange it acts in.
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[derive(Clone, Debug, Serialize)]
pub struct EffectiveRule {
    /// `match`, `admit`, `prepare`, `call`, `reply` or `record`; `overridden` where it does not hold.
    pub stage: &'static str,
    /// The rule and where it stands.
    #[serde(flatten)]
    pub place: RulePlace,
    /// The rule that holds in its place, where it does not hold itself.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub overridden_by: Option<RulePlace>,
}

impl EffectiveRule {
    fn of(stage: &'static str, place: RulePlace) -> Self {
        Self {
            stage,
            place,
            overridden_by: None,
        }
    }
}

/// The rules that act on an operation of a facade.
pub fn effective(facade: &CompiledFacade, op: &CompiledOperation) -> Vec<EffectiveRule> {
    let rule = EffectiveRule::of;
    let wiring = |text: String| op.place.with_rule(text);
    let (route, admission) = (&op.route, &op.admission);
    let matched = format!("{} {}{}", route.method, facade.base, route.path);
    let mut rules = vec![rule("match", wiring(matched))];
    rules.extend(op.cors.iter().map(|c| rule("match", c.place.clone())));
    rules.extend(callers(admission));
    rules.push(rule("admit", (*admission.max_body_place).clone()));
    let said = |key: Option<Relaxed>, text: String| {
        let of_shared = op.said.iter().find(|(k, _)| Some(*k) == key);
        of_shared
            .map_or(&*op.place, |(_, place)| place)
            .with_rule(text)
    };
    let kept = kept(admission).into_iter();
    rules.extend(kept.map(|(key, text)| rule("admit", said(key, text))));
    let refusals = |early: bool| {
        let all = op.refusals.iter();
        let all = all.filter(move |r| r.needs.is_empty() == early);
        let stage = if early { "prepare" } else { "call" };
        all.map(move |r| rule(stage, (*r.place).clone()))
    };
    rules.extend(op.cache.as_ref().map(|c| kept_rule(c)));
    rules.extend(refusals(true));
    let mut replies = called(facade, op, &mut rules);
    rules.extend(refusals(false));
    rules.append(&mut replies);
    if op.steps.iter().any(|s| s.plan.is_some()) {
        let text = "the reply is made of the answers, as `reply` says";
        rules.push(rule("reply", wiring(text.into())));
    }
    if let Some(changes) = &op.changes {
        // Requests are changed behind all that makes them, and before the only call.
        let before = rules.iter().position(|r| r.stage == "call");
        let before = before.unwrap_or(rules.len());
        rules.splice(before..before, request_changes(changes));
        rules.extend(reply_changes(changes));
    }
    rules.extend(of_replies(op, &said));
    let counted = "usage is counted; a trace is kept when refused, failed or sampled";
    rules.push(rule("record", RulePlace::built_in(counted)));
    rules.extend(op.overridden.iter().map(|o| EffectiveRule {
        overridden_by: Some(o.by.clone()),
        ..rule("overridden", o.place.clone())
    }));
    rules
}

/// Who may call, and how much.
fn callers(admission: &Admission) -> Vec<EffectiveRule> {
    let rule = |place: &RulePlace| EffectiveRule::of("admit", place.clone());
    let mut rules: Vec<EffectiveRule> = Vec::new();
    rules.extend(admission.networks.iter().map(|n| rule(&n.place)));
    for credential in admission.credentials.rules.iter() {
        let (place, shown) = (&credential.place, credential.kind.shown_in());
        let text = match place.rule.as_ref() {
            "a key is demanded" => format!("a key is demanded {shown}"),
            told => told.to_owned(),
        };
        rules.push(rule(&place.with_rule(text)));
    }
    rules.extend(admission.roles.iter().map(|r| rule(&r.place)));
    let limits = &admission.limits;
    rules.extend(limits.of_time().map(|l| rule(&l.place)));
    rules.extend(limits.at_once.iter().map(|l| rule(&l.place)));
    rules
}

/// What is seen to when a reply is there, and what is kept of it.
fn of_replies(
    op: &CompiledOperation,
    said: &dyn Fn(Option<Relaxed>, String) -> RulePlace,
) -> Vec<EffectiveRule> {
    let mut rules = Vec::new();
    let rule = EffectiveRule::of;
    let wiring = |text: String| op.place.with_rule(text);
    if let Some(answers) = &op.answers {
        let text = match answers.refuse {
            true => "replies that do not fit the contract are refused with 502",
            false => "replies that do not fit the contract are counted and told in traces",
        };
        let place = said(Some(Relaxed::Answers), text.into());
        rules.push(rule("reply", place));
    }
    if let Some(examples) = &op.examples {
        let text = examples_text(examples);
        rules.push(rule("reply", wiring(text)));
    }
    let words = op.words.iter().flat_map(|w| w.iter());
    rules.extend(words.map(|w| rule("reply", (*w.place).clone())));
    if op.compress {
        let text = "replies of texts are compressed for callers who take gzip";
        rules.push(rule("reply", wiring(text.into())));
    }
    let hidden = op.sensitive.iter().flat_map(|s| &s.places);
    rules.extend(hidden.map(|p| rule("record", (**p).clone())));
    rules
}

/// Whether replies are kept, or let go behind it.
fn kept_rule(cache: &CachePlan) -> EffectiveRule {
    let stage = match cache.keeps {
        Some(_) => "prepare",
        None => "reply",
    };
    EffectiveRule::of(stage, (*cache.place).clone())
}

/// What is called, and what is made of the only answer, which comes behind.
fn called(
    facade: &CompiledFacade,
    op: &CompiledOperation,
    rules: &mut Vec<EffectiveRule>,
) -> Vec<EffectiveRule> {
    let rule = |stage, text: String| EffectiveRule::of(stage, op.place.with_rule(text));
    let mut replies = Vec::new();
    if let Some(within) = op.within {
        let text = format!("all calls together have {within:?}");
        rules.push(rule("call", text));
    }
    for step in &op.steps {
        let (to, instead) = routed(step);
        rules.extend(to);
        if let Some(plan) = &step.plan {
            rules.extend(of_several(facade, op, step, plan));
            rules.extend(instead);
            continue;
        }
        let of_call = step.call.rules(&facade.backends[step.backend], &op.reply);
        rules.extend(of_call.prepare.into_iter().map(|r| rule("prepare", r)));
        rules.push(rule("call", of_call.call));
        rules.extend(instead);
        replies.push(rule("reply", of_call.reply));
    }
    replies
}

/// Where a call goes in place of its backend: before it is made, and where no answer comes.
fn routed(step: &Step) -> (Vec<EffectiveRule>, Vec<EffectiveRule>) {
    let Some(routing) = &step.routing else {
        return Default::default();
    };
    let rule = |stage| move |place: &Arc<RulePlace>| EffectiveRule::of(stage, (**place).clone());
    let choices = routing.choices.iter().map(|c| &c.place);
    let spares = routing.spares.iter().map(|s| &s.place);
    let spares = spares.chain(routing.shadow.as_ref().map(|s| &s.place));
    (
        choices.map(rule("prepare")).collect(),
        spares.map(rule("call")).collect(),
    )
}

/// What one of several calls does.
fn of_several(
    facade: &CompiledFacade,
    op: &CompiledOperation,
    step: &Step,
    plan: &StepPlan,
) -> Vec<EffectiveRule> {
    let name = &step.name;
    let waits: Vec<&str> = step.needs.iter().map(|n| &*op.steps[*n].name).collect();
    let mut before: Vec<String> = Vec::new();
    if !waits.is_empty() {
        before.push(format!("waits for {}", waits.join(", ")));
    }
    if let Some(when) = &plan.when {
        before.push(format!("is called when {}", source(when)));
    }
    if let Some(each) = &plan.each {
        let (list, most, at_once) = (source(&each.list), each.at_most, each.at_once);
        before.push(format!(
            "is called for each of {list}: at most {most}, {at_once} at once"
        ));
    }
    if let Some(pages) = &plan.pages {
        let (next, most) = (source(&pages.next), pages.at_most);
        before.push(format!(
            "is called page after page, as long as there is {next}: at most {most}"
        ));
    }
    if plan.writes {
        before.push("changes something: waits for refusals and for changes before it".into());
    }
    let of_call = step.call.rules(&facade.backends[step.backend], &op.reply);
    before.extend(of_call.prepare);
    let mut after = vec![of_call.call];
    if let Some(of) = &plan.messages {
        after.push(of.told());
    }
    if !plan.statuses.is_empty() {
        let all: Vec<String> = plan.statuses.iter().map(u16::to_string).collect();
        after.push(format!("{} are answers too", all.join(", ")));
    }
    if plan.answer.is_some() {
        after.push("its answer is shaped as its `answer` says".into());
    }
    if plan.otherwise.is_some() {
        after.push("where there is no answer, its `otherwise` stands for it".into());
    }
    if let Some(undo) = &plan.undo {
        let by = undo
            .call
            .rules(&facade.backends[undo.backend], &op.reply)
            .call;
        after.push(format!("is undone where something fails behind it: {by}"));
    }
    let rule = |stage| {
        move |text: String| {
            let place = plan.place.with_rule(format!("{name}: {text}"));
            EffectiveRule::of(stage, place)
        }
    };
    let before = before.into_iter().map(rule("prepare"));
    before.chain(after.into_iter().map(rule("call"))).collect()
}

/// What is changed of requests that go through.
fn request_changes(changes: &Changes) -> impl Iterator<Item = EffectiveRule> {
    let all = changes.query.iter().chain(&changes.request);
    let all = all.map(|c| &c.place);
    let all = all.chain(changes.request_body.iter().map(|c| &c.place));
    all.map(|place| EffectiveRule::of("prepare", (**place).clone()))
}

/// What is changed of replies that go through.
fn reply_changes(changes: &Changes) -> impl Iterator<Item = EffectiveRule> {
    let all = changes.reply_body.iter().map(|c| &c.place);
    let all = all.chain(changes.status.iter().map(|c| &c.place));
    let all = all.chain(changes.reply.iter().map(|c| &c.place));
    all.map(|place| EffectiveRule::of("reply", (**place).clone()))
}

/// The text of an expression.
fn source(template: &Template) -> &str {
    match template {
        Template::Expr(expr) => expr.source(),
        _ => "",
    }
}

/// What of a request is held against the contract, in words.
fn kept(admission: &Admission) -> Vec<(Option<Relaxed>, String)> {
    let mut all = Vec::new();
    let checked: Vec<&str> = admission
        .parameters
        .iter()
        .filter(|p| p.place != Place::Header || p.required)
        .map(|p| &*p.name)
        .collect();
    if !checked.is_empty() {
        let names = checked.join(", ");
        all.push((None, format!("parameters fit the contract: {names}")));
    }
    if admission.only_known_query {
        let text = "query parameters that the contract has not are refused";
        all.push((Some(Relaxed::UnknownQuery), text.into()));
    }
    if admission.drops_unknown_query {
        let text = "query parameters that the contract has not are taken out";
        all.push((Some(Relaxed::UnknownQuery), text.into()));
    }
    if admission.body.as_ref().is_some_and(|b| b.drops_read_only) {
        let text = "members that only the service sets are taken out of bodies";
        all.push((Some(Relaxed::ReadOnly), text.into()));
    }
    if let Some(body) = &admission.body {
        let kinds: Vec<&str> = body.types.iter().map(|t| t.name.as_str()).collect();
        let kinds = kinds.join(", ");
        let text = match body.types.iter().any(|t| t.json.is_some()) {
            true => format!("bodies are {kinds}; JSON fits its schema"),
            false => format!("bodies are {kinds}"),
        };
        all.push((Some(Relaxed::Contract), text));
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
