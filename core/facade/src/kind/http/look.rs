//! What a description offers.

use indexmap::IndexMap;
use porch_contract::{Finding, Operation, Severity};
use porch_describe::{Described, describe};
use porch_odata::Call;
use serde_json::Value;

use crate::Files;
use crate::look::{Look, LookField, LookOperation, fields};
use crate::source::Source;

/// A description as it was read.
pub(super) struct Read {
    pub(super) described: Described,
    /// How operations are called, where the definition says more of it than method and path.
    pub(super) calls: IndexMap<String, Call>,
    /// What was found on the way.
    pub(super) findings: Vec<Finding>,
}

/// Reads a description, or what it is made of.
pub(super) fn described(source: &Source) -> Result<Read, Box<Finding>> {
    let text = source.main_text();
    if !porch_odata::is_metadata(text) {
        return read(source).map(|(described, findings)| Read {
            described,
            calls: IndexMap::new(),
            findings,
        });
    }
    let service = porch_odata::read(text, &source.main, &source.address)?;
    let made = Source {
        files: Files::from([(source.main.clone(), service.description)]),
        ..source.clone()
    };
    let (mut described, more) = read(&made)?;
    described.standard = service.standard;
    let mut findings = service.findings;
    // What was made here has places of its own, which nobody could look at.
    findings.extend(more.into_iter().map(|f| Finding {
        line: 0,
        column: 0,
        pointer: String::new(),
        ..f
    }));
    Ok(Read {
        described,
        calls: service.calls,
        findings,
    })
}

fn read(source: &Source) -> Result<(Described, Vec<Finding>), Box<Finding>> {
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
    let Read {
        described,
        calls,
        mut findings,
    } = described(source)?;
    let contract = &described.contract;
    let operations = contract.operations.values();
    let mut room = MAX_FIELDS;
    let operations = operations
        .map(|o| shown(&described, calls.get(&o.id), (o, source.made), &mut room))
        .collect();
    if room == 0 {
        let message = format!("of later operations no fields are listed: {MAX_FIELDS} are");
        findings.push(Finding::new(
            Severity::Note,
            &source.main,
            Default::default(),
            message,
        ));
    }
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

/// So many fields of bodies are listed for all operations together.
const MAX_FIELDS: usize = 400_000;

/// The fields of a body, as long as there is room for them.
fn listed(root: &Value, schema: &Value, room: &mut usize) -> Vec<LookField> {
    if *room == 0 {
        return Vec::new();
    }
    let mut all = fields(root, schema);
    all.truncate(*room);
    *room -= all.len();
    all
}

fn shown(
    described: &Described,
    call: Option<&Call>,
    (o, made): (&Operation, bool),
    room: &mut usize,
) -> LookOperation {
    let contract = &described.contract;
    let parameters = o.parameters.iter().map(|p| LookField {
        name: p.name.clone(),
        kind: contract.view(&p.schema).kind(),
        required: p.required,
    });
    let mut inputs: Vec<LookField> = parameters.collect();
    if let Some((schema, _)) = &o.body {
        inputs.extend(listed(&contract.document, schema, room));
    }
    let upstream = described.operations.get(&o.id);
    let reason = match (call, upstream.and_then(|u| u.path.as_ref())) {
        (Some(call), _) => format!("the backend has it as {} {}", call.method, call.path),
        (None, Some(path)) => format!("the backend has it as {} {path}", o.method),
        _ if made => "as it was called".into(),
        _ => "as the definition has it".into(),
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
            .map_or_else(Vec::new, |s| listed(&contract.document, s, room)),
        ..LookOperation::default()
    }
}
