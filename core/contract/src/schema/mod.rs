//! Walking JSON Schemas (draft 2020-12, as OpenAPI 3.1 §4.8.24 uses them).
//!
//! Schemas are written by others: they may refer to themselves, and a few lines may stand for more parts than there are
//! atoms in the sea. Every walk therefore visits each part once and has a bound on how many it visits and how deep it goes
//! ([`walk`]); what lies beyond the bound is taken as not said.

mod fits;
mod sample;
mod walk;

use serde_json::{Map, Value};

use walk::{Agreement, Parts};

/// A schema within its document, so that `$ref` can be followed.
#[derive(Clone, Copy, Debug)]
pub struct SchemaView<'a> {
    root: &'a Value,
    schema: &'a Value,
}

/// A member that a schema allows.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Field {
    /// The member's name.
    pub name: String,
    /// Its type in words: `string`, `integer`, `array of object`, with the format behind it.
    pub kind: String,
    /// Whether it must be there.
    pub required: bool,
}

/// The type of a parameter's value, as far as a text must be turned into it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ParamType {
    /// A text, taken as it is.
    Text,
    /// A whole number.
    Integer,
    /// A decimal number.
    Number,
    /// `true` or `false`.
    Boolean,
}

/// A chain of references longer than this is a circle.
const MAX_REFERENCES: usize = 32;
/// Lists within lists are named to this depth.
const MAX_LISTS: usize = 8;

/// What a JSON Pointer leads to (RFC 6901 §4); names without escapes, which are nearly all, are not copied.
fn pointed<'a>(root: &'a Value, pointer: &str) -> Option<&'a Value> {
    if pointer.contains('~') {
        return root.pointer(pointer);
    }
    let Some(names) = pointer.strip_prefix('/') else {
        return pointer.is_empty().then_some(root);
    };
    names.split('/').try_fold(root, |at, name| match at {
        Value::Object(map) => map.get(name),
        Value::Array(items) => items.get(name.parse::<usize>().ok()?),
        _ => None,
    })
}

impl<'a> SchemaView<'a> {
    /// A schema of a document.
    pub fn new(root: &'a Value, schema: &'a Value) -> Self {
        Self { root, schema }.resolved()
    }

    fn resolved(mut self) -> Self {
        for _ in 0..MAX_REFERENCES {
            let Some(pointer) = self.schema.get("$ref").and_then(Value::as_str) else {
                break;
            };
            match pointer
                .strip_prefix('#')
                .and_then(|p| pointed(self.root, p))
            {
                Some(target) => self.schema = target,
                None => break,
            }
        }
        self
    }

