//! A facade's contract, edited elsewhere and read in again: the wiring stays with its operations.

use std::collections::{HashMap, HashSet};

use porch_contract::{Contract, Finding, Harm, Node, Operation, Severity, Step, compare};
use serde_json::Value;

use super::Updated;
use super::operations::with_new;
use crate::derive::Wanted;
use crate::reading::derive_as;
use crate::source::Source;
use crate::yaml::to_yaml;
use crate::{Document, Documents, FacadeDoc, Files};

/// Puts an edited contract in the place of a facade's own.
pub(super) fn edited(
    current: &Files,
    documents: &Documents,
    name: &str,
    new: &Source,
) -> Result<Updated, Box<Finding>> {
    let facade = documents.facades.get(name).ok_or_else(|| {
        let broken = documents.findings.iter();
        let broken = broken.clone().find(|f| f.severity == Severity::Error);
        let missing = || {
            let message = format!("there is no facade “{name}” among the files");
            Finding::error("", Default::default(), message)
                .help("give its name with --name, and its folder with -o")
        };
        Box::new(broken.cloned().unwrap_or_else(missing))
    })?;
    let path = crate::read::beside(&facade.file, &facade.doc.contract);
    let was = match current.get(&path) {
        Some(text) => contract(&path, text)?,
        None => {
            let message = format!("there is no contract “{path}” to put another in place of");
            return Err(Box::new(Finding::error(&path, Default::default(), message)));
        }
    };
    its_own(new, facade)?;
    let (text, now, findings) = read(new, name)?;
    let mut changes = Vec::new();
    let mut files = Files::new();
    let wired = current.get(&facade.file).cloned().unwrap_or_default();
    let wired = follow(wired, facade, &was, &now, &mut changes);
    if current.get(&facade.file) != Some(&wired) {
        files.insert(facade.file.clone(), wired);
    }
    for change in compare(&was, &now) {
        let harm = match change.harm {
            Harm::Breaks => "breaks callers: ",
            Harm::Adds | Harm::Tells => "",
        };
        changes.push(match change.operation.as_str() {
            "" => format!("{harm}{}", change.what),
            id => format!("{id}: {harm}{}", change.what),
        });
    }
    if current.get(&path) != Some(&text) {
        files.insert(path, text);
    }
    Ok(Updated {
        files,
        removed: Vec::new(),
        changes,
        findings,
    })
}

fn contract(file: &str, text: &str) -> Result<Contract, Box<Finding>> {
    let node = Node::parse(text).map_err(|e| Box::new(Finding::error(file, e.at, e.message)))?;
    let (contract, findings) = porch_contract::contract_of(file, &node);
    contract.ok_or_else(|| {
        let message = "this is no contract that can be read";
        let none = || Finding::error(file, Default::default(), message);
        Box::new(findings.into_iter().next().unwrap_or_else(none))
    })
}

/// A description of the backend is not the facade's contract: its paths are others.
fn its_own(new: &Source, facade: &Document<FacadeDoc>) -> Result<(), Box<Finding>> {
    let Ok(node) = Node::parse(new.main_text()) else {
        return Ok(());
    };
    let given = node.to_value();
    let server = given.pointer("/servers/0/url").and_then(Value::as_str);
    let base = facade.doc.base.trim_end_matches('/');
    let Some(server) = server.map(|s| s.trim_end_matches('/')) else {
        return Ok(());
    };
    let path = match server.split_once("://") {
        Some((_, rest)) => rest.find('/').map_or("", |at| &rest[at..]),
        None => server,
    };
    if path == base || path.is_empty() && !server.contains("://") {
        return Ok(());
    }
    let message = format!(
        "this describes what is at “{server}”, and the facade “{}” is at “{base}”: it is not its contract",
        facade.doc.name
    );
    let help = format!(
        "where it is, write `servers: [{{ url: {base} }}]` into it; a backend's description is derived from under another name"
    );
    Err(Box::new(
        Finding::error(&new.main, Default::default(), message).help(help),
    ))
}

/// The edited contract: as it was written where it is a contract as it stands, else made one.
fn read(new: &Source, name: &str) -> Result<(String, Contract, Vec<Finding>), Box<Finding>> {
    let wanted = Wanted {
        name,
        calls_nothing: true,
        ..Wanted::default()
    };
    let derived = derive_as(new, &wanted)?;
    let file = format!("{name}.openapi.yaml");
    let made = derived.files.get(&file).cloned().unwrap_or_default();
    let understood = contract(&file, &made)?;
    if let Some(text) = new.files.get(&new.main)
        && let Ok(node) = Node::parse(text.trim_start_matches('\u{feff}'))
        && node
            .get("openapi")
            .and_then(Node::text)
            .is_some_and(|v| v.starts_with("3.1"))
        && let (Some(own), found) = porch_contract::contract_of(&new.main, &node)
        && found.iter().all(|f| f.severity < Severity::Warning)
        && own.operations.keys().eq(understood.operations.keys())
        && within(&node.to_value())
    {
        // What is told of it is about what was made of it.
        return Ok((text.clone(), own, Vec::new()));
    }
    let mut findings = derived.findings;
    let message = "the contract is written anew: as it was edited it is no document of OpenAPI 3.1 in one piece";
    let note = Finding::new(Severity::Note, &new.main, Default::default(), message);
    findings.push(note);
    Ok((made, understood, findings))
}

