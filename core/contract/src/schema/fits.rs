//! Whether a value fits a schema, as far as that can be said for certain.

use std::sync::{Mutex, PoisonError};

use regex::{Regex, RegexBuilder};
use serde_json::{Map, Number, Value};

use super::SchemaView;

/// A check makes at most so many comparisons, so deep.
const MAX_STEPS: usize = 20_000;
const MAX_DEPTH: usize = 64;

/// Keywords that say nothing of a value (JSON Schema 2020-12: annotations, identifiers), those of OpenAPI among them.
const SILENT: [&str; 18] = [
    "title",
    "description",
    "example",
    "examples",
    "default",
    "deprecated",
    "readOnly",
    "writeOnly",
    "discriminator",
    "xml",
    "externalDocs",
    "contentEncoding",
    "contentMediaType",
    "$comment",
    "$schema",
    "$id",
    "$defs",
    "$anchor",
];

impl SchemaView<'_> {
    /// Whether a value fits for certain: it breaks no keyword, and there is none whose meaning is not known here, or that
    /// would take too long to find out.
    pub fn fits(&self, value: &Value) -> bool {
        Check { left: MAX_STEPS }.fits(*self, value, 0) == Some(true)
    }
}

impl SchemaView<'_> {
    /// Whether a value certainly does not fit.
    pub fn misfits(&self, value: &Value) -> bool {
        Check { left: MAX_STEPS }.fits(*self, value, 0) == Some(false)
    }
}

struct Check {
    left: usize,
}

impl Check {
    /// `None`: not known.
    fn fits(&mut self, view: SchemaView<'_>, value: &Value, depth: usize) -> Option<bool> {
        self.left = self.left.checked_sub(1)?;
        if depth > MAX_DEPTH {
            return None;
        }
        let map = match view.schema {
            Value::Bool(all) => return Some(*all),
            Value::Object(map) => map,
            _ => return None,
        };
        for (keyword, said) in map {
            let keyword = keyword.as_str();
            if SILENT.contains(&keyword) || keyword.starts_with("x-") {
                continue;
            }
            let fits = match keyword {
                "type" => is_of(said, value, map.get("nullable")),
                "enum" => Some(said.as_array()?.iter().any(|v| same(v, value))),
                "const" => Some(same(said, value)),
                "nullable" => Some(true),
                "format" => format(said.as_str()?, value),
                "allOf" | "anyOf" | "oneOf" => self.of_several(view, keyword, said, value, depth),
                "not" => self.fits(view.of(said), value, depth + 1).map(|f| !f),
                _ => match value {
                    Value::String(text) => of_text(keyword, said, text),
                    Value::Number(number) => of_number(keyword, said, number, map),
                    Value::Array(items) => self.of_list(view, keyword, said, items, depth),
                    Value::Object(members) => self.of_object(view, keyword, said, members, depth),
                    _ => is_known(keyword),
                },
            };
            match fits {
                Some(true) => {}
                other => return other,
            }
        }
        Some(true)
    }

    fn of_several(
        &mut self,
        view: SchemaView<'_>,
        keyword: &str,
        said: &Value,
        value: &Value,
        depth: usize,
    ) -> Option<bool> {
        let mut fitting = 0;
        let branches = said.as_array()?;
        for branch in branches {
            let branch = view.of(branch);
            let fits = !is_of_another(branch, value) && self.fits(branch, value, depth + 1)?;
            fitting += usize::from(fits);
        }
        Some(match keyword {
            "allOf" => fitting == branches.len(),
            "anyOf" => fitting > 0,
            _ => fitting == 1,
        })
    }

    fn of_list(
        &mut self,
        view: SchemaView<'_>,
        keyword: &str,
        said: &Value,
        items: &[Value],
        depth: usize,
    ) -> Option<bool> {
        match keyword {
            "items" => {
                for item in items {
                    if !self.fits(view.of(said), item, depth + 1)? {
                        return Some(false);
                    }
                }
                Some(true)
            }
            "minItems" => Some(items.len() as u64 >= said.as_u64()?),
            "maxItems" => Some(items.len() as u64 <= said.as_u64()?),
            "uniqueItems" if said == &Value::Bool(true) => {
                let texts: std::collections::HashSet<String> =
                    items.iter().map(Value::to_string).collect();
                Some(texts.len() == items.len())
            }
            "uniqueItems" => Some(true),
            other => is_known(other),
        }
    }

