//! What is inside of a body that is sent as it is, field by field.

use porch_contract::SchemaView;

use super::{Row, deep};

/// Deeper than this, and beyond so many fields, a table does not go.
const MAX_DEPTH: usize = 4;
const MAX_ROWS: usize = 80;

/// Puts the body's fields behind the row of the body, where that goes as it is.
pub(super) fn show(rows: &mut Vec<Row>, body: SchemaView<'_>, input: Option<SchemaView<'_>>) {
    let Some(at) = rows
        .iter()
        .position(|r| r.caller == "body" && r.what == "as it is")
    else {
        return;
    };
    let whole = ["the whole message", "the whole input"].contains(&&*rows[at].backend);
    let part = if whole { "" } else { &*rows[at].backend };
    let mut inside = Inside { rows: Vec::new() };
    let backend = input.and_then(|view| deep(view, part));
    inside.members(("", part), body, backend, 0);
    let mut made = inside.rows;
    if made.len() > MAX_ROWS {
        made.truncate(MAX_ROWS);
        made.push(Row {
            caller: "body …".into(),
            caller_type: "more fields".into(),
            what: "as it is".into(),
            backend: String::new(),
            backend_type: String::new(),
            required: false,
        });
    }
    rows.splice(at + 1..=at, made);
}

struct Inside {
    rows: Vec<Row>,
}

impl Inside {
    /// The members of an object, and what is in them: `before` is where it stands at the caller and at the backend.
    fn members(
        &mut self,
        before: (&str, &str),
        view: SchemaView<'_>,
        backend: Option<SchemaView<'_>>,
        depth: usize,
    ) {
        if depth > MAX_DEPTH {
            return;
        }
        for field in view.fields() {
            if self.rows.len() > MAX_ROWS {
                return;
            }
            let joined = |before: &str| match before {
                "" => field.name.clone(),
                before => format!("{before}.{}", field.name),
            };
            let (caller, at) = (joined(before.0), joined(before.1));
            let there = backend.and_then(|view| view.property(&field.name));
            self.rows.push(Row {
                caller: format!("body {caller}"),
                caller_type: field.kind.clone(),
                what: "as it is".into(),
                backend: if there.is_some() {
                    at.clone()
                } else {
                    String::new()
                },
                backend_type: there.map_or_else(String::new, |v| v.kind()),
                required: field.required,
            });
            let Some(own) = view.property(&field.name) else {
                continue;
            };
            match (own.items(), there) {
                (Some(item), there) => {
                    let place = (format!("{caller}[]"), format!("{at}[]"));
                    let there = there.and_then(|v| v.items());
                    self.members((&place.0, &place.1), item, there, depth + 1);
                }
                (None, there) => self.members((&caller, &at), own, there, depth + 1),
            }
        }
    }
}
