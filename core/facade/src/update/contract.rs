//! The publisher's contract and the one that is derived, made one.

use porch_contract::{Finding, Node};
use serde_json::{Map, Value};

use crate::Files;
use crate::derive::Derived;
use crate::yaml::to_yaml;

/// The publisher's contract with what is new in the definition's.
///
/// # Errors
/// When the publisher's cannot be read: it would be lost if it were taken for an empty one.
pub(super) fn merged_contract(
    current: &Files,
    path: &str,
    old: &Derived,
    new: &Derived,
    name: &str,
    (left_out, mine): (&[&str], &[String]),
    changes: &mut Vec<String>,
) -> Result<Option<String>, Box<Finding>> {
    let read = |file: &str, text: &str| {
        Node::parse(text)
            .map(|n| n.to_value())
            .map_err(|e| Box::new(Finding::error(file, e.at, e.message)))
    };
    let Some(own) = current.get(path) else {
        return Ok(None);
    };
    let file = format!("{name}.openapi.yaml");
    let (mut base, ours, mut theirs) = (
        read(&file, &old.files[&file])?,
        read(path, own)?,
        read(&file, &new.files[&file])?,
    );
    for contract in [&mut base, &mut theirs] {
        drop_operations(contract, left_out);
        realign(contract, &ours);
    }
    // An operation that is still wired stays in the contract, and so does what it refers to, until the publisher takes it out.
    keep_wired(&base, &mut theirs, mine);
    let gone: Vec<String> = keep_schemas(&base, &mut theirs);
    let mut merged = ours.clone();
    merge(&base, &mut merged, &theirs, &mut Vec::new(), changes);
    for schema in gone {
        let text = merged.to_string();
        let unused = !text.contains(&format!("\"#/components/schemas/{schema}\""));
        let own = merged
            .pointer_mut("/components/schemas")
            .and_then(Value::as_object_mut);
        if let (true, Some(schemas)) = (unused, own)
            && schemas.shift_remove(&schema).is_some()
        {
            changes.push(format!("/components/schemas/{schema}: gone"));
        }
    }
    Ok((merged != ours).then(|| to_yaml(&merged)))
}

/// The places of a contract's operations: id, path, method.
fn places(contract: &Value) -> Vec<(String, String, String)> {
    let paths = contract
        .get("paths")
        .and_then(Value::as_object)
        .into_iter()
        .flatten();
    let each = paths.flat_map(|(path, item)| {
        item.as_object()
            .into_iter()
            .flatten()
            .map(move |(method, op)| (path, method, op))
    });
    each.filter_map(|(path, method, op)| {
        Some((
            op.get("operationId")?.as_str()?.to_owned(),
            path.clone(),
            method.clone(),
        ))
    })
    .collect()
}

fn take(contract: &mut Value, path: &str, method: &str) -> Option<Value> {
    let paths = contract.get_mut("paths")?.as_object_mut()?;
    let item = paths.get_mut(path)?.as_object_mut()?;
    let found = item.shift_remove(method);
    if item.is_empty() {
        paths.shift_remove(path);
    }
    found
}

fn put(contract: &mut Value, path: &str, method: &str, operation: Value) {
    if let Some(paths) = contract.get_mut("paths").and_then(Value::as_object_mut)
        && let Some(item) = paths
            .entry(path)
            .or_insert_with(|| Value::Object(Map::new()))
            .as_object_mut()
    {
        item.insert(method.to_owned(), operation);
    }
}

/// Moves operations to where the publisher has them, so that a path that was changed is no difference.
fn realign(contract: &mut Value, ours: &Value) {
    let own = places(ours);
    for (id, path, method) in places(contract) {
        if let Some((_, to_path, to_method)) = own
            .iter()
            .find(|(i, p, m)| *i == id && (*p != path || *m != method))
            && let Some(operation) = take(contract, &path, &method)
        {
            put(contract, to_path, to_method, operation);
        }
    }
}

