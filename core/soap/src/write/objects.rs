//! Objects: their members in the order of the schema.

use super::*;

/// Why an object does not say of which type it is.
#[derive(Debug, thiserror::Error)]
enum TypeNameError {
    #[error("the name of a type is expected")]
    NoName,
    #[error("must be there and name one of {0}")]
    Missing(String),
    #[error("“{name}” cannot stand for {declared}{help}")]
    Unfit {
        name: String,
        declared: String,
        help: String,
    },
}

impl<'a> EnvelopeWriter<'a> {
    /// The rest of an object's element behind its name: `xsi:type`, attributes, content.
    pub(super) fn object(&mut self, declared: &ObjectPlan, map: Members<'_, '_>, typed: bool) {
        let mut object = declared;
        if !typed && (!declared.derived.is_empty() || declared.is_abstract) {
            match self.chosen(declared, map) {
                Ok(chosen) => object = chosen,
                Err(wrong) => return self.within(TYPE_MEMBER, |w| w.error(wrong)),
            }
        }
        self.object_attributes(object, map);
        self.out.push(b'>');
        self.members(object, map, typed || object.label.is_some());
        if let Some((name, simple)) = &object.text {
            match tree::get(map, name).map(|v| simple.to_text(v)) {
                Some(Ok(text)) => self.text(&text),
                Some(Err(message)) => self.within(name, |w| w.error(message)),
                None => self.within(name, |w| w.error("must be there")),
            }
        }
    }

