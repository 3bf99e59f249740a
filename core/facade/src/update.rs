//! Deriving once more after a definition has changed: the publisher's edits stay, and every difference is listed.
//!
//! Three states are held against each other: what was derived from the old definition, what the publisher made of it, and
//! what is derived from the new one. Where only one side changed, that change is taken; where both did, the publisher's
//! stays and is named.

use porch_contract::{Finding, Node};
use serde_json::{Map, Value};

use crate::derive::Derived;
use crate::reading::derive;
use crate::source::Source;
use crate::yaml::to_yaml;
use crate::{Documents, Files};

/// What became of the documents.
#[derive(Debug)]
pub struct Updated {
    /// The files to write, by path.
    pub files: Files,
    /// Files that the new definition no longer has.
    pub removed: Vec<String>,
    /// The differences, in words.
    pub changes: Vec<String>,
    /// What was found on the way.
    pub findings: Vec<Finding>,
}

/// Brings documents that were derived before up to a new definition.
///
/// `current` are the files as the publisher has them; `name` is that of the backend.
///
/// # Errors
/// When the backend or its old definition is not among the files, or the new definition cannot be read.
pub fn update(current: &Files, name: &str, new: &Source) -> Result<Updated, Box<Finding>> {
    let documents = Documents::read(current);
    let missing = |what: String| {
        Box::new(
            Finding::error("", Default::default(), what)
                .help("derive it first, into another folder or under another name"),
        )
    };
    let backend = documents
        .backends
        .get(name)
        .ok_or_else(|| missing(format!("there is no backend “{name}” among the files")))?;
    let facade = documents
        .facades
        .get(name)
        .ok_or_else(|| missing(format!("there is no facade “{name}” among the files")))?;
    let old_main = backend
        .doc
        .definition
        .as_ref()
        .map(|d| crate::read::beside(&backend.file, d))
        .ok_or_else(|| missing(format!("the backend “{name}” has no definition")))?;
    let folder = backend
        .file
        .rsplit_once('/')
        .map_or(String::new(), |(f, _)| format!("{f}/"));
    let old = derive(
        &old_source(current, &old_main),
        name,
        backend.doc.address.as_ref().and_then(|a| a.first()),
        &[],
    )?;
    // The operations that the publisher took, and those that are new.
    let base_ids = operations(&old.files[&format!("{name}.facade.yaml")]);
    let derived = derive(
        new,
        name,
        backend.doc.address.as_ref().and_then(|a| a.first()),
        &[],
    )?;
    let mut changes = Vec::new();
    let mut files = Files::new();
    let mut removed = Vec::new();
    definitions(
        current,
        &old_main,
        &derived,
        name,
        &folder,
        &mut files,
        &mut removed,
    );
    let contract_path = crate::read::beside(&facade.file, &facade.doc.contract);
    let theirs_ids = operations(&derived.files[&format!("{name}.facade.yaml")]);
    let mine: Vec<String> = facade.doc.operations.keys().cloned().collect();
    // An operation that was there before and that the publisher left out stays out.
    let left_out: Vec<&str> = base_ids
        .iter()
        .map(|(id, _)| id.as_str())
        .filter(|id| !mine.iter().any(|m| m == id) && !uses(facade, &base_ids, id))
        .collect();
    let fresh: Vec<&(String, Value)> = theirs_ids
        .iter()
        .filter(|(id, wiring)| {
            !base_ids
                .iter()
                .any(|(b, w)| b == id || called(w) == called(wiring))
        })
        .collect();
    for (id, wiring) in &base_ids {
        if !theirs_ids.iter().any(|(_, w)| called(w) == called(wiring)) {
            let still = if uses(facade, &base_ids, id) {
                format!(": “{id}” can no longer be called")
            } else {
                String::new()
            };
            changes.push(format!(
                "the definition no longer has {}{still}",
                called(wiring)
            ));
        }
    }
    let contract = merged_contract(
        current,
        &contract_path,
        &old,
        &derived,
        name,
        (&left_out, &mine),
        &mut changes,
    );
    if let Some(text) = contract {
        files.insert(contract_path, text);
    }
    let mut text = current.get(&facade.file).cloned().unwrap_or_default();
    for (id, wiring) in fresh {
        if mine.contains(id) {
            changes.push(format!(
                "{} is new, but “{id}” is the name of another operation already: wire it by hand",
                called(wiring)
            ));
            continue;
        }
        changes.push(format!("{} is new: wired as “{id}”", called(wiring)));
        text = appended(&text, id, wiring);
    }
    if current.get(&facade.file) != Some(&text) {
        files.insert(facade.file.clone(), text);
    }
    files.retain(|path, text| current.get(path) != Some(text));
    Ok(Updated {
        files,
        removed,
        changes,
        findings: derived.findings,
    })
}

