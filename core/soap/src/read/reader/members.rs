//! Members of objects: found among what the schema has at this place, and begun.

use super::*;

impl AnswerReader {
    pub(super) fn member<'p>(&self, plan: &'p AnswerPlan, slot: Slot) -> &'p Member {
        let of = |id: TypeId, i: usize| match plan.plan.get(id) {
            TypePlan::Object(object) => &object.members[i],
            _ => unreachable!("slots name members of objects"),
        };
        match slot {
            Slot::Root => plan
                .output
                .as_ref()
                .and_then(|o| o.element.as_ref())
                .unwrap_or_else(|| unreachable!("a root slot needs an output")),
            Slot::Fault(i) => &plan.faults[i].1,
            Slot::Header(i) => &plan.headers[i],
            Slot::Of(id, i) => of(id, i),
            Slot::ItemOf(id, i) => of(id, i).items.as_deref().unwrap_or_else(|| of(id, i)),
            Slot::ListItem(id) => match plan.plan.get(id) {
                TypePlan::List(item) => item,
                _ => unreachable!("list items stand in lists"),
            },
        }
    }

    /// The child of an object: finds its member, writes its name, begins its value.
    pub(super) fn child(
        &mut self,
        plan: &Arc<AnswerPlan>,
        tag: Tag<'_>,
        out: &mut Vec<u8>,
    ) -> Result<(), AnswerError> {
        loop {
            let Some(Frame::Object(frame)) = self.frames.last() else {
                return Ok(());
            };
            let (type_id, next, bare) = (frame.type_id, frame.next, frame.bare);
            let TypePlan::Object(object) = plan.plan.get(type_id) else {
                return Ok(());
            };
            let in_group = bare
                && !matches!(
                    self.frames.get(self.frames.len().wrapping_sub(2)),
                    Some(Frame::Body)
                );
            let local = tag.local;
            let found = self.find(plan, object, frame, tag.prefix, local);
            if in_group {
                // Another instance begins where the element does not fit behind the last one.
                let fits = found.is_some_and(|(i, _)| {
                    next == usize::MAX
                        || (i == next && object.members[i].many)
                        || object.content.follows(next, i)
                });
                if !fits {
                    self.close_bare(plan, out)?;
                    continue;
                }
            }
            let Some((index, exact)) = found else {
                self.note(format!(
                    "<{local}> is not declared in {} and was passed by",
                    object.name
                ));
                self.frames.push(Frame::Skip);
                return Ok(());
            };
            let member = &object.members[index];
            if exact {
                self.learn(tag.prefix, member);
            } else if member.kind != MemberKind::Any {
                self.note(format!("<{local}> has another namespace than declared"));
            }
            if !self.begin_member(object, index, local, out)? {
                self.frames.push(Frame::Skip);
                return Ok(());
            }
            match member.kind {
                MemberKind::Group => {
                    self.object_frame(plan, member.type_id, true, out);
                    continue;
                }
                MemberKind::Any => return self.generic(tag, true),
                _ => return self.value(plan, tag, Slot::Of(type_id, index), out),
            }
        }
    }

    /// The member that an element means, and whether its namespace is the declared one.
    pub(super) fn find(
        &self,
        plan: &AnswerPlan,
        object: &ObjectPlan,
        frame: &ObjectFrame,
        prefix: &str,
        local: &str,
    ) -> Option<(usize, bool)> {
        let members = &object.members;
        let uri = self.scanner.resolve(prefix).unwrap_or("");
        let next = if frame.next == usize::MAX {
            0
        } else {
            frame.next
        };
        // Nearly always: the member that was last seen, or one behind it.
        for (i, member) in members.iter().enumerate().skip(next) {
            if member.kind == MemberKind::Element
                && member.local == local
                && plan.plan.namespaces[member.namespace as usize] == uri
                && (member.many || !self.seen[frame.seen_from + i])
            {
                return Some((i, true));
            }
        }
        self.find_elsewhere(plan, object, frame, uri, local, next)
    }

    #[cold]
    pub(super) fn find_elsewhere(
        &self,
        plan: &AnswerPlan,
        object: &ObjectPlan,
        frame: &ObjectFrame,
        uri: &str,
        local: &str,
        next: usize,
    ) -> Option<(usize, bool)> {
        let members = &object.members;
        let around = || (next..members.len()).chain(0..next.min(members.len()));
        let is = |m: &Member, any_namespace: bool| match m.kind {
            MemberKind::Element => {
                m.local == local
                    && (any_namespace || plan.plan.namespaces[m.namespace as usize] == uri)
            }
            MemberKind::Group => m.starts.iter().any(|(n, l)| {
                l == local && (any_namespace || plan.plan.namespaces[*n as usize] == uri)
            }),
            _ => false,
        };
        // One that has no room left is only taken when there is no other.
        let free = |i: usize| members[i].many || !self.seen[frame.seen_from + i];
        let wildcard = members.iter().position(|m| m.kind == MemberKind::Any);
        around()
            .find(|i| free(*i) && is(&members[*i], false))
            .or_else(|| around().find(|i| is(&members[*i], false)))
            .map(|i| (i, true))
            .or_else(|| {
                wildcard
                    .filter(|_| {
                        !around().any(|i| members[i].namespace == 0 && is(&members[i], true))
                    })
                    .map(|i| (i, true))
            })
            .or_else(|| {
                around()
                    .find(|i| is(&members[*i], true))
                    .map(|i| (i, false))
            })
    }

    /// Writes what comes before a member's value; false when there is no room for it.
    pub(super) fn begin_member(
        &mut self,
        object: &ObjectPlan,
        index: usize,
        local: &str,
        out: &mut Vec<u8>,
    ) -> Result<bool, AnswerError> {
        let gather = self.gather;
        let member = &object.members[index];
        let Some(Frame::Object(frame)) = self.frames.last_mut() else {
            return Ok(false);
        };
        let seen = &mut self.seen[frame.seen_from + index];
        if gather {
            if std::mem::replace(seen, true) && !member.many {
                self.note(format!(
                    "a second <{local}> in {} was passed by",
                    object.name
                ));
                return Ok(false);
            }
            frame.next = index;
            frame.reading = Some((index, out.len()));
            return Ok(true);
        }
        if frame.open_array && frame.next == index {
            out.push(b',');
            return Ok(true);
        }
        if std::mem::replace(seen, true) {
            if member.many {
                return Err(AnswerError::Apart(format!(
                    "{}/{}",
                    object.name, member.local
                )));
            }
            self.note(format!(
                "a second <{local}> in {} was passed by",
                object.name
            ));
            return Ok(false);
        }
        if std::mem::take(&mut frame.open_array) {
            out.push(b']');
        }
        if std::mem::replace(&mut frame.any, true) {
            out.push(b',');
        }
        out.extend_from_slice(&member.json_key);
        if member.many {
            out.push(b'[');
            frame.open_array = true;
        }
        frame.next = index;
        Ok(true)
    }

    pub(super) fn generic(&mut self, tag: Tag<'_>, named: bool) -> Result<(), AnswerError> {
        let builder = GenericBuilder::new(Mapping::default());
        let mut builder = Box::new(if named { builder } else { builder.nameless() });
        builder.start(&self.scanner, tag.text, tag.prefix, tag.local)?;
        self.frames.push(Frame::Generic {
            builder,
            depth: 1,
            named,
        });
        Ok(())
    }
}
