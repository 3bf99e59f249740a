//! One operation as a table: the caller's fields beside the backend's.

use porch_contract::{Contract, Place, SchemaView};
use serde::Serialize;
use serde_json::{Map, Value, json};

use crate::documents::OperationDoc;
use crate::model::Model;

mod insides;
mod several;

/// One row: a field on the caller's side, on the backend's, or on both.
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
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
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[derive(Clone, Debug, Default, Serialize)]
pub struct Table {
    /// From caller to backend.
    pub request: Vec<Row>,
    /// From backend to caller.
    pub reply: Vec<Row>,
    /// A request that fits the contract, to try the operation with.
    pub sample: Sample,
}

/// A request that fits a contract.
#[derive(Clone, Debug, Default, Serialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Sample {
    /// Values of the path variables.
    #[cfg_attr(feature = "schema", schema(value_type = std::collections::BTreeMap<String, serde_json::Value>))]
    pub path: Map<String, Value>,
    /// Query parameters.
    #[cfg_attr(feature = "schema", schema(value_type = std::collections::BTreeMap<String, serde_json::Value>))]
    pub query: Map<String, Value>,
    /// Cookies that the contract demands (RFC 6265 §4.2).
    #[cfg_attr(feature = "schema", schema(value_type = std::collections::BTreeMap<String, serde_json::Value>))]
    pub cookies: Map<String, Value>,
    /// The body, if there is one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub body: Option<Value>,
    /// The same as text: not every reader of JSON keeps all digits of its numbers.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub text: Option<String>,
}

/// One field on the caller's side.
struct CallerField {
    /// `path route`.
    label: String,
    kind: String,
    required: bool,
    /// As expressions name it: `path.route`.
    key: String,
    used: bool,
}

/// The table of an operation; `None` when there is no such operation.
pub fn table(model: &Model, facade: &str, operation: &str) -> Option<Table> {
    let doc = model
        .documents
        .facades
        .get(facade)?
        .doc
        .operations
        .get(operation)?;
    let contract = model.contract(facade)?;
    let op = contract.operations.get(operation)?;
    let definition = doc.backend().and_then(|name| model.definition(name));
    let of_messages = definition.as_ref().is_some_and(|d| d.is_of_messages());
    let document = definition.and_then(|d| d.sides(doc));
    let side = |name: &str| document.as_ref().map(|d| SchemaView::new(d, &d[name]));
    let mut rows = Vec::new();
    let mut caller = caller_fields(contract, op);
    if !doc.calls.is_empty() {
        let (request, reply) = several::rows(model, doc, (contract, op), caller);
        return Some(Table {
            request,
            reply,
            sample: sample(contract, op, true),
        });
    }
    if of_messages {
        of_message(doc, &mut caller, side("input"), &mut rows);
    }
    let whole = if op.body.is_some() && !of_messages {
        json!("=body")
    } else {
        json!({})
    };
    let send = doc.send.clone().unwrap_or(whole);
    flatten(&send, String::new(), &mut |name, value| {
        rows.push(sent_row(&mut caller, side("input"), name, value));
    });
    let whole_body = rows.iter().any(|r| r.caller == "body");
    for field in caller.into_iter().filter(|f| !f.used) {
        if field.label != "body" && !(whole_body && field.label.starts_with("body ")) {
            let passes = document.is_none() && !of_messages && passes(doc, &field.label);
            rows.push(unsent_row(field, passes));
        }
    }
    if let Some((schema, _)) = &op.body {
        insides::show(&mut rows, contract.view(schema), side("input"));
    }
    let mut reply = reply_rows(doc.reply.as_ref(), contract, op, side("output"));
    if doc.call.is_none() {
        goes_nowhere(&mut rows, "held against the contract");
        goes_nowhere(&mut reply, "of an example");
    }
    Some(Table {
        request: rows,
        reply,
        sample: sample(contract, op, !of_messages),
    })
}

/// Rows of an operation that calls nothing.
fn goes_nowhere(rows: &mut [Row], what: &str) {
    for row in rows {
        row.what = what.into();
        row.backend.clear();
        row.backend_type.clear();
    }
}

/// The fields that callers send, as the contract has them.
fn caller_fields(contract: &Contract, op: &porch_contract::Operation) -> Vec<CallerField> {
    let mut fields = Vec::new();
    for p in &op.parameters {
        let (place, key) = match p.place {
            Place::Path => ("path", format!("path.{}", p.name)),
            Place::Query => ("query", format!("query.{}", p.name)),
            Place::Header => ("header", format!("header['{}']", p.name)),
        };
        fields.push(CallerField {
            label: format!("{place} {}", p.name),
            kind: contract.view(&p.schema).kind(),
            required: p.required,
            key,
            used: false,
        });
    }
    fields.extend(op.cookies.iter().map(|p| CallerField {
        label: format!("cookie {}", p.name),
        kind: contract.view(&p.schema).kind(),
        required: p.required,
        // All of them are one field.
        key: "header['cookie']".into(),
        used: false,
    }));
    if let Some((schema, required)) = &op.body {
        let view = contract.view(schema);
        fields.push(CallerField {
            label: "body".into(),
            kind: view.kind(),
            required: *required,
            key: "body".into(),
            used: false,
        });
        fields.extend(view.fields().into_iter().map(|field| CallerField {
            label: format!("body {}", field.name),
            kind: field.kind,
            required: field.required,
            key: format!("body.{}", field.name),
            used: false,
        }));
    }
    fields
}

