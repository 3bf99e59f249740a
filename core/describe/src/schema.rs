//! Schemas: those of JSON Schema draft 4 and 5 as OpenAPI 2.0 and 3.0 have them, and those of 2020-12, all to 2020-12.

use porch_contract::{Node, NodeKind, Position, SchemaView};
use serde_json::Value;

use crate::build::{Entries, is_true, list, map, put, scalar, take, text};
use crate::shape::{DISCRIMINATOR, DOCS, XML};
use crate::text::size_of;
use crate::walk::{Walk, is_null};
use crate::{Version, pattern};

/// Keywords whose value is a schema (2020-12 core §10.2, §10.3, §11; validation §8.5).
const ONE: [&str; 11] = [
    "not",
    "if",
    "then",
    "else",
    "items",
    "contains",
    "propertyNames",
    "additionalProperties",
    "unevaluatedItems",
    "unevaluatedProperties",
    "contentSchema",
];
/// Those whose value is a list of schemas.
const LIST: [&str; 4] = ["allOf", "anyOf", "oneOf", "prefixItems"];
/// Those whose value has schemas by name.
const NAMED: [&str; 3] = ["properties", "patternProperties", "dependentSchemas"];
/// Whole numbers that are not negative (validation §6).
const COUNTS: [&str; 8] = [
    "minLength",
    "maxLength",
    "minItems",
    "maxItems",
    "minProperties",
    "maxProperties",
    "minContains",
    "maxContains",
];
/// Numbers.
const NUMBERS: [&str; 5] = [
    "minimum",
    "maximum",
    "exclusiveMinimum",
    "exclusiveMaximum",
    "multipleOf",
];
const TEXTS: [&str; 6] = [
    "title",
    "description",
    "format",
    "$comment",
    "contentEncoding",
    "contentMediaType",
];
const FLAGS: [&str; 4] = ["uniqueItems", "readOnly", "writeOnly", "deprecated"];
const TYPES: [&str; 7] = [
    "null", "boolean", "object", "array", "number", "string", "integer",
];
/// What names a schema or where it is kept: references are followed to what they lead to, and need none of it.
const NAMES: [&str; 8] = [
    "$id",
    "id",
    "$schema",
    "$anchor",
    "$dynamicAnchor",
    "$vocabulary",
    "$defs",
    "definitions",
];

