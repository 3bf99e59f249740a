//! What a WSDL offers.

use porch_soap::{Definition, JsonSchemas, propose};
use serde_json::{Value, json};

use crate::look::{Look, LookOperation, fields};

pub(super) fn look(definition: &Definition) -> Look {
    let shapes = propose::shapes(definition);
    let mut schemas = JsonSchemas::new(&definition.plan);
    let sides: Vec<(Value, Value)> = definition
        .operations
        .iter()
        .map(|o| {
            let mut of = |m: &Option<porch_soap::Message>| {
                m.as_ref().map_or(json!({}), |m| schemas.of(m.type_id))
            };
            (of(&o.input), of(&o.output))
        })
        .collect();
    let root = json!({ "components": { "schemas": schemas.schemas } });
    let operations = definition.operations.iter().zip(&shapes).zip(&sides).map(
        |((o, shape), (input, output))| LookOperation {
            id: shape.id.clone(),
            method: shape.method.to_owned(),
            path: shape.path.clone(),
            source: o.name.clone(),
            style: format!(
                "SOAP {} {}",
                if o.version == porch_soap::SoapVersion::V11 {
                    "1.1"
                } else {
                    "1.2"
                },
                o.style
            ),
            available: o.unavailable.is_none(),
            why: o.unavailable.clone().unwrap_or_default(),
            losses: o.losses.clone(),
            reason: shape.why.clone(),
            documentation: o.documentation.clone(),
            inputs: fields(&root, input),
            outputs: fields(&root, output),
            faults: o.faults.iter().map(|(_, m)| m.local.clone()).collect(),
        },
    );
    Look {
        kind: super::NAME,
        title: definition.title.clone(),
        documentation: definition.documentation.clone(),
        addresses: addresses(definition),
        ports: definition.ports.clone(),
        operations: operations.collect(),
        findings: definition
            .findings
            .iter()
            .cloned()
            .map(Into::into)
            .collect(),
    }
}

/// The addresses of all ports, each once.
fn addresses(definition: &Definition) -> Vec<String> {
    let mut all: Vec<String> = Vec::new();
    for port in definition.ports.iter().filter(|p| !p.address.is_empty()) {
        if !all.contains(&port.address) {
            all.push(port.address.clone());
        }
    }
    all
}
