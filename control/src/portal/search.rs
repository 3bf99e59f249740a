//! Operations that are found by words.

use std::collections::BTreeSet;

use porch_contract::Contract;
use serde_json::Value;

use super::catalogue::{Found, VisibleGroup};

/// So many parts of an operation's schemas are looked into for words.
const MOST_PARTS: usize = 2000;
/// So many operations are found at once.
const MOST_FOUND: usize = 50;

/// The words of an operation: names and descriptions of parameters and of the members of its bodies.
pub(super) struct Words<'c> {
    contract: &'c Contract,
    pub(super) text: String,
    room: usize,
    seen: BTreeSet<String>,
}

impl<'c> Words<'c> {
    pub(super) fn new(contract: &'c Contract) -> Self {
        Self {
            contract,
            text: String::new(),
            room: MOST_PARTS,
            seen: BTreeSet::new(),
        }
    }

    pub(super) fn add(&mut self, text: &str) {
        if self.text.len() < 64 << 10 {
            self.text.push(' ');
            self.text.push_str(&text.to_lowercase());
        }
    }

    pub(super) fn below(&mut self, part: &Value) {
        let mut open: Vec<&Value> = vec![part];
        let contract = self.contract;
        while let Some(part) = open.pop() {
            if self.room == 0 {
                return;
            }
            self.room -= 1;
            match part {
                Value::Array(items) => open.extend(items.iter().take(1000)),
                Value::Object(members) => {
                    for (name, value) in members.iter().take(1000) {
                        match (name.as_str(), value) {
                            ("$ref", Value::String(to)) => {
                                let target = to.strip_prefix('#');
                                let target = target.and_then(|p| contract.document.pointer(p));
                                if let Some(target) =
                                    target.filter(|_| self.seen.insert(to.clone()))
                                {
                                    open.push(target);
                                }
                            }
                            ("summary" | "description" | "name" | "title", Value::String(text)) => {
                                self.add(text)
                            }
                            ("properties", Value::Object(properties)) => {
                                properties.keys().take(1000).for_each(|name| self.add(name));
                                open.extend(properties.values().take(1000));
                            }
                            ("tags" | "enum", Value::Array(all)) => {
                                let texts = all.iter().take(1000).filter_map(Value::as_str);
                                texts.for_each(|t| self.add(t));
                            }
                            _ => open.push(value),
                        }
                    }
                }
                _ => {}
            }
        }
    }
}

/// Operations that hold all of some words; those that hold them in names and summaries first.
pub(super) fn found(groups: &[VisibleGroup], words: &[&str]) -> Vec<Found> {
    if words.is_empty() {
        return Vec::new();
    }
    let mut all: Vec<(usize, Found)> = Vec::new();
    let mut seen = BTreeSet::new();
    for facade in groups.iter().flat_map(|g| &g.facades) {
        if !seen.insert(facade.name.clone()) {
            continue;
        }
        let title = facade.title.to_lowercase();
        for (line, text) in facade.operations.iter().zip(&facade.words) {
            let near = format!("{} {} {}", line.id, line.summary, line.path).to_lowercase();
            let holds = |w: &&&str| near.contains(**w) || text.contains(**w) || title.contains(**w);
            if !words.iter().all(|w| holds(&w)) {
                continue;
            }
            let far = words.iter().filter(|w| !near.contains(**w)).count();
            let found = Found {
                facade: facade.name.clone(),
                title: facade.title.clone(),
                operation: line.clone(),
            };
            all.push((far, found));
        }
    }
    all.sort_by_key(|(far, _)| *far);
    all.into_iter().take(MOST_FOUND).map(|(_, f)| f).collect()
}
