//! From schema components to the plan.

use std::collections::HashMap;

use roxmltree::{Node, NodeId};

use super::{Component, Index, Kind, QName, Source, documentation};
use crate::plan::{Choice, Member, NamespaceId, ObjectPlan, Plan, TypeId, TypePlan};
use crate::simple::{Base, Simple};
use crate::xml::XSD;

/// Compiles types on demand; each only once.
pub struct Compiler<'a, 'i> {
    index: Index<'a, 'i>,
    plan: Plan,
    named: HashMap<QName, TypeId>,
    anonymous: HashMap<(usize, NodeId), TypeId>,
    losses: HashMap<TypeId, Vec<String>>,
}

/// Why a type cannot be had.
type Missing = String;

impl<'a, 'i> Compiler<'a, 'i> {
    pub(crate) fn new(index: Index<'a, 'i>) -> Self {
        let plan = Plan { types: Vec::new(), namespaces: vec![String::new()] };
        Self { index, plan, named: HashMap::new(), anonymous: HashMap::new(), losses: HashMap::new() }
    }

    pub(crate) fn finish(self) -> Plan {
        self.plan
    }

    /// What JSON cannot carry in a type and all below it.
    pub(crate) fn losses_below(&self, root: TypeId) -> Vec<String> {
        let mut seen = vec![false; self.plan.types.len()];
        let (mut open, mut all) = (vec![root], Vec::new());
        while let Some(id) = open.pop() {
            if std::mem::replace(&mut seen[id.0 as usize], true) {
                continue;
            }
            all.extend(self.losses.get(&id).into_iter().flatten().cloned());
            if let TypePlan::Object(object) = self.plan.get(id) {
                open.extend(object.members.iter().map(|m| m.type_id));
            }
        }
        all.sort();
        all.dedup();
        all
    }

    pub(crate) fn namespace(&mut self, uri: &str) -> NamespaceId {
        self.plan.namespace(uri).unwrap_or_else(|| {
            self.plan.namespaces.push(uri.to_owned());
            (self.plan.namespaces.len() - 1) as NamespaceId
        })
    }

    /// A global element as a member of the message that holds it.
    pub(crate) fn element(&mut self, name: &QName) -> Result<Member, Missing> {
        let Some(found) = self.index.get(Kind::Element, name) else {
            let near = porch_contract::suggest(&name.1, self.index.names(Kind::Element)).map(|n| format!(" (there is “{n}”)"));
            return Err(format!("no schema declares the element “{}” of namespace “{}”{}", name.1, name.0, near.unwrap_or_default()));
        };
        self.member(found, true)
    }

    /// A named type, for message parts that give a type in place of an element.
    pub(crate) fn type_named(&mut self, name: &QName) -> Result<TypeId, Missing> {
        if let Some(id) = self.named.get(name) {
            return Ok(*id);
        }
        if name.0 == XSD {
            let simple = match name.1.as_str() {
                "anyType" => None,
                other => Some(Simple::built_in(other).ok_or_else(|| format!("XML Schema has no type “{other}”"))?),
            };
            let id = match simple {
                Some(simple) => self.push(TypePlan::Simple(simple)),
                None => {
                    let id = self.push(TypePlan::Object(ObjectPlan { name: "anyType".into(), open: true, ..Default::default() }));
                    self.lose(id, "anyType: what stands inside is not carried over");
                    id
                }
            };
            self.named.insert(name.clone(), id);
            return Ok(id);
        }
        let Some(found) = self.index.get(Kind::Type, name) else {
            let near = porch_contract::suggest(&name.1, self.index.names(Kind::Type)).map(|n| format!(" (there is “{n}”)"));
            return Err(format!("no schema declares the type “{}” of namespace “{}”{}", name.1, name.0, near.unwrap_or_default()));
        };
        let id = self.push(TypePlan::Simple(Simple::plain(Base::Text)));
        self.named.insert(name.clone(), id);
        self.fill(id, found, &name.1)?;
        Ok(id)
    }

