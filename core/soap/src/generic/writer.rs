//! From a value to XML, by the mapping without a schema.

use serde_json::{Map, Value};

use super::Mapping;
use super::names::escape_name;
use crate::write_error::WriteError;
use crate::xml::{XSI, escape_attribute, escape_text};

/// Values nested deeper than this are refused.
const MAX_DEPTH: usize = 256;

pub(super) fn scalar_text(value: &Value) -> Option<String> {
    match value {
        Value::String(text) => Some(text.clone()),
        Value::Number(number) => Some(number.to_string()),
        Value::Bool(b) => Some(b.to_string()),
        _ => None,
    }
}

pub(crate) struct GenericWriter<'a> {
    mapping: &'a Mapping,
    out: &'a mut Vec<u8>,
    pub(crate) errors: Vec<WriteError>,
    pub(crate) pointer: String,
    prefixes: Vec<String>,
    depth: usize,
}

impl<'a> GenericWriter<'a> {
    pub(crate) fn new(mapping: &'a Mapping, out: &'a mut Vec<u8>, pointer: String) -> Self {
        Self {
            mapping,
            out,
            errors: Vec::new(),
            pointer,
            prefixes: Vec::new(),
            depth: 0,
        }
    }

    /// A prefix that is declared around what is written.
    pub(crate) fn with_prefix(mut self, prefix: Option<String>) -> Self {
        self.prefixes.extend(prefix);
        self
    }

    fn error(&mut self, message: String) {
        if self.errors.len() < 50 {
            self.errors.push(WriteError {
                header: false,
                pointer: self.pointer.clone(),
                message,
            });
        }
    }

    pub(super) fn is_special(&self, name: &str) -> bool {
        name.starts_with(&self.mapping.attribute)
            || name == self.mapping.text
            || name == self.mapping.content
    }

    fn within(&mut self, step: &str, f: impl FnOnce(&mut Self)) {
        let len = self.pointer.len();
        self.pointer.push('/');
        self.pointer
            .push_str(&step.replace('~', "~0").replace('/', "~1"));
        f(self);
        self.pointer.truncate(len);
    }
}

impl<'a> GenericWriter<'a> {
    /// One element, or several for an array.
    pub(crate) fn element(&mut self, name: &str, value: &Value) {
        if let Value::Array(values) = value {
            for (i, one) in values.iter().enumerate() {
                self.within(&i.to_string(), |w| match one {
                    // An array in an array has no name of its own.
                    Value::Array(_) => w.wrapped(name, one),
                    other => w.element(name, other),
                });
            }
            return;
        }
        self.depth += 1;
        if self.depth > MAX_DEPTH {
            self.error(format!("nested more than {MAX_DEPTH} levels deep"));
        } else {
            self.one(name, value);
        }
        self.depth -= 1;
    }

    pub(super) fn wrapped(&mut self, name: &str, value: &Value) {
        let object = Value::Object(Map::from_iter([("item".to_owned(), value.clone())]));
        self.element(name, &object);
    }

    pub(super) fn one(&mut self, name: &str, value: &Value) {
        let declared = self.prefixes.len();
        let empty = Map::new();
        let map = value.as_object().unwrap_or(&empty);
        let mark = self.mapping.attribute.clone();
        for name in map.keys() {
            if let Some(prefix) = name
                .strip_prefix(&mark)
                .and_then(|n| n.strip_prefix("xmlns:"))
            {
                self.prefixes.push(prefix.to_owned());
            }
        }
        let tag = self.name(name);
        self.out.push(b'<');
        self.out.extend_from_slice(tag.as_bytes());
        for (name, value) in map.iter().filter(|(n, _)| n.starts_with(&mark)) {
            self.within(name, |w| w.attribute(&name[mark.len()..], value));
        }
        match value {
            Value::Null => {
                self.out.extend_from_slice(
                    format!(" xmlns:xsi=\"{XSI}\" xsi:nil=\"true\"/>").as_bytes(),
                );
                self.prefixes.truncate(declared);
                return;
            }
            Value::Object(map) => {
                self.out.push(b'>');
                for (name, value) in map.iter().filter(|(n, _)| !n.starts_with(&mark)) {
                    self.within(name, |w| w.content(name, value));
                }
            }
            scalar => {
                self.out.push(b'>');
                self.text(scalar);
            }
        }
        self.out.extend_from_slice(b"</");
        self.out.extend_from_slice(tag.as_bytes());
        self.out.push(b'>');
        self.prefixes.truncate(declared);
    }

    pub(super) fn content(&mut self, name: &str, value: &Value) {
        if name == self.mapping.text {
            return self.text(value);
        }
        if name != self.mapping.content {
            return self.element(name, value);
        }
        let Value::Array(parts) = value else {
            return self
                .error("an array of texts and of objects with one member is expected".into());
        };
        for (i, part) in parts.iter().enumerate() {
            self.within(&i.to_string(), |w| match part {
                Value::Object(map) if map.len() == 1 => map
                    .iter()
                    .for_each(|(name, value)| w.within(name, |w| w.element(name, value))),
                Value::Object(_) | Value::Array(_) => {
                    w.error("a text or an object with one member is expected".into())
                }
                text => w.text(text),
            });
        }
    }

    pub(super) fn attribute(&mut self, name: &str, value: &Value) {
        let name = if name == "xmlns" || name.starts_with("xmlns:") {
            name.to_owned()
        } else {
            self.name(name)
        };
        let Some(text) = scalar_text(value) else {
            return self.error("an attribute holds one text, number or boolean".into());
        };
        self.out.push(b' ');
        self.out.extend_from_slice(name.as_bytes());
        self.out.extend_from_slice(b"=\"");
        if let Err(c) = escape_attribute(self.out, &text) {
            self.error(format!(
                "the character U+{:04X} cannot be written in XML",
                c as u32
            ));
        }
        self.out.push(b'"');
    }

    pub(super) fn text(&mut self, value: &Value) {
        let Some(text) = scalar_text(value) else {
            return self.error("a text, number or boolean is expected".into());
        };
        if let Err(c) = escape_text(self.out, &text) {
            self.error(format!(
                "the character U+{:04X} cannot be written in XML",
                c as u32
            ));
        }
    }

    /// A member's name as a name of XML: a prefix counts only where it is declared.
    pub(super) fn name(&self, name: &str) -> String {
        match name.split_once(':') {
            Some((prefix, local))
                if prefix == "xml" || self.prefixes.iter().any(|p| p == prefix) =>
            {
                format!("{prefix}:{}", escape_name(local))
            }
            _ => escape_name(name),
        }
    }
}
