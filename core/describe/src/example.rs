//! Values that are no part of the description: examples and defaults.

use porch_contract::{Node, NodeKind};

use crate::build::{list, map};
use crate::sources::reference;
use crate::text::size_of;
use crate::walk::Walk;

/// References within values lead so far.
const MAX_DEPTH: usize = 8;

impl Walk<'_> {
    /// A value as it stands. The standard has no references in values; where some tool wrote one, what it leads to is meant, and
    /// where it leads nowhere the value is none.
    pub(crate) fn example(&mut self, value: &Node) -> Option<Node> {
        if !self.room(size_of(value), value.at) {
            return None;
        }
        if !refers(value) {
            return Some(value.clone());
        }
        self.written_out(value, 0)
    }

    fn written_out(&mut self, value: &Node, depth: usize) -> Option<Node> {
        if depth > 0 && !self.room(1, value.at) {
            return None;
        }
        if let Some(target) = reference(value) {
            if depth >= MAX_DEPTH {
                return None;
            }
            let found = self.sources.follow_from(target, value.at).ok()?;
            return self.written_out(found, depth + 1);
        }
        Some(match &value.kind {
            NodeKind::Scalar(_) => value.clone(),
            NodeKind::List(items) => {
                let items = items.iter().map(|item| self.written_out(item, depth));
                list(value.at, items.collect::<Option<_>>()?)
            }
            NodeKind::Map(entries) => {
                let entries = entries.iter().map(|(name, at, value)| {
                    let value = self.written_out(value, depth)?;
                    Some((name.clone(), *at, value))
                });
                map(value.at, entries.collect::<Option<_>>()?)
            }
        })
    }
}

fn refers(value: &Node) -> bool {
    reference(value).is_some()
        || match &value.kind {
            NodeKind::Scalar(_) => false,
            NodeKind::List(items) => items.iter().any(refers),
            NodeKind::Map(entries) => entries.iter().any(|(.., value)| refers(value)),
        }
}