    fn push(&mut self, plan: TypePlan) -> TypeId {
        self.plan.types.push(plan);
        TypeId(self.plan.types.len() as u32 - 1)
    }

    fn lose(&mut self, id: TypeId, what: impl Into<String>) {
        self.losses.entry(id).or_default().push(what.into());
    }

    fn anonymous(&mut self, found: Component<'a, 'i>, name: &str) -> Result<TypeId, Missing> {
        let key = (found.node.document() as *const _ as usize, found.node.id());
        if let Some(id) = self.anonymous.get(&key) {
            return Ok(*id);
        }
        let id = self.push(TypePlan::Simple(Simple::plain(Base::Text)));
        self.anonymous.insert(key, id);
        self.fill(id, found, name)?;
        Ok(id)
    }

    fn fill(&mut self, id: TypeId, found: Component<'a, 'i>, name: &str) -> Result<(), Missing> {
        let plan = if found.node.tag_name().name() == "simpleType" {
            TypePlan::Simple(self.simple(id, found)?)
        } else {
            let mut object = ObjectPlan { name: name.to_owned(), documentation: documentation(found.node), ..Default::default() };
            self.complex(id, &mut object, found)?;
            // Elements before attributes: the order in which names are given.
            let moved = stable_attributes_last(&mut object.members);
            for choice in &mut object.choices {
                choice.branches.iter_mut().flatten().for_each(|i| *i = moved[*i]);
            }
            match &object.text {
                Some((_, simple)) if object.members.is_empty() => TypePlan::Simple(simple.clone()),
                _ => {
                    object.name_members();
                    TypePlan::Object(object)
                }
            }
        };
        self.plan.types[id.0 as usize] = plan;
        Ok(())
    }

    fn resolve(&self, node: Node<'a, 'i>, source: Source<'a>, text: &str) -> QName {
        let (prefix, local) = text.split_once(':').unwrap_or(("", text));
        let uri = node.lookup_namespace_uri((!prefix.is_empty()).then_some(prefix));
        // An unprefixed name in a chameleon schema means the adopted namespace.
        (uri.unwrap_or(if prefix.is_empty() { source.target } else { "" }).to_owned(), local.to_owned())
    }

    /// The type of an element or attribute: by name, written inside, or none.
    fn type_of(&mut self, at: Component<'a, 'i>, name: &str) -> Result<TypeId, Missing> {
        if let Some(text) = at.node.attribute("type") {
            return self.type_named(&self.resolve(at.node, at.source, text));
        }
        match children(at.node).find(|n| matches!(n.tag_name().name(), "complexType" | "simpleType")) {
            Some(node) => self.anonymous(Component { node, source: at.source }, name),
            None => self.type_named(&(XSD.to_owned(), if at.node.tag_name().name() == "attribute" { "string" } else { "anyType" }.to_owned())),
        }
    }

    /// An element declaration, or a reference to a global one, as a member.
    fn member(&mut self, at: Component<'a, 'i>, global: bool) -> Result<Member, Missing> {
        let (min, max) = occurs(at.node);
        if let Some(text) = at.node.attribute("ref") {
            let name = self.resolve(at.node, at.source, text);
            let member = self.element(&name)?;
            return Ok(Member { min, max, many: max != Some(1) && max != Some(0), ..member });
        }
        let local = at.node.attribute("name").unwrap_or_default().to_owned();
        let qualified = match at.node.attribute("form") {
            Some(form) => form == "qualified",
            None => global || at.source.qualified_elements,
        };
        let namespace = if qualified { self.namespace(at.source.target) } else { 0 };
        let type_id = self.type_of(at, &local)?;
        if at.node.attribute("abstract") == Some("true") {
            self.lose(type_id, format!("“{local}” is abstract: the elements that may stand in its place are not read yet"));
        }
        let mut member = Member {
            json: String::new(),
            json_key: Vec::new(),
            namespace,
            local: local.clone(),
            attribute: false,
            many: max != Some(1) && max != Some(0),
            min,
            max,
            nillable: matches!(at.node.attribute("nillable"), Some("true" | "1")),
            type_id,
            items: None,
            default: at.node.attribute("fixed").or(at.node.attribute("default")).map(str::to_owned),
            documentation: documentation(at.node),
        };
        member.set_json(local);
        member.items = self.only_a_list(&member);
        Ok(member)
    }

