//! Objects and lists, part by part.

use std::collections::HashSet;

use super::Reading;
use crate::node::{ANYTHING, ARRAY, Node, OBJECT, Objects};

/// Members that the schema does not name are compared one by one up to here.
const FEW: usize = 16;

/// Names that stood in one object.
#[derive(Default)]
struct Names<'t> {
    few: Vec<&'t str>,
    many: HashSet<&'t str>,
}

impl<'t> Names<'t> {
    /// Whether it is there for the first time.
    fn add(&mut self, name: &'t str) -> bool {
        if self.few.len() == FEW {
            self.many.extend(self.few.drain(..));
        }
        if !self.many.is_empty() {
            return self.many.insert(name);
        }
        let new = !self.few.contains(&name);
        self.few.push(name);
        new
    }

    fn has(&self, name: &str) -> bool {
        self.few.contains(&name) || self.many.contains(name)
    }
}

/// What one object had.
#[derive(Default)]
struct Members<'t> {
    /// Members that the schema names, a bit each.
    known: u128,
    others: Names<'t>,
    count: u64,
    /// The member that would be next, where callers send them as the contract lists them.
    next: usize,
}

impl<'n, 't> Reading<'n, 't> {
    pub(super) fn object(&mut self, node: &'n Node) -> Option<bool> {
        if node.types != 0 && node.types & OBJECT == 0 {
            return Some(false);
        }
        let said = node.object.as_deref();
        if node.values.is_some() || said.is_some_and(|s| !s.plain) {
            return None;
        }
        let mut members = Members::default();
        self.past(b'{')?;
        self.blanks();
        if self.peek()? == b'}' {
            self.at += 1;
        } else {
            loop {
                if !self.member(said, &mut members)? {
                    return Some(false);
                }
                self.blanks();
                if self.peek()? == b'}' {
                    self.at += 1;
                    break;
                }
                self.past(b',')?;
                self.blanks();
            }
        }
        Some(said.is_none_or(|said| present(said, &members)))
    }

    fn member(&mut self, said: Option<&'n Objects>, members: &mut Members<'t>) -> Option<bool> {
        let name = self.text()?;
        // What is written with escapes may be any name.
        if name.escaped {
            return None;
        }
        self.blanks();
        self.past(b':')?;
        self.blanks();
        members.count += 1;
        let Some(said) = said else {
            return if members.others.add(name.raw) {
                self.anything()
            } else {
                None
            };
        };
        match said.named(name.raw, members.next) {
            Some(at) => {
                members.next = at + 1;
                let bit = 1_u128.checked_shl(u32::try_from(at).ok()?)?;
                if members.known & bit != 0 {
                    return None;
                }
                members.known |= bit;
                self.value(said.listed.get(at)?.1)
            }
            None if members.others.add(name.raw) => self.value(said.others.unwrap_or(ANYTHING)),
            None => None,
        }
    }

    pub(super) fn list(&mut self, node: &'n Node) -> Option<bool> {
        if node.types != 0 && node.types & ARRAY == 0 {
            return Some(false);
        }
        let said = node.list.as_deref();
        let plain =
            |l: &crate::node::Lists| l.contains.is_none() && !l.unique && l.unevaluated.is_none();
        if node.values.is_some() || said.is_some_and(|s| !plain(s)) {
            return None;
        }
        self.past(b'[')?;
        self.blanks();
        let mut count = 0;
        if self.peek()? == b']' {
            self.at += 1;
        } else {
            loop {
                let of = said.and_then(|s| s.first.get(count).copied().or(s.items));
                if !self.value(of.unwrap_or(ANYTHING))? {
                    return Some(false);
                }
                count += 1;
                self.blanks();
                if self.peek()? == b']' {
                    self.at += 1;
                    break;
                }
                self.past(b',')?;
                self.blanks();
            }
        }
        let count = count as u64;
        Some(said.is_none_or(|s| {
            s.least.is_none_or(|l| count >= l) && s.most.is_none_or(|m| count <= m)
        }))
    }
}

/// Whether all members are there that must be, and as many as there may be.
fn present(said: &Objects, members: &Members<'_>) -> bool {
    let named = said.needed & members.known == said.needed;
    let others = said.needed_others.iter().all(|n| members.others.has(n));
    named
        && others
        && said.least.is_none_or(|l| members.count >= l)
        && said.most.is_none_or(|m| members.count <= m)
}
