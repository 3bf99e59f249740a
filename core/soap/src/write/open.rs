//! Content that no schema describes.

use super::*;

impl<'a> EnvelopeWriter<'a> {
    /// An element of any type: named by `xsi:type`, or in the generic mapping.
    pub(super) fn any(&mut self, member: &Member, value: &Json<'_>) {
        if matches!(value, Json::Null) && member.nillable {
            self.tag(false, member);
            return self.out.extend_from_slice(b" xsi:nil=\"true\"/>");
        }
        let mut tag = Vec::new();
        std::mem::swap(self.out, &mut tag);
        self.prefix(member.namespace);
        self.out.extend_from_slice(member.local.as_bytes());
        let name = String::from_utf8_lossy(self.out).into_owned();
        std::mem::swap(self.out, &mut tag);
        if value.get(TYPE_MEMBER).is_some() {
            return self.typed(member, &name, value);
        }
        if self.encoded.is_some() {
            return self.encoded_any(member, &name, value);
        }
        if matches!(value, Json::Array(_)) {
            // Written as elements of one name, all but one of them would be lost at the other side.
            return self
                .error("one value is expected, not an array: the schema has one element here");
        }
        let prefix = name.split_once(':').map(|(p, _)| p.to_owned());
        self.generic(&name, prefix, value);
    }

    /// An element whose value says its type.
    fn typed(&mut self, member: &Member, tag: &str, value: &Json<'_>) {
        let Some(Json::String(name)) = value.get(TYPE_MEMBER) else {
            return self.within(TYPE_MEMBER, |w| w.error("the name of a type is expected"));
        };
        let found = self.plan.named.iter().find(|d| d.json == name.as_ref());
        if let (Some(found), Json::Object(map)) = (found, value)
            && let TypePlan::Object(object) = self.plan.get(found.type_id)
        {
            self.start(tag);
            self.xsi_type(found.name.0, &found.name.1);
            self.deeper(|w| w.object(object, map, true));
            return self.stop(tag);
        }
        if let (Some(simple), Some(inner)) = (Simple::built_in(name), value.get("value")) {
            self.start(tag);
            self.out
                .extend_from_slice(format!(" xsi:type=\"xsd:{name}\"").as_bytes());
            self.within("value", |w| w.simple(member, &simple, inner));
            return self.stop(tag);
        }
        let names: Vec<&str> = self.plan.named.iter().map(|d| d.json.as_str()).collect();
        let near = porch_contract::suggest(name, names.iter().copied())
            .map_or_else(String::new, |n| format!("; did you mean “{n}”?"));
        self.within(TYPE_MEMBER, |w| {
            w.error(format!("there is no type “{name}”{near}"))
        })
    }

    fn start(&mut self, tag: &str) {
        self.out.push(b'<');
        self.out.extend_from_slice(tag.as_bytes());
    }

    fn stop(&mut self, tag: &str) {
        self.out.extend_from_slice(b"</");
        self.out.extend_from_slice(tag.as_bytes());
        self.out.push(b'>');
    }

    /// A value of any type in an encoded message, where each says its type (SOAP 1.1 §5.4.2): that of its JSON.
    fn encoded_any(&mut self, member: &Member, tag: &str, value: &Json<'_>) {
        let built_in = match value {
            Json::Null => {
                self.start(tag);
                return self.out.extend_from_slice(b" xsi:nil=\"true\"/>");
            }
            Json::String(_) => "string",
            Json::Bool(_) => "boolean",
            Json::Number(digits) => number_type(digits),
            Json::Array(items) => return self.encoded_array(member, tag, items),
            // Attributes, or text beside them: what the generic mapping has names for.
            Json::Object(map) if map.iter().any(|(n, _)| n.starts_with(['@', '#'])) => {
                return self.generic(tag, None, value);
            }
            Json::Object(map) => {
                self.start(tag);
                self.out.push(b'>');
                self.deeper(|w| {
                    for (name, value) in map {
                        w.within(name, |w| match generic::is_name(name) {
                            true => w.encoded_value(member, name, value),
                            false => w.error("is no name that an element can have"),
                        });
                    }
                });
                return self.stop(tag);
            }
        };
        self.start(tag);
        self.out
            .extend_from_slice(format!(" xsi:type=\"xsd:{built_in}\"").as_bytes());
        if let Some(simple) = Simple::built_in(built_in) {
            self.simple(member, &simple, value);
        }
        self.stop(tag);
    }

    fn encoded_value(&mut self, member: &Member, tag: &str, value: &Json<'_>) {
        match value.get(TYPE_MEMBER) {
            Some(_) => self.typed(member, tag, value),
            None => self.encoded_any(member, tag, value),
        }
    }

    fn encoded_array(&mut self, member: &Member, tag: &str, items: &[Json<'_>]) {
        self.start(tag);
        let n = items.len();
        let marks = if self.encoded == Some(ENCODING_12) {
            format!(" enc:itemType=\"xsd:anyType\" enc:arraySize=\"{n}\">")
        } else {
            format!(" xsi:type=\"enc:Array\" enc:arrayType=\"xsd:anyType[{n}]\">")
        };
        self.out.extend_from_slice(marks.as_bytes());
        self.deeper(|w| {
            for (i, item) in items.iter().enumerate() {
                w.within(&i.to_string(), |w| w.encoded_value(member, "item", item));
            }
        });
        self.stop(tag);
    }

    pub(super) fn generic(&mut self, name: &str, prefix: Option<String>, value: &Json<'_>) {
        let mapping = Mapping::default();
        let mut writer =
            generic::GenericWriter::new(&mapping, self.out, std::mem::take(&mut self.pointer))
                .with_prefix(prefix);
        writer.element(name, &value.to_value());
        let (mut errors, pointer) = (writer.errors, writer.pointer);
        errors.iter_mut().for_each(|e| e.header = self.header);
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

/// The type of a number as it is written, the narrowest of those that servers know best.
fn number_type(digits: &str) -> &'static str {
    if digits.contains(['e', 'E']) {
        "double"
    } else if digits.contains('.') {
        "decimal"
    } else if digits.parse::<i32>().is_ok() {
        "int"
    } else if digits.parse::<i64>().is_ok() {
        "long"
    } else {
        "integer"
    }
}