    /// The items, when an element does nothing but hold a list.
    fn only_a_list(&self, member: &Member) -> Option<Box<Member>> {
        match self.plan.get(member.type_id) {
            TypePlan::Object(o) if !member.many && !member.nillable && o.text.is_none() && o.choices.is_empty() && !o.open => match o.members.as_slice() {
                [only] if only.many && !only.attribute && only.items.is_none() => Some(Box::new(only.clone())),
                _ => None,
            },
            _ => None,
        }
    }

    fn complex(&mut self, id: TypeId, into: &mut ObjectPlan, at: Component<'a, 'i>) -> Result<(), Missing> {
        if at.node.attribute("mixed") == Some("true") {
            self.lose(id, format!("{}: text between its elements (mixed content) is not carried over", into.name));
        }
        for node in children(at.node) {
            let here = Component { node, source: at.source };
            match node.tag_name().name() {
                "complexContent" => {
                    for inner in children(node) {
                        let restriction = inner.tag_name().name() == "restriction";
                        let base = inner.attribute("base").map(|b| self.resolve(inner, at.source, b));
                        if let Some(base) = base.filter(|b| !restriction && b.0 != XSD) {
                            let found = self.index.get(Kind::Type, &base).ok_or_else(|| format!("no schema declares the type “{}”", base.1))?;
                            if found.node == at.node {
                                return Err(format!("the type “{}” extends itself", base.1));
                            }
                            self.complex(id, into, found)?;
                        }
                        self.complex(id, into, Component { node: inner, source: at.source })?;
                    }
                }
                "simpleContent" => {
                    for inner in children(node) {
                        self.simple_content(id, into, Component { node: inner, source: at.source })?;
                    }
                }
                "sequence" | "all" | "choice" | "group" => {
                    self.particles(id, into, here, false, false)?;
                }
                "attribute" | "attributeGroup" | "anyAttribute" => self.attribute(id, into, here)?,
                _ => {}
            }
        }
        Ok(())
    }

    fn simple_content(&mut self, id: TypeId, into: &mut ObjectPlan, at: Component<'a, 'i>) -> Result<(), Missing> {
        let base = at.node.attribute("base").map(|b| self.resolve(at.node, at.source, b)).ok_or("simpleContent without a base")?;
        let base_id = self.type_named(&base)?;
        match self.plan.get(base_id) {
            TypePlan::Simple(simple) => into.text = Some(("value".into(), simple.clone())),
            TypePlan::Object(object) => {
                into.text = object.text.clone();
                into.members = object.members.clone();
            }
        }
        if at.node.tag_name().name() == "restriction"
            && let Some((_, simple)) = &mut into.text
        {
            facets(simple, at.node);
        }
        for node in children(at.node) {
            if matches!(node.tag_name().name(), "attribute" | "attributeGroup" | "anyAttribute") {
                self.attribute(id, into, Component { node, source: at.source })?;
            }
        }
        Ok(())
    }

