//! XML ↔ JSON without a schema: a documented mapping that can be reversed.
//!
//! | XML | JSON |
//! |---|---|
//! | the document's element | an object with one member |
//! | an element with text only | a string |
//! | an element without anything | `""` |
//! | `xsi:nil="true"` | `null` |
//! | an element with elements or attributes | an object, in the order of the document |
//! | an attribute `a` | the member `@a` |
//! | text beside attributes | the member `#text` |
//! | elements of one name behind one another | an array |
//! | text between elements, or elements of one name that stand apart | the member `#content`: an array of texts and of objects with one member |
//! | a namespace | its prefix, as the document has it, and the member `@xmlns:prefix` |
//!
//! Names that XML cannot have are written as ISO/IEC 9075-14 §9.1 does: a blank becomes `_x0020_`. White space between
//! elements, comments and processing instructions are left out. Marks and names are options ([`Mapping`]).

mod writer;

use serde_json::{Map, Number, Value};
use writer::escape_name;

use crate::write_error::WriteError;
use crate::xml::{
    Attribute, Scanner, Token, XSI, XmlError, escape_attribute, escape_text, is_xsi,
    push_attribute, push_text,
};

/// The options of the mapping.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Mapping {
    /// What stands before the name of an attribute: `@`.
    pub attribute: String,
    /// The member for text beside attributes: `#text`.
    pub text: String,
    /// The member for what must keep its order: `#content`.
    pub content: String,
    /// Names of elements that are always arrays, also when there is only one.
    pub repeated: Vec<String>,
    /// Whether texts that look like a JSON number or boolean become one; their digits are kept.
    pub typed: bool,
    /// Name of the document's element when the JSON has no such member: it is put around what is sent as XML, and left
    /// out of what is shown as JSON.
    pub root: Option<String>,
}

impl Default for Mapping {
    fn default() -> Self {
        Self {
            attribute: "@".into(),
            text: "#text".into(),
            content: "#content".into(),
            repeated: Vec::new(),
            typed: false,
            root: None,
        }
    }
}

/// Values nested deeper than this are refused.
const MAX_DEPTH: usize = 256;

/// The JSON for a whole document.
///
/// # Errors
/// What is not well-formed.
pub fn to_json(text: &str, mapping: &Mapping) -> Result<Value, XmlError> {
    let mut scanner = Scanner::new();
    let mut builder = Builder::new(mapping.clone());
    loop {
        match scanner.next(text, true)? {
            Token::Start {
                prefix,
                local,
                empty,
            } => {
                builder.start(&scanner, text, prefix, local)?;
                if empty {
                    builder.end();
                }
            }
            Token::End => builder.end(),
            Token::Text { text, raw } => builder.text(text, raw)?,
            Token::More | Token::Eof => break,
        }
    }
    let (name, value) = builder.finish().unwrap_or_default();
    Ok(match &mapping.root {
        Some(root) if *root == name => value,
        _ => Value::Object(Map::from_iter([(name, value)])),
    })
}

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
pub(crate) struct Builder {
    mapping: Mapping,
    open: Vec<Open>,
    declared: Vec<(String, String)>,
    done: Option<(String, Value)>,
    /// Whether the first element's name is known from elsewhere, so that its prefix needs no declaration.
    nameless: bool,
}

