//! What an OpenAPI document offers.

use porch_contract::Finding;
use serde_json::Value;

use crate::look::{Look, LookField, LookOperation, fields};
use crate::source::Source;

pub(super) fn contract(
    source: &Source,
) -> Result<(porch_contract::Contract, Vec<Finding>), Box<Finding>> {
    let (contract, findings) = porch_contract::parse_source(&source.main, source.main_text());
    match contract {
        Some(contract) => Ok((contract, findings)),
        None => Err(Box::new(findings.into_iter().next().unwrap_or_else(|| {
            let message = "this is no OpenAPI document";
            Finding::error(&source.main, Default::default(), message)
        }))),
    }
}

pub(super) fn look(source: &Source) -> Result<Look, Box<Finding>> {
    let (contract, findings) = contract(source)?;
    let operations = contract.operations.values().map(|o| {
        let mut inputs: Vec<LookField> = o
            .parameters
            .iter()
            .map(|p| LookField {
                name: p.name.clone(),
                kind: contract.view(&p.schema).kind(),
                required: p.required,
            })
            .collect();
        if let Some((schema, _)) = &o.body {
            inputs.extend(fields(&contract.document, schema));
        }
        LookOperation {
            id: o.id.clone(),
            method: o.method.clone(),
            path: o.path.to_string(),
            source: o.id.clone(),
            available: true,
            reason: "as the definition has it".into(),
            documentation: o.summary.clone(),
            inputs,
            outputs: o
                .reply
                .as_ref()
                .map_or_else(Vec::new, |s| fields(&contract.document, s)),
            ..LookOperation::default()
        }
    });
    let servers = contract
        .document
        .get("servers")
        .and_then(Value::as_array)
        .into_iter()
        .flatten();
    let documentation = contract.document.pointer("/info/description");
    Ok(Look {
        kind: super::NAME,
        title: contract.title.clone(),
        documentation: documentation
            .and_then(Value::as_str)
            .unwrap_or_default()
            .to_owned(),
        ports: Vec::new(),
        addresses: servers
            .filter_map(|s| s.get("url")?.as_str().map(str::to_owned))
            .collect(),
        operations: operations.collect(),
        findings: findings.into_iter().map(Into::into).collect(),
    })
}
