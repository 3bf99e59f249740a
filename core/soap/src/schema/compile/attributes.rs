//! Attributes.

use super::*;

impl<'a, 'i> Compiler<'a, 'i> {
    pub(super) fn attribute(
        &mut self,
        id: TypeId,
        into: &mut ObjectPlan,
        at: Component<'a, 'i>,
    ) -> Result<(), Missing> {
        match (at.node.tag_name().name(), at.node.attribute("ref")) {
            ("attributeGroup", Some(text)) => self.attribute_group(id, into, at, text),
            ("attribute", Some(text)) => self.attribute_by_name(id, into, at, text),
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

    fn attribute_group(
        &mut self,
        id: TypeId,
        into: &mut ObjectPlan,
        at: Component<'a, 'i>,
        text: &str,
    ) -> Result<(), Missing> {
        let name = self.name(Kind::AttributeGroup, at, text);
        let mut found = self
            .index
            .get(Kind::AttributeGroup, &name)
            .ok_or_else(|| self.nothing(Kind::AttributeGroup, "attribute group", &name))?;
        if at.node.ancestors().any(|n| n == found.node) {
            found = self
                .index
                .original(found)
                .ok_or(Missing::HoldsItself("attribute group", name.1))?;
        }
        self.deeper(|c| {
            children(found.node).try_for_each(|node| c.attribute(id, into, found.at(node)))
        })
    }

    fn attribute_by_name(
        &mut self,
        id: TypeId,
        into: &mut ObjectPlan,
        at: Component<'a, 'i>,
        text: &str,
    ) -> Result<(), Missing> {
        let name = self.name(Kind::Attribute, at, text);
        if let Some(found) = self.index.get(Kind::Attribute, &name) {
            return self.own_attribute(into, found, at.node, true);
        }
        match name.0.as_str() {
            // `xml:lang` and its kin are known to everybody.
            XML => {
                let type_id = self.type_named(&(XSD.to_owned(), "string".to_owned()))?;
                let namespace = self.namespace(XML);
                let member = Member {
                    kind: MemberKind::Attribute,
                    min: u32::from(at.node.attribute("use") == Some("required")),
                    ..Member::element(namespace, &name.1, type_id)
                };
                self.put_attribute(into, member);
            }
            ENCODING_11 | ENCODING_12 => {}
            _ => {
                let local = &name.1;
                let what = format!("the attribute “{local}” is not declared anywhere");
                self.warn(at, what, "give the schema that declares it");
                self.lose(
                    id,
                    format!(
                        "{}: the attribute {local} is not declared and not carried over",
                        into.name
                    ),
                );
            }
        }
        Ok(())
    }

    pub(super) fn own_attribute(
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

    pub(super) fn put_attribute(&mut self, into: &mut ObjectPlan, member: Member) {
        into.attributes.retain(|m| {
            !(m.kind == MemberKind::Attribute
                && m.local == member.local
                && m.namespace == member.namespace)
        });
        into.attributes.push(member);
    }
}
