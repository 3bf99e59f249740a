//! Holding a value against a schema.

mod objects;
mod scalars;

use std::collections::HashMap;

use serde_json::Value;

use crate::From;
use crate::evaluated::Evaluated;
use crate::node::{Id, Node, Several, type_of};
use crate::told::{Misfit, READ_ONLY, Step, pointer, types};

/// A value is held against so many parts of schemas, and so many more for each of its own parts: real ones need a few.
const MAX_STEPS: usize = 100_000;
const OF_EACH: usize = 8;
/// Schemas within schemas, and values within values.
const MAX_DEPTH: usize = 400;
/// So many mistakes of one value are told.
const TOLD: usize = 100;

pub(crate) struct Check<'n, 'v> {
    nodes: &'n [Node],
    from: From,
    left: usize,
    whole: Option<&'v Value>,
    depth: usize,
    /// Whether it became too much.
    too_much: bool,
    /// How many choices are open around what is looked at: there the same part may be reached in many ways.
    choices: usize,
    known: HashMap<(Id, *const Value), bool>,
    /// Whether mistakes are written down; where not, the first one ends it.
    telling: bool,
    path: Vec<Step<'v>>,
    misfits: Vec<Misfit>,
}

impl<'n, 'v> Check<'n, 'v> {
    pub(crate) fn new(nodes: &'n [Node], from: From) -> Self {
        Self {
            nodes,
            from,
            left: MAX_STEPS,
            whole: None,
            depth: 0,
            too_much: false,
            choices: 0,
            known: HashMap::new(),
            telling: false,
            path: Vec::new(),
            misfits: Vec::new(),
        }
    }

    pub(crate) fn fits(mut self, root: Id, value: &'v Value) -> bool {
        self.whole = Some(value);
        self.holds(root, value, None) && !self.too_much
    }

    pub(crate) fn all(mut self, root: Id, value: &'v Value) -> Vec<Misfit> {
        self.whole = Some(value);
        // What was not looked at to its end does not fit, also where something else must not be so.
        if self.holds(root, value, None) && !self.too_much {
            return Vec::new();
        }
        if !self.too_much {
            (self.telling, self.left, self.whole) = (true, MAX_STEPS, Some(value));
            self.holds(root, value, None);
        }
        // What was told until then is true all the same.
        if self.misfits.is_empty() {
            let told = "would take too long to hold against the contract".to_owned();
            return vec![Misfit {
                pointer: String::new(),
                told,
                read_only: false,
            }];
        }
        self.misfits
    }

    /// Notes a mistake down; `false`, to be handed on.
    fn wrong(&mut self, told: impl FnOnce() -> String) -> bool {
        if self.telling {
            let pointer = pointer(&self.path);
            self.put(pointer, told());
        }
        false
    }

    fn wrong_at(&mut self, name: &str, told: &str) -> bool {
        if self.telling {
            let pointer = pointer(&self.path) + &pointer(&[Step::Member(name)]);
            self.put(pointer, told.to_owned());
        }
        false
    }

    /// What looks through a long list of the schema's costs more than one step.
    fn charge(&mut self, length: usize) {
        const FREE: usize = 16;
        for _ in 0..length / FREE {
            if self.too_much {
                return;
            }
            self.step();
        }
    }

    /// A step fewer is left. How many parts a value has is counted when it turns out to be large.
    fn step(&mut self) {
        self.left = self.left.saturating_sub(1);
        if self.left == 0 {
            self.left = OF_EACH.saturating_mul(self.whole.take().map_or(0, parts));
            self.too_much = self.left == 0;
        }
        self.too_much |= self.depth >= MAX_DEPTH;
    }

    fn put(&mut self, pointer: String, told: String) {
        let read_only = told == READ_ONLY;
        let misfit = Misfit {
            pointer,
            told,
            read_only,
        };
        if self.misfits.len() < TOLD && !self.misfits.contains(&misfit) {
            self.misfits.push(misfit);
        }
    }

    /// Whether a value keeps to a schema, and what of it was looked at where somebody asks.
    fn holds(&mut self, id: Id, value: &'v Value, seen: Option<&mut Evaluated<'v>>) -> bool {
        let large = matches!(value, Value::Array(_) | Value::Object(_));
        let keep = self.choices > 0 && large && seen.is_none() && !self.telling;
        let key = (id, std::ptr::from_ref(value));
        if keep && let Some(known) = self.known.get(&key) {
            return *known;
        }
        self.step();
        // When enough is told the rest is not looked at.
        if self.too_much || self.misfits.len() >= TOLD {
            return false;
        }
        self.depth += 1;
        let holds = self.node(id, value, seen);
        self.depth -= 1;
        if keep {
            self.known.insert(key, holds);
        }
        holds
    }

    fn node(&mut self, id: Id, value: &'v Value, seen: Option<&mut Evaluated<'v>>) -> bool {
        let nodes = self.nodes;
        let Some(node) = nodes.get(id as usize) else {
            return true;
        };
        let first = !self.telling;
        if node.never {
            return self.wrong(|| "must not be there".into());
        }
        if node.read_only && self.from == From::Callers {
            return self.wrong(|| READ_ONLY.into());
        }
        let mut good = true;
        if node.types != 0 && node.types & type_of(value) == 0 {
            // What it is instead is not looked at further.
            return self.wrong(|| format!("must be {}", types(node.types)));
        }
        good &= self.scalar(node, value);
        if !good && first {
            return false;
        }
        let asks = node.list.as_ref().is_some_and(|l| l.unevaluated.is_some())
            || node
                .object
                .as_ref()
                .is_some_and(|o| o.unevaluated.is_some());
        if seen.is_none() && !asks {
            return good & self.parts(node, value, None);
        }
        let mut own = Evaluated::default();
        good &= self.parts(node, value, Some(&mut own));
        if asks && (good || self.telling) {
            good &= self.unevaluated(node, value, &mut own);
        }
        if let Some(seen) = seen {
            seen.add(own);
        }
        good
    }

