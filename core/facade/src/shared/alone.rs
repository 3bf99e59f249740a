//! What is wrong with shared rules whoever uses them.

use std::collections::BTreeSet;

use porch_contract::{Finding, Severity, Step, suggest};
use serde_json::Map;

use super::{ROOM, filled, reaching};
use crate::Documents;
use crate::documents::{ParameterDoc, ReachDoc, RulesHead};
use crate::read::Document;

/// What is wrong with shared rules whoever uses them, and which of them nobody does.
pub(crate) fn on_their_own(documents: &Documents) -> Vec<Finding> {
    let mut findings = Vec::new();
    for rules in documents.rules.values() {
        let mut complete = true;
        for (name, parameter) in &rules.doc.parameters {
            complete &= parameter.default.is_some();
            let told = of_parameter(rules, name, parameter);
            complete &= told.is_empty();
            findings.extend(told);
        }
        findings.extend(of_reach(documents, rules));
        if complete && let Err(misfits) = filled(rules, &Map::new(), &mut { ROOM }) {
            findings.extend(misfits.into_iter().map(|m| m.finding));
        }
    }
    findings.extend(unused(documents));
    findings
}

/// What is wrong with a parameter.
pub(super) fn of_parameter(
    rules: &Document<RulesHead>,
    name: &str,
    parameter: &ParameterDoc,
) -> Vec<Finding> {
    let mut findings = Vec::new();
    let mut wrong = |keys: &[&str], message: String, help: &str| {
        let steps: Vec<Step> = keys.iter().map(|k| Step::Key((*k).into())).collect();
        let at = rules.node.locate(&steps, keys.len() == 2);
        findings.push(Finding::error(&rules.file, at, message).help(help));
    };
    if !is_parameter(name) {
        let message = format!("“{name}” is no name of a parameter");
        let help = "it has letters, digits and `_`, so that expressions can name it";
        wrong(&["parameters", name], message, help);
    }
    match &parameter.default {
        Some(value) if !parameter.kind.takes(value) => {
            let message = format!("this is not {}", parameter.kind.label());
            let help = "`type:` says what kind of value it has; a text unless given";
            wrong(&["parameters", name, "default"], message, help);
        }
        None if rules.doc.reach.is_some() => {
            let message = format!("“{name}” needs a default");
            let help = "rules with a reach of their own act without being given values";
            wrong(&["parameters", name], message, help);
        }
        _ => {}
    }
    findings
}

/// Backends that are not there.
fn of_reach(documents: &Documents, rules: &Document<RulesHead>) -> Vec<Finding> {
    let Some(ReachDoc::Backends(names)) = &rules.doc.reach else {
        return Vec::new();
    };
    let known = &documents.backends;
    let all = names.iter().enumerate();
    let missing = all.filter(|(_, name)| {
        !known.contains_key(*name) && !documents.may_hold("backend/1", Some(name))
    });
    missing
        .map(|(i, name)| {
            let keys = ["reach", "backends"].map(|k| Step::Key(k.into()));
            let steps: Vec<Step> = keys.into_iter().chain([Step::Index(i)]).collect();
            let near = suggest(name, known.keys().map(String::as_str));
            let help = near.map_or_else(String::new, |n| format!("did you mean “{n}”?"));
            let message = format!("there is no backend “{name}”");
            Finding::error(&rules.file, rules.node.locate(&steps, false), message).help(help)
        })
        .collect()
}

/// Rules that reach nothing.
fn unused(documents: &Documents) -> Vec<Finding> {
    if documents.may_hold("facade/1", None) {
        return Vec::new();
    }
    let facades = documents.facades.values();
    let used: BTreeSet<&str> = facades
        .flat_map(|f| reaching(documents, &f.doc))
        .map(|r| r.doc.name.as_str())
        .collect();
    let unused = documents.rules.values();
    let unused = unused.filter(|r| !used.contains(r.doc.name.as_str()));
    unused
        .map(|rules| {
            let message = format!("no facade uses the rules “{}”", rules.doc.name);
            Finding::new(Severity::Note, &rules.file, rules.node.at, message)
        })
        .collect()
}

fn is_parameter(name: &str) -> bool {
    name.starts_with(|c: char| c.is_ascii_alphabetic())
        && name.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'_')
}
