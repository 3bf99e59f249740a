//! What a description offers.

use porch_contract::{Finding, Operation, Severity};
use porch_describe::{Described, describe};
use serde_json::Value;

use crate::look::{Look, LookField, LookOperation, fields};
use crate::source::Source;

/// A description as it was read, and what was found on the way.
pub(super) fn described(source: &Source) -> Result<(Described, Vec<Finding>), Box<Finding>> {
    let (described, mut findings) = describe(&source.files, &source.main, &source.address);
    match described {
        Some(described) => {
            if source.made {
                findings.retain(|f| f.severity > Severity::Note);
            }
            for words in &described.demanded {
                let message = format!("the backend demands of its callers: {words}");
                let at = Default::default();
                let help = "add it below `credentials: calling:` of the backend's document";
                let note = Finding::new(Severity::Note, &source.main, at, message);
                findings.push(note.help(help));
            }
            for known in &source.credentials {
                let place = known.credential.place();
                let message = format!("{place} of the sample: kept as a secret of the backend");
                let at = Default::default();
                let note = Finding::new(Severity::Note, &source.main, at, message);
                findings.push(note.help("its value stands in no document"));
            }
            if described.servers.is_empty() && !source.made {
                let message = "it names no address of the backend that could be called";
                let help = "give one with `--address`, or write it into the backend's document";
                let at = Default::default();
                let note = Finding::new(Severity::Note, &source.main, at, message);
                findings.push(note.help(help));
            }
            Ok((described, findings))
        }
        None => Err(Box::new(findings.into_iter().next().unwrap_or_else(|| {
            let message = "this is no OpenAPI document";
            Finding::error(&source.main, Default::default(), message)
        }))),
    }
}

pub(super) fn look(source: &Source) -> Result<Look, Box<Finding>> {
    let (described, findings) = described(source)?;
    let contract = &described.contract;
    let operations = contract.operations.values();
    let operations = operations
        .map(|o| shown(&described, o, source.made))
        .collect();
    let documentation = contract.document.pointer("/info/description");
    Ok(Look {
        kind: super::NAME,
        title: contract.title.clone(),
        documentation: documentation
            .and_then(Value::as_str)
            .unwrap_or_default()
            .to_owned(),
        ports: Vec::new(),
        operations,
        findings: findings.into_iter().map(Into::into).collect(),
        addresses: described.servers,
    })
}

fn shown(described: &Described, o: &Operation, made: bool) -> LookOperation {
    let contract = &described.contract;
    let parameters = o.parameters.iter().map(|p| LookField {
        name: p.name.clone(),
        kind: contract.view(&p.schema).kind(),
        required: p.required,
    });
    let mut inputs: Vec<LookField> = parameters.collect();
    if let Some((schema, _)) = &o.body {
        inputs.extend(fields(&contract.document, schema));
    }
    let upstream = described.operations.get(&o.id);
    let reason = match upstream.and_then(|u| u.path.as_ref()) {
        Some(path) => format!("the backend has it as {} {path}", o.method),
        None if made => "as it was called".into(),
        None => "as the definition has it".into(),
    };
    LookOperation {
        id: o.id.clone(),
        method: o.method.clone(),
        path: o.path.to_string(),
        source: o.id.clone(),
        available: true,
        reason,
        documentation: o.summary.clone(),
        inputs,
        outputs: o
            .reply
            .as_ref()
            .map_or_else(Vec::new, |s| fields(&contract.document, s)),
        ..LookOperation::default()
    }
}