    fn of_object(
        &mut self,
        view: SchemaView<'_>,
        keyword: &str,
        said: &Value,
        members: &Map<String, Value>,
        depth: usize,
    ) -> Option<bool> {
        match keyword {
            "properties" => {
                for (name, schema) in said.as_object()? {
                    if let Some(member) = members.get(name)
                        && !self.fits(view.of(schema), member, depth + 1)?
                    {
                        return Some(false);
                    }
                }
                Some(true)
            }
            "required" => {
                let mut names = said.as_array()?.iter().filter_map(Value::as_str);
                Some(names.all(|name| members.contains_key(name)))
            }
            "additionalProperties" => {
                if view.schema.get("patternProperties").is_some() {
                    return None;
                }
                let named = view.schema.get("properties").and_then(Value::as_object);
                for (name, member) in members {
                    if named.is_none_or(|n| !n.contains_key(name))
                        && !self.fits(view.of(said), member, depth + 1)?
                    {
                        return Some(false);
                    }
                }
                Some(true)
            }
            "minProperties" => Some(members.len() as u64 >= said.as_u64()?),
            "maxProperties" => Some(members.len() as u64 <= said.as_u64()?),
            other => is_known(other),
        }
    }
}

impl<'a> SchemaView<'a> {
    /// A view of a schema in the same document.
    fn of(&self, schema: &'a Value) -> SchemaView<'a> {
        Self::new(self.root, schema)
    }
}

/// Whether a branch lists texts for a member that has none of them: seen at once, where a family is told apart by such a member
/// (OpenAPI 3.1 §4.8.25), and without going through what is in it.
fn is_of_another(branch: SchemaView<'_>, value: &Value) -> bool {
    let properties = branch.schema.get("properties").and_then(Value::as_object);
    let (Some(members), Some(properties)) = (value.as_object(), properties) else {
        return false;
    };
    // The member that tells types apart is the first one where it is one of ours; another is found by going through them.
    let Some((name, schema)) = properties.iter().next() else {
        return false;
    };
    let Some(text) = members.get(name).filter(|v| v.is_string()) else {
        return false;
    };
    match (schema.get("enum"), schema.get("const")) {
        (Some(Value::Array(listed)), _) => !listed.contains(text),
        (None, Some(one)) => one != text,
        _ => false,
    }
}

/// A keyword for values of another type says nothing; one that is not known may say anything.
fn is_known(keyword: &str) -> Option<bool> {
    const KNOWN: [&str; 17] = [
        "minLength",
        "maxLength",
        "pattern",
        "minimum",
        "maximum",
        "exclusiveMinimum",
        "exclusiveMaximum",
        "multipleOf",
        "items",
        "minItems",
        "maxItems",
        "uniqueItems",
        "properties",
        "required",
        "additionalProperties",
        "minProperties",
        "maxProperties",
    ];
    KNOWN.contains(&keyword).then_some(true)
}

fn is_of(said: &Value, value: &Value, nullable: Option<&Value>) -> Option<bool> {
    // OpenAPI 3.0 §4.7.24.1.
    if value.is_null() && nullable == Some(&Value::Bool(true)) {
        return Some(true);
    }
    let one = |name: &str| match (name, value) {
        ("null", Value::Null)
        | ("boolean", Value::Bool(_))
        | ("string", Value::String(_))
        | ("array", Value::Array(_))
        | ("object", Value::Object(_))
        | ("number", Value::Number(_)) => true,
        ("integer", Value::Number(n)) => {
            n.is_i64() || n.is_u64() || n.as_f64().is_some_and(|f| f.fract() == 0.0)
        }
        _ => false,
    };
    match said {
        Value::String(name) => Some(one(name)),
        Value::Array(names) => Some(names.iter().filter_map(Value::as_str).any(one)),
        _ => None,
    }
}

fn same(a: &Value, b: &Value) -> bool {
    match (a, b) {
        (Value::Number(a), Value::Number(b)) => a == b || a.as_f64() == b.as_f64(),
        _ => a == b,
    }
}

fn of_text(keyword: &str, said: &Value, text: &str) -> Option<bool> {
    match keyword {
        "minLength" => Some(text.chars().count() as u64 >= said.as_u64()?),
        "maxLength" => Some(text.chars().count() as u64 <= said.as_u64()?),
        "pattern" => Some(pattern(said.as_str()?)?.is_match(text)),
        other => is_known(other),
    }
}

/// A pattern (ECMA-262, of which this takes what has the same meaning). The last few are kept: a contract has the same ones in
/// many places, and making one takes longer than all else that is done with it.
pub(super) fn pattern(text: &str) -> Option<Regex> {
    const FEW: usize = 32;
    const LONG: usize = 1_000;
    static KNOWN: Mutex<Vec<(String, Option<Regex>)>> = Mutex::new(Vec::new());
    let known = || KNOWN.lock().unwrap_or_else(PoisonError::into_inner);
    if let Some((_, found)) = known().iter().find(|(t, _)| t == text) {
        return found.clone();
    }
    let mut builder = RegexBuilder::new(text);
    let made = builder.size_limit(1 << 20).build().ok();
    if text.len() <= LONG {
        let mut known = known();
        if known.len() == FEW {
            known.remove(0);
        }
        known.push((text.to_owned(), made.clone()));
    }
    made
}

fn of_number(
    keyword: &str,
    said: &Value,
    number: &Number,
    schema: &Map<String, Value>,
) -> Option<bool> {
    let value = number.as_f64()?;
    // OpenAPI 3.0 has booleans beside `minimum` and `maximum` (JSON Schema draft 4).
    let exclusive = |name: &str| schema.get(name) == Some(&Value::Bool(true));
    match keyword {
        "minimum" if exclusive("exclusiveMinimum") => Some(value > said.as_f64()?),
        "minimum" => Some(value >= said.as_f64()?),
        "maximum" if exclusive("exclusiveMaximum") => Some(value < said.as_f64()?),
        "maximum" => Some(value <= said.as_f64()?),
        "exclusiveMinimum" | "exclusiveMaximum" if said.is_boolean() => Some(true),
        "exclusiveMinimum" => Some(value > said.as_f64()?),
        "exclusiveMaximum" => Some(value < said.as_f64()?),
        "multipleOf" => {
            let parts = value / said.as_f64().filter(|m| *m > 0.0)?;
            Some((parts - parts.round()).abs() < 1e-9)
        }
        other => is_known(other),
    }
}

/// Formats are annotations unless a reader takes them for more (2020-12 validation §7); examples keep to them.
fn format(name: &str, value: &Value) -> Option<bool> {
    let Value::String(text) = value else {
        return Some(true);
    };
    let shape = match name {
        "date" => r"^\d{4}-\d\d-\d\d$",
        "time" => r"^\d\d:\d\d:\d\d(\.\d+)?(Z|[+-]\d\d:\d\d)$",
        "date-time" => r"^\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(\.\d+)?(Z|[+-]\d\d:\d\d)$",
        "duration" => r"^P(\d+Y)?(\d+M)?(\d+D)?(T(\d+H)?(\d+M)?(\d+S)?)?$|^P\d+W$",
        "uuid" => r"^[0-9a-fA-F]{8}(-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}$",
        "email" => r"^[^@\s]+@[^@\s]+$",
        "uri" => r"^[A-Za-z][A-Za-z0-9+.-]*:\S*$",
        "ipv4" => r"^\d{1,3}(\.\d{1,3}){3}$",
        "hostname" => r"^[A-Za-z0-9]([A-Za-z0-9.-]*[A-Za-z0-9])?$",
        // What a number's or a text's width is called, and formats that any text has.
        "int32" | "int64" | "uint32" | "uint64" | "float" | "double" | "decimal" | "byte"
        | "binary" | "password" | "uri-reference" | "iri-reference" | "field-mask" => {
            return Some(true);
        }
        _ => return None,
    };
    Some(pattern(shape)?.is_match(text))
}
