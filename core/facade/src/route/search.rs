//! Finding an operation among the routes.

use porch_contract::Mixed;

use super::{Captured, Node, Router};
use crate::index::OperationIndex;

pub(super) struct Search<'r, 'p> {
    pub(super) router: &'r Router,
    pub(super) path: &'p str,
    pub(super) offsets: &'r [usize],
    pub(super) method: &'r str,
    pub(super) allowed: Vec<Box<str>>,
    pub(super) captured: Captured<'p>,
    pub(super) steps: u32,
}

impl<'p> Search<'_, 'p> {
    fn segment(&self, i: usize) -> &'p str {
        let end = self
            .offsets
            .get(i + 1)
            .map_or(self.path.len(), |next| next - 1);
        &self.path[self.offsets[i]..end]
    }

    pub(super) fn walk(&mut self, at: u32, i: usize) -> Option<OperationIndex> {
        let router = self.router;
        let node = &router.nodes[at as usize];
        if i == self.offsets.len() {
            // Several segments may be none, where nothing is wanted behind them.
            let none = |s: &mut Self| s.leaf(&router.nodes[node.rest? as usize]);
            return self.leaf(node).or_else(|| none(self));
        }
        self.steps = self.steps.checked_sub(1)?;
        let segment = self.segment(i);
        if let Some(found) = node
            .literals
            .get(segment)
            .and_then(|next| self.walk(*next, i + 1))
        {
            return Some(found);
        }
        if !node.mixed.is_empty()
            && let Some(found) = self.mixed(&node.mixed, i)
        {
            return Some(found);
        }
        if let Some(next) = node.parameter.filter(|_| !segment.is_empty()) {
            self.captured.push(segment);
            if let Some(found) = self.with_verb(next, i).or_else(|| self.walk(next, i + 1)) {
                return Some(found);
            }
            self.captured.pop();
        }
        // An empty one at the end is a trailing slash; not where something else is published without it, whose rules must
        // not be got round by a slash that the backend may overlook.
        let slash = i + 1 == self.offsets.len() && node.methods.is_empty();
        let some = !segment.is_empty() || slash;
        let next = node.rest.filter(|_| some)?;
        self.captured.push("");
        let found = self.several(next, i);
        if found.is_none() {
            self.captured.pop();
        }
        found
    }

    /// What a segment of text and variables leads to.
    #[cold]
    fn mixed(&mut self, all: &[(Mixed, u32)], i: usize) -> Option<OperationIndex> {
        let depth = self.captured.len();
        let segment = self.segment(i);
        for (mixed, next) in all {
            self.steps = self.steps.checked_sub(1)?;
            if mixed.divide(segment, |value| self.captured.push(value))
                && let Some(found) = self.walk(*next, i + 1)
            {
                return Some(found);
            }
            self.captured.truncate(depth);
        }
        None
    }

    /// What a variable of several segments leads to, the most specific first: fixed text behind it, a verb at its end, another
    /// variable behind it, nothing. It takes as many segments as can be.
    fn several(&mut self, at: u32, i: usize) -> Option<OperationIndex> {
        let router = self.router;
        let below = &router.nodes[at as usize];
        let (all, depth) = (self.offsets.len(), self.captured.len());
        if !below.literals.is_empty() {
            for end in (i + 1..all).rev() {
                self.take(depth, i, end);
                let fixed = below.literals.get(self.segment(end));
                if let Some(found) = fixed.and_then(|fixed| self.walk(*fixed, end + 1)) {
                    return Some(found);
                }
            }
        }
        self.take(depth, i, all);
        if let Some(found) = self.with_verb(at, all - 1) {
            return Some(found);
        }
        if below.parameter.is_some() {
            for end in (i + 1..all).rev() {
                self.take(depth, i, end);
                if let Some(found) = self.walk(at, end) {
                    return Some(found);
                }
            }
        }
        self.take(depth, i, all);
        let found = self.walk(at, all);
        self.captured.truncate(depth);
        found
    }

    /// Lets the variable at a depth have the segments from one to before another.
    fn take(&mut self, depth: usize, from: usize, end: usize) {
        self.captured.truncate(depth);
        let to = self.offsets.get(end).map_or(self.path.len(), |o| o - 1);
        self.captured[depth - 1] = &self.path[self.offsets[from]..to];
    }

    /// A last segment with a verb behind it, when a template has that.
    fn with_verb(&mut self, at: u32, i: usize) -> Option<OperationIndex> {
        let router = self.router;
        let node = &router.nodes[at as usize];
        if node.verbs.is_empty() || i + 1 != self.offsets.len() {
            return None;
        }
        let whole = *self.captured.last()?;
        let (value, verb) = whole
            .rsplit_once(':')
            .filter(|(value, verb)| !value.is_empty() && !verb.contains('/'))?;
        let next = *node.verbs.get(verb)?;
        let found = self.leaf(&router.nodes[next as usize])?;
        if let Some(last) = self.captured.last_mut() {
            *last = value;
        }
        Some(found)
    }

    fn leaf(&mut self, node: &Node) -> Option<OperationIndex> {
        let by = |name: &str| {
            node.methods
                .iter()
                .find(|(m, _)| **m == *name)
                .map(|(_, o)| *o)
        };
        let found = by(self.method)
            .or_else(|| {
                if self.method == "HEAD" {
                    by("GET")
                } else {
                    None
                }
            })
            .or_else(|| by("*"));
        if found.is_none() {
            self.allowed
                .extend(node.methods.iter().map(|(m, _)| m.clone()));
        }
        found
    }
}
