//! Whether what changes of JSON name is there, as far as a schema says.

use porch_contract::{SchemaView, suggest};
use porch_rules::patch::{Action, Change};
use serde_json::Value;

/// A mistake: the number of the change, its key, what is wrong, and what helps.
type Wrong = (usize, &'static str, String, String);

/// The mistakes of a list of changes. What an earlier one put, moved or renamed is no longer what the schema says.
pub(super) fn check(changes: &[Change], root: &Value, schema: &Value) -> Vec<Wrong> {
    let view = SchemaView::new(root, schema);
    let mut touched: Vec<&[String]> = Vec::new();
    let mut wrong = Vec::new();
    for (i, change) in changes.iter().enumerate() {
        let path = change.path.tokens();
        let parent = &path[..path.len().saturating_sub(1)];
        let is_put = matches!(change.action, Action::Add(_) | Action::Default(_));
        let looked_at = match change.action.from() {
            Some(from) => vec![("from", from.tokens()), ("path", parent)],
            None if is_put => vec![("path", parent)],
            None => vec![("path", path)],
        };
        for (key, tokens) in looked_at {
            if touched.iter().any(|t| tokens.starts_with(t)) {
                continue;
            }
            if let Err((message, help)) = follow(view, tokens, change.may_be_absent) {
                wrong.push((i, key, message, help));
            }
        }
        touched.push(match change.action {
            // Any member of the same parent may be what it is called now.
            Action::Rename(_) => parent,
            _ => path,
        });
    }
    wrong
}

fn follow(
    mut view: SchemaView<'_>,
    tokens: &[String],
    may_be_absent: bool,
) -> Result<(), (String, String)> {
    for (i, token) in tokens.iter().enumerate() {
        if view.is_open() {
            return Ok(());
        }
        let place = match i {
            0 => "the body".to_owned(),
            _ => format!("/{}", tokens[..i].join("/")),
        };
        if let Some(items) = view.items() {
            let is_item = token == "*" || token.bytes().all(|b| b.is_ascii_digit());
            if !is_item {
                let help = format!(
                    "“*” stands for each of its items: /{}/*/{token}",
                    tokens[..i].join("/")
                );
                return Err((format!("{place} is a list, and has no “{token}”"), help));
            }
            view = items;
            continue;
        }
        let types = view.types();
        if !types.is_empty() && !types.contains(&"object") {
            let message = format!("{place} is {}, and has no “{token}”", view.kind());
            return Err((message, String::new()));
        }
        match view.property(token) {
            Some(below) => {
                if !may_be_absent && !view.requires(token) {
                    let help = "say what happens then: `may-be-absent: true` leaves it alone";
                    return Err((format!("“{token}” may be absent"), help.into()));
                }
                view = below;
            }
            None if view.allows_other_members() && view.property_names().is_empty() => {
                return Ok(());
            }
            None => {
                let names = view.property_names();
                let help = match suggest(token, names.iter().copied()) {
                    Some(near) => format!("did you mean “{near}”?"),
                    None => format!("there are: {}", names.join(", ")),
                };
                return Err((format!("{place} has no “{token}”"), help));
            }
        }
    }
    Ok(())
}
