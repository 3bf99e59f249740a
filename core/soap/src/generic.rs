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

mod builder;
mod names;
mod writer;

use serde_json::{Map, Value};

use crate::write_error::WriteError;
use crate::xml::{Scanner, Token, XmlError};
pub(crate) use builder::GenericBuilder;
pub(crate) use names::is_name;
pub(crate) use writer::GenericWriter;

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

/// The JSON for a whole document.
///
/// # Errors
/// What is not well-formed.
pub fn to_json(text: &str, mapping: &Mapping) -> Result<Value, XmlError> {
    let mut scanner = Scanner::new();
    let mut builder = GenericBuilder::new(mapping.clone());
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
    let Some((name, value)) = builder.finish() else {
        return Err(XmlError {
            message: "there is no element".into(),
            offset: text.len() as u64,
        });
    };
    Ok(match &mapping.root {
        Some(root) if *root == name => value,
        _ => Value::Object(Map::from_iter([(name, value)])),
    })
}

/// Appends the document for a JSON value.
///
/// # Errors
/// What XML cannot hold, each with a JSON Pointer.
pub fn to_xml(value: &Value, mapping: &Mapping, out: &mut Vec<u8>) -> Result<(), Vec<WriteError>> {
    let mut writer = GenericWriter::new(mapping, out, String::new());
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
