//! Changes made while bytes are read once: what is not changed is copied as it stands, and no value is made of it.
//!
//! This way only ever says what surely comes of a list of changes; whatever it is not sure of goes the other way, which tells
//! what is wrong. It takes lists whose paths have nothing to do with one another, and whose values are known before.

mod scan;

use serde_json::Value;

use self::scan::Scan;
use super::{Action, Change, Values};

/// What comes of a text is at most so much longer.
const MOST_MADE: usize = 8 << 20;

/// The changes of a list by the places that they are for.
#[derive(Debug, Default)]
pub(super) struct Plan {
    root: Node,
}

/// What is changed of a value.
#[derive(Debug, Default)]
struct Node {
    members: Vec<(String, Node)>,
    /// What is changed of each item.
    each: Option<Box<Node>>,
    /// The number of the change of the value itself.
    change: Option<usize>,
    /// Names that members get here.
    names: Vec<String>,
    /// Whether something below must be there.
    must_be: bool,
}

/// Whether a change can be made without a value of the whole.
fn is_plain(change: &Change) -> bool {
    let tokens = change.path.tokens();
    let of_list = tokens.iter().any(|t| t == "*");
    let named = tokens.iter().all(|t| {
        let digits = !t.is_empty() && t.bytes().all(|b| b.is_ascii_digit());
        t != "-" && !digits
    });
    let last_is_name = tokens.last().is_some_and(|t| t != "*");
    let known = match change.action.value() {
        Some(value) => !of_list || matches!(value, crate::expr::Template::Literal(_)),
        None => true,
    };
    let action = matches!(
        change.action,
        Action::Add(_)
            | Action::Remove
            | Action::Replace(_)
            | Action::Rename(_)
            | Action::Default(_)
            | Action::Mask(_)
    );
    let absent =
        matches!(change.action, Action::Add(_) | Action::Default(_)) && change.may_be_absent;
    let to_plain = match &change.action {
        Action::Rename(to) => is_written_as_it_is(to),
        _ => true,
    };
    let named = named && tokens.iter().all(|t| is_written_as_it_is(t));
    change.when.is_none() && named && to_plain && last_is_name && known && action && !absent
}

/// Whether a name stands in JSON without an escape.
fn is_written_as_it_is(name: &str) -> bool {
    !name.bytes().any(|b| matches!(b, b'"' | b'\\') || b < 0x20)
}

impl Plan {
    /// The plan of a list; `None` where it needs a value of the whole.
    pub(super) fn of(changes: &[Change]) -> Option<Self> {
        if changes.is_empty() || !changes.iter().all(is_plain) {
            return None;
        }
        let mut plan = Self::default();
        for (i, change) in changes.iter().enumerate() {
            let mut node = &mut plan.root;
            let put = matches!(change.action, Action::Add(_) | Action::Default(_));
            let tokens = change.path.tokens();
            for (depth, token) in tokens.iter().enumerate() {
                if node.change.is_some() {
                    return None;
                }
                let last = depth + 1 == tokens.len();
                if let (true, Action::Rename(to)) = (last, &change.action) {
                    node.names.push(to.clone());
                }
                node = node.below(token);
                // What is put need not be there, but what it is put into must.
                node.must_be |= !last && !change.may_be_absent;
            }
            if node.change.is_some() || !node.members.is_empty() || node.each.is_some() {
                return None;
            }
            node.change = Some(i);
            node.must_be = !change.may_be_absent && !put;
        }
        plan.root.is_sound().then_some(plan)
    }
}

impl Node {
    fn below(&mut self, token: &str) -> &mut Node {
        if token == "*" {
            return self.each.get_or_insert_default();
        }
        let at = self.members.iter().position(|(name, _)| name == token);
        let at = at.unwrap_or_else(|| {
            self.members.push((token.to_owned(), Node::default()));
            self.members.len() - 1
        });
        &mut self.members[at].1
    }

    /// Whether it is a list or an object, and no name that is given here is that of another change.
    fn is_sound(&self) -> bool {
        // So many are counted in one number.
        let is_one = self.each.is_none() || self.members.is_empty();
        let is_one = is_one && self.members.len() <= 64;
        let other = |name: &String| {
            let again = self.names.iter().filter(|n| *n == name).count() > 1;
            again || self.members.iter().any(|(m, _)| m == name)
        };
        let below = self
            .members
            .iter()
            .map(|(_, n)| n)
            .chain(self.each.as_deref());
        is_one && !self.names.iter().any(other) && below.into_iter().all(Node::is_sound)
    }
}