    /// A sequence, all, choice or group: adds its members; gives their indexes.
    fn particles(&mut self, id: TypeId, into: &mut ObjectPlan, at: Component<'a, 'i>, optional: bool, many: bool) -> Result<Vec<usize>, Missing> {
        let (min, max) = occurs(at.node);
        let repeats = max != Some(1);
        if repeats && children(at.node).filter(|n| n.tag_name().name() != "annotation").count() > 1 {
            self.lose(id, format!("{}: a repeated group of elements becomes one array for each; how they were grouped is lost", into.name));
        }
        let (optional, many) = (optional || min == 0, many || repeats);
        if let Some(text) = at.node.attribute("ref") {
            let name = self.resolve(at.node, at.source, text);
            let found = self.index.get(Kind::Group, &name).ok_or_else(|| format!("no schema declares the group “{}”", name.1))?;
            let mut all = Vec::new();
            for node in children(found.node) {
                all.extend(self.particles(id, into, Component { node, source: found.source }, optional, many)?);
            }
            return Ok(all);
        }
        let choice = at.node.tag_name().name() == "choice";
        let mut branches = Vec::new();
        for node in children(at.node) {
            let here = Component { node, source: at.source };
            match node.tag_name().name() {
                "element" => {
                    let mut member = self.member(here, node.attribute("ref").is_some())?;
                    if optional || choice {
                        member.min = 0;
                    }
                    if many {
                        member.many = true;
                        member.max = None;
                        member.items = None;
                    }
                    into.members.push(member);
                    branches.push(vec![into.members.len() - 1]);
                }
                "sequence" | "choice" | "all" | "group" => branches.push(self.particles(id, into, here, optional || choice, many)?),
                "any" => {
                    into.open = true;
                    self.lose(id, format!("{}: elements that the schema leaves open (xsd:any) are not carried over", into.name));
                }
                _ => {}
            }
        }
        let all: Vec<usize> = branches.iter().flatten().copied().collect();
        if choice && !many && branches.len() > 1 {
            into.choices.push(Choice { branches, required: !optional });
        }
        Ok(all)
    }

    fn attribute(&mut self, id: TypeId, into: &mut ObjectPlan, at: Component<'a, 'i>) -> Result<(), Missing> {
        let (kind, name) = (at.node.tag_name().name(), at.node.attribute("ref").map(|r| self.resolve(at.node, at.source, r)));
        match (kind, name) {
            ("attributeGroup", Some(name)) => {
                let found = self.index.get(Kind::AttributeGroup, &name).ok_or_else(|| format!("no schema declares the attribute group “{}”", name.1))?;
                for node in children(found.node) {
                    self.attribute(id, into, Component { node, source: found.source })?;
                }
                Ok(())
            }
            ("attribute", Some(name)) => match self.index.get(Kind::Attribute, &name) {
                Some(found) => self.own_attribute(into, found, at.node, true),
                None => {
                    self.lose(id, format!("{}: the attribute {} is not declared and not carried over", into.name, name.1));
                    Ok(())
                }
            },
            ("attribute", None) => self.own_attribute(into, at, at.node, false),
            _ => {
                self.lose(id, format!("{}: attributes that the schema leaves open (xsd:anyAttribute) are not carried over", into.name));
                Ok(())
            }
        }
    }

    fn own_attribute(&mut self, into: &mut ObjectPlan, at: Component<'a, 'i>, usage: Node<'a, 'i>, global: bool) -> Result<(), Missing> {
        if usage.attribute("use") == Some("prohibited") {
            return Ok(());
        }
        let local = at.node.attribute("name").unwrap_or_default().to_owned();
        let qualified = at.node.attribute("form").map_or(global || at.source.qualified_attributes, |f| f == "qualified");
        let member = Member {
            json: String::new(),
            json_key: Vec::new(),
            namespace: if qualified { self.namespace(at.source.target) } else { 0 },
            local: local.clone(),
            attribute: true,
            many: false,
            min: u32::from(usage.attribute("use") == Some("required")),
            max: Some(1),
            nillable: false,
            type_id: self.type_of(at, &local)?,
            items: None,
            default: usage.attribute("fixed").or(usage.attribute("default")).map(str::to_owned),
            documentation: documentation(at.node),
        };
        into.members.retain(|m| !(m.attribute && m.local == local && m.namespace == member.namespace));
        into.members.push(member);
        Ok(())
    }

