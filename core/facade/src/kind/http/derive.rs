//! Documents for an HTTP backend that is described by an OpenAPI document.

use porch_contract::Finding;
use serde_json::{Map, Value, json};

use super::look::contract;
use crate::Files;
use crate::derive::{BackendParts, Derived, Wanted, backend_doc, facade_doc};
use crate::source::Source;

pub(super) fn derive(source: &Source, wanted: &Wanted<'_>) -> Result<Derived, Box<Finding>> {
    let (contract, findings) = contract(source)?;
    let name = wanted.name;
    let wiring: Map<String, Value> = contract
        .operations
        .values()
        .filter(|o| wanted.takes(&o.id))
        .map(|o| {
            let call = json!({ "backend": name, "method": o.method, "path": o.path.to_string() });
            (o.id.clone(), json!({ "call": call }))
        })
        .collect();
    let server = contract
        .document
        .pointer("/servers/0/url")
        .and_then(Value::as_str)
        .filter(|u| u.starts_with("http://") || u.starts_with("https://"))
        .unwrap_or("http://127.0.0.1/");
    let operations = wiring.len();
    let files = Files::from([
        (
            format!("{name}.backend.yaml"),
            backend_doc(&BackendParts {
                name,
                title: &contract.title,
                kind: super::NAME,
                definition: None,
                address: wanted.address.unwrap_or(server),
                soap_headers: Map::new(),
            }),
        ),
        (
            format!("{name}.facade.yaml"),
            facade_doc(name, &contract.title, &format!("/{name}/v1"), wiring),
        ),
        (
            format!("{name}.openapi.yaml"),
            source.main_text().to_owned(),
        ),
    ]);
    Ok(Derived {
        files,
        operations,
        findings,
    })
}
