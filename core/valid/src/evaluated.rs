//! What of a value some schema has looked at (core §11).

use std::collections::HashSet;

/// Members and items that were evaluated.
#[derive(Debug, Default)]
pub(crate) struct Evaluated<'v> {
    pub(crate) all_members: bool,
    pub(crate) members: HashSet<&'v str>,
    pub(crate) all_items: bool,
    /// So many from the first.
    pub(crate) first: usize,
    pub(crate) items: HashSet<usize>,
}

impl<'v> Evaluated<'v> {
    pub(crate) fn add(&mut self, other: Evaluated<'v>) {
        self.all_members |= other.all_members;
        self.members.extend(other.members);
        self.all_items |= other.all_items;
        self.first = self.first.max(other.first);
        self.items.extend(other.items);
    }

    pub(crate) fn has_member(&self, name: &str) -> bool {
        self.all_members || self.members.contains(name)
    }

    pub(crate) fn has_item(&self, at: usize) -> bool {
        self.all_items || at < self.first || self.items.contains(&at)
    }
}
