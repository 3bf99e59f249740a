//! Operations of a facade: what was wired, what is gone, what is new.

use porch_contract::Node;
use serde_json::Value;

use crate::yaml::to_yaml;
use crate::{Document, FacadeDoc};

/// The operations of a derived facade with their wiring.
pub(super) fn operations(text: &str) -> Vec<(String, Value)> {
    let value = Node::parse(text).map(|n| n.to_value()).unwrap_or_default();
    value
        .get("operations")
        .and_then(Value::as_object)
        .into_iter()
        .flatten()
        .map(|(k, v)| (k.clone(), v.clone()))
        .collect()
}

/// What a wiring calls.
pub(super) fn called(wiring: &Value) -> &str {
    wiring
        .pointer("/call/operation")
        .and_then(Value::as_str)
        .unwrap_or_default()
}

/// Whether the publisher's facade still calls what an operation of the first derivation called.
pub(super) fn uses(facade: &Document<FacadeDoc>, base: &[(String, Value)], id: &str) -> bool {
    let Some((_, wiring)) = base.iter().find(|(b, _)| b == id) else {
        return false;
    };
    facade
        .doc
        .operations
        .values()
        .any(|o| o.call.operation.as_deref() == Some(called(wiring)))
}

/// Names what the definition no longer has.
pub(super) fn gone(
    facade: &Document<FacadeDoc>,
    base: &[(String, Value)],
    theirs: &[(String, Value)],
    changes: &mut Vec<String>,
) {
    for (id, wiring) in base {
        if theirs.iter().any(|(_, w)| called(w) == called(wiring)) {
            continue;
        }
        let still = if uses(facade, base, id) {
            format!(": “{id}” can no longer be called")
        } else {
            String::new()
        };
        changes.push(format!(
            "the definition no longer has {}{still}",
            called(wiring)
        ));
    }
}

/// A facade's text with the operations that are new.
pub(super) fn with_new(
    mut text: String,
    fresh: &[&(String, Value)],
    mine: &[String],
    changes: &mut Vec<String>,
) -> String {
    for (id, wiring) in fresh {
        if mine.contains(id) {
            changes.push(format!(
                "{} is new, but “{id}” is the name of another operation already: wire it by hand",
                called(wiring)
            ));
            continue;
        }
        changes.push(format!("{} is new: wired as “{id}”", called(wiring)));
        text = appended(&text, id, wiring);
    }
    text
}

/// A facade's text with one more operation at the end of `operations:`, everything else as it was.
fn appended(text: &str, id: &str, wiring: &Value) -> String {
    let block: String = to_yaml(&serde_json::json!({ id: wiring }))
        .lines()
        .map(|l| {
            if l.is_empty() {
                String::new()
            } else {
                format!("  {l}\n")
            }
        })
        .collect();
    let lines: Vec<&str> = text.lines().collect();
    let Some(start) = lines.iter().position(|l| l.trim_end() == "operations:") else {
        return format!("{}\noperations:\n{block}", text.trim_end());
    };
    // The block ends where a line begins at the left margin.
    let end = lines
        .iter()
        .skip(start + 1)
        .position(|l| !l.is_empty() && !l.starts_with([' ', '#']))
        .map_or(lines.len(), |i| start + 1 + i);
    let (before, after) = lines.split_at(end);
    let mut out = before.join("\n").trim_end().to_owned();
    out.push('\n');
    out.push_str(&block);
    if !after.is_empty() {
        out.push_str(&after.join("\n"));
        out.push('\n');
    }
    out
}
