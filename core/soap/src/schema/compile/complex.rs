//! Complex types: their content, and what they are derived from.

use super::*;

impl<'a, 'i> Compiler<'a, 'i> {
    /// The content of a complexType, or of an extension or restriction inside; true when a base is of mixed content.
    pub(super) fn complex(
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
    pub(super) fn base(
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
            None => Err(Missing::Itself(name.1)),
        }
    }

    pub(super) fn derivation(
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

    pub(super) fn simple_content(
        &mut self,
        id: TypeId,
        into: &mut ObjectPlan,
        of: Component<'a, 'i>,
        step: Node<'a, 'i>,
    ) -> Result<(), Missing> {
        let text = step
            .attribute("base")
            .ok_or(Missing::Bare("simpleContent", "base"))?;
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
}