/// The row of one value that is sent.
fn sent_row(
    caller: &mut [CallerField],
    input: Option<SchemaView<'_>>,
    name: String,
    value: &Value,
) -> Row {
    let view = input.and_then(|v| deep(v, &name));
    let text = value
        .as_str()
        .map_or_else(|| value.to_string(), str::to_owned);
    let spelled = text.replace(".?", ".");
    let plain = spelled.strip_prefix('=').filter(|_| text.starts_with('='));
    let hit = caller.iter().position(|f| plain == Some(&f.key));
    let beside = hit.or_else(|| {
        // An expression over one field stands beside that field; one over several stands alone.
        let mut named = Vec::new();
        for (i, field) in caller.iter_mut().enumerate() {
            if field.key != "body" && spelled.contains(field.key.as_str()) {
                field.used = true;
                named.push(i);
            }
        }
        match named.as_slice() {
            [one] => Some(*one),
            _ => None,
        }
    });
    let field = beside.map(|i| {
        caller[i].used = true;
        &caller[i]
    });
    Row {
        caller: field.map_or_else(String::new, |f| f.label.clone()),
        caller_type: field.map_or_else(String::new, |f| f.kind.clone()),
        required: field.is_some_and(|f| f.required),
        what: if hit.is_some() {
            "as it is".to_owned()
        } else {
            text
        },
        backend: if name.is_empty() {
            "the whole input".to_owned()
        } else {
            name
        },
        backend_type: view.map_or_else(String::new, |v| v.kind()),
    }
}

fn unsent_row(field: CallerField, passes: bool) -> Row {
    let (what, backend) = if passes {
        ("as it is", field.label.clone())
    } else {
        ("not sent", String::new())
    };
    Row {
        caller: field.label,
        caller_type: field.kind,
        what: what.into(),
        backend,
        backend_type: String::new(),
        required: field.required,
    }
}

/// Whether HTTP's call passes on what nothing is said of: path variables that its own path has, all of the query unless one is made,
/// header fields unless they are replaced.
fn passes(doc: &OperationDoc, label: &str) -> bool {
    let said = |part: &str| doc.send.as_ref().and_then(|s| s.get(part));
    match label.split_once(' ') {
        Some(("path", name)) => {
            let own = doc.call.as_ref().and_then(|call| call.path.as_deref());
            own.is_none_or(|path| {
                let begin = format!("{{{name}");
                let mut at = path.match_indices(&begin);
                at.any(|(at, _)| path[at + begin.len()..].starts_with(['}', '*', ':', '=']))
            })
        }
        Some(("query", _)) => said("query").is_none(),
        Some((place @ ("header" | "cookie"), name)) => {
            let name = if place == "cookie" { place } else { name };
            let fields = said("headers").and_then(Value::as_object);
            let mut fields = fields.into_iter().flatten();
            !fields.any(|(n, _)| n.eq_ignore_ascii_case(name))
        }
        _ => false,
    }
}

/// What of a message comes from body and query as it is.
fn of_message(
    doc: &OperationDoc,
    caller: &mut [CallerField],
    input: Option<SchemaView<'_>>,
    rows: &mut Vec<Row>,
) {
    let part = doc
        .body
        .as_deref()
        .unwrap_or(if doc.send.is_none() { "*" } else { "" });
    for field in caller {
        let backend = match (field.label.as_str(), field.label.strip_prefix("query ")) {
            ("body", _) if part == "*" => "the whole message".to_owned(),
            ("body", _) if !part.is_empty() => part.to_owned(),
            (_, Some(name)) if input.and_then(|v| deep(v, name)).is_some() => name.to_owned(),
            _ => continue,
        };
        field.used = true;
        let view = input.and_then(|v| deep(v, &backend));
        rows.push(Row {
            caller: field.label.clone(),
            caller_type: field.kind.clone(),
            what: "as it is".into(),
            backend,
            backend_type: view.map_or_else(String::new, |v| v.kind()),
            required: field.required,
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
pub fn sample(contract: &Contract, op: &porch_contract::Operation, every: bool) -> Sample {
    let value = |p: &porch_contract::Parameter| {
        let made = || contract.view(&p.schema).sample();
        let value = p.example.clone().unwrap_or_else(made);
        (p.name.clone(), value)
    };
    let values = |place: Place| {
        op.parameters
            .iter()
            .filter(|p| p.place == place && (p.required || (place == Place::Query && every)))
            .map(value)
            .collect()
    };
    let body = op.body.as_ref();
    let body = body.map(|(schema, _)| contract.view(schema).sample());
    Sample {
        path: values(Place::Path),
        query: values(Place::Query),
        cookies: op
            .cookies
            .iter()
            .filter(|p| p.required)
            .map(value)
            .collect(),
        text: body.as_ref().map(|body| format!("{body:#}")),
        body,
    }
}
