//! Secrets in expressions: bound when an expression is compiled, so that none is looked for while a call runs.

use std::sync::Arc;

use super::parse::{Node, Op};
use super::value::Val;

/// A secret's value, which no output of debugging shows.
pub(super) struct Hidden(Arc<str>);

impl std::fmt::Debug for Hidden {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Hidden")
    }
}

impl Hidden {
    pub(super) fn text(&self) -> &str {
        &self.0
    }
}

/// Puts values in the places of a root's members; `value` knows the root's number and the member.
pub(super) fn bind(node: &mut Node, value: &mut dyn FnMut(usize, &str) -> Option<Arc<str>>) {
    if let Node::Member { of, name, .. } = node
        && let Node::Root(root) = **of
    {
        if let Some(bound) = value(root, name) {
            *node = Node::Secret(Hidden(bound));
        }
        return;
    }
    for below in below(node) {
        bind(below, value);
    }
}

/// Whether a secret, or something that is made of one, would be the value: all but comparing it with `==` and `!=`.
pub(super) fn is_shown(node: &mut Node) -> bool {
    match node {
        Node::Secret(_) => true,
        Node::Binary(Op::Eq | Op::Ne, a, b) => [a, b]
            .into_iter()
            .any(|side| !matches!(**side, Node::Secret(_)) && is_shown(side)),
        _ => below(node).into_iter().any(is_shown),
    }
}

/// Whether something else is made of a secret than a text that it stands in whole: a part of it, its length, a name.
pub(super) fn is_taken_apart(node: &mut Node) -> bool {
    match node {
        Node::Secret(_) => false,
        Node::Binary(Op::Add, a, b) => is_taken_apart(a) || is_taken_apart(b),
        Node::If(condition, then, other) => {
            is_shown(condition) || is_taken_apart(then) || is_taken_apart(other)
        }
        Node::List(items) => items.iter_mut().any(is_taken_apart),
        Node::Map(entries) => {
            let mut all = entries.iter_mut();
            all.any(|(key, value)| is_shown(key) || is_taken_apart(value))
        }
        other => is_shown(other),
    }
}

/// The parts of a node; nodes are nested no deeper than the parser lets them be.
fn below(node: &mut Node) -> Vec<&mut Node> {
    match node {
        Node::Literal(_) | Node::Root(_) | Node::Local(_) | Node::Secret(_) => Vec::new(),
        Node::Member { of, .. } | Node::Has { of, .. } | Node::Matches(of, _) => vec![of],
        Node::Not(of) | Node::Negate(of) => vec![of],
        Node::Index { of, at, .. } => vec![of, at],
        Node::And(a, b) | Node::Or(a, b) | Node::Binary(_, a, b) => vec![a, b],
        Node::If(a, b, c) => vec![a, b, c],
        Node::Macro { over, body, .. } => vec![over, body],
        Node::Call(_, all) | Node::List(all) => all.iter_mut().collect(),
        Node::Map(entries) => entries.iter_mut().flat_map(|(k, v)| [k, v]).collect(),
    }
}

/// Whether a value is a secret's text, in a time that hangs on neither: what is compared are hashes, whole.
pub(super) fn is_same(secret: &Hidden, other: &Val<'_>) -> bool {
    let Val::Str(other) = other else {
        return matches!(other, Val::Json(serde_json::Value::String(text)) if same(secret, text));
    };
    same(secret, other)
}

/// blake3's `Hash` compares in constant time.
fn same(secret: &Hidden, other: &str) -> bool {
    blake3::hash(secret.text().as_bytes()) == blake3::hash(other.as_bytes())
}
