//! Reading the WSDL that a backend's document names.

use std::collections::BTreeMap;
use std::sync::Arc;

use porch_contract::{Finding, Step, suggest};

use super::Wsdl;
use crate::Files;
use crate::documents::{BackendDoc, Names};
use crate::read::{Document, beside};

/// The definition; `Err` holds why there is none.
pub(super) fn definition(
    files: &Files,
    backend: &Document<BackendDoc>,
) -> Result<Wsdl, Box<Finding>> {
    let at = |key: &str| backend.node.locate(&[Step::Key(key.into())], false);
    let error = |key: &str, message: String, help: String| {
        Box::new(Finding::error(&backend.file, at(key), message).help(help))
    };
    let Some(name) = &backend.doc.definition else {
        let help = "add `definition: FILE` with its WSDL".to_owned();
        return Err(error(
            "kind",
            "a SOAP backend needs its definition".into(),
            help,
        ));
    };
    let path = beside(&backend.file, name);
    if !files.contains_key(&path) {
        let near = suggest(&path, files.keys().map(String::as_str))
            .map_or_else(String::new, |n| format!("did you mean “{n}”?"));
        return Err(error(
            "definition",
            format!("there is no file “{path}”"),
            near,
        ));
    }
    let reachable: Files = reachable(files, &path)
        .into_iter()
        .map(|(name, text)| (name.to_owned(), text.clone()))
        .collect();
    match porch_soap::read_port(&reachable, &path, backend.doc.port.as_deref()) {
        Ok(mut definition) => {
            if backend.doc.names == Names::Camel {
                definition.in_camel();
            }
            Ok(Wsdl {
                plan: Arc::new(std::mem::take(&mut definition.plan)),
                definition,
            })
        }
        // It is the document that names a port, not the definition.
        Err(finding) if backend.doc.port.is_some() && finding.message.contains("has no port") => {
            Err(error("port", finding.message.clone(), finding.help.clone()))
        }
        Err(finding) => Err(finding),
    }
}

/// The files that the definition may be read from.
pub(super) fn sources(files: &Files, backend: &Document<BackendDoc>) -> Vec<String> {
    let Some(name) = &backend.doc.definition else {
        return Vec::new();
    };
    let path = beside(&backend.file, name);
    reachable(files, &path)
        .into_keys()
        .map(str::to_owned)
        .collect()
}

/// The files that a definition can come to by its references, wherever they lie; no other file is read.
fn reachable<'f>(files: &'f Files, main: &str) -> BTreeMap<&'f str, &'f String> {
    let mut found = BTreeMap::new();
    let mut open = vec![main.to_owned()];
    while let Some(name) = open.pop() {
        let Some((name, text)) = files.get_key_value(&name) else {
            continue;
        };
        if found.insert(name.as_str(), text).is_some() {
            continue;
        }
        let references = porch_soap::localise::references(text);
        if references.is_empty() && (text.contains("import") || text.contains("include")) {
            // Not well-formed as it stands; the reader mends what can be mended, and may find references then.
            let near = files.keys().filter(|n| is_below(n, name) && is_schema(n));
            open.extend(near.cloned());
        }
        for (_, location) in references {
            let names = files.keys().map(String::as_str);
            open.extend(porch_soap::wsdl::find_name(names, name, &location).map(str::to_owned));
        }
    }
    found
}

fn is_below(name: &str, file: &str) -> bool {
    file.rsplit_once('/').is_none_or(|(folder, _)| {
        name.strip_prefix(folder)
            .is_some_and(|r| r.starts_with('/'))
    })
}

fn is_schema(name: &str) -> bool {
    let name = name.to_ascii_lowercase();
    [".wsdl", ".xsd", ".xml"]
        .iter()
        .any(|end| name.ends_with(end))
}
