//! Operations of a facade: what was wired, what is gone, what is new.

use std::collections::{HashMap, HashSet};

use porch_contract::Node;
use serde_json::Value;

use crate::derive::Derived;
use crate::yaml::to_yaml;
use crate::{Document, FacadeDoc};

/// The operations of a derived facade with their wiring.
pub(super) fn operations(text: &str) -> Vec<(String, Value)> {
    let value = Node::parse(text).map(|n| n.to_value()).unwrap_or_default();
    value
        .get("operations")
        .and_then(Value::as_object)
        .into_iter()
        .flatten()
        .map(|(k, v)| (k.clone(), v.clone()))
        .collect()
}

/// Gives operations of a new derivation the ids that those had which called the same before: ids are made up, and what an operation
/// is called in its definition tells which one it is. Others get ids that none of them has.
pub(super) fn keep_ids(base: &[(String, Value)], new: &mut Derived, name: &str) {
    let facade = format!("{name}.facade.yaml");
    let theirs = operations(&new.files[&facade]);
    let mut before: HashMap<&str, Vec<&str>> = HashMap::new();
    for (id, wiring) in base.iter().filter(|(_, w)| !called(w).is_empty()) {
        before.entry(called(wiring)).or_default().push(id);
    }
    let mut ids: HashMap<&str, String> = HashMap::new();
    // Where several call the same, those that kept their ids keep them.
    for same in [true, false] {
        for (id, wiring) in &theirs {
            let Some(left) = before.get_mut(called(wiring)) else {
                continue;
            };
            let at = left.iter().position(|b| b == id || !same);
            if let (Some(at), false) = (at, ids.contains_key(id.as_str())) {
                ids.insert(id, left.remove(at).to_owned());
            }
        }
    }
    let mut taken: HashSet<String> = ids.values().cloned().collect();
    taken.extend(base.iter().map(|(id, _)| id.clone()));
    for (id, _) in &theirs {
        if !ids.contains_key(id.as_str()) {
            let numbered = (2..).map(|n| format!("{id}{n}"));
            let mut free = std::iter::once(id.clone()).chain(numbered);
            let own = free.find(|n| !taken.contains(n)).unwrap_or_default();
            taken.insert(own.clone());
            ids.insert(id, own);
        }
    }
    if ids.iter().any(|(id, own)| id != own) {
        rename(new, name, &ids);
    }
}

/// Gives the operations of derived documents other ids.
fn rename(new: &mut Derived, name: &str, ids: &HashMap<&str, String>) {
    let own = |id: &str| ids.get(id).cloned().unwrap_or_else(|| id.to_owned());
    let mut change = |file: String, edit: &dyn Fn(&mut Value)| {
        let text = new.files.get(&file).cloned().unwrap_or_default();
        if let Ok(node) = Node::parse(&text) {
            let mut value = node.to_value();
            edit(&mut value);
            new.files.insert(file, to_yaml(&value));
        }
    };
    change(format!("{name}.facade.yaml"), &|facade| {
        if let Some(operations) = facade["operations"].as_object_mut() {
            let all = std::mem::take(operations).into_iter();
            operations.extend(all.map(|(id, wiring)| (own(&id), wiring)));
        }
    });
    change(format!("{name}.openapi.yaml"), &|contract| {
        let items = contract["paths"].as_object_mut().into_iter().flatten();
        for (_, item) in items {
            let operations = item.as_object_mut().into_iter().flatten();
            for (_, operation) in operations {
                if let Some(Value::String(id)) = operation.get_mut("operationId") {
                    *id = own(id);
                }
            }
        }
    });
}

/// What a wiring calls.
pub(super) fn called(wiring: &Value) -> &str {
    wiring
        .pointer("/call/operation")
        .and_then(Value::as_str)
        .unwrap_or_default()
}

/// Whether two derivations mean one operation: by what it is called in its definition, where that has names, else by its id.
pub(super) fn is_same(a: &(String, Value), b: &(String, Value)) -> bool {
    match (called(&a.1), called(&b.1)) {
        ("", "") => a.0 == b.0,
        (a, b) => a == b,
    }
}

/// Whether the publisher's facade still calls what an operation of the first derivation called.
pub(super) fn uses(facade: &Document<FacadeDoc>, base: &[(String, Value)], id: &str) -> bool {
    let Some((_, wiring)) = base.iter().find(|(b, _)| b == id) else {
        return false;
    };
    facade
        .doc
        .operations
        .values()
        .flat_map(|o| o.called())
        .any(|(_, operation)| operation == called(wiring))
}

/// Names what the definition no longer has.
pub(super) fn gone(
    facade: &Document<FacadeDoc>,
    base: &[(String, Value)],
    theirs: &[(String, Value)],
    changes: &mut Vec<String>,
) {
    for op in base {
        let (id, wiring) = op;
        if theirs.iter().any(|t| is_same(op, t)) {
            continue;
        }
        let still = if uses(facade, base, id) {
            format!(": “{id}” can no longer be called")
        } else {
            String::new()
        };
        changes.push(format!(
            "the definition no longer has {}{still}",
            Some(called(wiring)).filter(|c| !c.is_empty()).unwrap_or(id)
        ));
    }
}

/// A facade's text with the operations that are new.
pub(super) fn with_new(
    mut text: String,
    fresh: &[&(String, Value)],
    mine: &[String],
    changes: &mut Vec<String>,
) -> String {
    let mine: HashSet<&String> = mine.iter().collect();
    let mut blocks = String::new();
    for (id, wiring) in fresh {
        if mine.contains(id) {
            changes.push(format!(
                "{} is new, but “{id}” is the name of another operation already: wire it by hand",
                called(wiring)
            ));
            continue;
        }
        let of = Some(called(wiring)).filter(|c| !c.is_empty());
        changes.push(format!("{} is new: wired as “{id}”", of.unwrap_or(id)));
        blocks.push_str(&block(id, wiring));
    }
    if !blocks.is_empty() {
        text = appended(&text, &blocks);
    }
    text
}

/// An operation as it stands below `operations:`.
fn block(id: &str, wiring: &Value) -> String {
    to_yaml(&serde_json::json!({ id: wiring }))
        .lines()
        .map(|l| {
            if l.is_empty() {
                String::new()
            } else {
                format!("  {l}\n")
            }
        })
        .collect()
}

/// A facade's text with more operations at the end of `operations:`, everything else as it was.
fn appended(text: &str, block: &str) -> String {
    let lines: Vec<&str> = text.lines().collect();
    let Some(start) = lines.iter().position(|l| l.trim_end() == "operations:") else {
        return format!("{}\noperations:\n{block}", text.trim_end());
    };
    // The block ends where a line begins at the left margin.
    let end = lines
        .iter()
        .skip(start + 1)
        .position(|l| !l.is_empty() && !l.starts_with([' ', '#']))
        .map_or(lines.len(), |i| start + 1 + i);
    let (before, after) = lines.split_at(end);
    let mut out = before.join("\n").trim_end().to_owned();
    out.push('\n');
    out.push_str(block);
    if !after.is_empty() {
        out.push_str(&after.join("\n"));
        out.push('\n');
    }
    out
}
