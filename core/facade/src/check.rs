//! Checking a whole set of files.

use porch_contract::{Finding, Severity};

use crate::compile::{Builder, Secrets};
use crate::{Documents, Files};

/// Everything that is wrong with a set of files, or worth knowing.
///
/// Addresses and secrets are those of the environment named `environment` where the files hold it; secrets are taken to be there.
pub fn check(files: &Files, environment: &str) -> Vec<Finding> {
    let documents = Documents::read(files);
    let mut builder = Builder::new(
        Secrets::Placeholder,
        documents.environments.get(environment).map(|e| &e.doc),
    );
    for name in documents.facades.keys() {
        builder.add_facade(files, &documents, name);
    }
    let mut findings = documents.findings.clone();
    findings.extend(builder.finish().1);
    let used: Vec<&str> = documents
        .facades
        .values()
        .flat_map(|f| f.doc.operations.values())
        .map(|o| o.call.backend.as_str())
        .collect();
    for (name, backend) in documents
        .backends
        .iter()
        .filter(|(name, _)| !used.contains(&name.as_str()))
    {
        findings.push(Finding::new(
            Severity::Note,
            &backend.file,
            backend.node.at,
            format!("no facade uses the backend “{name}”"),
        ));
    }
    findings
}
