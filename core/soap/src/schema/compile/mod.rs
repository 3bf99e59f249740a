//! From schema components to the plan.

mod particles;
mod texts;

use std::collections::HashMap;

use porch_contract::{Finding, Position, Severity};
use roxmltree::{Node, NodeId};

use self::particles::Taking;
use self::texts::facets;
use super::index::{exact_name, prefix_is_amiss};
use super::{Component, Index, Kind, QName, documentation};
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
    broken: HashMap<TypeId, String>,
    any: Option<TypeId>,
    /// Whether `anyType` itself is used, so that `xsi:type` may name any type.
    any_declared: bool,
    depth: usize,
    findings: Vec<Finding>,
}

/// Why a type cannot be had.
type Missing = String;
/// How often something may stand there: at least, and at most.
type Occurs = (u32, Option<u32>);

/// Nested deeper than this, groups and types run in a circle.
const MAX_DEPTH: usize = 100;
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

    fn nothing(&self, kind: Kind, what: &str, name: &QName) -> Missing {
        let near = porch_contract::suggest(&name.1, self.index.names(kind))
            .map(|n| format!(" (there is “{n}”)"));
        format!(
            "no schema declares the {what} “{}” of namespace “{}”{}",
            name.1,
            name.0,
            near.unwrap_or_default()
        )
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
                        .ok_or_else(|| format!("XML Schema has no type “{other}”"))?;
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
    pub(crate) fn broken_below(&self, root: TypeId) -> Option<&str> {
        if self.broken.is_empty() {
            return None;
        }
        self.plan
            .below(root)
            .iter()
            .find_map(|id| self.broken.get(id))
            .map(String::as_str)
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
        object.name_members();
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
            Err(format!(
                "its types are nested more than {MAX_DEPTH} levels deep, or in a circle"
            ))
        } else {
            f(self)
        };
        self.depth -= 1;
        result
    }

    fn fill(
        &mut self,
        id: TypeId,
        found: Component<'a, 'i>,
        name: &str,
        polymorphic: bool,
    ) -> Result<(), Missing> {
        let plan = self.deeper(|c| c.filled(id, found, name, polymorphic))?;
        self.plan.types[id.0 as usize] = plan;
        Ok(())
    }

    fn filled(
        &mut self,
        id: TypeId,
        found: Component<'a, 'i>,
        name: &str,
        polymorphic: bool,
    ) -> Result<TypePlan, Missing> {
        if found.node.tag_name().name() == "simpleType" {
            return Ok(TypePlan::Simple(self.simple(id, found)?));
        }
        if let Some(list) = self.encoded_array(found)? {
            return Ok(list);
        }
        if is_mixed(found.node) {
            self.lose(id, format!("{name}: text between its elements (mixed content); it is carried in the generic mapping"));
            return Ok(TypePlan::Any);
        }
        let mut object = ObjectPlan {
            name: name.to_owned(),
            documentation: documentation(found.node),
            is_abstract: is_true(found.node.attribute("abstract")),
            ..Default::default()
        };
        let mut parts = Vec::new();
        if self.complex(id, &mut object, found, &mut parts)? {
            self.lose(id, format!("{name}: text between its elements (mixed content); it is carried in the generic mapping"));
            return Ok(TypePlan::Any);
        }
        object.content = Particle::Sequence(parts, true);
        // Elements before attributes: the order in which names are given.
        let mut attributes = std::mem::take(&mut object.attributes);
        attributes.sort_by_key(|m| m.kind == MemberKind::AnyAttribute);
        object.members.extend(attributes);
        Ok(match &object.text {
            Some((_, simple)) if object.members.is_empty() && !polymorphic => {
                TypePlan::Simple(simple.clone())
            }
            _ => {
                object.name_members();
                TypePlan::Object(object)
            }
        })
    }

    /// An array of SOAP's encoding: a restriction of its `Array` (SOAP 1.1 §5.4.2, WSDL 1.1 §3.5).
    fn encoded_array(&mut self, found: Component<'a, 'i>) -> Result<Option<TypePlan>, Missing> {
        let Some(restriction) = children(found.node)
            .filter(|n| n.tag_name().name() == "complexContent")
            .flat_map(children)
            .find(|n| n.attribute("base").is_some())
        else {
            return Ok(None);
        };
        let base = exact_name(
            found.at(restriction),
            restriction.attribute("base").unwrap_or_default(),
        );
        if base.1 != "Array" || !(base.0 == ENCODING_11 || base.0 == ENCODING_12) {
            return Ok(None);
        }
        let mut item = Member {
            nillable: true,
            ..Member::element(0, "item", TypeId(0))
        };
        // The type of the items: from `wsdl:arrayType`, from an element of a sequence, or unknown.
        let typed = restriction.descendants().find_map(|n| {
            Some((
                n,
                n.attributes()
                    .find(|a| a.name() == "arrayType" && a.namespace().is_some())?
                    .value(),
            ))
        });
        let element = restriction
            .descendants()
            .find(|n| n.is_element() && n.tag_name().name() == "element");
        if let Some((node, text)) = typed {
            let name = text.trim();
            // `t:Row[][]`: an array of arrays.
            let (name, dimensions) = name.split_once('[').map_or((name, ""), |(n, d)| (n, d));
            (item.type_id, item.type_name) = self.named_with_name(found.at(node), name)?;
            for _ in 0..dimensions.matches('[').count() {
                let inner = Member {
                    many: true,
                    min: 0,
                    max: None,
                    ..item.clone()
                };
                item.type_id = self.push(TypePlan::List(Box::new(inner)));
                item.type_name = Some((self.namespace(ENCODING_11), "Array".to_owned()));
            }
        } else if let Some(node) = element {
            let member = self.own_element(found.at(node), false)?;
            item = Member {
                nillable: true,
                ..member
            };
        } else {
            item.type_id = self.any_type();
        }
        if let (Some(node), true) = (element, typed.is_some()) {
            item.local = node.attribute("name").unwrap_or("item").to_owned();
        }
        (item.many, item.min, item.max) = (true, 0, None);
        Ok(Some(TypePlan::List(Box::new(item))))
    }

    fn named_with_name(
        &mut self,
        at: Component<'a, 'i>,
        text: &str,
    ) -> Result<(TypeId, Option<(NamespaceId, String)>), Missing> {
        let name = self.name(Kind::Type, at, text);
        let id = self.type_named(&name)?;
        Ok((id, Some((self.namespace(&name.0), name.1))))
    }

    /// The type of an element or attribute: by name, written inside, or none.
    fn type_of(
        &mut self,
        at: Component<'a, 'i>,
        name: &str,
    ) -> Result<(TypeId, Option<(NamespaceId, String)>), Missing> {
        if let Some(text) = at.node.attribute("type") {
            return self.named_with_name(at, text);
        }
        match children(at.node)
            .find(|n| matches!(n.tag_name().name(), "complexType" | "simpleType"))
        {
            Some(node) => Ok((self.anonymous(at.at(node), name)?, None)),
            None => {
                // An element takes over the type of the one it stands for (XML Schema part 1 §3.3.2).
                if let Some(head) = at.node.attribute("substitutionGroup") {
                    let head = self.name(Kind::Element, at, head);
                    if let Some(found) = self
                        .index
                        .get(Kind::Element, &head)
                        .filter(|f| f.key() != at.key())
                    {
                        return self.deeper(|c| c.type_of(found, name));
                    }
                }
                let local = if at.node.tag_name().name() == "attribute" {
                    "anySimpleType"
                } else {
                    "anyType"
                };
                Ok((self.type_named(&(XSD.to_owned(), local.to_owned()))?, None))
            }
        }
    }

    /// An element declaration as a member.
    fn own_element(&mut self, at: Component<'a, 'i>, global: bool) -> Result<Member, Missing> {
        let (min, max) = occurs(at.node);
        let local = at
            .node
            .attribute("name")
            .unwrap_or_default()
            .trim()
            .to_owned();
        let qualified = match at.node.attribute("form") {
            Some(form) => form == "qualified",
            None => global || at.source.qualified_elements,
        };
        let namespace = if qualified {
            self.namespace(at.source.target)
        } else {
            0
        };
        let (type_id, type_name) = self.type_of(at, &local)?;
        if children(at.node).any(|n| matches!(n.tag_name().name(), "key" | "unique" | "keyref")) {
            self.lose(type_id, format!("{local}: that values are unique or refer to others (xsd:key, xsd:unique) is not checked by the porch"));
        }
        let mut member = Member::element(namespace, &local, type_id);
        member.type_name = type_name;
        (member.min, member.max) = if global { (1, Some(1)) } else { (min, max) };
        member.many = !global && max != Some(1);
        member.nillable = is_true(at.node.attribute("nillable"));
        member.fixed = at.node.attribute("fixed").is_some();
        member.default = at
            .node
            .attribute("fixed")
            .or(at.node.attribute("default"))
            .map(str::to_owned);
        member.documentation = documentation(at.node);
        Ok(member)
    }

    /// The content of a complexType, or of an extension or restriction inside; true when a base is of mixed content.
    fn complex(
        &mut self,
        id: TypeId,
        into: &mut ObjectPlan,
        at: Component<'a, 'i>,
        parts: &mut Vec<Particle>,
    ) -> Result<bool, Missing> {
        let mut mixed = false;
        for node in children(at.node) {
            let here = at.at(node);
            match node.tag_name().name() {
                "complexContent" => {
                    for inner in children(node)
                        .filter(|n| matches!(n.tag_name().name(), "extension" | "restriction"))
                    {
                        mixed |= self.derivation(id, into, at, inner, parts)?;
                    }
                }
                "simpleContent" => {
                    for inner in children(node)
                        .filter(|n| matches!(n.tag_name().name(), "extension" | "restriction"))
                    {
                        self.simple_content(id, into, at, inner)?;
                    }
                }
                "sequence" | "all" | "choice" | "group" => {
                    let mut taking = Taking {
                        mergeable: Vec::new(),
                        in_choice: false,
                        optional: false,
                    };
                    parts.extend(self.particle(id, into, here, &mut taking)?);
                }
                "attribute" | "attributeGroup" | "anyAttribute" => {
                    self.attribute(id, into, here)?
                }
                _ => {}
            }
        }
        Ok(mixed)
    }

    /// What a complex type is made from: its base, or what a redefinition replaces.
    fn base(
        &mut self,
        of: Component<'a, 'i>,
        step: Node<'a, 'i>,
    ) -> Result<Option<(QName, Component<'a, 'i>)>, Missing> {
        let Some(text) = step.attribute("base") else {
            return Ok(None);
        };
        let name = self.name(Kind::Type, of.at(step), text);
        if is_xsd(&name.0) {
            return Ok(None);
        }
        let found = self
            .index
            .get(Kind::Type, &name)
            .ok_or_else(|| self.nothing(Kind::Type, "type", &name))?;
        if found.key() != of.key() {
            return Ok(Some((name, found)));
        }
        match self.index.original(of) {
            Some(original) => Ok(Some((name, original))),
            None => Err(format!("the type “{}” is made from itself", name.1)),
        }
    }

    fn derivation(
        &mut self,
        id: TypeId,
        into: &mut ObjectPlan,
        of: Component<'a, 'i>,
        step: Node<'a, 'i>,
        parts: &mut Vec<Particle>,
    ) -> Result<bool, Missing> {
        let mut mixed = false;
        if let Some((_, base)) = self.base(of, step)? {
            mixed |= is_mixed(base.node);
            if step.tag_name().name() == "extension" {
                mixed |= self.deeper(|c| c.complex(id, into, base, parts))?;
            } else {
                // A restriction says its elements anew, and takes the attributes over (part 1 §3.4.2).
                let mut whole = ObjectPlan {
                    name: into.name.clone(),
                    ..Default::default()
                };
                mixed |= self.deeper(|c| c.complex(id, &mut whole, base, &mut Vec::new()))?;
                into.attributes.extend(whole.attributes);
            }
        }
        mixed |= self.complex(id, into, of.at(step), parts)?;
        Ok(mixed)
    }

    fn simple_content(
        &mut self,
        id: TypeId,
        into: &mut ObjectPlan,
        of: Component<'a, 'i>,
        step: Node<'a, 'i>,
    ) -> Result<(), Missing> {
        let text = step
            .attribute("base")
            .ok_or("simpleContent without a base")?;
        match self.base(of, step)? {
            Some((_, base)) if base.node.tag_name().name() == "complexType" => {
                let mut whole = ObjectPlan {
                    name: into.name.clone(),
                    ..Default::default()
                };
                self.deeper(|c| c.complex(id, &mut whole, base, &mut Vec::new()))?;
                into.text = whole.text;
                into.attributes.extend(whole.attributes);
            }
            Some((_, base)) => into.text = Some(("value".into(), self.simple(id, base)?)),
            None => {
                let name = self.name(Kind::Type, of.at(step), text);
                let base = self.type_named(&name)?;
                match self.plan.get(base) {
                    TypePlan::Simple(simple) => into.text = Some(("value".into(), simple.clone())),
                    _ => into.text = Some(("value".into(), Simple::plain(Base::Text))),
                }
            }
        }
        if step.tag_name().name() == "restriction"
            && let Some((_, simple)) = &mut into.text
        {
            if let Some(inner) = children(step).find(|n| n.tag_name().name() == "simpleType") {
                *simple = self.simple(id, of.at(inner))?;
            }
            for bad in facets(simple, step) {
                self.lose_pattern(id, &bad);
            }
        }
        for node in children(step) {
            if matches!(
                node.tag_name().name(),
                "attribute" | "attributeGroup" | "anyAttribute"
            ) {
                self.attribute(id, into, of.at(node))?;
            }
        }
        Ok(())
    }

    fn attribute(
        &mut self,
        id: TypeId,
        into: &mut ObjectPlan,
        at: Component<'a, 'i>,
    ) -> Result<(), Missing> {
        match (at.node.tag_name().name(), at.node.attribute("ref")) {
            ("attributeGroup", Some(text)) => {
                let name = self.name(Kind::AttributeGroup, at, text);
                let mut found = self
                    .index
                    .get(Kind::AttributeGroup, &name)
                    .ok_or_else(|| self.nothing(Kind::AttributeGroup, "attribute group", &name))?;
                if at.node.ancestors().any(|n| n == found.node) {
                    found = self
                        .index
                        .original(found)
                        .ok_or_else(|| format!("the attribute group “{}” holds itself", name.1))?;
                }
                self.deeper(|c| {
                    children(found.node).try_for_each(|node| c.attribute(id, into, found.at(node)))
                })
            }
            ("attribute", Some(text)) => {
                let name = self.name(Kind::Attribute, at, text);
                match self.index.get(Kind::Attribute, &name) {
                    Some(found) => self.own_attribute(into, found, at.node, true),
                    // `xml:lang` and its kin are known to everybody.
                    None if name.0 == XML => {
                        let type_id = self.type_named(&(XSD.to_owned(), "string".to_owned()))?;
                        let namespace = self.namespace(XML);
                        self.put_attribute(
                            into,
                            Member {
                                kind: MemberKind::Attribute,
                                min: u32::from(at.node.attribute("use") == Some("required")),
                                ..Member::element(namespace, &name.1, type_id)
                            },
                        );
                        Ok(())
                    }
                    None if name.0 == ENCODING_11 || name.0 == ENCODING_12 => Ok(()),
                    None => {
                        self.warn(
                            at,
                            format!("the attribute “{}” is not declared anywhere", name.1),
                            "give the schema that declares it",
                        );
                        self.lose(
                            id,
                            format!(
                                "{}: the attribute {} is not declared and not carried over",
                                into.name, name.1
                            ),
                        );
                        Ok(())
                    }
                }
            }
            ("attribute", None) => self.own_attribute(into, at, at.node, false),
            ("anyAttribute", _) => {
                self.lose(id, format!("{}: attributes that the schema leaves open (xsd:anyAttribute) are carried as texts in “anyAttribute”", into.name));
                if !into
                    .attributes
                    .iter()
                    .any(|m| m.kind == MemberKind::AnyAttribute)
                {
                    let type_id = self.any_type();
                    into.attributes.push(Member {
                        kind: MemberKind::AnyAttribute,
                        min: 0,
                        ..Member::element(0, "anyAttribute", type_id)
                    });
                }
                Ok(())
            }
            _ => Ok(()),
        }
    }

    fn own_attribute(
        &mut self,
        into: &mut ObjectPlan,
        at: Component<'a, 'i>,
        usage: Node<'a, 'i>,
        global: bool,
    ) -> Result<(), Missing> {
        let local = at
            .node
            .attribute("name")
            .unwrap_or_default()
            .trim()
            .to_owned();
        let qualified = at
            .node
            .attribute("form")
            .map_or(global || at.source.qualified_attributes, |f| {
                f == "qualified"
            });
        let namespace = if qualified {
            self.namespace(at.source.target)
        } else {
            0
        };
        if usage.attribute("use") == Some("prohibited") {
            into.attributes.retain(|m| {
                !(m.kind == MemberKind::Attribute && m.local == local && m.namespace == namespace)
            });
            return Ok(());
        }
        let (type_id, type_name) = self.type_of(at, &local)?;
        let value = |name: &str| {
            usage
                .attribute(name)
                .or(at.node.attribute(name))
                .map(str::to_owned)
        };
        let member = Member {
            kind: MemberKind::Attribute,
            min: u32::from(usage.attribute("use") == Some("required")),
            type_name,
            fixed: value("fixed").is_some(),
            default: value("fixed").or_else(|| value("default")),
            documentation: documentation(at.node),
            ..Member::element(namespace, &local, type_id)
        };
        self.put_attribute(into, member);
        Ok(())
    }

    fn put_attribute(&mut self, into: &mut ObjectPlan, member: Member) {
        into.attributes.retain(|m| {
            !(m.kind == MemberKind::Attribute
                && m.local == member.local
                && m.namespace == member.namespace)
        });
        into.attributes.push(member);
    }

    /// What JSON calls a named type: its local name, with `_2`, `_3` … behind it for further namespaces.
    fn label(&mut self, name: &QName) -> String {
        let mut label = name.1.clone();
        let mut n = 1;
        while self.labels.get(&label).is_some_and(|taken| taken != name) {
            n += 1;
            label = format!("{}_{n}", name.1);
        }
        self.labels.insert(label.clone(), name.clone());
        label
    }

    fn derived_entry(&mut self, name: &QName, type_id: TypeId) -> Derived {
        Derived {
            json: self.label(name),
            name: (self.namespace(&name.0), name.1.clone()),
            type_id,
        }
    }

    /// Makes ready what can only be known when all messages were taken in: derived types, lists in wrappers, what groups
    /// begin with.
    pub(crate) fn complete(&mut self) {
        self.settle();
        if self.any_declared {
            let names: Vec<QName> = self
                .index
                .all(Kind::Type)
                .take(MAX_ANY_TYPES)
                .cloned()
                .collect();
            for name in names {
                let found = self.index.get(Kind::Type, &name);
                let usable = found.is_some_and(|f| {
                    f.node.tag_name().name() == "complexType"
                        && !is_true(f.node.attribute("abstract"))
                });
                if usable && let Ok(id) = self.type_named(&name) {
                    self.settle();
                    if self.broken_below(id).is_some() {
                        continue;
                    }
                    let entry = self.derived_entry(&name, id);
                    self.plan.named.push(entry);
                }
            }
        }
        let mut next = 0;
        while next < self.order.len() {
            let name = self.order[next].clone();
            next += 1;
            self.family(&name);
        }
        self.flatten();
        self.begin_groups();
    }

    /// The types that may stand in place of a named one.
    fn family(&mut self, name: &QName) {
        let Some(id) = self.named.get(name).copied() else {
            return;
        };
        let is_abstract = match self.plan.get(id) {
            TypePlan::Object(object) => object.is_abstract,
            _ => return,
        };
        let below = self.index.derived(name);
        if below.is_empty() && !is_abstract {
            return;
        }
        let mut family = Vec::new();
        if !is_abstract {
            family.push(self.derived_entry(name, id));
        }
        for other in below {
            let Some(found) = self.index.get(Kind::Type, &other) else {
                continue;
            };
            let made = self.type_named(&other).and_then(|id| {
                self.settle();
                self.broken_below(id)
                    .map_or(Ok(id), |why| Err(why.to_owned()))
            });
            match made {
                Ok(_) if is_true(found.node.attribute("abstract")) => {}
                Ok(type_id) => family.push(self.derived_entry(&other, type_id)),
                Err(why) => self.warn(
                    found,
                    format!("“{}” cannot stand in place of “{}”: {why}", other.1, name.1),
                    "",
                ),
            }
        }
        for entry in &family {
            if let TypePlan::Object(object) = &mut self.plan.types[entry.type_id.0 as usize] {
                object.label = Some(entry.json.clone());
                object.is_derived |= entry.type_id != id;
            }
        }
        if let TypePlan::Object(object) = &mut self.plan.types[id.0 as usize] {
            object.derived = family;
        }
    }

    /// Finds the elements that only hold a list.
    fn flatten(&mut self) {
        let only: Vec<Option<Member>> = self
            .plan
            .types
            .iter()
            .map(|t| match t {
                TypePlan::Object(o)
                    if o.text.is_none() && o.derived.is_empty() && !o.is_abstract =>
                {
                    match o.members.as_slice() {
                        [only] if only.many && only.kind == MemberKind::Element => {
                            Some(only.clone())
                        }
                        _ => None,
                    }
                }
                _ => None,
            })
            .collect();
        for plan in &mut self.plan.types {
            let TypePlan::Object(object) = plan else {
                continue;
            };
            for member in object
                .members
                .iter_mut()
                .filter(|m| m.kind == MemberKind::Element && !m.many)
            {
                member.items = only[member.type_id.0 as usize].clone().map(Box::new);
            }
        }
    }

    /// Which elements a group may hold.
    fn begin_groups(&mut self) {
        fn starts(types: &[TypePlan], id: TypeId, into: &mut Vec<(NamespaceId, String)>) {
            if let TypePlan::Object(object) = &types[id.0 as usize] {
                for member in &object.members {
                    match member.kind {
                        MemberKind::Element => into.push((member.namespace, member.local.clone())),
                        MemberKind::Group => starts(types, member.type_id, into),
                        _ => {}
                    }
                }
            }
        }
        for i in 0..self.plan.types.len() {
            let TypePlan::Object(object) = &self.plan.types[i] else {
                continue;
            };
            let groups: Vec<(usize, TypeId)> = object
                .members
                .iter()
                .enumerate()
                .filter(|(_, m)| m.kind == MemberKind::Group)
                .map(|(k, m)| (k, m.type_id))
                .collect();
            for (k, id) in groups {
                let mut all = Vec::new();
                starts(&self.plan.types, id, &mut all);
                if let TypePlan::Object(object) = &mut self.plan.types[i] {
                    object.members[k].starts = all;
                }
            }
        }
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