fn keep_wired(base: &Value, theirs: &mut Value, wired: &[String]) {
    let there = places(theirs);
    for (id, path, method) in places(base) {
        if wired.contains(&id) && !there.iter().any(|(i, ..)| *i == id) {
            put(
                theirs,
                &path,
                &method,
                base["paths"][&path][&method].clone(),
            );
        }
    }
}

/// Keeps the schemas that the new definition no longer has; gives their names.
fn keep_schemas(base: &Value, theirs: &mut Value) -> Vec<String> {
    let Some(before) = base
        .pointer("/components/schemas")
        .and_then(Value::as_object)
    else {
        return Vec::new();
    };
    let Some(now) = theirs
        .pointer_mut("/components/schemas")
        .and_then(Value::as_object_mut)
    else {
        return Vec::new();
    };
    let gone: Vec<String> = before
        .keys()
        .filter(|k| !now.contains_key(*k))
        .cloned()
        .collect();
    for name in &gone {
        now.insert(name.clone(), before[name].clone());
    }
    gone
}

fn drop_operations(contract: &mut Value, ids: &[&str]) {
    let Some(paths) = contract.get_mut("paths").and_then(Value::as_object_mut) else {
        return;
    };
    for item in paths.values_mut().filter_map(Value::as_object_mut) {
        item.retain(|_, op| {
            !op.get("operationId")
                .and_then(Value::as_str)
                .is_some_and(|id| ids.contains(&id))
        });
    }
    paths.retain(|_, item| item.as_object().is_none_or(|m| !m.is_empty()));
}

/// Takes over what changed from `base` to `theirs` where `ours` did not change it.
fn merge(
    base: &Value,
    ours: &mut Value,
    theirs: &Value,
    at: &mut Vec<String>,
    changes: &mut Vec<String>,
) {
    if base == theirs || ours == theirs {
        return;
    }
    let shown = |at: &[String]| {
        at.iter()
            .map(|s| s.replace('~', "~0").replace('/', "~1"))
            .fold(String::new(), |a, s| format!("{a}/{s}"))
    };
    if let (Value::Object(base), Value::Object(mine), Value::Object(theirs)) =
        (base, &mut *ours, theirs)
    {
        return merge_objects(base, mine, theirs, at, changes, &shown);
    }
    if ours == base {
        changes.push(format!("{}: changed", shown(at)));
        *ours = theirs.clone();
    } else {
        changes.push(format!(
            "{}: changed by you and by the definition; yours stays",
            shown(at)
        ));
    }
}

fn merge_objects(
    base: &Map<String, Value>,
    mine: &mut Map<String, Value>,
    theirs: &Map<String, Value>,
    at: &mut Vec<String>,
    changes: &mut Vec<String>,
    shown: &dyn Fn(&[String]) -> String,
) {
    for (name, value) in theirs {
        at.push(name.clone());
        match (base.get(name), mine.get_mut(name)) {
            (Some(before), Some(own)) => merge(before, own, value, at, changes),
            (Some(before), None) if before != value => changes.push(format!(
                "{}: changed, but you took it out; it stays out",
                shown(at)
            )),
            (Some(_), None) => {}
            (None, Some(own)) if own != value => changes.push(format!(
                "{}: new, but you have one already; yours stays",
                shown(at)
            )),
            (None, Some(_)) => {}
            (None, None) => {
                changes.push(format!("{}: new", shown(at)));
                mine.insert(name.clone(), value.clone());
            }
        }
        at.pop();
    }
    for (name, before) in base.iter().filter(|(n, _)| !theirs.contains_key(*n)) {
        at.push(name.clone());
        match mine.get(name) {
            Some(own) if own == before => {
                changes.push(format!("{}: gone", shown(at)));
                mine.shift_remove(name);
            }
            Some(_) => changes.push(format!(
                "{}: gone, but you changed it; yours stays",
                shown(at)
            )),
            None => {}
        }
        at.pop();
    }
}
