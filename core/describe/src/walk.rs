//! Going through a description, object by object: what the standard has is kept, what it has not is told and left out, and
//! what a reference leads to becomes a component of the contract, in whichever file it stood.

use std::collections::{HashMap, HashSet, VecDeque};

use indexmap::IndexMap;
use porch_contract::{Node, NodeKind, Position, Severity};
use serde_json::Value;

use crate::Version;
use crate::build::{map, put, text};
use crate::names::Names;
use crate::shape::{Kind, Shape};
use crate::sources::{Findings, Sources, reference};
use crate::text::size_of;

/// A contract has at most so many values.
const MAX_VALUES: usize = 4_000_000;

/// References lead through at most so many components before a schema comes.
const MAX_DEPTH: usize = 40;

/// A component by what it is and the node it stood as.
type Key = (&'static str, *const Node);

/// What is on its way from a description to a contract.
pub(crate) struct Walk<'a> {
    pub(crate) sources: &'a Sources,
    pub(crate) version: Version,
    pub(crate) found: Findings,
    names: HashMap<Key, Option<String>>,
    taken: HashMap<&'static str, Names>,
    components: IndexMap<&'static str, IndexMap<String, Node>>,
    /// Methods and paths that some operation has.
    pub(crate) routes: Names,
    /// Schemas that were referred to and are not read yet.
    open: VecDeque<(String, &'a Node)>,
    left: usize,
    depth: usize,
}

impl<'a> Walk<'a> {
    pub(crate) fn new(sources: &'a Sources, version: Version, found: Findings) -> Self {
        Self {
            sources,
            version,
            found,
            names: HashMap::new(),
            taken: HashMap::new(),
            components: IndexMap::new(),
            routes: Names::default(),
            open: VecDeque::new(),
            left: MAX_VALUES,
            depth: 0,
        }
    }

    pub(crate) fn warn(&mut self, at: Position, kind: &str, told: String, help: &str) {
        self.found.tell(Severity::Warning, at, kind, told, help);
    }

    /// Counts what is copied; nothing is when there is too much already.
    pub(crate) fn room(&mut self, values: usize, at: Position) -> bool {
        match self.left.checked_sub(values) {
            Some(left) => {
                self.left = left;
                true
            }
            None => {
                let told = format!(
                    "with what its references stand for it has more than {MAX_VALUES} values; the rest is left out"
                );
                self.warn(at, "too much", told, "");
                false
            }
        }
    }

    /// An object with the members that its shape has; `None` where one is missing that must be there.
    pub(crate) fn object(&mut self, shape: &'static Shape, node: &Node) -> Option<Node> {
        let NodeKind::Map(entries) = &node.kind else {
            let told = format!("{} is an object", one(shape));
            self.warn(node.at, "not an object", told, "it is left out");
            return None;
        };
        if !self.room(1, node.at) {
            return None;
        }
        let mut kept = Vec::new();
        for (name, at, value) in entries {
            if name.starts_with("x-") {
                if self.room(size_of(value), *at) {
                    kept.push((name.clone(), *at, value.clone()));
                }
                continue;
            }
            let Some((_, kind)) = shape.members.iter().find(|(n, _)| n == name) else {
                self.unknown(shape, name, *at);
                continue;
            };
            if let Some(value) = self.member(*kind, name, value) {
                kept.push((name.clone(), *at, value));
            }
        }
        for name in shape.required {
            if !kept.iter().any(|(n, ..)| n == name) {
                let told = format!("{} has no “{name}”", one(shape));
                self.warn(node.at, "something missing", told, "it is left out");
                return None;
            }
        }
        crate::sound::object(self, shape, map(node.at, kept))
    }

    fn unknown(&mut self, shape: &Shape, name: &str, at: Position) {
        let known = shape.members.iter().map(|(n, _)| *n);
        let help = porch_contract::suggest(name, known).map_or_else(
            || "it is left out".to_owned(),
            |n| format!("it is left out; did you mean “{n}”?"),
        );
        let told = format!("{} has no member “{name}”", one(shape));
        self.warn(at, "unknown member", told, &help);
    }

    fn member(&mut self, kind: Kind, name: &str, value: &Node) -> Option<Node> {
        match kind {
            Kind::Text => self.text(name, value),
            Kind::Flag => self.flag(name, value),
            Kind::Texts => Some(self.texts(name, value)),
            Kind::Apart => None,
            Kind::Any => self.example(value),
            Kind::Schema => Some(self.schema(value)),
            Kind::One(shape) => self.object(shape, value),
            Kind::Map(shape) => {
                let each = |own: &mut Self, v: &Node| own.object(shape, v);
                self.by_name(name, value, each)
            }
            Kind::Reference(shape) => {
                let each = |own: &mut Self, v: &Node| own.referred(shape, v);
                self.by_name(name, value, each)
            }
        }
    }

    fn by_name(
        &mut self,
        name: &str,
        node: &Node,
        each: impl Fn(&mut Self, &Node) -> Option<Node>,
    ) -> Option<Node> {
        let NodeKind::Map(entries) = &node.kind else {
            if !is_null(node) {
                let told = format!("“{name}” is an object with a member for each of them");
                self.warn(node.at, "not an object", told, "it is left out");
            }
            return None;
        };
        let mut kept = Vec::new();
        for (key, at, value) in entries {
            if let Some(value) = each(self, value) {
                kept.push((key.clone(), *at, value));
            }
        }
        Some(map(node.at, kept))
    }

    /// An object, or a reference to one, which becomes a component.
    pub(crate) fn referred(&mut self, shape: &'static Shape, node: &Node) -> Option<Node> {
        let Some(target) = reference(node) else {
            return self.checked(shape, node);
        };
        let (target, at) = (target.to_owned(), node.at);
        let deep = self.depth >= MAX_DEPTH;
        let found = match deep {
            true => Err("it leads through too many others".to_owned()),
            false => self.sources.follow_from(&target, at),
        };
        let node = match found {
            Ok(node) => node,
            Err(why) => {
                self.nowhere(&target, at, &why);
                return None;
            }
        };
        let key = (shape.components, std::ptr::from_ref(node));
        if let Some(known) = self.names.get(&key) {
            let name = known.clone()?;
            return Some(refers(shape.components, &name, at));
        }
        // Whatever leads here again meanwhile leads in a circle.
        self.names.insert(key, None);
        self.depth += 1;
        let made = self.checked(shape, node);
        self.depth -= 1;
        let made = made?;
        let name = self.name(shape.components, &target);
        self.names.insert(key, Some(name.clone()));
        let all = self.components.entry(shape.components).or_default();
        all.insert(name.clone(), made);
        Some(refers(shape.components, &name, at))
    }

    fn checked(&mut self, shape: &'static Shape, node: &Node) -> Option<Node> {
        let converted = crate::two::object(self, shape, node);
        self.object(shape, converted.as_ref().unwrap_or(node))
    }

    /// What something is that may be a reference to a component.
    pub(crate) fn seen<'n>(&'n self, shape: &Shape, node: &'n Node) -> &'n Node {
        let name = reference(node).and_then(|r| r.rsplit('/').next());
        let known = name.and_then(|name| self.components.get(shape.components)?.get(name));
        known.unwrap_or(node)
    }

    pub(crate) fn nowhere(&mut self, target: &str, at: Position, why: &str) {
        let told = format!("the reference “{target}” leads nowhere: {why}");
        self.warn(
            at,
            "reference that leads nowhere",
            told,
            "what refers to it is left out",
        );
    }

    /// A reference to a schema, which becomes a component; what leads nowhere is any value.
    pub(crate) fn schema_reference(&mut self, target: &str, at: Position) -> Option<String> {
        let node = match self.sources.follow_from(target, at) {
            Ok(found) => found,
            Err(why) => {
                let told = format!("the reference “{target}” leads nowhere: {why}");
                let help = "any value is taken where it stands";
                self.warn(at, "reference that leads nowhere", told, help);
                return None;
            }
        };
        let key = ("schemas", std::ptr::from_ref(node));
        if let Some(Some(known)) = self.names.get(&key) {
            return Some(format!("#/components/schemas/{known}"));
        }
        let name = self.name("schemas", target);
        self.names.insert(key, Some(name.clone()));
        self.open.push_back((name.clone(), node));
        Some(format!("#/components/schemas/{name}"))
    }

    /// A name that no other component has, made of the end of a reference.
    fn name(&mut self, kind: &'static str, target: &str) -> String {
        let (file, pointer) = target.split_once('#').unwrap_or((target, ""));
        let last = pointer.rsplit('/').next().unwrap_or_default();
        let stem = file.rsplit('/').next().unwrap_or_default();
        let stem = stem.split('.').next().unwrap_or_default();
        let raw = if last.is_empty() { stem } else { last };
        let raw = raw.replace("~1", "-").replace("~0", "-");
        // Section 4.8.7: `^[a-zA-Z0-9.\-_]+$`.
        let mut wanted: String = raw
            .chars()
            .map(|c| match c.is_ascii_alphanumeric() || ".-_".contains(c) {
                true => c,
                false => '_',
            })
            .take(100)
            .collect();
        if wanted.is_empty() {
            wanted.push_str("Part");
        }
        self.taken.entry(kind).or_default().give(&wanted, "")
    }

    /// The components that something refers to.
    pub(crate) fn components(&mut self, at: Position) -> Node {
        while let Some((name, node)) = self.open.pop_front() {
            let made = self.schema(node);
            self.components
                .entry("schemas")
                .or_default()
                .insert(name, made);
        }
        let kinds = std::mem::take(&mut self.components).into_iter();
        let kinds = kinds.map(|(kind, all)| {
            let all = all.into_iter().map(|(name, node)| (name, at, node));
            (kind.to_owned(), at, map(at, all.collect()))
        });
        map(at, kinds.collect())
    }

    pub(crate) fn text(&mut self, name: &str, node: &Node) -> Option<Node> {
        match &node.kind {
            NodeKind::Scalar(Value::String(_)) => Some(node.clone()),
            NodeKind::Scalar(Value::Null) => None,
            NodeKind::Scalar(value) => Some(text(node.at, &value.to_string())),
            _ => {
                let told = format!("“{name}” is a text");
                self.warn(node.at, "not a text", told, "it is left out");
                None
            }
        }
    }

    pub(crate) fn flag(&mut self, name: &str, node: &Node) -> Option<Node> {
        let value = match &node.kind {
            NodeKind::Scalar(Value::Bool(value)) => *value,
            NodeKind::Scalar(Value::String(s)) if s.eq_ignore_ascii_case("true") => true,
            NodeKind::Scalar(Value::String(s)) if s.eq_ignore_ascii_case("false") => false,
            NodeKind::Scalar(Value::Null) => return None,
            _ => {
                let told = format!("“{name}” is true or false");
                self.warn(node.at, "not true or false", told, "it is left out");
                return None;
            }
        };
        let kind = NodeKind::Scalar(Value::Bool(value));
        Some(Node { at: node.at, kind })
    }

    pub(crate) fn texts(&mut self, name: &str, node: &Node) -> Node {
        // One alone is meant as a list of it.
        let items = match &node.kind {
            NodeKind::List(items) => items.as_slice(),
            NodeKind::Scalar(Value::String(_)) => std::slice::from_ref(node),
            _ => &[],
        };
        let mut known = HashSet::new();
        let items: Vec<Node> = items
            .iter()
            .filter_map(|item| self.text(name, item))
            .filter(|item| known.insert(item.text().unwrap_or_default().to_owned()))
            .collect();
        let kind = NodeKind::List(items);
        Node { at: node.at, kind }
    }
}

pub(crate) fn is_null(node: &Node) -> bool {
    matches!(node.kind, NodeKind::Scalar(Value::Null))
}

fn refers(kind: &str, name: &str, at: Position) -> Node {
    let mut node = map(at, Vec::new());
    put(
        &mut node,
        "$ref",
        text(at, &format!("#/components/{kind}/{name}")),
    );
    node
}

/// What an object is called, with its article.
fn one(shape: &Shape) -> String {
    let article = if shape.what.starts_with(['a', 'e', 'i', 'o']) {
        "an"
    } else {
        "a"
    };
    format!("{article} {}", shape.what)
}
