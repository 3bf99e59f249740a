//! From schema components to the plan.

mod attributes;
mod complex;
mod families;
mod particles;
mod texts;
mod types;

use std::collections::HashMap;

use porch_contract::{Finding, Position, Severity};
use roxmltree::{Node, NodeId};

use self::particles::Taking;
use self::texts::facets;
use super::index::{exact_name, prefix_is_amiss};
use super::missing::MAX_DEPTH;
use super::{Component, Index, Kind, Missing, QName, documentation};
use crate::plan::{
    Derived, Member, MemberKind, NamespaceId, ObjectPlan, Particle, Plan, TypeId, TypePlan,
};
use crate::simple::{Base, Simple};
use crate::xml::{ENCODING_11, ENCODING_12, XML, XSD, is_xsd};

/// Compiles types on demand; each only once.
pub struct Compiler<'a, 'i> {
    index: Index<'a, 'i>,
    plan: Plan,
    namespaces: HashMap<String, NamespaceId>,
    named: HashMap<QName, TypeId>,
    /// The same in the order of first use.
    order: Vec<QName>,
    anonymous: HashMap<(usize, NodeId), TypeId>,
    losses: HashMap<TypeId, Vec<String>>,
    labels: HashMap<String, QName>,
    waiting: Vec<(TypeId, QName, Component<'a, 'i>)>,
    broken: HashMap<TypeId, Missing>,
    any: Option<TypeId>,
    /// Whether `anyType` itself is used, so that `xsi:type` may name any type.
    any_declared: bool,
    depth: usize,
    findings: Vec<Finding>,
}

/// How often something may stand there: at least, and at most.
type Occurs = (u32, Option<u32>);

/// So many named types are made ready for `xsi:type` in place of `anyType`.
const MAX_ANY_TYPES: usize = 5000;

impl<'a, 'i> Compiler<'a, 'i> {
    pub(crate) fn new(index: Index<'a, 'i>) -> Self {
        let plan = Plan {
            types: Vec::new(),
            namespaces: vec![String::new()],
            named: Vec::new(),
        };
        Self {
            index,
            plan,
            namespaces: HashMap::from([(String::new(), 0)]),
            named: HashMap::new(),
            order: Vec::new(),
            anonymous: HashMap::new(),
            losses: HashMap::new(),
            labels: HashMap::new(),
            waiting: Vec::new(),
            broken: HashMap::new(),
            any: None,
            any_declared: false,
            depth: 0,
            findings: Vec::new(),
        }
    }

    /// A type, as far as it is known now.
    pub(crate) fn type_plan(&self, id: TypeId) -> &TypePlan {
        self.plan.get(id)
    }

    /// The plan and what was found on the way; [`Self::complete`] comes first.
    pub(crate) fn finish(self) -> (Plan, Vec<Finding>) {
        (self.plan, self.findings)
    }

    /// What JSON cannot carry in a type and all below it.
    pub(crate) fn losses_below(&self, root: TypeId) -> Vec<String> {
        let mut all: Vec<String> = self
            .plan
            .below(root)
            .iter()
            .flat_map(|id| self.losses.get(id).into_iter().flatten().cloned())
            .collect();
        all.sort();
        all.dedup();
        all
    }

    pub(crate) fn namespace(&mut self, uri: &str) -> NamespaceId {
        if let Some(id) = self.namespaces.get(uri) {
            return *id;
        }
        self.plan.namespaces.push(uri.to_owned());
        let id = (self.plan.namespaces.len() - 1) as NamespaceId;
        self.namespaces.insert(uri.to_owned(), id);
        id
    }

    fn warn(&mut self, at: Component<'a, 'i>, message: String, help: &str) {
        let pos = at.node.document().text_pos_at(at.node.range().start);
        let place = Position {
            line: pos.row as usize,
            column: pos.col as usize,
        };
        if self.findings.len() < 500 {
            self.findings
                .push(Finding::new(Severity::Warning, at.source.file, place, message).help(help));
        }
    }

