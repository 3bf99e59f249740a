//! Whether what changes of JSON name is there, as far as a schema says.

use porch_contract::{SchemaView, suggest};
use porch_rules::patch::{Action, Change};
use serde_json::Value;

/// A mistake: the number of the change, its key, what is wrong, and what helps.
type Wrong = (usize, &'static str, String, String);

/// What an earlier change made of a place.
struct Touched {
    path: Vec<String>,
    /// The number of the change that took it away, from 1; none where it put something there.
    taken_by: Option<usize>,
}

/// The mistakes of a list of changes. Where an earlier one was at work, the schema has nothing to say any more.
pub(super) fn check(changes: &[Change], root: &Value, schema: &Value) -> Vec<Wrong> {
    let view = SchemaView::new(root, schema);
    let mut touched: Vec<Touched> = Vec::new();
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
            let last = touched.iter().rev().find(|t| tokens.starts_with(&t.path));
            let told = match last.map(|t| t.taken_by) {
                None => follow(view, tokens, change.may_be_absent),
                Some(Some(by)) if !change.may_be_absent => {
                    let place = tokens.join("/");
                    let message = format!("“/{place}” is gone: change {by} of the list took it");
                    Err((message, "changes are made in the order of the list".into()))
                }
                Some(_) => Ok(()),
            };
            if let Err((message, help)) = told {
                wrong.push((i, key, message, help));
            }
        }
        touch(change, i + 1, &mut touched);
    }
    wrong
}

/// Notes what a change puts and takes.
fn touch(change: &Change, number: usize, touched: &mut Vec<Touched>) {
    let path = change.path.tokens().to_vec();
    let mut note = |path: Vec<String>, taken: bool| {
        let taken_by = (taken && change.when.is_none()).then_some(number);
        touched.push(Touched { path, taken_by });
    };
    match &change.action {
        Action::Remove => note(path, true),
        Action::Rename(to) => {
            let parent = &path[..path.len().saturating_sub(1)];
            let renamed = [parent, std::slice::from_ref(to)].concat();
            note(path, true);
            note(renamed, false);
        }
        Action::Move(from) => {
            note(from.tokens().to_vec(), true);
            note(path, false);
        }
        Action::Test(_) | Action::Mask(_) | Action::Substitute(_) | Action::Link => {}
        _ => note(path, false),
    }
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
