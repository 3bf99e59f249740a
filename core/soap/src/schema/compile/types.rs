//! Types and elements where they are declared.

use super::*;

impl<'a, 'i> Compiler<'a, 'i> {
    pub(super) fn fill(
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

    pub(super) fn filled(
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
                object.name_members(&str::to_owned);
                TypePlan::Object(object)
            }
        })
    }

    /// An array of SOAP's encoding: a restriction of its `Array` (SOAP 1.1 §5.4.2, WSDL 1.1 §3.5).
    pub(super) fn encoded_array(
        &mut self,
        found: Component<'a, 'i>,
    ) -> Result<Option<TypePlan>, Missing> {
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

    pub(super) fn named_with_name(
        &mut self,
        at: Component<'a, 'i>,
        text: &str,
    ) -> Result<(TypeId, Option<(NamespaceId, String)>), Missing> {
        let name = self.name(Kind::Type, at, text);
        let id = self.type_named(&name)?;
        Ok((id, Some((self.namespace(&name.0), name.1))))
    }

    /// The type of an element or attribute: by name, written inside, or none.
    pub(super) fn type_of(
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
    pub(super) fn own_element(
        &mut self,
        at: Component<'a, 'i>,
        global: bool,
    ) -> Result<Member, Missing> {
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
}