impl Walk<'_> {
    /// A schema as 2020-12 has it; what is none is any value.
    pub(crate) fn schema(&mut self, node: &Node) -> Node {
        let any = map(node.at, Vec::new());
        let NodeKind::Map(entries) = &node.kind else {
            return match &node.kind {
                NodeKind::Scalar(Value::Bool(_)) => node.clone(),
                _ => {
                    if !is_null(node) {
                        let told = "a schema is an object".to_owned();
                        self.warn(node.at, "not a schema", told, "any value is taken here");
                    }
                    any
                }
            };
        };
        if !self.room(1, node.at) {
            return any;
        }
        let mut out = any;
        for (name, at, value) in entries {
            if name == "$ref" || name == "$dynamicRef" || name == "$recursiveRef" {
                self.refer(&mut out, value);
                continue;
            }
            // Before 3.1 what stands beside a reference says nothing (3.0 §4.7.23); the description is kept.
            let says_nothing = self.version != Version::New
                && node.get("$ref").and_then(Node::text).is_some()
                && !["description", "summary"].contains(&name.as_str());
            if !says_nothing && let Some(value) = self.keyword(name, value, entries) {
                put_at(&mut out, name, *at, value);
            }
        }
        self.as_2020(node, &mut out);
        out
    }

    fn refer(&mut self, out: &mut Node, value: &Node) {
        let Some(target) = value.text() else {
            return;
        };
        let target = target.trim();
        // A bare name is how it is written by hand: the schema of that name is meant.
        let found = self.schema_reference(target, value.at);
        if let Some(found) = found {
            put(out, "$ref", text(value.at, &found));
        }
    }

    /// A keyword as 2020-12 has it; `None`: it is left out.
    fn keyword(&mut self, name: &str, value: &Node, all: &Entries) -> Option<Node> {
        let at = value.at;
        match name {
            _ if NAMES.contains(&name) => None,
            "type" => self.types(value),
            "items" if matches!(value.kind, NodeKind::List(_)) => None,
            "additionalItems" => None,
            _ if ONE.contains(&name) => Some(self.schema(value)),
            _ if LIST.contains(&name) => self.schemas(name, value),
            _ if NAMED.contains(&name) => self.named(name, value),
            _ if COUNTS.contains(&name) => self.count(name, value),
            // Draft 4 has truth values here; see `as_2020`.
            "exclusiveMinimum" | "exclusiveMaximum"
                if matches!(value.kind, NodeKind::Scalar(Value::Bool(_))) =>
            {
                None
            }
            _ if NUMBERS.contains(&name) => self.number(name, value),
            _ if TEXTS.contains(&name) => self.text(name, value),
            _ if FLAGS.contains(&name) => self.flag(name, value),
            "pattern" => self.pattern(value),
            "enum" => self.enumeration(value, all),
            "required" => self.required(value),
            "discriminator" => self.discriminator(value),
            "xml" => self.object(&XML, value),
            "externalDocs" => self.object(&DOCS, value),
            "dependentRequired" | "nullable" | "x-nullable" | "dependencies" => None,
            "examples" if !matches!(value.kind, NodeKind::List(_)) => {
                // As media types have them: by name.
                let values = value.entries().iter().map(|(_, _, v)| v);
                let values = values.map(|v| v.get("value").unwrap_or(v).clone());
                Some(list(at, values.collect()))
            }
            "default" | "example" | "examples" | "const" => self.example(value),
            _ => self.room(size_of(value), at).then(|| value.clone()),
        }
    }

    fn types(&mut self, value: &Node) -> Option<Node> {
        let given = match &value.kind {
            NodeKind::List(items) => items.as_slice(),
            _ => std::slice::from_ref(value),
        };
        let mut known: Vec<&str> = Vec::new();
        for item in given {
            let name = item.text().unwrap_or_default();
            let lower = name.to_ascii_lowercase();
            let meant = match lower.as_str() {
                "" if is_null(item) => "null",
                "int" | "long" | "int32" | "int64" => "integer",
                "float" | "double" | "decimal" => "number",
                "bool" => "boolean",
                "list" => "array",
                "file" | "date" | "datetime" | "date-time" | "uuid" | "text" | "str" => "string",
                "any" => return None,
                other => TYPES.iter().copied().find(|t| *t == other).unwrap_or(""),
            };
            if meant.is_empty() {
                let told = format!("“{name}” is no type of JSON Schema");
                let help = "any value is taken where it stands";
                self.warn(item.at, "unknown type", told, help);
                return None;
            }
            if meant != name && lower != "file" && !is_null(item) {
                let told = format!("“{name}” is no type of JSON Schema");
                self.warn(
                    item.at,
                    "unknown type",
                    told,
                    &format!("it is read as “{meant}”"),
                );
            }
            if !known.contains(&meant) {
                known.push(meant);
            }
        }
        match (known.as_slice(), &value.kind) {
            ([], _) => None,
            ([one], NodeKind::Scalar(_)) => Some(text(value.at, one)),
            (all, _) => Some(list(
                value.at,
                all.iter().map(|t| text(value.at, t)).collect(),
            )),
        }
    }

    fn schemas(&mut self, name: &str, value: &Node) -> Option<Node> {
        let NodeKind::List(items) = &value.kind else {
            let told = format!("“{name}” is a list of schemas");
            self.warn(value.at, "not a list", told, "it is left out");
            return None;
        };
        let items: Vec<Node> = items.iter().map(|item| self.schema(item)).collect();
        // 2020-12 core §10.2.1: not empty.
        (!items.is_empty()).then(|| list(value.at, items))
    }

    fn named(&mut self, name: &str, value: &Node) -> Option<Node> {
        let NodeKind::Map(entries) = &value.kind else {
            if !is_null(value) {
                let told = format!("“{name}” has a schema for each name");
                self.warn(value.at, "not an object", told, "it is left out");
            }
            return None;
        };
        let made = entries
            .iter()
            .filter(|(key, ..)| name != "patternProperties" || pattern::is_sound(key))
            .map(|(key, at, schema)| (key.clone(), *at, self.schema(schema)));
        Some(map(value.at, made.collect()))
    }

    fn count(&mut self, name: &str, value: &Node) -> Option<Node> {
        let number = number_of(value).filter(|n| n.as_f64().is_some_and(|f| f >= 0.0));
        let whole = number.and_then(|n| match n.as_u64() {
            Some(whole) => Some(whole),
            None => n
                .as_f64()
                .filter(|f| f.fract() == 0.0 && *f < 1e18)
                .map(|f| f as u64),
        });
        if whole.is_none() && !is_null(value) {
            let told = format!("“{name}” is a whole number, 0 or more");
            self.warn(value.at, "not a number", told, "it is left out");
        }
        whole.map(|n| scalar(value.at, n.into()))
    }

    fn number(&mut self, name: &str, value: &Node) -> Option<Node> {
        let number = number_of(value);
        let fits =
            |n: &serde_json::Number| name != "multipleOf" || n.as_f64().is_some_and(|f| f > 0.0);
        match number.filter(fits) {
            Some(number) => Some(scalar(value.at, Value::Number(number))),
            None => {
                if !is_null(value) {
                    let told = format!("“{name}” is a number");
                    self.warn(value.at, "not a number", told, "it is left out");
                }
                None
            }
        }
    }

    fn pattern(&mut self, value: &Node) -> Option<Node> {
        let given = self.text("pattern", value)?;
        if pattern::is_sound(given.text().unwrap_or_default()) {
            return Some(given);
        }
        let told = format!(
            "“{}” is no regular expression",
            given.text().unwrap_or_default()
        );
        self.warn(value.at, "not a pattern", told, "it is left out");
        None
    }

    fn enumeration(&mut self, value: &Node, all: &Entries) -> Option<Node> {
        let NodeKind::List(items) = &value.kind else {
            let told = "“enum” is a list of values".to_owned();
            self.warn(value.at, "not a list", told, "it is left out");
            return None;
        };
        if items.is_empty() || !self.room(size_of(value), value.at) {
            return None;
        }
        // YAML reads `on`, `404` and `1.10` as something else than the text that the type says they are.
        let as_text = all
            .iter()
            .any(|(name, _, v)| name == "type" && v.text() == Some("string"));
        let mut known = std::collections::HashSet::new();
        let items = items.iter().filter_map(|item| {
            let item = match &item.kind {
                NodeKind::Scalar(v @ (Value::Number(_) | Value::Bool(_))) if as_text => {
                    text(item.at, &v.to_string())
                }
                _ => item.clone(),
            };
            known.insert(item.to_value().to_string()).then_some(item)
        });
        Some(list(value.at, items.collect()))
    }

    fn required(&mut self, value: &Node) -> Option<Node> {
        match &value.kind {
            NodeKind::List(_) => Some(self.texts("required", value)),
            NodeKind::Scalar(Value::Bool(_) | Value::String(_)) => {
                let told =
                    "“required” is a list of the names of members that must be there".to_owned();
                let help = "it stands beside “properties”, not in one of them; it is left out";
                self.warn(value.at, "not a list", told, help);
                None
            }
            _ => None,
        }
    }

    /// OpenAPI 2.0 has the member's name alone; mappings lead to the schemas of the contract.
    fn discriminator(&mut self, value: &Node) -> Option<Node> {
        if let Some(name) = value.text() {
            let name = text(value.at, name);
            let entries = vec![("propertyName".to_owned(), value.at, name)];
            return Some(map(value.at, entries));
        }
        let mut made = self.object(&DISCRIMINATOR, value)?;
        let Some(mapping) = take(&mut made, "mapping") else {
            return Some(made);
        };
        let mut kept = Vec::new();
        for (key, at, target) in mapping.entries() {
            let Some(name) = target.text() else { continue };
            let target = match name.contains(['/', '#']) {
                true => name.to_owned(),
                false => format!("#/components/schemas/{name}"),
            };
            if let Some(found) = self.schema_reference(&target, *at) {
                kept.push((key.clone(), *at, text(*at, &found)));
            }
        }
        put(&mut made, "mapping", map(value.at, kept));
        Some(made)
    }

    /// What several keywords together mean in 2020-12.
    fn as_2020(&mut self, given: &Node, out: &mut Node) {
        for (bound, exclusive) in [
            ("minimum", "exclusiveMinimum"),
            ("maximum", "exclusiveMaximum"),
        ] {
            if is_true(given.get(exclusive))
                && let Some(value) = take(out, bound)
            {
                put(out, exclusive, value);
            }
        }
        if let Some(NodeKind::List(items)) = given.get("items").map(|n| &n.kind) {
            // A list of schemas is what `prefixItems` is now, and `additionalItems` what `items` is.
            let items: Vec<Node> = items.iter().map(|item| self.schema(item)).collect();
            if !items.is_empty() {
                put(out, "prefixItems", list(given.at, items));
            }
            if let Some(others) = given.get("additionalItems") {
                let others = self.schema(others);
                put(out, "items", others);
            }
        }
        self.dependencies(given, out);
        self.default(out);
        if given
            .get("type")
            .and_then(Node::text)
            .is_some_and(|t| t.eq_ignore_ascii_case("file"))
        {
            put(
                out,
                "contentMediaType",
                text(given.at, "application/octet-stream"),
            );
        }
        let nullable = is_true(given.get("nullable")) || is_true(given.get("x-nullable"));
        if nullable && self.version != Version::New || is_true(given.get("nullable")) {
            or_null(out);
        }
    }

    /// A default that is certainly none of the schema's own values: a text that reads as one of them becomes it.
    fn default(&mut self, out: &mut Node) {
        let Some(at) = out.get("default").map(|d| d.at) else {
            return;
        };
        let mut schema = out.to_value();
        let value = schema
            .as_object_mut()
            .and_then(|s| s.shift_remove("default"));
        let value = value.unwrap_or_default();
        let view = SchemaView::new(&Value::Null, &schema);
        if !view.misfits(&value) {
            return;
        }
        let other = match &value {
            Value::String(text) => serde_json::from_str(text.trim()).unwrap_or_default(),
            other => Value::String(other.to_string()),
        };
        if view.fits(&other) {
            put(out, "default", scalar(at, other));
            return;
        }
        let told = "the default is none of the values that the schema takes".to_owned();
        self.warn(at, "default that does not fit", told, "it is left out");
        take(out, "default");
    }

    /// Draft 4 has names and schemas in one keyword.
    fn dependencies(&mut self, given: &Node, out: &mut Node) {
        let (mut names, mut schemas) = (Vec::new(), Vec::new());
        let both = ["dependencies", "dependentRequired"]
            .iter()
            .filter_map(|k| given.get(k));
        for (key, at, value) in both.flat_map(Node::entries) {
            match &value.kind {
                NodeKind::List(_) => names.push((key.clone(), *at, self.texts(key, value))),
                NodeKind::Map(_) => schemas.push((key.clone(), *at, self.schema(value))),
                NodeKind::Scalar(_) => {}
            }
        }
        if !names.is_empty() {
            put(out, "dependentRequired", map(given.at, names));
        }
        if !schemas.is_empty() {
            put(out, "dependentSchemas", map(given.at, schemas));
        }
    }
}

