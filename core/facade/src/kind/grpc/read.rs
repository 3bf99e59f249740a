//! Reading the `.proto` files or the descriptor set that a backend's document names.

use porch_contract::{Finding, Severity, Step, suggest};

use super::Described;
use crate::Files;
use crate::documents::BackendDoc;
use crate::read::{Document, beside};

/// The files of a gRPC definition: those below a folder, or one file with those around it; by their paths below that.
pub(crate) fn files_of(files: &Files, path: &str) -> Files {
    let path = path.trim_end_matches('/');
    let folder = folder_of(files, path);
    let single = files
        .get(path)
        .is_some_and(|t| porch_grpc::read::descriptor_set(t).is_some());
    let near = files.iter().filter(|(n, _)| {
        if single {
            n.as_str() == path
        } else {
            n.starts_with(&folder)
        }
    });
    let is_part = |text: &str| {
        porch_grpc::read::is_definition(text) || porch_grpc::read::is_service_config(text)
    };
    near.filter(|(_, t)| is_part(t))
        .map(|(n, t)| (n[folder.len()..].to_owned(), t.clone()))
        .collect()
}

/// The definition; `Err` holds why there is none.
pub(super) fn definition(
    files: &Files,
    backend: &Document<BackendDoc>,
) -> Result<Described, Box<Finding>> {
    let error = |key: &str, message: String, help: String| {
        let at = backend.node.locate(&[Step::Key(key.into())], false);
        Box::new(Finding::error(&backend.file, at, message).help(help))
    };
    let Some(name) = &backend.doc.definition else {
        let help = "add `definition: FOLDER` with its .proto files, or a descriptor set".to_owned();
        return Err(error(
            "kind",
            "a gRPC backend needs its definition".into(),
            help,
        ));
    };
    let path = beside(&backend.file, name.trim_end_matches('/'));
    let found = files_of(files, &path);
    if found.is_empty() {
        let near = suggest(&path, files.keys().map(String::as_str))
            .map_or_else(String::new, |n| format!("did you mean “{n}”?"));
        return Err(error(
            "definition",
            format!("there is no .proto file and no descriptor set at “{path}”"),
            near,
        ));
    }
    match porch_grpc::read(&found, &|_, _| ()) {
        Ok(mut descriptors) => {
            let folder = folder_of(files, &path);
            for finding in &mut descriptors.findings {
                if !finding.file.is_empty() {
                    finding.file = format!("{folder}{}", finding.file);
                }
                // A rule that cannot be followed is not followed; what the facade publishes does not depend on it.
                finding.severity = finding.severity.min(Severity::Warning);
            }
            Ok(Described { descriptors })
        }
        Err(mut finding) => {
            finding.file = format!("{}{}", folder_of(files, &path), finding.file);
            Err(finding)
        }
    }
}

/// The files that the definition may be read from.
pub(super) fn sources(files: &Files, backend: &Document<BackendDoc>) -> Vec<String> {
    let Some(name) = &backend.doc.definition else {
        return Vec::new();
    };
    let path = beside(&backend.file, name.trim_end_matches('/'));
    let folder = folder_of(files, &path);
    files_of(files, &path)
        .into_keys()
        .map(|n| format!("{folder}{n}"))
        .collect()
}

/// The folder that a definition's files are named from, with a slash behind it.
fn folder_of(files: &Files, path: &str) -> String {
    let folder = if files.contains_key(path) {
        path.rsplit_once('/').map_or("", |(f, _)| f)
    } else {
        path
    };
    if folder.is_empty() {
        String::new()
    } else {
        format!("{folder}/")
    }
}
