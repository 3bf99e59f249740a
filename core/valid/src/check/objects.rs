//! What is said of the parts of objects and lists.

use std::collections::HashSet;

use serde_json::{Map, Value};

use super::scalars::canonical;
use super::{Check, TOLD};
use crate::evaluated::Evaluated;
use crate::node::{Id, Lists, Node, Objects};
use crate::told::{Step, some};

/// What a pattern costs, in parts of a step.
const FEW: usize = 8;

impl<'n, 'v> Check<'n, 'v> {
    /// A part of the value, and the step that leads to it.
    fn part(&mut self, step: Step<'v>, id: Id, value: &'v Value) -> bool {
        if !self.telling {
            return self.holds(id, value, None);
        }
        self.path.push(step);
        let good = self.holds(id, value, None);
        self.path.pop();
        good
    }

    pub(super) fn members(
        &mut self,
        said: &'n Objects,
        value: &'v Value,
        members: &'v Map<String, Value>,
        mut seen: Option<&mut Evaluated<'v>>,
    ) -> bool {
        let first = !self.telling;
        let mut good = self.present(said, members);
        for (name, member) in members {
            if (!good && first) || self.misfits.len() >= TOLD {
                return false;
            }
            self.charge(FEW * said.patterns.len());
            good &= self.member(said, name, member, seen.as_deref_mut());
        }
        for (name, id) in &said.with_schemas {
            if members.contains_key(&**name) && (good || !first) {
                good &= self.holds(*id, value, seen.as_deref_mut());
            }
        }
        good
    }

    /// Which members there are, and how many.
    fn present(&mut self, said: &'n Objects, members: &Map<String, Value>) -> bool {
        let mut good = true;
        self.charge(said.required.len() + said.with.len() + said.with_schemas.len());
        for name in &said.required {
            if !members.contains_key(&**name) {
                good = self.wrong_at(name, "must be there");
            }
        }
        for (name, others) in &said.with {
            if !members.contains_key(&**name) {
                continue;
            }
            for other in others {
                if !members.contains_key(&**other) {
                    good = self.wrong_at(other, &format!("must be there where “{name}” is"));
                }
            }
        }
        let count = members.len() as u64;
        if let Some(least) = said.least.filter(|l| count < *l) {
            good =
                self.wrong(|| format!("must have at least {}", some(least, "member", "members")));
        }
        if let Some(most) = said.most.filter(|m| count > *m) {
            good = self.wrong(|| format!("must have at most {}", some(most, "member", "members")));
        }
        good
    }

    fn member(
        &mut self,
        said: &'n Objects,
        name: &'v str,
        member: &'v Value,
        seen: Option<&mut Evaluated<'v>>,
    ) -> bool {
        let (mut good, mut known) = (true, false);
        if let Some((_, id)) = said
            .properties
            .get(name)
            .and_then(|at| said.listed.get(*at))
        {
            known = true;
            good &= self.part(Step::Member(name), *id, member);
        }
        for (pattern, id) in &said.patterns {
            if pattern.is_match(name) {
                known = true;
                good &= self.part(Step::Member(name), *id, member);
            }
        }
        if let (false, Some(id)) = (known, said.others) {
            known = true;
            if self.nodes.get(id as usize).is_some_and(|n| n.never) {
                good = self.unknown(said, name);
            } else {
                good &= self.part(Step::Member(name), id, member);
            }
        }
        if let Some(id) = said.names {
            let text = Value::String(name.to_owned());
            // What is left of the work is left to both.
            let mut names = Check::new(self.nodes, self.from);
            (names.left, names.depth) = (self.left, self.depth);
            let fits = names.holds(id, &text, None);
            (self.left, self.too_much) = (names.left.max(1), self.too_much | names.too_much);
            if !fits {
                good = self.wrong_at(name, "is no name that a member may have here");
            }
        }
        if let (true, Some(seen)) = (known, seen) {
            seen.members.insert(name);
        }
        good
    }

    fn unknown(&mut self, said: &Objects, name: &str) -> bool {
        if !self.telling {
            return false;
        }
        let names = said.properties.keys().map(|n| &**n);
        let near = porch_contract::suggest(name, names);
        let near = near.map_or_else(String::new, |n| format!("; did you mean “{n}”?"));
        self.wrong_at(name, &format!("is not known here{near}"))
    }

    pub(super) fn items(
        &mut self,
        said: &'n Lists,
        items: &'v [Value],
        mut seen: Option<&mut Evaluated<'v>>,
    ) -> bool {
        let first = !self.telling;
        let mut good = self.count(said, items);
        for (at, item) in items.iter().enumerate() {
            if !good && first {
                return false;
            }
            if let Some(id) = said.first.get(at).copied().or(said.items) {
                good &= self.part(Step::Item(at), id, item);
            }
        }
        if let Some(seen) = seen.as_deref_mut() {
            seen.first = seen.first.max(said.first.len());
            seen.all_items |= said.items.is_some();
        }
        if let Some((id, least, most)) = said.contains {
            let mut count = 0;
            for (at, item) in items.iter().enumerate() {
                if self.quietly(id, item, None) {
                    count += 1;
                    if let Some(seen) = seen.as_deref_mut() {
                        seen.items.insert(at);
                    }
                }
            }
            if count < least || most.is_some_and(|m| count > m) {
                let told = format!(
                    "has {} of those that it must have",
                    some(count, "item", "items")
                );
                good = self.wrong(|| told);
            }
        }
        good
    }

    fn count(&mut self, said: &'n Lists, items: &[Value]) -> bool {
        let mut good = true;
        let count = items.len() as u64;
        if let Some(least) = said.least.filter(|l| count < *l) {
            good = self.wrong(|| format!("must have at least {}", some(least, "item", "items")));
        }
        if let Some(most) = said.most.filter(|m| count > *m) {
            good = self.wrong(|| format!("must have at most {}", some(most, "item", "items")));
        }
        if said.unique && items.len() > 1 {
            let mut known = HashSet::with_capacity(items.len());
            let twice = items.iter().any(|item| {
                let mut text = String::new();
                canonical(item, &mut text);
                !known.insert(text)
            });
            if twice {
                good = self.wrong(|| "must not have the same item twice".into());
            }
        }
        good
    }

    /// Core §11: what no other schema has looked at.
    pub(super) fn unevaluated(
        &mut self,
        node: &'n Node,
        value: &'v Value,
        seen: &mut Evaluated<'v>,
    ) -> bool {
        let mut good = true;
        match value {
            Value::Object(members) => {
                let Some((said, id)) = node.object.as_ref().and_then(|o| Some((o, o.unevaluated?)))
                else {
                    return true;
                };
                let never = self.nodes.get(id as usize).is_some_and(|n| n.never);
                for (name, member) in members {
                    if !seen.has_member(name) {
                        good &= match never {
                            true => self.unknown(said, name),
                            false => self.part(Step::Member(name), id, member),
                        };
                    }
                }
                seen.all_members = true;
            }
            Value::Array(items) => {
                let Some(id) = node.list.as_ref().and_then(|l| l.unevaluated) else {
                    return true;
                };
                for (at, item) in items.iter().enumerate() {
                    if !seen.has_item(at) {
                        good &= self.part(Step::Item(at), id, item);
                    }
                }
                seen.all_items = true;
            }
            _ => {}
        }
        good
    }
}