/// The definition as it was derived from before.
fn old_source(current: &Files, old_main: &str) -> Source {
    let of_grpc = crate::kind::grpc::files_of(current, old_main);
    match of_grpc.keys().next().cloned() {
        Some(main) => Source {
            files: of_grpc,
            main,
            ..Source::default()
        },
        None => Source {
            files: current.clone(),
            main: old_main.to_owned(),
            ..Source::default()
        },
    }
}

/// The new definition's files in place of the old ones.
fn definitions(
    current: &Files,
    old_main: &str,
    derived: &Derived,
    name: &str,
    folder: &str,
    files: &mut Files,
    removed: &mut Vec<String>,
) {
    let own = |path: &str| {
        path.ends_with(".facade.yaml")
            || path.ends_with(".backend.yaml")
            || path.ends_with(".openapi.yaml")
    };
    let parts: Vec<(&String, &String)> = derived
        .files
        .iter()
        .filter(|(path, _)| !own(path))
        .collect();
    let main = parts
        .iter()
        .map(|(p, _)| p.as_str())
        .find(|p| p.ends_with(&format!("{name}.wsdl")) || p.ends_with(".descriptors.txt"))
        .unwrap_or_default();
    let below = format!("{}/", old_main.trim_end_matches('/'));
    if !current.contains_key(old_main) && current.keys().any(|p| p.starts_with(&below)) {
        // A gRPC definition is a folder.
        for (path, text) in &parts {
            let inner = path.split_once('/').map_or(path.as_str(), |(_, rest)| rest);
            files.insert(format!("{below}{inner}"), (*text).clone());
        }
        removed.extend(
            current
                .keys()
                .filter(|p| p.starts_with(&below) && !files.contains_key(*p))
                .cloned(),
        );
        return;
    }
    let old_folder = old_main
        .rsplit_once('/')
        .map_or(String::new(), |(f, _)| format!("{f}/"));
    let several = old_folder != folder;
    for (path, text) in &parts {
        let last = path.rsplit('/').next().unwrap_or(path);
        // The main file keeps the name that the backend gives it.
        let target = if path.as_str() == main {
            old_main.to_owned()
        } else {
            format!("{old_folder}{last}")
        };
        files.insert(target, (*text).clone());
    }
    if several {
        removed.extend(
            current
                .keys()
                .filter(|p| p.starts_with(&old_folder) && !files.contains_key(*p))
                .cloned(),
        );
    }
}

/// The operations of a derived facade with their wiring.
fn operations(text: &str) -> Vec<(String, Value)> {
    let value = Node::parse(text).map(|n| n.to_value()).unwrap_or_default();
    value
        .get("operations")
        .and_then(Value::as_object)
        .into_iter()
        .flatten()
        .map(|(k, v)| (k.clone(), v.clone()))
        .collect()
}

/// What a wiring calls.
fn called(wiring: &Value) -> &str {
    wiring
        .pointer("/call/operation")
        .and_then(Value::as_str)
        .unwrap_or_default()
}

/// Whether the publisher's facade still calls what an operation of the first derivation called.
fn uses(facade: &crate::Document<crate::FacadeDoc>, base: &[(String, Value)], id: &str) -> bool {
    let Some((_, wiring)) = base.iter().find(|(b, _)| b == id) else {
        return false;
    };
    facade
        .doc
        .operations
        .values()
        .any(|o| o.call.operation.as_deref() == Some(called(wiring)))
}

fn merged_contract(
    current: &Files,
    path: &str,
    old: &Derived,
    new: &Derived,
    name: &str,
    (left_out, mine): (&[&str], &[String]),
    changes: &mut Vec<String>,
) -> Option<String> {
    let read = |text: &str| Node::parse(text).map(|n| n.to_value()).unwrap_or_default();
    let file = format!("{name}.openapi.yaml");
    let (mut base, ours, mut theirs) = (
        read(&old.files[&file]),
        read(current.get(path)?),
        read(&new.files[&file]),
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
    (merged != ours).then(|| to_yaml(&merged))
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

/// A facade's text with one more operation at the end of `operations:`, everything else as it was.
fn appended(text: &str, id: &str, wiring: &Value) -> String {
    let block: String = to_yaml(&serde_json::json!({ id: wiring }))
        .lines()
        .map(|l| {
            if l.is_empty() {
                String::new()
            } else {
                format!("  {l}\n")
            }
        })
        .collect();
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
    out.push_str(&block);
    if !after.is_empty() {
        out.push_str(&after.join("\n"));
        out.push('\n');
    }
    out
}
