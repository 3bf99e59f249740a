//! Content models: sequences, choices, groups, substitution groups, wildcards.

use super::*;

/// How the particles of a content model are being taken in.
pub(super) struct Taking {
    /// Members of other branches of the same choices, which the same element in this branch shares.
    pub(super) mergeable: Vec<usize>,
    pub(super) in_choice: bool,
    pub(super) optional: bool,
}

impl<'a, 'i> Compiler<'a, 'i> {
    /// A sequence, all, choice, group, element or wildcard: adds its members and gives their structure.
    pub(super) fn particle(
        &mut self,
        id: TypeId,
        into: &mut ObjectPlan,
        at: Component<'a, 'i>,
        taking: &mut Taking,
    ) -> Result<Option<Particle>, Missing> {
        let (min, max) = occurs(at.node);
        if max == Some(0) {
            return Ok(None);
        }
        match at.node.tag_name().name() {
            "element" => self
                .element_particle(into, at, taking, (min, max))
                .map(Some),
            "any" => Ok(Some(self.wildcard(id, into, taking, min))),
            "sequence" | "all" | "choice" | "group" => {
                let (label, inner) = self.compositor(at)?;
                let Some(inner) = inner else { return Ok(None) };
                if max == Some(1) {
                    return self
                        .deeper(|c| c.once(id, into, inner, taking, min == 0))
                        .map(Some);
                }
                match self.only_element(inner)? {
                    Some((element, (inner_min, inner_max))) => {
                        let min = min.saturating_mul(inner_min);
                        let max = max.zip(inner_max).map(|(a, b)| a.saturating_mul(b));
                        if element.node.tag_name().name() == "any" {
                            return Ok(Some(self.wildcard(id, into, taking, min)));
                        }
                        self.element_particle(into, element, taking, (min, max))
                            .map(Some)
                    }
                    None => self
                        .group(id, into, inner, taking, &label, (min, max))
                        .map(Some),
                }
            }
            _ => Ok(None),
        }
    }

    /// What a compositor or a reference to a group holds, and what it is called.
    pub(super) fn compositor(
        &mut self,
        at: Component<'a, 'i>,
    ) -> Result<(String, Option<Component<'a, 'i>>), Missing> {
        let tag = at.node.tag_name().name();
        if tag != "group" {
            return Ok((tag.to_owned(), Some(at)));
        }
        let text = at
            .node
            .attribute("ref")
            .ok_or(Missing::Bare("a group", "reference"))?;
        let name = self.name(Kind::Group, at, text);
        let mut found = self
            .index
            .get(Kind::Group, &name)
            .ok_or_else(|| self.nothing(Kind::Group, "group", &name))?;
        // A redefined group refers to what it replaces.
        if at.node.ancestors().any(|n| n == found.node) {
            found = self
                .index
                .original(found)
                .ok_or_else(|| Missing::HoldsItself("group", name.1.clone()))?;
        }
        let inner = children(found.node)
            .find(|n| matches!(n.tag_name().name(), "sequence" | "all" | "choice"));
        Ok((name.1, inner.map(|n| found.at(n))))
    }

    /// The only element of a compositor, if it has no more than that, with how often it may stand there.
    pub(super) fn only_element(
        &mut self,
        at: Component<'a, 'i>,
    ) -> Result<Option<(Component<'a, 'i>, Occurs)>, Missing> {
        let mut inside = children(at.node)
            .filter(|n| n.tag_name().name() != "annotation" && occurs(*n).1 != Some(0));
        let (Some(only), None) = (inside.next(), inside.next()) else {
            return Ok(None);
        };
        let here = at.at(only);
        let (min, max) = occurs(only);
        match only.tag_name().name() {
            "element" => {
                let substituted = match only.attribute("ref") {
                    Some(text) => {
                        let name = self.name(Kind::Element, here, text);
                        !self.index.substitutes(&name).is_empty()
                    }
                    None => false,
                };
                Ok((!substituted).then_some((here, (min, max))))
            }
            "any" => Ok(Some((here, (min, None)))),
            "sequence" | "all" | "choice" | "group" if max == Some(1) => {
                let (_, inner) = self.compositor(here)?;
                let Some(inner) = inner else { return Ok(None) };
                let found = self.deeper(|c| c.only_element(inner))?;
                Ok(found.map(|(element, (inner_min, inner_max))| {
                    (element, (min.saturating_mul(inner_min), inner_max))
                }))
            }
            _ => Ok(None),
        }
    }

    /// The particles of a compositor that stands there once.
    pub(super) fn once(
        &mut self,
        id: TypeId,
        into: &mut ObjectPlan,
        at: Component<'a, 'i>,
        taking: &mut Taking,
        optional: bool,
    ) -> Result<Particle, Missing> {
        let choice = at.node.tag_name().name() == "choice";
        let mut parts = Vec::new();
        let mut earlier: Vec<usize> = Vec::new();
        for node in children(at.node) {
            if !choice {
                let mut inner = Taking {
                    mergeable: std::mem::take(&mut taking.mergeable),
                    in_choice: taking.in_choice,
                    optional: taking.optional || optional,
                };
                parts.extend(self.particle(id, into, at.at(node), &mut inner)?);
                taking.mergeable = inner.mergeable;
                continue;
            }
            let mergeable: Vec<usize> = taking.mergeable.iter().chain(&earlier).copied().collect();
            let part = self.particle(
                id,
                into,
                at.at(node),
                &mut Taking {
                    mergeable,
                    in_choice: true,
                    optional: true,
                },
            )?;
            earlier.extend(part.iter().flat_map(Particle::members));
            parts.extend(part);
        }
        if choice {
            taking.mergeable.retain(|i| !earlier.contains(i));
        }
        Ok(if choice {
            Particle::Choice(parts, !optional)
        } else {
            Particle::Sequence(parts, !optional)
        })
    }

