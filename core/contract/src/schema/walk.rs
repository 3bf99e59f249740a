//! Walks over what a schema is put together from, each part once, within bounds.

use std::collections::{HashMap, HashSet};

use serde_json::Value;

use super::SchemaView;

/// One walk visits at most so many parts.
const MAX_PARTS: usize = 10_000;
/// Parts within parts are followed to this depth.
const MAX_DEPTH: usize = 64;

/// The parts of a schema in the order written, the schema itself first; what a part is made of comes before its neighbours.
pub(super) struct Parts<'a> {
    open: Vec<SchemaView<'a>>,
    /// Only kept when there is more than one part.
    seen: HashSet<*const Value>,
    left: usize,
    /// Whether the parts that all must fit (`allOf`) belong to the walk, and each part is descended into by itself.
    all: bool,
}

impl<'a> Parts<'a> {
    /// The parts by `allOf`, `oneOf` and `anyOf`.
    pub(super) fn of_all(view: SchemaView<'a>) -> Self {
        Self {
            all: true,
            ..Self::of_choices(view)
        }
    }

    /// The schema, and those below `oneOf` and `anyOf` of each part that [`Parts::descend`] is called for.
    pub(super) fn of_choices(view: SchemaView<'a>) -> Self {
        Self {
            open: vec![view],
            seen: HashSet::new(),
            left: MAX_PARTS,
            all: false,
        }
    }

    /// Adds what a part is made of to the walk.
    pub(super) fn descend(&mut self, part: SchemaView<'a>) {
        let mut below = if self.all { part.all_of() } else { Vec::new() };
        below.extend(part.alternatives());
        if below.is_empty() {
            return;
        }
        self.seen.insert(std::ptr::from_ref(part.schema));
        below.truncate(self.left);
        self.open.extend(below.into_iter().rev());
    }
}

impl<'a> Iterator for Parts<'a> {
    type Item = SchemaView<'a>;

    fn next(&mut self) -> Option<SchemaView<'a>> {
        loop {
            let part = self.open.pop()?;
            self.left = self.left.checked_sub(1)?;
            if self.seen.contains(&std::ptr::from_ref(part.schema)) {
                continue;
            }
            if self.all {
                self.descend(part);
            }
            return Some(part);
        }
    }
}

/// Answers that need the agreement of several parts; each part is asked once.
#[derive(Default)]
pub(super) struct Agreement {
    known: HashMap<*const Value, bool>,
}

impl Agreement {
    /// Whether a member must be there: here, in one of `allOf`, or in each alternative.
    pub(super) fn requires(&mut self, view: SchemaView<'_>, name: &str, depth: usize) -> bool {
        let here = view.schema.get("required").and_then(Value::as_array);
        if here.is_some_and(|list| list.iter().any(|v| v == name)) {
            return true;
        }
        self.once(view, depth, false, |own| {
            let others = view.alternatives();
            view.all_of()
                .into_iter()
                .any(|part| own.requires(part, name, depth + 1))
                || (!others.is_empty()
                    && others
                        .into_iter()
                        .all(|part| own.requires(part, name, depth + 1)))
        })
    }

    /// Whether members that are not named may stand in the object.
    pub(super) fn allows_other_members(&mut self, view: SchemaView<'_>, depth: usize) -> bool {
        let said = view.schema.get("additionalProperties");
        if said.is_some_and(|v| *v != Value::Bool(false)) {
            return true;
        }
        if view.own_properties().is_some() || view.schema.get("allOf").is_some() {
            return false;
        }
        self.once(view, depth, true, |own| {
            view.alternatives()
                .into_iter()
                .all(|part| own.allows_other_members(part, depth + 1))
        })
    }

    /// The answer of a part; `circle` where it is asked for while it is being found, or beyond the bounds.
    fn once(
        &mut self,
        view: SchemaView<'_>,
        depth: usize,
        circle: bool,
        find: impl FnOnce(&mut Self) -> bool,
    ) -> bool {
        let key = std::ptr::from_ref(view.schema);
        if let Some(known) = self.known.get(&key) {
            return *known;
        }
        if depth >= MAX_DEPTH || self.known.len() >= MAX_PARTS {
            return circle;
        }
        self.known.insert(key, circle);
        let found = find(self);
        self.known.insert(key, found);
        found
    }
}
