//! The files that one facade stands on.

use crate::documents::BackendKind;
use crate::read::{beside, contract_of, grpc_files};
use crate::{Documents, Files};

/// The files that a facade stands on: its document, its contract, its backends and their definitions.
///
/// A release keeps them together, so that a facade is served exactly as it was checked. Gives `None` when there is no
/// such facade.
pub fn bundle(files: &Files, documents: &Documents, facade: &str) -> Option<Files> {
    let facade = documents.facades.get(facade)?;
    let mut names = vec![facade.file.clone(), contract_of(files, facade).0];
    for operation in facade.doc.operations.values() {
        let Some(backend) = documents.backends.get(&operation.call.backend) else {
            continue;
        };
        names.push(backend.file.clone());
        if let Some(definition) = &backend.doc.definition {
            let path = beside(&backend.file, definition.trim_end_matches('/'));
            if backend.doc.kind == BackendKind::Grpc {
                let folder = if files.contains_key(&path) {
                    path.rsplit_once('/')
                        .map_or(String::new(), |(f, _)| format!("{f}/"))
                } else {
                    format!("{path}/")
                };
                names.extend(
                    grpc_files(files, &path)
                        .into_keys()
                        .map(|n| format!("{folder}{n}")),
                );
                names.extend(backend.doc.trust.as_ref().map(|t| beside(&backend.file, t)));
                continue;
            }
            // Schemas that a WSDL imports lie beside it or below.
            let folder = path.rsplit_once('/').map_or("", |(f, _)| f);
            names.extend(
                files
                    .keys()
                    .filter(|n| n.ends_with(".xsd") && n.starts_with(folder))
                    .cloned(),
            );
            names.push(path);
        }
    }
    Some(
        names
            .into_iter()
            .filter_map(|n| files.get(&n).map(|t| (n.clone(), t.clone())))
            .collect(),
    )
}
