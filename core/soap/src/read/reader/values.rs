//! Values that begin: their type, and their attributes.

use super::*;

impl AnswerReader {
    /// Begins the value of an element just started.
    pub(super) fn value(
        &mut self,
        plan: &Arc<AnswerPlan>,
        text: &str,
        prefix: &str,
        local: &str,
        slot: Slot,
        out: &mut Vec<u8>,
    ) -> Result<(), AnswerError> {
        let member = self.member(plan, slot);
        let mut named_type = None;
        if self.scanner.has_attributes() {
            let (mut nil, mut undeclared) = (false, false);
            for a in self.scanner.attributes(text) {
                let Some((prefix, name)) = a.name.split_once(':') else {
                    continue;
                };
                let bound = self.scanner.resolve(prefix);
                // Some servers use the prefix without declaring it; there is only one thing they can mean.
                let meant = bound.is_none() && prefix == "xsi";
                if !matches!(name, "nil" | "null" | "type") || !(meant || bound.is_some_and(is_xsi))
                {
                    continue;
                }
                undeclared |= meant;
                if name == "type" {
                    let (prefix, name) = a
                        .value
                        .trim()
                        .split_once(':')
                        .unwrap_or(("", a.value.trim()));
                    named_type = Some((
                        self.scanner.resolve(prefix).unwrap_or("").to_owned(),
                        name.to_owned(),
                    ));
                } else {
                    nil = matches!(a.value.trim(), "true" | "1");
                }
            }
            if undeclared {
                self.note("the prefix xsi is used without being declared".into());
            }
            if nil {
                if !member.nillable && !plan.encoded {
                    self.note(format!("<{}> is nil although it may not be", member.local));
                }
                out.extend_from_slice(b"null");
                self.frames.push(Frame::Nil);
                return Ok(());
            }
        }
        if member.items.is_some() {
            // The body's own element keeps its shape even when it only holds a list.
            if let Slot::Of(id, i) = slot {
                out.push(b'[');
                self.frames.push(Frame::List {
                    item: Slot::ItemOf(id, i),
                    any: false,
                    named: true,
                });
                return Ok(());
            }
        }
        let type_id = member.type_id;
        match plan.plan.get(type_id) {
            TypePlan::Simple(_) => {
                self.text.clear();
                if !self.attachments.is_empty()
                    && let Some(octets) = self
                        .plain_attribute(text, "href")
                        .and_then(|h| self.attachment(&h))
                {
                    self.text = octets;
                }
                self.frames.push(Frame::Simple {
                    of: slot,
                    simple: SimpleOf::Type(type_id),
                    close: false,
                });
            }
            TypePlan::List(_) => {
                out.push(b'[');
                self.frames.push(Frame::List {
                    item: Slot::ListItem(type_id),
                    any: false,
                    named: false,
                });
            }
            TypePlan::Any => match named_type {
                Some((uri, name)) => {
                    self.typed_any(plan, text, prefix, local, slot, (&uri, &name), out)?
                }
                None => self.generic(text, prefix, local, false)?,
            },
            TypePlan::Object(object) => {
                let chosen = self.chosen_type(plan, object, named_type, member);
                self.object_frame(plan, chosen.unwrap_or(type_id), false, out);
                if let TypePlan::Object(ObjectPlan {
                    label: Some(label), ..
                }) = plan.plan.get(chosen.unwrap_or(type_id))
                {
                    self.type_label(label, out);
                }
                self.attributes(plan, text, out)?;
            }
        }
        Ok(())
    }

    /// The type that `xsi:type` names, when it is another than the declared one and may stand there.
    pub(super) fn chosen_type(
        &mut self,
        plan: &AnswerPlan,
        object: &ObjectPlan,
        named: Option<(String, String)>,
        member: &Member,
    ) -> Option<TypeId> {
        let (uri, name) = named?;
        let is = |n: &(u16, String)| n.1 == name && plan.plan.namespaces[n.0 as usize] == uri;
        if let Some(found) = object.derived.iter().find(|d| is(&d.name)) {
            return Some(found.type_id);
        }
        if let Some(found) = object.derived.iter().find(|d| d.name.1 == name) {
            self.note(format!(
                "xsi:type of <{}>: “{name}” of another namespace is taken",
                member.local
            ));
            return Some(found.type_id);
        }
        if !member.type_name.as_ref().is_some_and(is) && !plan.encoded {
            self.note(format!(
                "xsi:type of <{}> names “{name}”, which cannot stand there; it is read as {}",
                member.local, object.name
            ));
        }
        None
    }

