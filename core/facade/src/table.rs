//! One operation as a table: the caller's fields beside the backend's.

use porch_contract::{Contract, Place, SchemaView};
use serde::Serialize;
use serde_json::{Value, json};

use crate::documents::BackendKind;
use crate::read::{contract_of, definition_of, grpc_definition_of};
use crate::{Documents, Files};

/// One row: a field on the caller's side, on the backend's, or on both.
#[derive(Clone, Debug, Serialize, PartialEq, Eq)]
pub struct Row {
    /// The caller's name for it, with its place: `path route`; empty when the caller has none.
    pub caller: String,
    /// Its type in the contract.
    pub caller_type: String,
    /// What happens to it: an expression, a constant, or `as it is`.
    pub what: String,
    /// The backend's name.
    pub backend: String,
    /// Its type in the definition.
    pub backend_type: String,
    /// Whether it must be there.
    pub required: bool,
}

/// The rows of an operation.
#[derive(Clone, Debug, Default, Serialize)]
pub struct Table {
    /// From caller to backend.
    pub request: Vec<Row>,
    /// From backend to caller.
    pub reply: Vec<Row>,
    /// A request that fits the contract, to try the operation with.
    pub sample: Value,
}

/// The table of an operation; `None` when there is no such operation.
pub fn table(files: &Files, documents: &Documents, facade: &str, operation: &str) -> Option<Table> {
    let facade = documents.facades.get(facade)?;
    let doc = facade.doc.operations.get(operation)?;
    let contract = contract_of(files, facade).1?;
    let op = contract.operations.get(operation)?;
    let backend = documents.backends.get(&doc.call.backend);
    let grpc = backend.filter(|b| b.doc.kind == BackendKind::Grpc);
    let of_grpc = grpc.and_then(|b| {
        let definition = grpc_definition_of(files, b).ok()?;
        let method = definition.method(doc.call.operation.as_deref()?)?;
        let mut schemas = porch_grpc::Schemas::new(&definition.types);
        let (input, output) = (schemas.of(method.input), schemas.of(method.output));
        let output = doc.response_body.as_ref().and_then(|name| definition.types.message(method.output).field(name)).map_or(output, |f| schemas.field(f));
        Some(json!({ "components": { "schemas": schemas.schemas }, "input": input, "output": output }))
    });
    let document = backend.filter(|b| b.doc.kind == BackendKind::Soap).and_then(|b| {
        let definition = definition_of(files, b).ok()?;
        let soap_op = definition.operation(doc.call.operation.as_deref()?)?;
        let mut schemas = porch_soap::JsonSchemas::new(&definition.plan);
        let input = soap_op.input.as_ref().map_or(json!({}), |m| schemas.of(m.type_id));
        let output = soap_op.output.as_ref().map_or(json!({}), |m| schemas.of(m.type_id));
        Some(json!({ "components": { "schemas": schemas.schemas }, "input": input, "output": output }))
    });
    let document = document.or(of_grpc);
    let side = |name: &str| document.as_ref().map(|d| SchemaView::new(d, &d[name]));
    let mut rows = Vec::new();
    let mut caller: Vec<(String, String, bool, String)> = Vec::new();
    for p in &op.parameters {
        let place = match p.place {
            Place::Path => "path",
            Place::Query => "query",
            Place::Header => "header",
        };
        let key = if p.place == Place::Header {
            format!("header['{}']", p.name)
        } else {
            format!("{place}.{}", p.name)
        };
        caller.push((
            format!("{place} {}", p.name),
            contract.view(&p.schema).kind(),
            p.required,
            key,
        ));
    }
    if let Some((schema, required)) = &op.body {
        caller.push((
            "body".into(),
            contract.view(schema).kind(),
            *required,
            "body".into(),
        ));
        for field in contract.view(schema).fields() {
            caller.push((
                format!("body {}", field.name),
                field.kind,
                field.required,
                format!("body.{}", field.name),
            ));
        }
    }
    let whole = || {
        if op.body.is_some() && grpc.is_none() {
            json!("=body")
        } else {
            json!({})
        }
    };
    let send = doc.send.clone().unwrap_or_else(whole);
    let mut used = vec![false; caller.len()];
    if grpc.is_some() {
        of_message(doc, &caller, &mut used, side("input"), &mut rows);
    }
    flatten(&send, String::new(), &mut |name, value| {
        let view = side("input").and_then(|v| deep(v, &name));
        let text = value
            .as_str()
            .map_or_else(|| value.to_string(), str::to_owned);
        let plain = text.strip_prefix('=').map(|t| t.replace(".?", "."));
        let hit = caller
            .iter()
            .position(|(.., key)| plain.as_deref() == Some(key));
        let (label, kind, required) = match hit {
            Some(i) => {
                used[i] = true;
                (caller[i].0.clone(), caller[i].1.clone(), caller[i].2)
            }
            None => {
                // An expression over one field stands beside that field; one over several stands alone.
                let text = text.replace(".?", ".");
                let names: Vec<usize> = (0..caller.len())
                    .filter(|i| text.contains(caller[*i].3.as_str()) && caller[*i].3 != "body")
                    .collect();
                names.iter().for_each(|i| used[*i] = true);
                match names.as_slice() {
                    [one] => (
                        caller[*one].0.clone(),
                        caller[*one].1.clone(),
                        caller[*one].2,
                    ),
                    _ => (String::new(), String::new(), false),
                }
            }
        };
        let what = if hit.is_some() {
            "as it is".to_owned()
        } else {
            text
        };
        let backend = if name.is_empty() {
            "the whole input".to_owned()
        } else {
            name
        };
        rows.push(Row {
            caller: label,
            caller_type: kind,
            what,
            backend,
            backend_type: view.map_or_else(String::new, |v| v.kind()),
            required,
        });
    });
    let whole_body = rows.iter().any(|r| r.caller == "body");
    for (i, (label, kind, required, _)) in caller.iter().enumerate() {
        if !used[i] && label != "body" && !(whole_body && label.starts_with("body ")) {
            let captured = label.starts_with("path ") && document.is_none();
            let what = if captured { "as it is" } else { "not sent" };
            rows.push(Row {
                caller: label.clone(),
                caller_type: kind.clone(),
                what: what.into(),
                backend: if captured {
                    label.clone()
                } else {
                    String::new()
                },
                backend_type: String::new(),
                required: *required,
            });
        }
    }
    Some(Table {
        request: rows,
        reply: reply_rows(doc.reply.as_ref(), &contract, op, side("output")),
        sample: sample(&contract, op, grpc.is_none()),
    })
}

