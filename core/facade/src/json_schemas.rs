//! The JSON Schemas of documents, for editors.

use indexmap::IndexMap;
use serde_json::{Value, json};

use crate::documents::{BackendDoc, EnvironmentDoc, FacadeDoc};
use crate::kind::standard;

/// The JSON Schemas (draft 2020-12) of all documents, by kind.
pub fn json_schemas() -> IndexMap<&'static str, Value> {
    let mut backend = schemars::schema_for!(BackendDoc).to_value();
    if let Some(kind) = backend.pointer_mut("/properties/kind") {
        kind["enum"] = json!(standard::kinds().names());
    }
    IndexMap::from([
        ("backend/1", backend),
        ("facade/1", schemars::schema_for!(FacadeDoc).to_value()),
        (
            "environment/1",
            schemars::schema_for!(EnvironmentDoc).to_value(),
        ),
    ])
}