/// Whether all references of a document lead to something in it.
fn within(document: &Value) -> bool {
    let mut open = vec![document];
    while let Some(value) = open.pop() {
        match value {
            Value::Object(members) => {
                if let Some(Value::String(to)) = members.get("$ref")
                    && !to.starts_with('#')
                {
                    return false;
                }
                open.extend(members.values());
            }
            Value::Array(items) => open.extend(items),
            _ => {}
        }
    }
    true
}

/// The facade's text with operations renamed that have another id now, and those that are new.
fn follow(
    mut text: String,
    facade: &Document<FacadeDoc>,
    was: &Contract,
    now: &Contract,
    changes: &mut Vec<String>,
) -> String {
    let place = |o: &Operation| (o.method.clone(), o.path.to_string());
    let known =
        |id: &String| was.operations.contains_key(id) || facade.doc.operations.contains_key(id);
    let strangers = now.operations.values().filter(|o| !known(&o.id));
    let strangers: HashMap<_, &Operation> = strangers.map(|o| (place(o), o)).collect();
    let mut renamed: HashSet<&str> = HashSet::new();
    // From the end, so that what is replaced moves no place that is still needed.
    let mut moves = Vec::new();
    for id in facade.doc.operations.keys() {
        let Some(before) = was
            .operations
            .get(id)
            .filter(|_| !now.operations.contains_key(id))
        else {
            continue;
        };
        match strangers.get(&place(before)) {
            Some(other) => {
                renamed.insert(&other.id);
                moves.push((id, &other.id));
            }
            None => changes.push(format!(
                "the contract no longer has “{id}” ({} {}): its wiring stays until you take it out",
                before.method, before.path
            )),
        }
    }
    let mut follows = vec![false; moves.len()];
    for ((id, other), follows) in moves.iter().zip(&mut follows).rev() {
        *follows = called_otherwise(&mut text, facade, id, other).is_some();
    }
    for ((id, other), follows) in moves.iter().zip(follows) {
        let what = match follows {
            true => "its wiring follows",
            false => "call its wiring so by hand",
        };
        changes.push(format!("“{id}” is called “{other}” now: {what}"));
    }
    let fresh = now.operations.keys();
    let fresh = fresh.filter(|id| !known(id) && !renamed.contains(id.as_str()));
    let fresh: Vec<(String, Value)> = fresh
        .map(|id| (id.clone(), serde_json::json!({})))
        .collect();
    let mine: Vec<String> = facade.doc.operations.keys().cloned().collect();
    let fresh_refs: Vec<&(String, Value)> = fresh.iter().collect();
    let with = with_new(text.clone(), &fresh_refs, &mine, &mut Vec::new());
    // A facade that is written in one line, say, has no place for a line more.
    let fits = Node::parse(&with).is_ok_and(|node| {
        let value = node.to_value();
        fresh
            .iter()
            .all(|(id, _)| value["operations"].get(id).is_some())
    });
    for (id, _) in &fresh {
        changes.push(match fits {
            true => format!("“{id}” is new: it answers with examples until it has a `call`"),
            false => format!("“{id}” is new: write it below `operations:` by hand"),
        });
    }
    if fits { with } else { text }
}

/// A facade's text in which an operation has another id, everything else as it was.
fn called_otherwise(
    text: &mut String,
    facade: &Document<FacadeDoc>,
    id: &str,
    other: &str,
) -> Option<()> {
    let path = [Step::Key("operations".into()), Step::Key(id.into())];
    let at = facade.node.locate(&path, true);
    let mut offset = 0;
    for line in text.split_inclusive('\n').take(at.line.checked_sub(1)?) {
        offset += line.len();
    }
    let column = at.column.checked_sub(1)?;
    let line = text.get(offset..)?;
    offset += line.char_indices().nth(column)?.0;
    let rest = text.get(offset..)?;
    let quote = rest.chars().next().filter(|c| ['"', '\''].contains(c));
    let quote = quote.map_or(0, char::len_utf8);
    if !rest[quote..].starts_with(id) {
        return None;
    }
    // Quotes are part of how it was written: the new name has those that it needs.
    let written = to_yaml(&serde_json::json!({ other: 1 }));
    let written = written.trim_end().strip_suffix(": 1")?;
    text.replace_range(offset..offset + id.len() + 2 * quote, written);
    Some(())
}
