//! The table of an operation of several calls: each call's fields beside the caller's, with the call's name before them.

use porch_contract::{Contract, Operation, SchemaView};
use serde_json::{Value, json};

use super::{CallerField, Row, deep, flatten, sent_row, unsent_row};
use crate::documents::{NamedCallDoc, OperationDoc};
use crate::model::Model;

/// A call with what it takes and gives, where that is known.
struct Side<'m> {
    name: &'m str,
    doc: &'m NamedCallDoc,
    sides: Option<Value>,
}

impl Side<'_> {
    fn view(&self, name: &str) -> Option<SchemaView<'_>> {
        let document = self.sides.as_ref()?;
        Some(SchemaView::new(document, &document[name]))
    }
}

fn all<'m>(model: &Model, doc: &'m OperationDoc) -> Vec<Side<'m>> {
    let of = |(name, doc): (&'m String, &'m NamedCallDoc)| Side {
        name,
        doc,
        sides: (model.definition(&doc.backend)).and_then(|d| d.sides(&doc.as_operation())),
    };
    doc.calls.iter().map(of).collect()
}

/// The rows of what is sent, and of what is made of the answers.
pub(super) fn rows(
    model: &Model,
    doc: &OperationDoc,
    (contract, op): (&Contract, &Operation),
    mut caller: Vec<CallerField>,
) -> (Vec<Row>, Vec<Row>) {
    let calls = all(model, doc);
    let mut request = Vec::new();
    for call in &calls {
        for name in captured(call.doc, op) {
            let value = json!(format!("=path.{name}"));
            let row = sent_row(&mut caller, None, format!("path.{name}"), &value);
            request.push(named(call.name, row));
        }
        let send = call.doc.send.clone().unwrap_or_else(|| json!({}));
        flatten(&send, String::new(), &mut |name, value| {
            let row = sent_row(&mut caller, call.view("input"), name, value);
            request.push(named(call.name, row));
        });
    }
    for field in caller.into_iter().filter(|f| !f.used && f.label != "body") {
        request.push(unsent_row(field, false));
    }
    (request, replies(doc, &calls, contract, op))
}

/// The operation's own path variables that a call's path has.
fn captured<'o>(doc: &NamedCallDoc, op: &'o Operation) -> Vec<&'o str> {
    let path = doc.path.as_deref().unwrap_or_default();
    let said = doc.send.as_ref().and_then(|s| s.get("path"));
    let is_there = |name: &&str| {
        path.contains(&format!("{{{name}}}")) && said.is_none_or(|s| s.get(*name).is_none())
    };
    op.path.variables().filter(is_there).collect()
}

fn named(call: &str, row: Row) -> Row {
    Row {
        backend: format!("{call}: {}", row.backend),
        ..row
    }
}

fn replies(
    doc: &OperationDoc,
    calls: &[Side<'_>],
    contract: &Contract,
    op: &Operation,
) -> Vec<Row> {
    let target = op.reply.as_ref().map(|s| contract.view(s));
    let mut rows = Vec::new();
    let Some(reply) = &doc.reply else { return rows };
    flatten(reply, String::new(), &mut |name, value| {
        let text = value.as_str();
        let text = text.map_or_else(|| value.to_string(), str::to_owned);
        let spelled = text.replace(".?", ".");
        let view = target.and_then(|t| deep(t, &name));
        let plain = calls.iter().find_map(|call| {
            let path = spelled.strip_prefix(&format!("={}.body", call.name))?;
            let is_path = |b: u8| b.is_ascii_alphanumeric() || b == b'.' || b == b'_';
            let whole = path.bytes().all(is_path) && (path.is_empty() || path.starts_with('.'));
            whole.then(|| (call, path.trim_start_matches('.').to_owned()))
        });
        let as_answered = |call: &Side<'_>| call.doc.answer.is_none() && call.doc.each.is_none();
        let (what, backend, from) = match plain {
            Some((call, path)) => {
                let from = call.view("output").filter(|_| as_answered(call));
                let from = from.and_then(|v| deep(v, &path)).map(|v| v.kind());
                let shown = if path.is_empty() { "all of it" } else { &path };
                ("as it is".into(), format!("{}: {shown}", call.name), from)
            }
            None => (text, String::new(), None),
        };
        rows.push(Row {
            required: target.is_some_and(|t| t.requires(&name)),
            caller: name,
            caller_type: view.map_or_else(String::new, |v| v.kind()),
            what,
            backend,
            backend_type: from.unwrap_or_default(),
        });
    });
    rows
}
