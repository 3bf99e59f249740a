//! Making and changing nodes.

use porch_contract::{Node, NodeKind, Position};
use serde_json::Value;

/// The members of a mapping.
pub(crate) type Entries = Vec<(String, Position, Node)>;

pub(crate) fn map(at: Position, entries: Entries) -> Node {
    let kind = NodeKind::Map(entries.into());
    Node { at, kind }
}

pub(crate) fn list(at: Position, items: Vec<Node>) -> Node {
    let kind = NodeKind::List(items);
    Node { at, kind }
}

pub(crate) fn text(at: Position, text: &str) -> Node {
    scalar(at, text.into())
}

pub(crate) fn scalar(at: Position, value: Value) -> Node {
    let kind = NodeKind::Scalar(value);
    Node { at, kind }
}

/// Sets a member, where it stands or at the end.
pub(crate) fn put(node: &mut Node, name: &str, value: Node) {
    let NodeKind::Map(entries) = &mut node.kind else {
        return;
    };
    match entries.iter_mut().find(|(n, ..)| n == name) {
        Some((.., old)) => *old = value,
        None => entries.push((name.to_owned(), value.at, value)),
    }
}

/// Takes a member away.
pub(crate) fn take(node: &mut Node, name: &str) -> Option<Node> {
    let NodeKind::Map(entries) = &mut node.kind else {
        return None;
    };
    let at = entries.iter().position(|(n, ..)| n == name)?;
    Some(entries.remove(at).2)
}

pub(crate) fn is_true(node: Option<&Node>) -> bool {
    node.is_some_and(|n| matches!(n.kind, NodeKind::Scalar(Value::Bool(true))))
}