    pub(super) fn add(
        &mut self,
        into: &mut ObjectPlan,
        mut member: Member,
        taking: &mut Taking,
    ) -> usize {
        let same = |m: &Member| {
            m.kind == member.kind && m.namespace == member.namespace && m.local == member.local
        };
        if let Some(at) = taking
            .mergeable
            .iter()
            .position(|i| same(&into.members[*i]))
        {
            let index = taking.mergeable.remove(at);
            let shared = &mut into.members[index];
            shared.max = shared.max.zip(member.max).map(|(a, b)| a.max(b));
            shared.many |= member.many;
            shared.nillable |= member.nillable;
            return index;
        }
        member.in_choice = taking.in_choice;
        if taking.optional {
            member.min = 0;
        }
        into.members.push(member);
        into.members.len() - 1
    }

    pub(super) fn element_particle(
        &mut self,
        into: &mut ObjectPlan,
        at: Component<'a, 'i>,
        taking: &mut Taking,
        (min, max): Occurs,
    ) -> Result<Particle, Missing> {
        let Some(text) = at.node.attribute("ref") else {
            let member = Member {
                min,
                max,
                many: max != Some(1),
                ..self.own_element(at, false)?
            };
            let index = self.add(into, member, taking);
            return Ok(Particle::Member(index, min > 0));
        };
        let name = self.name(Kind::Element, at, text);
        let substitutes = self.index.substitutes(&name);
        let is_abstract = self
            .index
            .get(Kind::Element, &name)
            .is_some_and(|f| is_true(f.node.attribute("abstract")));
        if substitutes.is_empty() {
            if is_abstract {
                self.warn(at, format!("“{}” is abstract, and nothing that may stand in its place is among the schemas", name.1), "give the schema that declares its substitutes");
            }
            let member = Member {
                min,
                max,
                many: max != Some(1),
                ..self.element(&name)?
            };
            let index = self.add(into, member, taking);
            return Ok(Particle::Member(index, min > 0));
        }
        // One of the elements of a substitution group (part 1 §2.2.2.2).
        let mut alternatives = Vec::new();
        let own = (!is_abstract).then_some(&name);
        for name in own.into_iter().chain(&substitutes) {
            let found = self.index.get(Kind::Element, name);
            if found.is_some_and(|f| !is_true(f.node.attribute("abstract")) || f.key() == at.key())
            {
                alternatives.push(self.element(name)?);
            }
        }
        self.alternatives(into, taking, &name.1, alternatives, (min, max))
    }

    /// One of several elements: members beside each other, or, when they may be repeated, an array of objects.
    fn alternatives(
        &mut self,
        into: &mut ObjectPlan,
        taking: &mut Taking,
        label: &str,
        alternatives: Vec<Member>,
        (min, max): Occurs,
    ) -> Result<Particle, Missing> {
        let mut inner = Taking {
            mergeable: Vec::new(),
            in_choice: true,
            optional: true,
        };
        if max == Some(1) {
            inner.mergeable = std::mem::take(&mut taking.mergeable);
            let mut parts = Vec::new();
            for member in alternatives {
                parts.push(Particle::Member(self.add(into, member, &mut inner), true));
            }
            taking.mergeable = inner.mergeable;
            return Ok(Particle::Choice(parts, min > 0));
        }
        let mut object = ObjectPlan {
            name: label.to_owned(),
            ..Default::default()
        };
        let parts = alternatives
            .into_iter()
            .map(|m| Particle::Member(self.add(&mut object, m, &mut inner), true))
            .collect();
        object.content = Particle::Choice(parts, true);
        self.group_member(into, object, taking, label, (min, max))
    }

    /// A repeated group of several elements: an array of objects.
    pub(super) fn group(
        &mut self,
        id: TypeId,
        into: &mut ObjectPlan,
        at: Component<'a, 'i>,
        taking: &mut Taking,
        label: &str,
        occurs: Occurs,
    ) -> Result<Particle, Missing> {
        let mut object = ObjectPlan {
            name: format!("{}_{label}", into.name),
            documentation: documentation(at.node),
            ..Default::default()
        };
        let mut inner = Taking {
            mergeable: Vec::new(),
            in_choice: false,
            optional: false,
        };
        object.content = self.deeper(|c| c.once(id, &mut object, at, &mut inner, false))?;
        self.group_member(into, object, taking, label, occurs)
    }

    pub(super) fn group_member(
        &mut self,
        into: &mut ObjectPlan,
        mut object: ObjectPlan,
        taking: &mut Taking,
        label: &str,
        (min, max): Occurs,
    ) -> Result<Particle, Missing> {
        object.name_members(&str::to_owned);
        let type_id = self.push(TypePlan::Object(object));
        let member = Member {
            kind: MemberKind::Group,
            many: true,
            min,
            max,
            ..Member::element(0, label, type_id)
        };
        let index = self.add(into, member, taking);
        Ok(Particle::Member(index, min > 0))
    }

    pub(super) fn wildcard(
        &mut self,
        id: TypeId,
        into: &mut ObjectPlan,
        taking: &mut Taking,
        min: u32,
    ) -> Particle {
        self.lose(id, format!("{}: elements that the schema leaves open (xsd:any) are carried in the generic mapping", into.name));
        let type_id = self.any_type();
        let member = Member {
            kind: MemberKind::Any,
            many: true,
            min,
            max: None,
            ..Member::element(0, "any", type_id)
        };
        // Several wildcards in a row cannot be told apart in a message.
        if into.members.iter().any(|m| m.kind == MemberKind::Any) {
            return Particle::Sequence(Vec::new(), false);
        }
        Particle::Member(self.add(into, member, taking), min > 0)
    }
}
