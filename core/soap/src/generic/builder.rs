//! Elements into a JSON value.

use serde_json::{Map, Number, Value};

use super::Mapping;
use super::names::unescape_name;
use crate::xml::{Attribute, Scanner, XSI, XmlError, is_xsi, push_attribute, push_text};

enum Child {
    Text(String),
    Element(String, Value),
}

struct Open {
    name: String,
    members: Vec<(String, Value)>,
    children: Vec<Child>,
    /// Prefixes declared here, so that they are declared once.
    declared: usize,
    nil: bool,
}

/// Builds the JSON of an element from the scanner's tokens.
pub(crate) struct GenericBuilder {
    mapping: Mapping,
    open: Vec<Open>,
    declared: Vec<(String, String)>,
    done: Option<(String, Value)>,
    /// Whether the first element's name is known from elsewhere, so that its prefix needs no declaration.
    nameless: bool,
}

impl GenericBuilder {
    pub(crate) fn new(mapping: Mapping) -> Self {
        Self {
            mapping,
            open: Vec::new(),
            declared: Vec::new(),
            done: None,
            nameless: false,
        }
    }

    /// The same for an element whose name a schema gives.
    pub(crate) fn nameless(mut self) -> Self {
        self.nameless = true;
        self
    }

    /// Takes in a start tag.
    pub(crate) fn start(
        &mut self,
        scanner: &Scanner,
        text: &str,
        prefix: &str,
        local: &str,
    ) -> Result<(), XmlError> {
        self.begin(scanner, scanner.attributes(text), prefix, local)
    }

