//! OData services, known by their metadata: CSDL in XML, of OData v2 and v3 (MC-CSDL) and of v4 (OData CSDL XML 4.01).
//!
//! What comes of it is a description (OpenAPI 3.1, as JSON) with REST paths, and for each of its operations how the service is
//! called: keys in parentheses, literals as the version writes them (OData URL Conventions 4.01 §5.1.1.6), JSON demanded.
//!
//! Metadata is foreign: depth, nodes and everything that refers to something are bounded, and what cannot be published is a
//! finding with its place, while the rest goes on.

#![forbid(unsafe_code)]
#![warn(missing_docs)]

mod build;
mod calls;
mod model;
mod names;
mod operations;
mod read;
mod schemas;
mod types;

use indexmap::IndexMap;
use porch_contract::{Finding, Position, Severity};
use serde_json::{Map, Value};

/// A service, read from its metadata.
#[derive(Debug)]
pub struct Service {
    /// Its description: an OpenAPI 3.1 document, as JSON.
    pub description: String,
    /// How its operations are called, by `operationId`.
    pub calls: IndexMap<String, Call>,
    /// The standard that it keeps to, as in `OData 4.0`.
    pub standard: String,
    /// What was found on the way.
    pub findings: Vec<Finding>,
}

/// How an operation is called.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Call {
    /// The method there.
    pub method: String,
    /// The path there, with variables.
    pub path: String,
    /// What is sent, as documents say it: `path`, `query`, `headers`.
    pub send: Map<String, Value>,
    /// What is made of the answer, where it is not passed on.
    pub reply: Option<Value>,
}

/// Where metadata came from.
pub(crate) struct Origin<'a> {
    text: &'a str,
    file: &'a str,
    address: &'a str,
}

impl Origin<'_> {
    /// A finding at an offset.
    pub(crate) fn found(&self, severity: Severity, at: usize, message: String) -> Finding {
        let before = &self.text[..self.text.floor_char_boundary(at)];
        let at = Position {
            line: before.matches('\n').count() + 1,
            column: before.chars().rev().take_while(|c| *c != '\n').count() + 1,
        };
        Finding::new(severity, self.file, at, message)
    }
}

/// Whether a text is OData metadata: by the namespace of its root (OData CSDL XML 4.01 §3.1; MC-EDMX §2.1).
pub fn is_metadata(text: &str) -> bool {
    // The namespaces stand in the root's tag.
    let head = &text[..text.floor_char_boundary(4096)];
    head.starts_with('<') && read::PACKAGES.iter().any(|n| head.contains(n))
}

/// Reads metadata; `address` is where it came from, when it was fetched.
///
/// # Errors
/// Why it is none that can be read.
pub fn read(text: &str, file: &str, address: &str) -> Result<Service, Box<Finding>> {
    let model = read::model(text, file)?;
    Ok(build::service(
        &model,
        &Origin {
            text,
            file,
            address,
        },
    ))
}