/// What comes of bytes; `None` where it is not sure.
pub(super) fn apply(
    plan: &Plan,
    changes: &[Change],
    bytes: &[u8],
    values: &dyn Values,
) -> Option<Vec<u8>> {
    let text = std::str::from_utf8(bytes).ok()?;
    // Values that do not depend on an item are made once.
    let made = changes.iter().map(|change| match change.action.value() {
        None => Some(None),
        Some(template) => {
            let value = values.value(template, None).ok()?;
            Some(value.map(|v| v.to_string()))
        }
    });
    let mut walk = Walk {
        from: Scan::of(text),
        changes,
        made: made.collect::<Option<_>>()?,
        out: String::with_capacity(text.len() + 64),
        most: text.len() + MOST_MADE,
    };
    walk.value(&plan.root)?;
    walk.from.end()?;
    Some(walk.out.into_bytes())
}

/// A text on its way.
struct Walk<'w> {
    from: Scan<'w>,
    changes: &'w [Change],
    made: Vec<Option<String>>,
    out: String,
    most: usize,
}

impl<'w> Walk<'w> {
    fn value(&mut self, node: &Node) -> Option<()> {
        match &node.each {
            Some(each) => self.list(each),
            None => self.object(node),
        }
    }

    fn list(&mut self, each: &Node) -> Option<()> {
        self.from.open(b'[')?;
        self.out.push('[');
        let mut first = true;
        while self.from.more(b']', &mut first)? {
            if !self.out.ends_with('[') {
                self.out.push(',');
            }
            self.value(each)?;
        }
        self.out.push(']');
        Some(())
    }

    fn object(&mut self, node: &Node) -> Option<()> {
        let mut seen: u64 = 0;
        self.from.open(b'{')?;
        self.out.push('{');
        let (mut first, mut none) = (true, true);
        while self.from.more(b'}', &mut first)? {
            let name = self.from.name()?;
            let at = node.members.iter().position(|(n, _)| n == name);
            let Some(at) = at else {
                // What is called as another will be makes way for it, wherever it stands.
                if node.names.iter().any(|n| n == name) {
                    return None;
                }
                let raw = self.from.value()?;
                self.member(&mut none, name, raw);
                continue;
            };
            if seen & 1 << at != 0 {
                return None;
            }
            seen |= 1 << at;
            let below = &node.members[at].1;
            match below.change {
                Some(i) => {
                    let raw = self.from.value()?;
                    self.changed(&mut none, name, raw, i)?;
                }
                None => {
                    self.name(&mut none, name);
                    self.value(below)?;
                }
            }
        }
        for (at, (name, below)) in node.members.iter().enumerate() {
            match (below.change, below.must_be) {
                _ if seen & 1 << at != 0 => {}
                (_, true) => return None,
                (Some(i), false) => self.put(&mut none, name, i),
                (None, false) => {}
            }
        }
        self.out.push('}');
        self.has_room()
    }

    /// A name, which needs no escapes.
    fn name(&mut self, none: &mut bool, name: &str) {
        if !std::mem::replace(none, false) {
            self.out.push(',');
        }
        self.out.push('"');
        self.out.push_str(name);
        self.out.push_str("\":");
    }

    fn member(&mut self, none: &mut bool, name: &str, json: &str) {
        self.name(none, name);
        self.out.push_str(json);
    }

    /// Whether what comes of it is no longer than it may be.
    fn has_room(&self) -> Option<()> {
        (self.out.len() <= self.most).then_some(())
    }

    /// What is put where there is nothing.
    fn put(&mut self, none: &mut bool, name: &str, i: usize) {
        if !matches!(self.changes[i].action, Action::Add(_) | Action::Default(_)) {
            return;
        }
        if let Some(json) = self.made[i].take() {
            self.member(none, name, &json);
            self.made[i] = Some(json);
        }
    }

    /// A member with its change.
    fn changed(&mut self, none: &mut bool, name: &str, raw: &str, i: usize) -> Option<()> {
        let made = self.made[i].take();
        match &self.changes[i].action {
            Action::Remove => {}
            Action::Rename(to) => self.member(none, to, raw),
            Action::Replace(_) => {
                if let Some(made) = &made {
                    self.member(none, name, made);
                }
            }
            // What is absent is not put, and what is there stays.
            Action::Default(_) if raw != "null" => self.member(none, name, raw),
            Action::Add(_) | Action::Default(_) => {
                self.member(none, name, made.as_deref().unwrap_or(raw));
            }
            Action::Mask(keep) => {
                let value: Value = serde_json::from_str(raw).ok()?;
                let masked = super::act::masked(value, *keep)?;
                self.member(none, name, &masked.to_string());
            }
            Action::Move(_)
            | Action::Copy(_)
            | Action::Test(_)
            | Action::Substitute(_)
            | Action::Link => return None,
        }
        self.made[i] = made;
        Some(())
    }
}
