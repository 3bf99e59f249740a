//! Attributes.

use super::*;

impl<'a> EnvelopeWriter<'a> {
    pub(super) fn attribute(&mut self, member: &Member, value: &Json<'_>) {
        if member.kind == MemberKind::AnyAttribute {
            return self.open_attributes(value);
        }
        let TypePlan::Simple(simple) = self.plan.get(member.type_id) else {
            return;
        };
        match simple.to_text(value) {
            Ok(text) => {
                self.fixed(member, &text);
                self.attribute_text(member, &text);
            }
            Err(message) => self.error(message),
        }
    }

    pub(super) fn attribute_text(&mut self, member: &Member, text: &str) {
        self.out.push(b' ');
        self.prefix(member.namespace);
        self.out.extend_from_slice(member.local.as_bytes());
        self.quoted(text);
    }

    pub(super) fn quoted(&mut self, text: &str) {
        self.out.extend_from_slice(b"=\"");
        if let Err(c) = escape_attribute(self.out, text) {
            self.error(format!(
                "the character U+{:04X} cannot be written in XML",
                c as u32
            ));
        }
        self.out.push(b'"');
    }

    pub(super) fn open_attributes(&mut self, value: &Json<'_>) {
        let Json::Object(map) = value else {
            return self.error(format!(
                "an object of texts is expected, not {}",
                value.kind()
            ));
        };
        for (name, value) in map {
            let prefix = name.split_once(':').map(|(p, _)| p);
            let declared = prefix.is_none_or(|p| {
                p == "xml" || p == "xmlns" || tree::get(map, &format!("xmlns:{p}")).is_some()
            });
            self.within(name, |w| match value {
                Json::String(text) if declared && generic::is_name(name) => {
                    w.out.push(b' ');
                    w.out.extend_from_slice(name.as_bytes());
                    w.quoted(text);
                }
                Json::String(_) if !declared => w.error(format!(
                    "its prefix is not declared: add the member “xmlns:{}”",
                    prefix.unwrap_or_default()
                )),
                Json::String(_) => w.error("is no name that XML can have"),
                other => w.error(format!("a string is expected, not {}", other.kind())),
            });
        }
    }
}