impl Builder {
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
            push_attribute(&mut value, attribute.value)
                .map_err(|message| XmlError { message, offset: 0 })?;
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
                true => push_text(into, text).map_err(|message| XmlError { message, offset: 0 })?,
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
        if children.iter().any(|c| matches!(c, Child::Element(..))) {
            children.retain(|c| !blank(c));
        }
        if nil && members.is_empty() && children.is_empty() {
            return Value::Null;
        }
        let only_text = |c: Option<Child>| match c {
            Some(Child::Text(text)) => self.scalar(text),
            _ => Value::String(String::new()),
        };
        if !children.iter().any(|c| matches!(c, Child::Element(..))) {
            let text = children.pop();
            if members.is_empty() {
                return only_text(text);
            }
            let mut map = Map::from_iter(members);
            if nil {
                map.insert(
                    format!("{}xsi:nil", self.mapping.attribute),
                    Value::String("true".into()),
                );
                map.insert(
                    format!("{}xmlns:xsi", self.mapping.attribute),
                    Value::String(XSI.into()),
                );
            }
            if let Some(text) = text {
                map.insert(self.mapping.text.clone(), only_text(Some(text)));
            }
            return Value::Object(map);
        }
        let mut map = Map::from_iter(members);
        if !in_order(&children) {
            let list = children.into_iter().map(|c| match c {
                Child::Text(text) => Value::String(text),
                Child::Element(name, value) => Value::Object(Map::from_iter([(name, value)])),
            });
            map.insert(self.mapping.content.clone(), list.collect());
            return Value::Object(map);
        }
        for child in children {
            let Child::Element(name, value) = child else {
                continue;
            };
            match map.get_mut(&name) {
                Some(Value::Array(list)) => list.push(value),
                Some(one) => {
                    let first = one.take();
                    *one = Value::Array(vec![first, value]);
                }
                None => {
                    let always = self.mapping.repeated.iter().any(|r| {
                        *r == name || name.split_once(':').is_some_and(|(_, local)| local == r)
                    });
                    map.insert(
                        name,
                        if always {
                            Value::Array(vec![value])
                        } else {
                            value
                        },
                    );
                }
            }
        }
        Value::Object(map)
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

/// Appends the document for a JSON value.
///
/// # Errors
/// What XML cannot hold, each with a JSON Pointer.
pub fn to_xml(value: &Value, mapping: &Mapping, out: &mut Vec<u8>) -> Result<(), Vec<WriteError>> {
    let mut writer = Writer {
        mapping,
        out,
        errors: Vec::new(),
        pointer: String::new(),
        prefixes: Vec::new(),
        depth: 0,
    };
    let only = match value {
        Value::Object(map) if mapping.root.is_none() => match map.iter().next() {
            Some((name, value))
                if map.len() == 1 && !value.is_array() && !writer.is_special(name) =>
            {
                Some((name.as_str(), value))
            }
            _ => None,
        },
        _ => None,
    };
    let (name, value) = only.unwrap_or((mapping.root.as_deref().unwrap_or("document"), value));
    writer.element(name, value);
    let errors = writer.errors;
    if errors.is_empty() {
        Ok(())
    } else {
        Err(errors)
    }
}

pub(crate) struct Writer<'a> {
    mapping: &'a Mapping,
    out: &'a mut Vec<u8>,
    pub(crate) errors: Vec<WriteError>,
    pub(crate) pointer: String,
    prefixes: Vec<String>,
    depth: usize,
}

impl<'a> Writer<'a> {
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
                pointer: self.pointer.clone(),
                message,
            });
        }
    }

    fn is_special(&self, name: &str) -> bool {
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

/// Whether a text can be a name of XML as it stands, with or without a prefix.
pub(crate) fn is_name(name: &str) -> bool {
    name.split(':').count() <= 2 && name.split(':').all(|part| escape_name(part) == part)
}

/// The character that an escape at the front of a text stands for, and the escape's length.
fn escape_at(text: &str) -> Option<(char, usize)> {
    let rest = text.strip_prefix("_x")?;
    let digits = rest.bytes().take_while(u8::is_ascii_hexdigit).count();
    if !(digits == 4 || digits == 8) || rest.as_bytes().get(digits) != Some(&b'_') {
        return None;
    }
    Some((
        char::from_u32(u32::from_str_radix(&rest[..digits], 16).ok()?)?,
        digits + 3,
    ))
}

fn unescape_name(name: &str) -> String {
    if name == "_x0000_" {
        return String::new();
    }
    let Some(first) = name.find("_x") else {
        return name.to_owned();
    };
    let mut out = name[..first].to_owned();
    let mut rest = &name[first..];
    while let Some(c) = rest.chars().next() {
        match escape_at(rest) {
            Some((stood, len)) => {
                out.push(stood);
                rest = &rest[len..];
            }
            None => {
                out.push(c);
                rest = &rest[c.len_utf8()..];
            }
        }
    }
    out
}
