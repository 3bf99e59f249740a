//! The members of a mapping.

use std::ops::{Deref, DerefMut};
use std::sync::OnceLock;

use crate::node::{Node, Position};

/// A member: its key, where that stands, and its value.
pub type Member = (String, Position, Node);

/// The members of a mapping, in the order written. Whoever looks for one among many does not go through all of them.
#[derive(Clone, Debug, Default)]
pub struct Members {
    all: Vec<Member>,
    /// Places in the order of keys, once somebody looked for one among many; none where members were changed, which would sort
    /// them again and again.
    sorted: OnceLock<Box<[u32]>>,
}

/// So few are looked through one by one.
const FEW: usize = 32;

impl Members {
    /// The first member of a name.
    pub fn named(&self, key: &str) -> Option<&Member> {
        if self.all.len() <= FEW || u32::try_from(self.all.len()).is_err() {
            return self.all.iter().find(|(k, ..)| k == key);
        }
        let key_at = |at: &u32| self.all.get(*at as usize).map_or("", |(k, ..)| k);
        let sorted = self.sorted.get_or_init(|| {
            let mut places: Vec<u32> = (0..self.all.len() as u32).collect();
            // Among equal keys the first stays the first.
            places.sort_by(|a, b| key_at(a).cmp(key_at(b)));
            places.into()
        });
        if sorted.is_empty() {
            return self.all.iter().find(|(k, ..)| k == key);
        }
        let at = sorted.partition_point(|at| key_at(at) < key);
        let member = self.all.get(*sorted.get(at)? as usize)?;
        (member.0 == key).then_some(member)
    }
}

impl From<Vec<Member>> for Members {
    fn from(all: Vec<Member>) -> Self {
        Self {
            all,
            sorted: OnceLock::new(),
        }
    }
}

impl Deref for Members {
    type Target = Vec<Member>;

    fn deref(&self) -> &Vec<Member> {
        &self.all
    }
}

impl DerefMut for Members {
    fn deref_mut(&mut self) -> &mut Vec<Member> {
        self.sorted = OnceLock::from(Box::<[u32]>::default());
        &mut self.all
    }
}

impl IntoIterator for Members {
    type Item = Member;
    type IntoIter = std::vec::IntoIter<Member>;

    fn into_iter(self) -> Self::IntoIter {
        self.all.into_iter()
    }
}

impl<'m> IntoIterator for &'m Members {
    type Item = &'m Member;
    type IntoIter = std::slice::Iter<'m, Member>;

    fn into_iter(self) -> Self::IntoIter {
        self.all.iter()
    }
}

#[cfg(test)]
mod tests {
    use serde_json::Value;

    use super::{Member, Members};
    use crate::node::{Node, NodeKind, Position};

    fn member(key: &str, line: usize) -> Member {
        let at = Position { line, column: 1 };
        let kind = NodeKind::Scalar(Value::Null);
        (key.to_owned(), at, Node { at, kind })
    }

    #[test]
    fn the_first_of_a_name_is_found_among_few_and_many_and_after_changes() {
        for count in [3, 1_000] {
            let all = (0..count).map(|n| member(&format!("k{n}"), n));
            let mut members = Members::from(all.chain([member("k1", 9_999)]).collect::<Vec<_>>());
            let line = |members: &Members, key: &str| members.named(key).map(|m| m.1.line);
            assert_eq!(line(&members, "k1"), Some(1));
            assert_eq!(line(&members, &format!("k{}", count - 1)), Some(count - 1));
            assert_eq!(line(&members, "none"), None);
            members.remove(1);
            members.push(member("none", 5));
            assert_eq!(line(&members, "k1"), Some(9_999));
            assert_eq!(line(&members, "none"), Some(5));
        }
    }
}
