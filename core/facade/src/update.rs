//! Deriving once more after a definition has changed: the publisher's edits stay, and every difference is listed.
//!
//! Three states are held against each other: what was derived from the old definition, what the publisher made of it, and
//! what is derived from the new one. Where only one side changed, that change is taken; where both did, the publisher's
//! stays and is named.

use porch_contract::{Finding, Severity};
use serde_json::Value;

use crate::derive::{Derived, Wanted};
use crate::documents::{FieldNames, Names};
use crate::reading::derive_as;
use crate::source::Source;
use crate::{BackendDoc, Document, Documents, FacadeDoc, Files};

mod contract;
mod edited;
mod operations;

use contract::merged_contract;
use operations::{called, gone, is_same, keep_ids, operations, uses, with_new};

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
/// `current` are the files as the publisher has them; `name` is that of the backend. An OpenAPI document is the facade's own
/// contract, edited elsewhere: it takes its place, and the wiring stays with its operations.
///
/// # Errors
/// When the backend or its old definition is not among the files, or the new definition cannot be read.
pub fn update(current: &Files, name: &str, new: &Source) -> Result<Updated, Box<Finding>> {
    let documents = Documents::read(current);
    if porch_describe::is_description(new.main_text()) && !new.made {
        return edited::edited(current, &documents, name, new);
    }
    defined(current, &documents, name, new)
}

