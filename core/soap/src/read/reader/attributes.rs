//! Attributes of objects.

use super::*;

/// An attribute that no other place is declared for, with what declares its prefix before it.
type OpenAttributes = Vec<(String, String)>;

impl AnswerReader {
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
        let (mut open, mut unknown) = (OpenAttributes::new(), Vec::new());
        let last = object.members.len().wrapping_sub(1);
        let takes_open =
            (object.members.last()).is_some_and(|m| m.kind == MemberKind::AnyAttribute);
        for attribute in self.scanner.attributes(text) {
            let (prefix, name) = attribute
                .name
                .split_once(':')
                .unwrap_or(("", attribute.name));
            let uri = match prefix {
                "xmlns" => continue,
                "" if name == "xmlns" => continue,
                "" => "",
                prefix => self.scanner.resolve(prefix).unwrap_or(""),
            };
            if is_xsi(uri) {
                continue;
            }
            let mut value = String::new();
            push_attribute(&mut value, attribute.value)
                .map_err(|wrong| AnswerError::Xml(wrong.into()))?;
            match declared(plan, object, uri, name) {
                Some(index) => {
                    if std::mem::replace(&mut any, true) {
                        out.push(b',');
                    }
                    declared_value(plan, object, index, &value, out)?;
                    self.seen[seen_from + index] = true;
                }
                None if takes_open => add_open(&mut open, attribute.name, uri, value),
                None => unknown.push(name),
            }
        }
        if !open.is_empty() {
            if std::mem::replace(&mut any, true) {
                out.push(b',');
            }
            out.extend_from_slice(&object.members[last].json_key);
            push_open(out, &open);
            self.seen[seen_from + last] = true;
        }
        if !plan.encoded {
            self.note_unknown(&object.name, &unknown);
        }
        if let Some(Frame::Object(frame)) = self.frames.last_mut() {
            frame.any = any;
        }
        Ok(())
    }

    fn note_unknown(&mut self, object: &str, unknown: &[&str]) {
        for name in unknown {
            self.note(format!(
                "the attribute {name} is not declared in {object} and was passed by"
            ));
        }
    }
}

/// The member that an attribute is.
fn declared(plan: &AnswerPlan, object: &ObjectPlan, uri: &str, name: &str) -> Option<usize> {
    let found = object.members.iter().position(|m| {
        m.kind == MemberKind::Attribute
            && m.local == name
            && plan.plan.namespaces[m.namespace as usize] == uri
    })?;
    let of = plan.plan.get(object.members[found].type_id);
    matches!(of, TypePlan::Simple(_)).then_some(found)
}

fn declared_value(
    plan: &AnswerPlan,
    object: &ObjectPlan,
    index: usize,
    value: &str,
    out: &mut Vec<u8>,
) -> Result<(), AnswerError> {
    let member = &object.members[index];
    out.extend_from_slice(&member.json_key);
    match plan.plan.get(member.type_id) {
        TypePlan::Simple(simple) => simple.to_json(out, value).map_err(|e| {
            AnswerError::Value(format!("{}/{}", object.name, member.local), e.to_string())
        }),
        _ => Ok(()),
    }
}

fn add_open(open: &mut OpenAttributes, name: &str, uri: &str, value: String) {
    if let Some((prefix, _)) = name.split_once(':')
        && prefix != "xml"
    {
        let declaration = format!("xmlns:{prefix}");
        if !open.iter().any(|(n, _)| *n == declaration) {
            open.push((declaration, uri.to_owned()));
        }
    }
    open.push((name.to_owned(), value));
}

fn push_open(out: &mut Vec<u8>, open: &OpenAttributes) {
    for (i, (name, value)) in open.iter().enumerate() {
        out.push(if i == 0 { b'{' } else { b',' });
        push_json_string(out, name);
        out.push(b':');
        push_json_string(out, value);
    }
    out.push(b'}');
}
