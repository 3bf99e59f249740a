//! Elements that end: what was gathered is written.

use super::*;
use crate::encoded::natural;

impl AnswerReader {
    pub(super) fn end(
        &mut self,
        plan: &Arc<AnswerPlan>,
        out: &mut Vec<u8>,
    ) -> Result<(), AnswerError> {
        while matches!(self.frames.last(), Some(Frame::Object(f)) if f.bare) {
            self.close_bare(plan, out)?;
        }
        if let Some(Frame::Generic { builder, depth, .. }) = self.frames.last_mut() {
            builder.end();
            *depth -= 1;
            if *depth > 0 {
                return Ok(());
            }
        }
        match self.frames.pop() {
            Some(Frame::Simple { of, simple, close }) => {
                self.end_simple(plan, of, &simple, out)?;
                if close {
                    out.push(b'}');
                }
            }
            Some(Frame::Object(frame)) => self.end_object(plan, frame, out)?,
            Some(Frame::List { .. }) => out.push(b']'),
            Some(Frame::Generic {
                mut builder, named, ..
            }) => {
                let (name, mut value) = builder.finish().unwrap_or_default();
                if plan.encoded && !named {
                    value = natural(value);
                }
                if named {
                    out.push(b'{');
                    push_json_string(out, &name);
                    out.push(b':');
                }
                // Writing to memory cannot fail.
                let _ = serde_json::to_writer(&mut *out, &value);
                if named {
                    out.push(b'}');
                }
            }
            Some(Frame::Header) => self.in_header = false,
            Some(Frame::FaultText(field)) => {
                let text = self.text.trim();
                let local = text.rsplit(':').next().unwrap_or(text);
                if let Some(fault) = &mut self.fault {
                    match field {
                        FaultField::Code => local.clone_into(&mut fault.code),
                        FaultField::Subcode => local.clone_into(&mut fault.subcode),
                        FaultField::Actor => text.clone_into(&mut fault.actor),
                        FaultField::Reason => fault
                            .reasons
                            .push((std::mem::take(&mut self.language), text.to_owned())),
                    }
                }
            }
            _ => {}
        }
        self.gathered(out);
        Ok(())
    }

    /// When gathering: takes the value just read from the end of what was written.
    pub(super) fn gathered(&mut self, out: &mut Vec<u8>) {
        let Some(Frame::Object(frame)) = self.frames.last_mut() else {
            return;
        };
        if let Some((index, from)) = frame.reading.take() {
            let into = &mut frame.gathered[index];
            if !into.is_empty() {
                into.push(b',');
            }
            into.extend_from_slice(&out[from..]);
            out.truncate(from);
        }
    }

    pub(super) fn close_bare(
        &mut self,
        plan: &Arc<AnswerPlan>,
        out: &mut Vec<u8>,
    ) -> Result<(), AnswerError> {
        if let Some(Frame::Object(frame)) = self.frames.pop() {
            self.end_object(plan, frame, out)?;
        }
        self.gathered(out);
        Ok(())
    }

    pub(super) fn end_simple(
        &mut self,
        plan: &AnswerPlan,
        of: Slot,
        simple: &SimpleOf,
        out: &mut Vec<u8>,
    ) -> Result<(), AnswerError> {
        let member = self.member(plan, of);
        let simple = match simple {
            SimpleOf::Own(simple) => simple,
            SimpleOf::Type(id) => match plan.plan.get(*id) {
                TypePlan::Simple(simple) => simple,
                _ => return Ok(()),
            },
        };
        let mut text = self.text.as_str();
        let octets;
        if !self.attachments.is_empty()
            && matches!(simple.base, Base::Token | Base::Text)
            && let Some(found) = self.attachment(text.trim())
        {
            octets = found;
            text = &octets;
        }
        member_value(simple, member, text, out)
    }

    pub(super) fn end_object(
        &mut self,
        plan: &AnswerPlan,
        mut frame: ObjectFrame,
        out: &mut Vec<u8>,
    ) -> Result<(), AnswerError> {
        let TypePlan::Object(object) = plan.plan.get(frame.type_id) else {
            return Ok(());
        };
        if frame.open_array {
            out.push(b']');
        }
        let mut comma = |out: &mut Vec<u8>| {
            if std::mem::replace(&mut frame.any, true) {
                out.push(b',');
            }
        };
        for (i, member) in object.members.iter().enumerate() {
            if self.seen[frame.seen_from + i] {
                if let Some(bytes) = frame.gathered.get(i).filter(|b| !b.is_empty()) {
                    comma(out);
                    out.extend_from_slice(&member.json_key);
                    if member.many {
                        out.push(b'[');
                    }
                    out.extend_from_slice(bytes);
                    if member.many {
                        out.push(b']');
                    }
                }
                continue;
            }
            if member.many {
                if !member.in_choice {
                    comma(out);
                    out.extend_from_slice(&member.json_key);
                    out.extend_from_slice(b"[]");
                }
            } else if member.kind == MemberKind::Attribute && member.default.is_some() {
                if let (TypePlan::Simple(simple), Some(default)) =
                    (plan.plan.get(member.type_id), &member.default)
                {
                    comma(out);
                    out.extend_from_slice(&member.json_key);
                    default_json(simple, out, default);
                }
            } else if member.required() && !plan.encoded {
                let message = format!("{} lacks <{}>", object.name, member.local);
                if self.notes.len() < MAX_NOTES && !self.notes.contains(&message) {
                    self.notes.push(message);
                }
            }
        }
        if let Some((name, simple)) = &object.text {
            comma(out);
            push_json_string(out, name);
            out.push(b':');
            simple
                .to_json(out, &self.text)
                .map_err(|e| AnswerError::Value(object.name.clone(), e.to_string()))?;
        }
        out.push(b'}');
        self.seen.truncate(frame.seen_from);
        Ok(())
    }
}

/// Writes a member's value; where there is none, its default.
pub(super) fn member_value(
    simple: &Simple,
    member: &Member,
    text: &str,
    out: &mut Vec<u8>,
) -> Result<(), AnswerError> {
    let text = match &member.default {
        Some(default) if text.is_empty() => default.as_str(),
        _ => text,
    };
    simple
        .to_json(out, text)
        .map_err(|e| AnswerError::Value(member.local.clone(), e.to_string()))
}