    /// The name that a reference means; a missing prefix is forgiven and reported.
    fn name(&mut self, kind: Kind, at: Component<'a, 'i>, text: &str) -> QName {
        let exact = exact_name(at, text);
        let name = self.index.name_of(kind, at, text);
        let name = match kind {
            Kind::Type
                if !is_xsd(&name.0)
                    && self.index.get(kind, &name).is_none()
                    && prefix_is_amiss(at, text)
                    && Simple::built_in(&name.1).is_some() =>
            {
                (XSD.to_owned(), name.1)
            }
            _ => name,
        };
        if name != exact {
            self.warn(
                at,
                format!(
                    "“{text}” has no prefix that leads to it; “{}” of “{}” is taken",
                    name.1, name.0
                ),
                "give the reference the prefix of its namespace",
            );
        }
        name
    }

    fn nothing(&self, kind: Kind, what: &'static str, name: &QName) -> Missing {
        let near = porch_contract::suggest(&name.1, self.index.names(kind));
        Missing::Undeclared {
            what,
            name: name.clone(),
            near: near
                .and_then(|local| self.index.all(kind).find(|n| n.1 == local))
                .cloned(),
        }
    }

    /// A global element as a member of the message that holds it.
    pub(crate) fn element(&mut self, name: &QName) -> Result<Member, Missing> {
        if is_xsd(&name.0) && matches!(name.1.as_str(), "schema" | "any" | "anyType") {
            // A schema inside a message, as tabular data sets bring it along.
            let mut member =
                Member::element(self.namespace(&name.0.clone()), &name.1, self.any_type());
            member.min = 0;
            return Ok(member);
        }
        let found = self
            .index
            .get(Kind::Element, name)
            .ok_or_else(|| self.nothing(Kind::Element, "element", name))?;
        self.own_element(found, true)
    }

    /// An element by a reference in a message part.
    pub(crate) fn element_at(
        &mut self,
        at: Component<'a, 'i>,
        text: &str,
    ) -> Result<Member, Missing> {
        let name = self.name(Kind::Element, at, text);
        self.element(&name)
    }

    /// A type by a reference in a message part.
    pub(crate) fn type_at(
        &mut self,
        at: Component<'a, 'i>,
        text: &str,
    ) -> Result<(TypeId, QName), Missing> {
        let name = self.name(Kind::Type, at, text);
        Ok((self.type_named(&name)?, name))
    }

    /// The type that holds whatever comes.
    pub(crate) fn any_type(&mut self) -> TypeId {
        match self.any {
            Some(id) => id,
            None => {
                let id = self.push(TypePlan::Any);
                self.any = Some(id);
                id
            }
        }
    }

    /// A named type.
    pub(crate) fn type_named(&mut self, name: &QName) -> Result<TypeId, Missing> {
        if let Some(id) = self.named.get(name) {
            return Ok(*id);
        }
        let encoding = name.0 == ENCODING_11 || name.0 == ENCODING_12;
        if is_xsd(&name.0) || encoding {
            let id = match name.1.as_str() {
                "anyType" | "ur-type" | "Struct" => {
                    self.any_declared = true;
                    self.any_type()
                }
                "Array" if encoding => {
                    let item = Member {
                        many: true,
                        min: 0,
                        max: None,
                        nillable: true,
                        ..Member::element(0, "item", self.any_type())
                    };
                    self.push(TypePlan::List(Box::new(item)))
                }
                "base64" if encoding => self.push(TypePlan::Simple(Simple::plain(Base::Base64))),
                other => {
                    let simple = Simple::built_in(other)
                        .ok_or_else(|| Missing::NoBuiltIn(other.to_owned()))?;
                    self.push(TypePlan::Simple(simple))
                }
            };
            self.named.insert(name.clone(), id);
            return Ok(id);
        }
        let found = self
            .index
            .get(Kind::Type, name)
            .ok_or_else(|| self.nothing(Kind::Type, "type", name))?;
        let id = self.push(TypePlan::Simple(Simple::plain(Base::Text)));
        if found.node.tag_name().name() == "simpleType" {
            self.fill(id, found, &name.1, false)?;
            self.named.insert(name.clone(), id);
            return Ok(id);
        }
        // Complex types wait their turn, so that a long chain of them is no deep recursion.
        self.named.insert(name.clone(), id);
        self.order.push(name.clone());
        self.waiting.push((id, name.clone(), found));
        Ok(id)
    }