/// The same for a definition of the backend.
fn defined(
    current: &Files,
    documents: &Documents,
    name: &str,
    new: &Source,
) -> Result<Updated, Box<Finding>> {
    let (backend, facade, old_main) = as_it_is(documents, name)?;
    let at = backend.file.rfind('/').map_or(0, |slash| slash + 1);
    let folder = &backend.file[..at];
    let wanted = Wanted {
        name,
        address: backend.doc.address.as_ref().and_then(|a| a.first()),
        names: names_of(backend, facade),
        ..Wanted::default()
    };
    let before = old_source(current, &old_main);
    let (old, base_ids, derived) = both(&before, new, &wanted)?;
    let mut changes = Vec::new();
    let mut files = Files::new();
    let mut removed = Vec::new();
    definitions(
        current,
        &old_main,
        &derived,
        name,
        folder,
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
    let is_known = |op: &(String, Value)| base_ids.iter().any(|b| is_same(b, op));
    let fresh: Vec<_> = theirs_ids.iter().filter(|op| !is_known(op)).collect();
    gone(facade, &base_ids, &theirs_ids, &mut changes);
    let contract = merged_contract(
        current,
        &contract_path,
        &old,
        &derived,
        name,
        (&left_out, &mine),
        &mut changes,
    )?;
    if let Some(text) = contract {
        files.insert(contract_path, text);
    }
    let text = current.get(&facade.file).cloned().unwrap_or_default();
    let text = with_new(text, &fresh, &mine, &mut changes);
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

/// What is derived of the old definition with its operations, and of the new one, where what was there comes first.
fn both(old: &Source, new: &Source, wanted: &Wanted<'_>) -> Result<Both, Box<Finding>> {
    let old = derive_as(old, wanted)?;
    let base = operations(&old.files[&format!("{}.facade.yaml", wanted.name)]);
    let first: Vec<String> = base.iter().map(|(_, w)| called(w).to_owned()).collect();
    let first = Wanted {
        first: &first,
        ..*wanted
    };
    let mut derived = derive_as(new, &first)?;
    // It is no part of the definition, and the backend's document is the publisher's.
    derived.files.remove(crate::reading::TRUST);
    keep_ids(&base, &mut derived, wanted.name);
    Ok((old, base, derived))
}

/// Two derivations, and the operations of the first.
type Both = (Derived, Vec<(String, Value)>, Derived);

/// How names were made when the documents were derived first.
fn names_of(backend: &Document<BackendDoc>, facade: &Document<FacadeDoc>) -> Names {
    match facade.doc.json.field_names {
        _ if backend.doc.kind == crate::kind::soap::NAME => backend.doc.names,
        FieldNames::Proto => Names::AsIs,
        FieldNames::Json => Names::Camel,
    }
}

/// A backend, its facade and the file that the definition begins with.
type Now<'d> = (&'d Document<BackendDoc>, &'d Document<FacadeDoc>, String);

/// A backend and its facade as the publisher has them, and where the backend's definition begins.
fn as_it_is<'d>(documents: &'d Documents, name: &str) -> Result<Now<'d>, Box<Finding>> {
    let missing = |what: String| {
        // What cannot be read is not missing: its mistake is what the publisher can mend.
        let broken = documents
            .findings
            .iter()
            .find(|f| f.severity == Severity::Error);
        Box::new(broken.cloned().unwrap_or_else(|| {
            Finding::error("", Default::default(), what)
                .help("derive it first, into another folder or under another name")
        }))
    };
    let backend = documents
        .backends
        .get(name)
        .ok_or_else(|| missing(format!("there is no backend “{name}” among the files")))?;
    let facade = documents
        .facades
        .get(name)
        .ok_or_else(|| missing(format!("there is no facade “{name}” among the files")))?;
    let definition = backend.doc.definition.as_ref();
    let main = definition
        .map(|d| crate::read::beside(&backend.file, d))
        .ok_or_else(|| missing(format!("the backend “{name}” has no definition")))?;
    Ok((backend, facade, main))
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::derive;

    const BEFORE: &str = "syntax = \"proto3\";\npackage quay;\nmessage Berth { string id = 1; }\nservice Berths { rpc GetBerth(Berth) returns (Berth); }\n";

    fn source(text: &str) -> Source {
        Source::from_bytes("berths.proto", text.as_bytes(), None).expect("a definition")
    }

    fn derived() -> Files {
        let address = "http://127.0.0.1:1".to_owned();
        derive(&source(BEFORE), "berths", Some(&address), &[])
            .expect("derives")
            .files
    }

    fn with_more() -> Source {
        source(&BEFORE.replace(
            "returns (Berth);",
            "returns (Berth); rpc ListBerths(Berth) returns (Berth);",
        ))
    }

    #[test]
    fn a_new_operation_is_wired_and_the_rest_stays() {
        let mut files = derived();
        let facade = files.get_mut("berths.facade.yaml").expect("a facade");
        facade.push_str("# a remark of ours\n");
        let updated = update(&files, "berths", &with_more()).expect("updates");
        let text = &updated.files["berths.facade.yaml"];
        assert!(text.contains("quay.Berths/ListBerths"), "{text}");
        assert!(text.contains("# a remark of ours"), "{text}");
        let said = updated.changes.join("\n");
        assert!(said.contains("ListBerths is new"), "{said}");
    }

    #[test]
    fn what_an_operation_is_called_in_its_definition_tells_it_from_others() {
        let mut files = derived();
        let facade = files.get_mut("berths.facade.yaml").expect("a facade");
        *facade = facade.replace("    call:\n", "    admit: { limits: [] }\n    call:\n");
        // Another service comes before it in the order of names, and would take its id.
        let new = BEFORE.replace(
            "service Berths",
            "service Bays { rpc GetBerth(Berth) returns (Berth); }\nservice Berths",
        );
        let updated = update(&files, "berths", &source(&new)).expect("updates");
        let facade = &updated.files["berths.facade.yaml"];
        let value = porch_contract::Node::parse(facade)
            .expect("YAML")
            .to_value();
        let operations = value["operations"].as_object().expect("operations");
        assert_eq!(operations.len(), 2, "{facade}");
        assert_eq!(
            operations["getBerth"]["call"]["operation"],
            "quay.Berths/GetBerth"
        );
        assert!(operations["getBerth"].get("admit").is_some(), "{facade}");
        let (other, _) = operations.iter().nth(1).expect("another");
        assert!(facade.contains("quay.Bays/GetBerth"), "{facade}");
        let contract = &updated.files["berths.openapi.yaml"];
        for id in [
            "operationId: getBerth\n",
            &format!("operationId: {other}\n"),
        ] {
            assert_eq!(contract.matches(id).count(), 1, "{id}: {contract}");
        }
        let all: Files = files.into_iter().chain(updated.files).collect();
        let errors = crate::check(&all, "live");
        assert!(!porch_contract::has_errors(&errors), "{errors:?}");
    }

    #[test]
    fn a_contract_that_cannot_be_read_is_not_written_over() {
        let mut files = derived();
        files.insert("berths.openapi.yaml".into(), "paths: {a: [\n".into());
        let fault = update(&files, "berths", &with_more()).expect_err("refused");
        assert_eq!(fault.file, "berths.openapi.yaml", "{fault:?}");
    }

    #[test]
    fn a_facade_that_cannot_be_read_is_not_called_missing() {
        let mut files = derived();
        files.insert("berths.facade.yaml".into(), "operations: {a: [\n".into());
        let fault = update(&files, "berths", &with_more()).expect_err("refused");
        assert_eq!(fault.file, "berths.facade.yaml", "{fault:?}");
    }
}