    /// An element of any type whose `xsi:type` says what it is.
    #[expect(
        clippy::too_many_arguments,
        reason = "the same surroundings as every value"
    )]
    pub(super) fn typed_any(
        &mut self,
        plan: &Arc<AnswerPlan>,
        text: &str,
        prefix: &str,
        local: &str,
        slot: Slot,
        (uri, name): (&str, &str),
        out: &mut Vec<u8>,
    ) -> Result<(), AnswerError> {
        let simple = if is_xsd(uri) {
            Simple::built_in(name)
        } else {
            None
        };
        if let Some(simple) = simple {
            out.push(b'{');
            push_json_string(out, TYPE_MEMBER);
            out.push(b':');
            push_json_string(out, name);
            out.extend_from_slice(b",\"value\":");
            self.text.clear();
            self.frames.push(Frame::Simple {
                of: slot,
                simple: SimpleOf::Own(Box::new(simple)),
                close: true,
            });
            return Ok(());
        }
        match plan
            .plan
            .named
            .iter()
            .find(|d| d.name.1 == name && plan.plan.namespaces[d.name.0 as usize] == uri)
        {
            Some(found) if matches!(plan.plan.get(found.type_id), TypePlan::Object(_)) => {
                self.object_frame(plan, found.type_id, false, out);
                self.type_label(&found.json, out);
                self.attributes(plan, text, out)
            }
            _ => self.generic(text, prefix, local, false),
        }
    }

    pub(super) fn object_frame(
        &mut self,
        plan: &AnswerPlan,
        type_id: TypeId,
        bare: bool,
        out: &mut Vec<u8>,
    ) {
        let TypePlan::Object(object) = plan.plan.get(type_id) else {
            return;
        };
        out.push(b'{');
        self.text.clear();
        let seen_from = self.seen.len();
        self.seen.resize(seen_from + object.members.len(), false);
        let gathered = if self.gather {
            vec![Vec::new(); object.members.len()]
        } else {
            Vec::new()
        };
        let next = if bare { usize::MAX } else { 0 };
        self.frames.push(Frame::Object(ObjectFrame {
            type_id,
            seen_from,
            next,
            open_array: false,
            any: false,
            bare,
            gathered,
            reading: None,
        }));
    }

    pub(super) fn type_label(&mut self, label: &str, out: &mut Vec<u8>) {
        push_json_string(out, TYPE_MEMBER);
        out.push(b':');
        push_json_string(out, label);
        if let Some(Frame::Object(frame)) = self.frames.last_mut() {
            frame.any = true;
        }
    }

    /// Writes the attributes of the object just begun.
    pub(super) fn attributes(
        &mut self,
        plan: &AnswerPlan,
        text: &str,
        out: &mut Vec<u8>,
    ) -> Result<(), AnswerError> {
        if !self.scanner.has_attributes() {
            return Ok(());
        }
        let Some(Frame::Object(frame)) = self.frames.last() else {
            return Ok(());
        };
        let (type_id, seen_from, mut any) = (frame.type_id, frame.seen_from, frame.any);
        let TypePlan::Object(object) = plan.plan.get(type_id) else {
            return Ok(());
        };
        let mut open: Vec<(String, String)> = Vec::new();
        let mut unknown = Vec::new();
        for attribute in self.scanner.attributes(text) {
            let (prefix, name) = attribute
                .name
                .split_once(':')
                .unwrap_or(("", attribute.name));
            if prefix == "xmlns" || (prefix.is_empty() && name == "xmlns") {
                continue;
            }
            let uri = if prefix.is_empty() {
                ""
            } else {
                self.scanner.resolve(prefix).unwrap_or("")
            };
            if is_xsi(uri) {
                continue;
            }
            let mut value = String::new();
            push_attribute(&mut value, attribute.value)
                .map_err(|message| AnswerError::Xml(XmlError { message, offset: 0 }))?;
            let found = object.members.iter().position(|m| {
                m.kind == MemberKind::Attribute
                    && m.local == name
                    && plan.plan.namespaces[m.namespace as usize] == uri
            });
            let Some(index) = found else {
                if object
                    .members
                    .last()
                    .is_some_and(|m| m.kind == MemberKind::AnyAttribute)
                {
                    if !prefix.is_empty()
                        && prefix != "xml"
                        && !open
                            .iter()
                            .any(|(n, _)| n.strip_prefix("xmlns:") == Some(prefix))
                    {
                        open.push((format!("xmlns:{prefix}"), uri.to_owned()));
                    }
                    open.push((attribute.name.to_owned(), value));
                } else {
                    unknown.push(name);
                }
                continue;
            };
            let member = &object.members[index];
            let TypePlan::Simple(simple) = plan.plan.get(member.type_id) else {
                continue;
            };
            if std::mem::replace(&mut any, true) {
                out.push(b',');
            }
            out.extend_from_slice(&member.json_key);
            simple
                .to_json(out, &value)
                .map_err(|e| AnswerError::Value(format!("{}/{}", object.name, member.local), e))?;
            self.seen[seen_from + index] = true;
        }
        if let (false, Some((index, member))) = (
            open.is_empty(),
            object.members.iter().enumerate().next_back(),
        ) {
            if std::mem::replace(&mut any, true) {
                out.push(b',');
            }
            out.extend_from_slice(&member.json_key);
            for (i, (name, value)) in open.iter().enumerate() {
                out.push(if i == 0 { b'{' } else { b',' });
                push_json_string(out, name);
                out.push(b':');
                push_json_string(out, value);
            }
            out.push(b'}');
            self.seen[seen_from + index] = true;
        }
        let notes: Vec<String> = unknown
            .iter()
            .filter(|_| !plan.encoded)
            .map(|n| {
                format!(
                    "the attribute {n} is not declared in {} and was passed by",
                    object.name
                )
            })
            .collect();
        notes.into_iter().for_each(|n| self.note(n));
        if let Some(Frame::Object(frame)) = self.frames.last_mut() {
            frame.any = any;
        }
        Ok(())
    }
}