    /// Takes in the types that wait.
    pub(crate) fn settle(&mut self) {
        while let Some((id, name, found)) = self.waiting.pop() {
            let polymorphic =
                !self.index.derived(&name).is_empty() || is_true(found.node.attribute("abstract"));
            if let Err(why) = self.fill(id, found, &name.1, polymorphic) {
                self.broken.insert(id, why);
            }
        }
    }

    /// Why a type, or one below it, cannot be had; everything is settled before.
    pub(crate) fn broken_below(&self, root: TypeId) -> Option<&Missing> {
        if self.broken.is_empty() {
            return None;
        }
        self.plan
            .below(root)
            .iter()
            .find_map(|id| self.broken.get(id))
    }

    /// An object type made for a message, from its parts.
    pub(crate) fn parts_type(&mut self, name: &str, members: Vec<Member>) -> TypeId {
        let content = Particle::Sequence(
            (0..members.len())
                .map(|i| Particle::Member(i, members[i].min > 0))
                .collect(),
            true,
        );
        let mut object = ObjectPlan {
            name: name.to_owned(),
            members,
            content,
            ..Default::default()
        };
        object.name_members(&str::to_owned);
        self.push(TypePlan::Object(object))
    }

    pub(crate) fn push(&mut self, plan: TypePlan) -> TypeId {
        self.plan.types.push(plan);
        TypeId(self.plan.types.len() as u32 - 1)
    }

    pub(crate) fn lose(&mut self, id: TypeId, what: impl Into<String>) {
        self.losses.entry(id).or_default().push(what.into());
    }

    fn anonymous(&mut self, found: Component<'a, 'i>, name: &str) -> Result<TypeId, Missing> {
        let key = found.key();
        if let Some(id) = self.anonymous.get(&key) {
            return Ok(*id);
        }
        let id = self.push(TypePlan::Simple(Simple::plain(Base::Text)));
        self.anonymous.insert(key, id);
        if let Err(why) = self.fill(id, found, name, false) {
            self.anonymous.remove(&key);
            return Err(why);
        }
        Ok(id)
    }

    fn deeper<T>(&mut self, f: impl FnOnce(&mut Self) -> Result<T, Missing>) -> Result<T, Missing> {
        self.depth += 1;
        let result = if self.depth > MAX_DEPTH {
            Err(Missing::TooDeep)
        } else {
            f(self)
        };
        self.depth -= 1;
        result
    }
}

fn children<'a, 'i>(node: Node<'a, 'i>) -> impl Iterator<Item = Node<'a, 'i>> {
    node.children()
        .filter(|n| n.is_element() && n.tag_name().namespace().is_some_and(is_xsd))
}

fn is_true(text: Option<&str>) -> bool {
    matches!(text.map(str::trim), Some("true" | "1"))
}

/// Whether text may stand between the elements of a type; simple content has none.
fn is_mixed(node: Node<'_, '_>) -> bool {
    let inner = children(node).find(|n| n.tag_name().name() == "complexContent");
    is_true(
        inner
            .and_then(|n| n.attribute("mixed"))
            .or(node.attribute("mixed")),
    ) && !children(node).any(|n| n.tag_name().name() == "simpleContent")
}

fn occurs(node: Node<'_, '_>) -> Occurs {
    let min = node
        .attribute("minOccurs")
        .and_then(|v| v.trim().parse().ok())
        .unwrap_or(1);
    let max = match node.attribute("maxOccurs").map(str::trim) {
        Some("unbounded" | "*") => None,
        Some(n) => Some(n.parse().unwrap_or(1)),
        None => Some(1),
    };
    (min, max)
}
