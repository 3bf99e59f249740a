//! Looking at a definition: what it offers, and what it would look like as REST.

use porch_contract::{Finding, SchemaView, Severity};
use serde::Serialize;
use serde_json::Value;

/// What a definition offers.
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[derive(Clone, Debug, Default, Serialize)]
pub struct Look {
    /// `soap`, `grpc` or `http`.
    pub kind: &'static str,
    /// The definition's title.
    pub title: String,
    /// What it says of itself.
    pub documentation: String,
    /// Addresses it names.
    pub addresses: Vec<String>,
    /// Its ports, for SOAP: the same operations may be called through several.
    pub ports: Vec<porch_soap::Port>,
    /// Its operations.
    pub operations: Vec<LookOperation>,
    /// What was found on the way.
    pub findings: Vec<LookFinding>,
}

/// One operation and its proposed REST shape.
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[derive(Clone, Debug, Default, Serialize)]
pub struct LookOperation {
    /// Proposed `operationId`.
    pub id: String,
    /// Proposed method.
    pub method: String,
    /// Proposed path.
    pub path: String,
    /// Name in the definition.
    pub source: String,
    /// How it is called: `SOAP 1.1 document/literal`; empty for HTTP.
    pub style: String,
    /// Whether it can be called.
    pub available: bool,
    /// Why not.
    pub why: String,
    /// What JSON cannot carry.
    pub losses: Vec<String>,
    /// Why this shape was proposed.
    pub reason: String,
    /// What the definition says of it.
    pub documentation: String,
    /// Members of its input: name, type, required.
    pub inputs: Vec<LookField>,
    /// Members of its output.
    pub outputs: Vec<LookField>,
    /// Names of its declared faults.
    pub faults: Vec<String>,
}

/// One member of an input or output.
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[derive(Clone, Debug, Serialize)]
pub struct LookField {
    /// Name.
    pub name: String,
    /// Type in words.
    #[serde(rename = "type")]
    pub kind: String,
    /// Whether it must be there.
    pub required: bool,
}

/// A finding as `look` shows it.
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[derive(Clone, Debug, Serialize)]
pub struct LookFinding {
    /// How bad it is.
    pub severity: Severity,
    /// What was found.
    pub message: String,
    /// File, line and column.
    #[serde(rename = "where")]
    pub place: String,
    /// What to do.
    pub help: String,
}

impl From<Finding> for LookFinding {
    fn from(f: Finding) -> Self {
        Self {
            severity: f.severity,
            place: f.place(),
            message: f.message,
            help: f.help,
        }
    }
}

/// The members of a schema, as they are shown.
pub(crate) fn fields(root: &Value, schema: &Value) -> Vec<LookField> {
    SchemaView::new(root, schema)
        .fields()
        .into_iter()
        .map(|f| LookField {
            name: f.name,
            kind: f.kind,
            required: f.required,
        })
        .collect()
}