    fn begin<'t>(
        &mut self,
        scanner: &Scanner,
        attributes: impl Iterator<Item = Attribute<'t>>,
        prefix: &str,
        local: &str,
    ) -> Result<(), XmlError> {
        let mut open = Open {
            name: qualified(prefix, local),
            members: Vec::new(),
            children: Vec::new(),
            declared: self.declared.len(),
            nil: false,
        };
        if !(self.nameless && self.open.is_empty()) {
            self.declare(scanner, prefix, &mut open.members);
        }
        for attribute in attributes {
            let mut value = String::new();
            push_attribute(&mut value, attribute.value)?;
            match attribute.name.split_once(':') {
                // Declared when they are used.
                Some(("xmlns", _)) => continue,
                None if attribute.name == "xmlns" => continue,
                Some((prefix, name)) => {
                    if name == "nil" && scanner.resolve(prefix).is_some_and(is_xsi) {
                        open.nil = matches!(value.trim(), "true" | "1");
                        continue;
                    }
                    self.declare(scanner, prefix, &mut open.members);
                    // A name with a prefix inside a value, as in xsi:type, needs its prefix as well.
                    if name == "type" && scanner.resolve(prefix).is_some_and(is_xsi) {
                        let inner = value.split_once(':').map_or("", |(p, _)| p).to_owned();
                        self.declare(scanner, &inner, &mut open.members);
                    }
                    open.members.push((
                        format!(
                            "{}{}:{}",
                            self.mapping.attribute,
                            unescape_name(prefix),
                            unescape_name(name)
                        ),
                        Value::String(value),
                    ));
                }
                None => open.members.push((
                    format!(
                        "{}{}",
                        self.mapping.attribute,
                        unescape_name(attribute.name)
                    ),
                    Value::String(value),
                )),
            }
        }
        self.open.push(open);
        Ok(())
    }

    /// Declares a prefix where it is first used.
    fn declare(&mut self, scanner: &Scanner, prefix: &str, members: &mut Vec<(String, Value)>) {
        if prefix == "xml" {
            return;
        }
        let uri = scanner.resolve(prefix).unwrap_or("");
        let known = self
            .declared
            .iter()
            .rev()
            .find(|(p, _)| p == prefix)
            .map_or("", |(_, u)| u.as_str());
        if known == uri {
            return;
        }
        self.declared.push((prefix.to_owned(), uri.to_owned()));
        let name = if prefix.is_empty() {
            format!("{}xmlns", self.mapping.attribute)
        } else {
            format!("{}xmlns:{prefix}", self.mapping.attribute)
        };
        members.push((name, Value::String(uri.to_owned())));
    }

    /// Takes in character data.
    pub(crate) fn text(&mut self, text: &str, raw: bool) -> Result<(), XmlError> {
        let Some(open) = self.open.last_mut() else {
            return Ok(());
        };
        if !matches!(open.children.last(), Some(Child::Text(_))) {
            open.children.push(Child::Text(String::new()));
        }
        if let Some(Child::Text(into)) = open.children.last_mut() {
            match raw {
                true => push_text(into, text)?,
                false => into.push_str(text),
            }
        }
        Ok(())
    }

    /// Takes in an end tag.
    pub(crate) fn end(&mut self) {
        let Some(open) = self.open.pop() else { return };
        self.declared.truncate(open.declared);
        let name = open.name.clone();
        let value = self.fold(open);
        match self.open.last_mut() {
            Some(parent) => parent.children.push(Child::Element(name, value)),
            None => self.done = Some((name, value)),
        }
    }

    /// The element's name and value, when its end tag was taken in.
    pub(crate) fn finish(&mut self) -> Option<(String, Value)> {
        self.done.take()
    }

    fn fold(&self, open: Open) -> Value {
        let Open {
            members,
            mut children,
            nil,
            ..
        } = open;
        let blank =
            |c: &Child| matches!(c, Child::Text(t) if t.bytes().all(|b| b.is_ascii_whitespace()));
        let has_elements = children.iter().any(|c| matches!(c, Child::Element(..)));
        if has_elements {
            children.retain(|c| !blank(c));
        }
        if nil && members.is_empty() && children.is_empty() {
            return Value::Null;
        }
        if !has_elements {
            return self.folded_text(members, children.pop(), nil);
        }
        let mut map = Map::from_iter(members);
        if in_order(&children) {
            for child in children {
                if let Child::Element(name, value) = child {
                    self.fold_in(&mut map, name, value);
                }
            }
        } else {
            let list = children.into_iter().map(|c| match c {
                Child::Text(text) => Value::String(text),
                Child::Element(name, value) => Value::Object(Map::from_iter([(name, value)])),
            });
            map.insert(self.mapping.content.clone(), list.collect());
        }
        Value::Object(map)
    }

    /// An element that holds no others.
    fn folded_text(&self, members: Vec<(String, Value)>, text: Option<Child>, nil: bool) -> Value {
        let text = match text {
            Some(Child::Text(text)) => Some(self.scalar(text)),
            _ => None,
        };
        if members.is_empty() {
            return text.unwrap_or_else(|| Value::String(String::new()));
        }
        let mut map = Map::from_iter(members);
        if nil {
            let attribute = |name: &str| format!("{}{name}", self.mapping.attribute);
            map.insert(attribute("xsi:nil"), Value::String("true".into()));
            map.insert(attribute("xmlns:xsi"), Value::String(XSI.into()));
        }
        if let Some(text) = text {
            map.insert(self.mapping.text.clone(), text);
        }
        Value::Object(map)
    }

    /// A member for an element; those of one name make a list.
    fn fold_in(&self, map: &mut Map<String, Value>, name: String, value: Value) {
        match map.get_mut(&name) {
            Some(Value::Array(list)) => list.push(value),
            Some(one) => {
                let first = one.take();
                *one = Value::Array(vec![first, value]);
            }
            None => {
                let local = name.split_once(':').map(|(_, local)| local);
                let mut repeated = self.mapping.repeated.iter();
                let always = repeated.any(|r| *r == name || local == Some(r));
                let value = if always {
                    Value::Array(vec![value])
                } else {
                    value
                };
                map.insert(name, value);
            }
        }
    }

    fn scalar(&self, text: String) -> Value {
        if self.mapping.typed {
            match text.as_str() {
                "true" => return Value::Bool(true),
                "false" => return Value::Bool(false),
                _ if text.starts_with(|c: char| c == '-' || c.is_ascii_digit()) => {
                    // Only what JSON writes with the very same characters.
                    if let Ok(number) = text.parse::<Number>()
                        && number.to_string() == text
                    {
                        return Value::Number(number);
                    }
                }
                _ => {}
            }
        }
        Value::String(text)
    }
}

/// Whether no text stands between the elements, and those of one name stand together, so that an object keeps their order.
fn in_order(children: &[Child]) -> bool {
    let mut seen = std::collections::HashSet::new();
    let mut last = "";
    for child in children {
        match child {
            Child::Text(_) => return false,
            Child::Element(name, _) => {
                if name != last && !seen.insert(name.as_str()) {
                    return false;
                }
                last = name;
            }
        }
    }
    true
}

fn qualified(prefix: &str, local: &str) -> String {
    if prefix.is_empty() {
        unescape_name(local)
    } else {
        format!("{prefix}:{}", unescape_name(local))
    }
}