    /// The schema itself, references followed.
    pub fn value(&self) -> &'a Value {
        self.schema
    }

    /// Whether the schema says nothing of what is inside, so that any path must be let through.
    pub fn is_open(&self) -> bool {
        match self.schema {
            Value::Object(map) => {
                !["properties", "items", "allOf"]
                    .iter()
                    .any(|k| map.contains_key(*k))
                    && self.types().is_empty()
                    && self.alternatives().is_empty()
            }
            _ => true,
        }
    }

    /// The types named, without `null`.
    pub fn types(&self) -> Vec<&'a str> {
        let mut all: Vec<&str> = Vec::new();
        let mut parts = Parts::of_choices(*self);
        while let Some(part) = parts.next() {
            let named: Vec<&str> = match part.schema.get("type") {
                Some(Value::String(one)) => vec![one],
                Some(Value::Array(many)) => many
                    .iter()
                    .filter_map(Value::as_str)
                    .filter(|t| *t != "null")
                    .collect(),
                _ => {
                    parts.descend(part);
                    continue;
                }
            };
            for kind in named {
                if !all.contains(&kind) {
                    all.push(kind);
                }
            }
        }
        all
    }

    /// Whether it says that `null` may stand there.
    pub fn takes_null(&self) -> bool {
        let is_null = |value: &Value| value == "null" || value.is_null();
        let list = |name: &str| self.schema.get(name).and_then(Value::as_array);
        let named = match self.schema.get("type") {
            Some(Value::Array(many)) => many.iter().any(is_null),
            Some(one) => is_null(one),
            None => false,
        };
        let branches = ["oneOf", "anyOf"].into_iter().filter_map(list).flatten();
        let mut types = branches.filter_map(|branch| branch.get("type"));
        named
            || types
                .any(|t| is_null(t) || t.as_array().is_some_and(|many| many.iter().any(is_null)))
            || list("enum").is_some_and(|values| values.iter().any(Value::is_null))
    }

    /// The schema of a member; `None` if there is no such member.
    pub fn property(&self, name: &str) -> Option<SchemaView<'a>> {
        Parts::of_all(*self)
            .find_map(|part| part.own_properties()?.get(name))
            .map(|found| Self::new(self.root, found))
    }

    /// All members with their schemas, in the order written.
    pub fn members(&self) -> indexmap::IndexMap<&'a str, SchemaView<'a>> {
        let mut all = indexmap::IndexMap::new();
        for part in Parts::of_all(*self) {
            for (name, schema) in part.own_properties().into_iter().flatten() {
                all.entry(name.as_str())
                    .or_insert_with(|| Self::new(self.root, schema));
            }
        }
        all
    }

    /// The names of the members, in the order written.
    pub fn property_names(&self) -> Vec<&'a str> {
        self.members().into_keys().collect()
    }

    /// Whether members that are not named may stand in the object.
    pub fn allows_other_members(&self) -> bool {
        Agreement::default().allows_other_members(*self, 0)
    }

    /// The schema of an array's items.
    pub fn items(&self) -> Option<SchemaView<'a>> {
        let mut parts = Parts::of_choices(*self);
        while let Some(part) = parts.next() {
            if let Some(items) = part.schema.get("items") {
                return Some(Self::new(self.root, items));
            }
            parts.descend(part);
        }
        None
    }

    /// Whether a member must be there.
    pub fn requires(&self, name: &str) -> bool {
        Agreement::default().requires(*self, name, 0)
    }

    /// The members as a list for people.
    pub fn fields(&self) -> Vec<Field> {
        self.members()
            .into_iter()
            .map(|(name, schema)| Field {
                name: name.to_owned(),
                kind: schema.kind(),
                required: self.requires(name),
            })
            .collect()
    }

    /// The type in words.
    pub fn kind(&self) -> String {
        self.kind_to(MAX_LISTS)
    }

    fn kind_to(&self, depth: usize) -> String {
        let types = self.types();
        let mut kind = match types.as_slice() {
            [] => "any".to_owned(),
            ["array"] if depth == 0 => "array".to_owned(),
            ["array"] => format!(
                "array of {}",
                self.items()
                    .map_or_else(|| "any".into(), |i| i.kind_to(depth - 1))
            ),
            many => many.join(" or "),
        };
        let format = ["format", "x-xsd-type"]
            .iter()
            .find_map(|k| self.schema.get(*k));
        if let Some(format) = format.and_then(Value::as_str) {
            kind.push_str(&format!(" ({format})"));
        } else if let Some(values) = self.schema.get("enum").and_then(Value::as_array) {
            let list: Vec<String> = values
                .iter()
                .take(4)
                .map(|v| v.as_str().map_or_else(|| v.to_string(), str::to_owned))
                .collect();
            kind.push_str(&format!(
                " ({}{})",
                list.join(", "),
                if values.len() > 4 { ", …" } else { "" }
            ));
        }
        kind
    }

    /// How a parameter's text becomes a value.
    pub fn param_type(&self) -> ParamType {
        match self.types().as_slice() {
            ["integer"] => ParamType::Integer,
            ["number"] => ParamType::Number,
            ["boolean"] => ParamType::Boolean,
            _ => ParamType::Text,
        }
    }

    fn own_properties(&self) -> Option<&'a Map<String, Value>> {
        self.schema.get("properties").and_then(Value::as_object)
    }

    /// The schemas of which one must fit, but for `null` and for those that only say what is required.
    fn alternatives(&self) -> Vec<SchemaView<'a>> {
        self.first_alternatives(usize::MAX)
    }

    /// The first so many of them.
    fn first_alternatives(&self, most: usize) -> Vec<SchemaView<'a>> {
        ["oneOf", "anyOf"]
            .into_iter()
            .filter_map(|k| self.schema.get(k).and_then(Value::as_array))
            .flatten()
            .map(|s| Self::new(self.root, s))
            .filter(|s| s.schema.get("type").is_none_or(|t| t != "null") && !s.only_requires())
            .take(most)
            .collect()
    }

    fn only_requires(&self) -> bool {
        matches!(self.schema, Value::Object(map) if map.keys().all(|k| k == "required" || k == "not"))
    }

    fn all_of(&self) -> Vec<SchemaView<'a>> {
        self.schema
            .get("allOf")
            .and_then(Value::as_array)
            .into_iter()
            .flatten()
            .map(|s| Self::new(self.root, s))
            .collect()
    }
}

#[cfg(test)]
mod tests;
