//! What a gRPC definition offers.

use serde_json::{Value, json};

use crate::look::{Look, LookOperation, fields};
use crate::source::Source;

/// The names of its services, of which three at most are spelt out.
fn title(definition: &porch_grpc::Definition) -> String {
    let names: Vec<&str> = definition
        .services
        .iter()
        .map(|s| s.name.rsplit('.').next().unwrap_or(&s.name))
        .collect();
    if names.len() > 3 {
        format!(
            "{} and {} more services",
            names[..2].join(", "),
            names.len() - 2
        )
    } else {
        names.join(", ")
    }
}

pub(super) fn look(definition: &porch_grpc::Definition, source: &Source) -> Look {
    let shapes = porch_grpc::propose::shapes(definition);
    let types = &definition.types;
    let mut schemas = porch_grpc::Schemas::new(types);
    let sides: Vec<(Value, Value)> = shapes
        .iter()
        .filter_map(|s| definition.method(&s.calls))
        .map(|m| (schemas.of(m.input), schemas.of(m.output)))
        .collect();
    let root = json!({ "components": { "schemas": schemas.schemas } });
    let operations = shapes
        .iter()
        .zip(&sides)
        .filter_map(|(shape, (input, output))| {
            let method = definition.method(&shape.calls)?;
            let style = match (method.client_streaming, method.server_streaming) {
                (false, false) => "gRPC",
                (true, false) => "gRPC, messages streamed in",
                (false, true) => "gRPC, messages streamed out",
                (true, true) => "gRPC, messages streamed both ways",
            };
            Some(LookOperation {
                id: shape.id.clone(),
                method: shape.method.clone(),
                path: shape.path.clone(),
                source: shape.calls.clone(),
                style: style.to_owned(),
                available: true,
                why: String::new(),
                losses: Vec::new(),
                reason: shape.why.clone(),
                documentation: method.documentation.clone(),
                inputs: fields(&root, input),
                outputs: fields(&root, output),
                faults: Vec::new(),
            })
        });
    let documentation: Vec<&str> = definition
        .services
        .iter()
        .map(|s| s.documentation.as_str())
        .filter(|d| !d.is_empty())
        .collect();
    Look {
        kind: super::NAME,
        title: title(definition),
        documentation: documentation.join("\n"),
        addresses: Some(source.address.clone())
            .filter(|a| !a.is_empty())
            .into_iter()
            .collect(),
        ports: Vec::new(),
        operations: operations.collect(),
        findings: definition
            .findings
            .iter()
            .cloned()
            .map(Into::into)
            .collect(),
    }
}
