//! Content that no schema describes.

use super::*;

impl<'a> EnvelopeWriter<'a> {
    /// An element of any type: named by `xsi:type`, or in the generic mapping.
    pub(super) fn any(&mut self, member: &Member, value: &Json<'_>) {
        if matches!(value, Json::Null) && member.nillable {
            self.tag(false, member);
            return self.out.extend_from_slice(b" xsi:nil=\"true\"/>");
        }
        if matches!(value, Json::Array(_)) {
            // Written as elements of one name, all but one of them would be lost at the other side.
            return self
                .error("one value is expected, not an array: the schema has one element here");
        }
        if let Some(Json::String(name)) = value.get(TYPE_MEMBER) {
            let found = self.plan.named.iter().find(|d| d.json == name.as_ref());
            if let (Some(found), Json::Object(map)) = (found, value)
                && let TypePlan::Object(object) = self.plan.get(found.type_id)
            {
                self.tag(false, member);
                self.xsi_type(found.name.0, &found.name.1);
                self.deeper(|w| w.object(object, map, true));
                self.tag(true, member);
                return self.out.push(b'>');
            }
            if let (Some(simple), Some(inner)) = (Simple::built_in(name), value.get("value")) {
                self.tag(false, member);
                self.out
                    .extend_from_slice(format!(" xsi:type=\"xsd:{name}\"").as_bytes());
                self.within("value", |w| w.simple(member, &simple, inner));
                self.tag(true, member);
                return self.out.push(b'>');
            }
            let names: Vec<&str> = self.plan.named.iter().map(|d| d.json.as_str()).collect();
            let near = porch_contract::suggest(name, names.iter().copied())
                .map_or_else(String::new, |n| format!("; did you mean “{n}”?"));
            return self.within(TYPE_MEMBER, |w| {
                w.error(format!("there is no type “{name}”{near}"))
            });
        }
        let mut tag = Vec::new();
        std::mem::swap(self.out, &mut tag);
        self.prefix(member.namespace);
        self.out.extend_from_slice(member.local.as_bytes());
        let name = String::from_utf8_lossy(self.out).into_owned();
        std::mem::swap(self.out, &mut tag);
        let prefix = name.split_once(':').map(|(p, _)| p.to_owned());
        self.generic(&name, prefix, value);
    }

    pub(super) fn generic(&mut self, name: &str, prefix: Option<String>, value: &Json<'_>) {
        let mapping = Mapping::default();
        let mut writer =
            generic::GenericWriter::new(&mapping, self.out, std::mem::take(&mut self.pointer))
                .with_prefix(prefix);
        writer.element(name, &value.to_value());
        let (errors, pointer) = (writer.errors, writer.pointer);
        self.pointer = pointer;
        self.errors.extend(errors);
        self.errors.truncate(MAX_ERRORS);
    }

    /// The parts of a message that stand in the body without an element around them.
    pub(super) fn parts(&mut self, type_id: crate::TypeId, value: &Json<'_>) {
        match (self.plan.get(type_id), value) {
            (TypePlan::Object(object), Json::Object(map)) => self.members(object, map, false),
            (TypePlan::Object(object), Json::Null) => self.members(object, &[], false),
            (_, other) => self.error(format!("an object is expected, not {}", other.kind())),
        }
    }

    /// An element that the schema leaves open: an object with one member.
    pub(super) fn open_element(&mut self, value: &Json<'_>) {
        match value {
            Json::Object(map) if map.len() == 1 => {
                for (name, value) in map {
                    self.within(name, |w| match value {
                        Json::Array(_) => w.error("one element is expected, not several"),
                        value => w.generic(name, None, value),
                    });
                }
            }
            _ => self.error("an object with one member, the element's name, is expected"),
        }
    }
}