    /// The type that an object is of: the declared one, or the one it names, which is written down.
    fn chosen<'d>(
        &mut self,
        declared: &'d ObjectPlan,
        map: Members<'_, '_>,
    ) -> Result<&'d ObjectPlan, TypeNameError>
    where
        'a: 'd,
    {
        let names = || declared.derived.iter().map(|d| d.json.as_str());
        let list = || names().collect::<Vec<_>>().join(", ");
        let name = match tree::get(map, TYPE_MEMBER) {
            Some(Json::String(name)) => name,
            Some(_) => return Err(TypeNameError::NoName),
            None if declared.is_abstract => {
                return Err(TypeNameError::Missing(list()));
            }
            None => return Ok(declared),
        };
        let Some(found) = declared.derived.iter().find(|d| d.json == name.as_ref()) else {
            let help = porch_contract::suggest(name, names()).map_or_else(
                || format!("; there are {}", list()),
                |n| format!("; did you mean “{n}”?"),
            );
            return Err(TypeNameError::Unfit {
                name: name.to_string(),
                declared: declared.name.clone(),
                help,
            });
        };
        let TypePlan::Object(other) = self.plan.get(found.type_id) else {
            return Ok(declared);
        };
        if !std::ptr::eq(other, declared) {
            self.xsi_type(found.name.0, &found.name.1);
        }
        Ok(other)
    }

    fn object_attributes(&mut self, object: &ObjectPlan, map: Members<'_, '_>) {
        for member in object.members.iter().filter(|m| m.is_attribute()) {
            match tree::get(map, &member.json) {
                Some(value) => self.within(&member.json, |w| w.attribute(member, value)),
                None if member.required() => {
                    self.within(&member.json, |w| w.error("must be there"))
                }
                // A fixed or default attribute that must be there.
                None if member.min > 0 => {
                    if let Some(text) = &member.default {
                        self.attribute_text(member, text);
                    }
                }
                None => {}
            }
        }
    }

    /// The elements of an object, and everything that it does not know.
    pub(super) fn members(&mut self, object: &ObjectPlan, map: Members<'_, '_>, typed: bool) {
        let mut next = 0;
        for name in map.iter().map(|(n, _)| n) {
            // Most come in the schema's order.
            if object
                .members
                .get(next)
                .is_some_and(|m| m.json == name.as_ref())
            {
                next += 1;
                continue;
            }
            let known = object.by_name.contains_key(name.as_ref())
                || object.text.as_ref().is_some_and(|(t, _)| t == name)
                || (name == TYPE_MEMBER && typed);
            if !known {
                let names = object.members.iter().map(|m| m.json.as_str());
                let near = porch_contract::suggest(name, names)
                    .map_or_else(String::new, |n| format!("; did you mean “{n}”?"));
                self.within(name, |w| w.error(format!("is not known here{near}")));
            }
        }
        self.content(object, &object.content, map, true);
    }

    /// Whether anything of a structure was given.
    pub(super) fn given(object: &ObjectPlan, particle: &Particle, map: Members<'_, '_>) -> bool {
        match particle {
            Particle::Member(i, _) => {
                let member = &object.members[*i];
                tree::get(map, &member.json).is_some_and(|v| {
                    !(member.many && matches!(v, Json::Array(items) if items.is_empty()))
                })
            }
            Particle::Sequence(parts, _) | Particle::Choice(parts, _) => {
                parts.iter().any(|p| Self::given(object, p, map))
            }
        }
    }

    pub(super) fn content(
        &mut self,
        object: &ObjectPlan,
        particle: &Particle,
        map: Members<'_, '_>,
        needed: bool,
    ) {
        match particle {
            Particle::Member(i, required) => {
                let member = &object.members[*i];
                match tree::get(map, &member.json) {
                    Some(value) => self.within(&member.json, |w| w.child(member, value)),
                    None if !(needed && *required) => {}
                    None => match &member.default {
                        Some(text)
                            if matches!(self.plan.get(member.type_id), TypePlan::Simple(_)) =>
                        {
                            self.tag(false, member);
                            self.out.push(b'>');
                            self.text(text);
                            self.tag(true, member);
                            self.out.push(b'>');
                        }
                        // An empty array is as good as none.
                        _ if member.many && member.min == 0 => {}
                        _ => self.within(&member.json, |w| w.error("must be there")),
                    },
                }
            }
            Particle::Sequence(parts, required) => {
                let given = Self::given(object, particle, map);
                if given || (*required && needed) {
                    for part in parts {
                        self.content(object, part, map, true);
                    }
                } else {
                    // Empty arrays are written as what they are: nothing; but a wrapper may be empty.
                    for part in parts {
                        self.content(object, part, map, false);
                    }
                }
            }
            Particle::Choice(parts, required) => {
                self.choice(object, parts, *required && needed, map)
            }
        }
    }

    pub(super) fn choice(
        &mut self,
        object: &ObjectPlan,
        parts: &[Particle],
        required: bool,
        map: Members<'_, '_>,
    ) {
        let given: Vec<usize> = {
            let mut all: Vec<usize> = parts
                .iter()
                .flat_map(Particle::members)
                .filter(|i| Self::given(object, &Particle::Member(*i, false), map))
                .collect();
            all.sort_unstable();
            all.dedup();
            all
        };
        if given.is_empty() {
            let names: Vec<&str> = parts
                .iter()
                .flat_map(Particle::members)
                .map(|i| object.members[i].json.as_str())
                .collect();
            if required && !parts.iter().any(Particle::may_be_empty) {
                self.error(format!("one of these must be there: {}", names.join(", ")));
            }
            return;
        }
        let covers = |p: &&Particle| {
            let members = p.members();
            given.iter().all(|i| members.contains(i))
        };
        let missing = |p: &Particle| Self::lacking(object, p, map);
        let branch = parts.iter().filter(covers).min_by_key(|p| missing(p));
        match branch {
            Some(branch) => self.content(object, branch, map, true),
            None => {
                let names: Vec<&str> = parts
                    .iter()
                    .flat_map(Particle::members)
                    .map(|i| object.members[i].json.as_str())
                    .collect();
                self.error(format!(
                    "only one of these may be there: {}",
                    names.join(", ")
                ));
            }
        }
    }

    /// How many members a structure lacks.
    pub(super) fn lacking(object: &ObjectPlan, particle: &Particle, map: Members<'_, '_>) -> usize {
        match particle {
            Particle::Member(_, required) => {
                usize::from(*required && !Self::given(object, particle, map))
            }
            Particle::Sequence(parts, required)
                if *required || Self::given(object, particle, map) =>
            {
                parts.iter().map(|p| Self::lacking(object, p, map)).sum()
            }
            Particle::Sequence(..) => 0,
            Particle::Choice(parts, required) => {
                let given = Self::given(object, particle, map);
                if *required || given {
                    parts
                        .iter()
                        .map(|p| Self::lacking(object, p, map))
                        .min()
                        .unwrap_or(0)
                } else {
                    0
                }
            }
        }
    }
}