/// Lets null be one of a schema's values (OpenAPI 3.0 §4.7.24.1, `nullable`).
fn or_null(out: &mut Node) {
    let at = out.at;
    let null = || text(at, "null");
    if let Some(types) = take(out, "type") {
        let mut all = match types.kind {
            NodeKind::List(items) => items,
            kind => vec![Node { at: types.at, kind }],
        };
        if !all.iter().any(|t| t.text() == Some("null")) {
            all.push(null());
        }
        put(out, "type", list(at, all));
        if let Some(NodeKind::List(values)) = out.get("enum").map(|e| e.kind.clone())
            && !values.iter().any(is_null)
        {
            let values = values.into_iter().chain([scalar(at, Value::Null)]);
            put(out, "enum", list(at, values.collect()));
        }
        return;
    }
    let entries = out.entries();
    if !entries
        .iter()
        .any(|(name, ..)| ["$ref", "allOf", "oneOf", "anyOf", "enum"].contains(&name.as_str()))
    {
        return;
    }
    let whole = std::mem::replace(out, map(at, Vec::new()));
    let null = map(at, vec![("type".into(), at, null())]);
    put(out, "anyOf", list(at, vec![whole, null]));
}

fn number_of(value: &Node) -> Option<serde_json::Number> {
    match &value.kind {
        NodeKind::Scalar(Value::Number(number)) => Some(number.clone()),
        NodeKind::Scalar(Value::String(text)) => text.trim().parse().ok(),
        _ => None,
    }
}

fn put_at(out: &mut Node, name: &str, at: Position, value: Node) {
    if let NodeKind::Map(entries) = &mut out.kind {
        entries.push((name.to_owned(), at, value));
    }
}