/// What of a gRPC message comes from body and query as it is.
fn of_message(
    doc: &crate::documents::OperationDoc,
    caller: &[(String, String, bool, String)],
    used: &mut [bool],
    input: Option<SchemaView<'_>>,
    rows: &mut Vec<Row>,
) {
    let part = doc
        .body
        .as_deref()
        .unwrap_or(if doc.send.is_none() { "*" } else { "" });
    for (i, (label, kind, required, _)) in caller.iter().enumerate() {
        let backend = match (label.as_str(), label.strip_prefix("query ")) {
            ("body", _) if part == "*" => "the whole message".to_owned(),
            ("body", _) if !part.is_empty() => part.to_owned(),
            (_, Some(name)) if input.and_then(|v| deep(v, name)).is_some() => name.to_owned(),
            _ => continue,
        };
        used[i] = true;
        let view = input.and_then(|v| deep(v, &backend));
        rows.push(Row {
            caller: label.clone(),
            caller_type: kind.clone(),
            what: "as it is".into(),
            backend,
            backend_type: view.map_or_else(String::new, |v| v.kind()),
            required: *required,
        });
    }
}

fn reply_rows(
    reply: Option<&Value>,
    contract: &Contract,
    op: &porch_contract::Operation,
    output: Option<SchemaView<'_>>,
) -> Vec<Row> {
    let target = op.reply.as_ref().map(|s| contract.view(s));
    let mut rows = Vec::new();
    match reply {
        None => {
            let fields = output.or(target).map(|v| v.fields()).unwrap_or_default();
            for field in fields {
                rows.push(Row {
                    caller: field.name.clone(),
                    caller_type: field.kind.clone(),
                    what: "as it is".into(),
                    backend: field.name,
                    backend_type: field.kind,
                    required: field.required,
                });
            }
        }
        Some(reply) => flatten(reply, String::new(), &mut |name, value| {
            let text = value
                .as_str()
                .map_or_else(|| value.to_string(), str::to_owned);
            let plain = text
                .strip_prefix("=answer.body.")
                .map(|t| t.replace(".?", "."));
            let from = plain.as_ref().and_then(|p| deep(output?, p));
            let view = target.and_then(|t| deep(t, &name));
            let (what, backend) = match plain.filter(|p| {
                p.bytes()
                    .all(|b| b.is_ascii_alphanumeric() || b == b'.' || b == b'_')
            }) {
                Some(path) => ("as it is".to_owned(), path),
                None => (text, String::new()),
            };
            let required = target.is_some_and(|t| t.requires(&name));
            rows.push(Row {
                caller: name,
                caller_type: view.map_or_else(String::new, |v| v.kind()),
                what,
                backend,
                backend_type: from.map_or_else(String::new, |v| v.kind()),
                required,
            });
        }),
    }
    rows
}

fn deep<'a>(view: SchemaView<'a>, path: &str) -> Option<SchemaView<'a>> {
    path.split('.')
        .filter(|s| !s.is_empty())
        .try_fold(view, |v, name| v.property(name))
}

fn flatten(value: &Value, name: String, f: &mut dyn FnMut(String, &Value)) {
    match value {
        Value::Object(map) => {
            for (key, value) in map {
                flatten(
                    value,
                    if name.is_empty() {
                        key.clone()
                    } else {
                        format!("{name}.{key}")
                    },
                    f,
                );
            }
        }
        other => f(name, other),
    }
}

/// A request that fits; `every` optional query parameter is in it too, when that is wanted.
fn sample(contract: &Contract, op: &porch_contract::Operation, every: bool) -> Value {
    let values = |place: Place| -> Value {
        op.parameters
            .iter()
            .filter(|p| p.place == place && (p.required || (place == Place::Query && every)))
            .map(|p| (p.name.clone(), contract.view(&p.schema).sample()))
            .collect::<serde_json::Map<_, _>>()
            .into()
    };
    let mut sample = json!({ "path": values(Place::Path), "query": values(Place::Query) });
    if let Some((schema, _)) = &op.body {
        sample["body"] = contract.view(schema).sample();
    }
    sample
}
