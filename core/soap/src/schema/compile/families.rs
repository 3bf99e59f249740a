//! Families of types and substitution groups, once all are known.

use super::*;

impl<'a, 'i> Compiler<'a, 'i> {
    /// What JSON calls a named type: its local name, with `_2`, `_3` … behind it for further namespaces.
    pub(super) fn label(&mut self, name: &QName) -> String {
        let mut label = name.1.clone();
        let mut n = 1;
        while self.labels.get(&label).is_some_and(|taken| taken != name) {
            n += 1;
            label = format!("{}_{n}", name.1);
        }
        self.labels.insert(label.clone(), name.clone());
        label
    }

    pub(super) fn derived_entry(&mut self, name: &QName, type_id: TypeId) -> Derived {
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
    pub(super) fn family(&mut self, name: &QName) {
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
                self.broken_below(id).map_or(Ok(id), |why| Err(why.clone()))
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
    pub(super) fn flatten(&mut self) {
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
    pub(super) fn begin_groups(&mut self) {
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