    fn simple(&mut self, id: TypeId, at: Component<'a, 'i>) -> Result<Simple, Missing> {
        for node in children(at.node) {
            match node.tag_name().name() {
                "restriction" => {
                    let base = match node.attribute("base") {
                        Some(base) => self.type_named(&self.resolve(node, at.source, base))?,
                        None => match children(node).find(|n| n.tag_name().name() == "simpleType") {
                            Some(inner) => self.anonymous(Component { node: inner, source: at.source }, "")?,
                            None => return Err("a simpleType without a base".into()),
                        },
                    };
                    let mut simple = match self.plan.get(base) {
                        TypePlan::Simple(simple) => simple.clone(),
                        TypePlan::Object(_) => {
                            return Err("a simpleType based on a complexType".into());
                        }
                    };
                    for bad in facets(&mut simple, node) {
                        self.lose(id, format!("the pattern {bad} cannot be checked by the porch; the backend still does"));
                    }
                    return Ok(simple);
                }
                "list" => {
                    self.lose(id, "a list of values in one text (xsd:list) stays one string");
                    return Ok(Simple::plain(Base::Token));
                }
                "union" => {
                    self.lose(id, "a union of types (xsd:union) is carried as a string");
                    return Ok(Simple::plain(Base::Text));
                }
                _ => {}
            }
        }
        Ok(Simple::plain(Base::Text))
    }
}

fn children<'a, 'i>(node: Node<'a, 'i>) -> impl Iterator<Item = Node<'a, 'i>> {
    node.children().filter(|n| n.is_element() && n.tag_name().namespace() == Some(XSD))
}

fn occurs(node: Node<'_, '_>) -> (u32, Option<u32>) {
    let min = node.attribute("minOccurs").and_then(|v| v.parse().ok()).unwrap_or(1);
    let max = match node.attribute("maxOccurs") {
        Some("unbounded") => None,
        Some(n) => Some(n.parse().unwrap_or(1)),
        None => Some(1),
    };
    (min, max)
}

/// Moves attributes behind the elements; gives each old index its new one.
fn stable_attributes_last(members: &mut [Member]) -> Vec<usize> {
    let mut order: Vec<usize> = (0..members.len()).collect();
    order.sort_by_key(|i| members[*i].attribute);
    let mut moved = vec![0; members.len()];
    for (new, old) in order.iter().enumerate() {
        moved[*old] = new;
    }
    members.sort_by_key(|m| m.attribute);
    moved
}

/// Applies the facets of a restriction (XML Schema part 2 §4.3); gives back the patterns that cannot be checked.
fn facets(simple: &mut Simple, restriction: Node<'_, '_>) -> Vec<String> {
    let (mut values, mut patterns, mut bad) = (Vec::new(), Vec::new(), Vec::new());
    for node in children(restriction) {
        let value = node.attribute("value").unwrap_or_default();
        let number = value.trim().parse::<usize>().ok();
        match node.tag_name().name() {
            "enumeration" => values.push(value.to_owned()),
            "pattern" => patterns.push(value),
            "length" => simple.length = (number, number),
            "minLength" => simple.length.0 = number,
            "maxLength" => simple.length.1 = number,
            "minInclusive" => simple.min = Some((value.trim().to_owned(), false)),
            "minExclusive" => simple.min = Some((value.trim().to_owned(), true)),
            "maxInclusive" => simple.max = Some((value.trim().to_owned(), false)),
            "maxExclusive" => simple.max = Some((value.trim().to_owned(), true)),
            "totalDigits" => simple.digits.0 = number,
            "fractionDigits" => simple.digits.1 = number,
            "whiteSpace" if value == "collapse" && simple.base == Base::Text => simple.base = Base::Token,
            _ => {}
        }
    }
    if !values.is_empty() {
        simple.enumeration = values;
    }
    if !patterns.is_empty() {
        // Patterns of one step are alternatives (part 2 §4.3.4.3); those of several steps must all match.
        let source = patterns.join("|");
        match regex::RegexBuilder::new(&format!("^(?:{})$", source.replace("\\i", "[A-Za-z_:]").replace("\\c", "[-.0-9A-Za-z_:]"))).size_limit(1 << 20).build() {
            Ok(regex) => simple.patterns.push((regex, source)),
            Err(_) => bad.push(source),
        }
    }
    bad
}