    /// What a schema says of a value's parts, and by other schemas.
    fn parts(
        &mut self,
        node: &'n Node,
        value: &'v Value,
        mut seen: Option<&mut Evaluated<'v>>,
    ) -> bool {
        let first = !self.telling;
        let mut good = true;
        if let Some(id) = node.refers {
            good &= self.holds(id, value, seen.as_deref_mut());
        }
        match value {
            Value::Object(members) if good || !first => {
                if let Some(said) = &node.object {
                    good &= self.members(said, value, members, seen.as_deref_mut());
                }
            }
            Value::Array(items) if good || !first => {
                if let Some(said) = &node.list {
                    good &= self.items(said, items, seen.as_deref_mut());
                }
            }
            _ => {}
        }
        match &node.several {
            Some(said) if good || !first => good & self.several(said, value, seen),
            _ => good,
        }
    }

    fn several(
        &mut self,
        said: &'n Several,
        value: &'v Value,
        mut seen: Option<&mut Evaluated<'v>>,
    ) -> bool {
        let mut good = true;
        for id in &said.all {
            good &= self.holds(*id, value, seen.as_deref_mut());
            if !good && !self.telling {
                return false;
            }
        }
        if !said.any.is_empty() && self.fitting(&said.any, value, seen.as_deref_mut(), 1) == 0 {
            good = self.none_of(&said.any, value);
        }
        if !said.one.is_empty() {
            match self.fitting(&said.one, value, seen.as_deref_mut(), 2) {
                0 => good = self.none_of(&said.one, value),
                1 => {}
                _ => {
                    let told = "fits several of its forms, and must fit one";
                    good = self.wrong(|| told.into());
                }
            }
        }
        if let Some(id) = said.not
            && self.quietly(id, value, None)
        {
            good = self.wrong(|| "is what it must not be".into());
        }
        good & self.conditional(said, value, seen)
    }

    fn conditional(
        &mut self,
        said: &'n Several,
        value: &'v Value,
        mut seen: Option<&mut Evaluated<'v>>,
    ) -> bool {
        let Some(when) = said.when else { return true };
        let mut own = seen.is_some().then(Evaluated::default);
        let next = if self.quietly(when, value, own.as_mut()) {
            if let (Some(seen), Some(own)) = (seen.as_deref_mut(), own) {
                seen.add(own);
            }
            said.then
        } else {
            said.otherwise
        };
        next.is_none_or(|id| self.holds(id, value, seen))
    }

    /// Whether a value keeps to a schema, and nothing is told.
    fn quietly(&mut self, id: Id, value: &'v Value, seen: Option<&mut Evaluated<'v>>) -> bool {
        let telling = std::mem::replace(&mut self.telling, false);
        self.choices += 1;
        let holds = self.holds(id, value, seen);
        self.choices -= 1;
        self.telling = telling;
        holds
    }

    /// How many of several schemas a value keeps to; not more are looked for than are asked for.
    fn fitting(
        &mut self,
        ids: &[Id],
        value: &'v Value,
        mut seen: Option<&mut Evaluated<'v>>,
        enough: usize,
    ) -> usize {
        let mut count = 0;
        for id in ids {
            let mut own = seen.is_some().then(Evaluated::default);
            if self.quietly(*id, value, own.as_mut()) {
                count += 1;
                if let (Some(seen), Some(own)) = (seen.as_deref_mut(), own) {
                    seen.add(own);
                } else if count >= enough {
                    break;
                }
            }
        }
        count
    }

    /// Tells that a value fits none of several forms, and what is wrong with the one that it comes nearest to.
    fn none_of(&mut self, ids: &[Id], value: &'v Value) -> bool {
        if !self.telling {
            return false;
        }
        let before = std::mem::take(&mut self.misfits);
        let mut nearest: Option<Vec<Misfit>> = None;
        // Forms within forms are looked at for the first few only: their number may double with each level.
        const FORMS: usize = 8;
        if self.choices == 0 {
            self.choices += 1;
            for id in ids.iter().take(FORMS) {
                self.holds(*id, value, None);
                let told = std::mem::take(&mut self.misfits);
                if !told.is_empty() && nearest.as_ref().is_none_or(|n| told.len() < n.len()) {
                    nearest = Some(told);
                }
            }
            self.choices -= 1;
        }
        self.misfits = before;
        let first = nearest.and_then(|told| told.into_iter().next());
        let here = pointer(&self.path);
        self.wrong(|| {
            let of_nearest = first.map_or_else(String::new, |m| {
                let below = m.pointer.strip_prefix(&here).unwrap_or(&m.pointer);
                let place = if below.is_empty() { "it" } else { below };
                format!("; of the nearest, {place} {}", m.told)
            });
            format!("fits none of its {} forms{of_nearest}", ids.len())
        })
    }
}

/// How many values there are in one.
fn parts(value: &Value) -> usize {
    1 + match value {
        Value::Array(items) => items.iter().map(parts).sum(),
        Value::Object(members) => members.values().map(parts).sum::<usize>(),
        _ => 0,
    }
}
