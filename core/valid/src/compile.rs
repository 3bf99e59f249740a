//! From the schemas of a contract to nodes.

use std::collections::HashMap;
use std::sync::Arc;

use serde_json::{Map, Number, Value};

use crate::node::{Id, Lists, Node, Numbers, Objects, Several, Texts, Values, type_bit};
use crate::number::Decimal;
use crate::{From, Validator, format, pattern};

/// A contract's schemas have at most so many parts.
const MAX_NODES: usize = 2_000_000;

/// So many anchors are looked for.
const MAX_SEARCHES: usize = 200;

/// The schemas of a contract, compiled as they are asked for; each part once.
pub struct Schemas<'d> {
    document: &'d Value,
    from: From,
    nodes: Vec<Node>,
    known: HashMap<*const Value, Id>,
    open: Vec<(Id, &'d Value)>,
    left_out: Vec<String>,
    searches: usize,
}

/// A schema by its number, until all of them are there.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Added(Id);

impl<'d> Schemas<'d> {
    /// Those of a document.
    pub fn of(document: &'d Value, from: From) -> Self {
        Self {
            document,
            from,
            // The first takes everything.
            nodes: vec![Node::default()],
            known: HashMap::new(),
            open: Vec::new(),
            left_out: Vec::new(),
            searches: MAX_SEARCHES,
        }
    }

    /// Compiles a schema of the document, or one that stands alone and refers into it.
    pub fn add(&mut self, schema: &'d Value) -> Added {
        let id = self.id(schema);
        while let Some((id, schema)) = self.open.pop() {
            let made = self.node(schema);
            self.nodes[id as usize] = made;
        }
        Added(id)
    }

    /// What the schemas say and nobody is held to, in words.
    pub fn left_out(&self) -> &[String] {
        &self.left_out
    }

    /// All that was added, ready to be asked.
    pub fn ready(self, added: &[Added]) -> Vec<Validator> {
        let (nodes, from) = (Arc::new(self.nodes), self.from);
        let ready = added.iter().map(|added| Validator {
            nodes: nodes.clone(),
            root: added.0,
            from,
        });
        ready.collect()
    }

    fn id(&mut self, schema: &'d Value) -> Id {
        let key = std::ptr::from_ref(schema);
        if let Some(known) = self.known.get(&key) {
            return *known;
        }
        let id = self.nodes.len() as Id;
        self.nodes.push(Node::default());
        self.known.insert(key, id);
        if self.nodes.len() <= MAX_NODES {
            self.open.push((id, schema));
        }
        id
    }

    fn ids(&mut self, list: Option<&'d Value>) -> Vec<Id> {
        let list = list.and_then(Value::as_array);
        list.into_iter().flatten().map(|s| self.id(s)).collect()
    }

    fn one(&mut self, map: &'d Map<String, Value>, name: &str) -> Option<Id> {
        let schema = map.get(name).filter(|s| s.is_object() || s.is_boolean())?;
        Some(self.id(schema))
    }

    fn node(&mut self, schema: &'d Value) -> Node {
        let Value::Object(map) = schema else {
            let never = *schema == Value::Bool(false);
            return Node {
                never,
                ..Node::default()
            };
        };
        let nullable = map.get("nullable") == Some(&Value::Bool(true));
        Node {
            never: false,
            types: types(map.get("type"), nullable),
            read_only: map.get("readOnly") == Some(&Value::Bool(true)),
            refers: self.refers(map),
            values: values(map, nullable),
            number: numbers(map),
            text: self.texts(map),
            list: self.lists(map),
            object: self.objects(map),
            several: self.several(map),
        }
    }

    /// Core §8.2.3.
    fn refers(&mut self, map: &'d Map<String, Value>) -> Option<Id> {
        let target = map
            .get("$ref")
            .or_else(|| map.get("$dynamicRef"))?
            .as_str()?;
        let found = match target.strip_prefix('#') {
            Some("") => Some(self.document),
            Some(pointer) if pointer.starts_with('/') => pointed(self.document, pointer),
            Some(anchor) => self.anchored(anchor),
            None => None,
        };
        match found {
            Some(schema) => Some(self.id(schema)),
            None => {
                let told = format!("the reference “{target}” leads nowhere in the contract");
                self.leave_out(told);
                None
            }
        }
    }

    /// Each search goes through the document: only so many are made.
    fn anchored(&mut self, anchor: &str) -> Option<&'d Value> {
        self.searches = self.searches.checked_sub(1)?;
        anchored(self.document, anchor)
    }

    fn leave_out(&mut self, told: String) {
        const TOLD: usize = 20;
        if self.left_out.len() < TOLD && !self.left_out.contains(&told) {
            self.left_out.push(told);
        }
    }

    fn pattern(&mut self, text: &str) -> Option<regex::Regex> {
        match pattern::compile(text) {
            Ok(made) => Some(made),
            Err(told) => {
                self.leave_out(format!("the pattern “{text}” {told}"));
                None
            }
        }
    }

    fn texts(&mut self, map: &'d Map<String, Value>) -> Option<Box<Texts>> {
        let texts = Texts {
            least: count(map, "minLength"),
            most: count(map, "maxLength"),
            pattern: map
                .get("pattern")
                .and_then(Value::as_str)
                .and_then(|text| Some((self.pattern(text)?, text.to_owned()))),
            format: map
                .get("format")
                .and_then(Value::as_str)
                .and_then(|name| Some((format::check(name)?, name.to_owned()))),
        };
        let any = texts.least.is_some()
            || texts.most.is_some()
            || texts.pattern.is_some()
            || texts.format.is_some();
        any.then(|| Box::new(texts))
    }

    fn lists(&mut self, map: &'d Map<String, Value>) -> Option<Box<Lists>> {
        let at_least = count(map, "minContains").unwrap_or(1);
        let at_most = count(map, "maxContains");
        let lists = Lists {
            first: self.ids(map.get("prefixItems")),
            items: self.one(map, "items"),
            contains: self.one(map, "contains").map(|id| (id, at_least, at_most)),
            least: count(map, "minItems"),
            most: count(map, "maxItems"),
            unique: map.get("uniqueItems") == Some(&Value::Bool(true)),
            unevaluated: self.one(map, "unevaluatedItems"),
        };
        let any = !lists.first.is_empty()
            || lists.items.is_some()
            || lists.contains.is_some()
            || lists.least.is_some()
            || lists.most.is_some()
            || lists.unique
            || lists.unevaluated.is_some();
        any.then(|| Box::new(lists))
    }

    fn objects(&mut self, map: &'d Map<String, Value>) -> Option<Box<Objects>> {
        let named = |name: &str| {
            map.get(name)
                .and_then(Value::as_object)
                .into_iter()
                .flatten()
        };
        let listed: Vec<(Box<str>, Id)> = named("properties")
            .map(|(n, s)| (n.as_str().into(), self.id(s)))
            .collect();
        let places = listed.iter().enumerate();
        let mut objects = Objects {
            properties: places.map(|(at, (name, _))| (name.clone(), at)).collect(),
            listed,
            ..Objects::default()
        };
        for (text, schema) in named("patternProperties") {
            if let Some(pattern) = self.pattern(text) {
                let id = self.id(schema);
                objects.patterns.push((pattern, id));
            }
        }
        objects.others = self.one(map, "additionalProperties");
        objects.names = self.one(map, "propertyNames");
        objects.unevaluated = self.one(map, "unevaluatedProperties");
        objects.required = names(map.get("required"));
        if self.from == From::Callers {
            // Callers need not send what only the service sets (OpenAPI 3.0 §4.7.24.2).
            let set = |name: &str| {
                let schema = map.get("properties").and_then(|p| p.get(name));
                schema.is_some_and(|s| s.get("readOnly") == Some(&Value::Bool(true)))
            };
            objects.required.retain(|name| !set(name));
        }
        objects.least = count(map, "minProperties");
        objects.most = count(map, "maxProperties");
        objects.with = named("dependentRequired")
            .map(|(name, others)| (name.as_str().into(), names(Some(others))))
            .collect();
        for (name, schema) in named("dependentSchemas") {
            let id = self.id(schema);
            objects.with_schemas.push((name.as_str().into(), id));
        }
        let words = [
            "properties",
            "patternProperties",
            "additionalProperties",
            "propertyNames",
            "unevaluatedProperties",
            "required",
            "minProperties",
            "maxProperties",
            "dependentRequired",
            "dependentSchemas",
        ];
        words
            .iter()
            .any(|w| map.contains_key(*w))
            .then(|| Box::new(objects.known()))
    }

    fn several(&mut self, map: &'d Map<String, Value>) -> Option<Box<Several>> {
        let words = ["allOf", "anyOf", "oneOf", "not", "if"];
        if !words.iter().any(|w| map.contains_key(*w)) {
            return None;
        }
        Some(Box::new(Several {
            all: self.ids(map.get("allOf")),
            any: self.ids(map.get("anyOf")),
            one: self.ids(map.get("oneOf")),
            not: self.one(map, "not"),
            when: self.one(map, "if"),
            then: self.one(map, "then"),
            otherwise: self.one(map, "else"),
        }))
    }
}

fn types(said: Option<&Value>, nullable: bool) -> u8 {
    let bits = match said {
        Some(Value::String(name)) => type_bit(name),
        Some(Value::Array(names)) => {
            let bits = names.iter().filter_map(Value::as_str).map(type_bit);
            bits.fold(0, |all, bit| all | bit)
        }
        _ => 0,
    };
    // OpenAPI 3.0 §4.7.24.1.
    if bits != 0 && nullable {
        bits | type_bit("null")
    } else {
        bits
    }
}

fn values(map: &Map<String, Value>, nullable: bool) -> Option<Box<Values>> {
    if let Some(constant) = map.get("const") {
        return Some(Box::new(Values {
            listed: vec![constant.clone()],
            constant: true,
        }));
    }
    let mut listed = map.get("enum")?.as_array()?.clone();
    if nullable && !listed.contains(&Value::Null) {
        listed.push(Value::Null);
    }
    Some(Box::new(Values {
        listed,
        constant: false,
    }))
}

fn numbers(map: &Map<String, Value>) -> Option<Box<Numbers>> {
    let number = |name: &str| match map.get(name) {
        Some(Value::Number(number)) => Some(number),
        _ => None,
    };
    // Before 3.1 whether a bound is exclusive stands beside it (JSON Schema draft 5).
    let beside = |name: &str| map.get(name) == Some(&Value::Bool(true));
    let (mut least, mut most) = (number("minimum"), number("maximum"));
    let (mut above, mut below) = (number("exclusiveMinimum"), number("exclusiveMaximum"));
    if beside("exclusiveMinimum") {
        above = least.take();
    }
    if beside("exclusiveMaximum") {
        below = most.take();
    }
    let multiple = number("multipleOf");
    let width = map.get("format").and_then(Value::as_str).and_then(width);
    let all = [least, most, above, below, multiple];
    if all.iter().all(Option::is_none) && width.is_none() {
        return None;
    }
    let decimal = |n: Option<&Number>| n.map(Decimal::of);
    let whole = multiple.is_none().then(|| {
        let of = |n: Option<&Number>, none: i64, by: i64| match n {
            Some(n) => n.as_i64()?.checked_add(by),
            None => Some(none),
        };
        let from = of(least, i64::MIN, 0)?.max(of(above, i64::MIN, 1)?);
        let to = of(most, i64::MAX, 0)?.min(of(below, i64::MAX, -1)?);
        Some((from, to))
    });
    Some(Box::new(Numbers {
        whole: whole.flatten().filter(|_| width.is_none()),
        shown: all.map(|n| n.map_or_else(String::new, ToString::to_string)),
        least: decimal(least),
        most: decimal(most),
        above: decimal(above),
        below: decimal(below),
        multiple: decimal(multiple),
        width,
    }))
}

/// The range of a format of numbers (OpenAPI's format registry).
fn width(format: &str) -> Option<(Decimal, Decimal, &'static str)> {
    let range = |least: i64, most: u64, name| {
        let of = (Decimal::of(&least.into()), Decimal::of(&most.into()));
        Some((of.0, of.1, name))
    };
    match format {
        "int8" => range(-128, 127, "int8"),
        "int16" => range(-32_768, 32_767, "int16"),
        "int32" => range(i32::MIN.into(), i32::MAX as u64, "int32"),
        "int64" => range(i64::MIN, i64::MAX as u64, "int64"),
        "uint8" => range(0, u8::MAX.into(), "uint8"),
        "uint16" => range(0, u16::MAX.into(), "uint16"),
        "uint32" => range(0, u32::MAX.into(), "uint32"),
        "uint64" => range(0, u64::MAX, "uint64"),
        _ => None,
    }
}

fn count(map: &Map<String, Value>, name: &str) -> Option<u64> {
    let number = map.get(name)?;
    let float = || {
        number
            .as_f64()
            .filter(|f| f.fract() == 0.0 && (0.0..1e18).contains(f))
    };
    number.as_u64().or_else(|| float().map(|f| f as u64))
}

fn names(list: Option<&Value>) -> Vec<Box<str>> {
    let list = list.and_then(Value::as_array);
    let names = list.into_iter().flatten().filter_map(Value::as_str);
    names.map(Into::into).collect()
}

/// RFC 6901, percent-encoded as a fragment (section 6).
fn pointed<'d>(document: &'d Value, pointer: &str) -> Option<&'d Value> {
    let plain = document.pointer(pointer);
    plain.or_else(|| document.pointer(&porch_contract::from_fragment(pointer)))
}

/// Core §8.2.2.
fn anchored<'d>(document: &'d Value, anchor: &str) -> Option<&'d Value> {
    let mut open = vec![document];
    while let Some(value) = open.pop() {
        match value {
            Value::Object(map) => {
                let here = ["$anchor", "$dynamicAnchor"].iter();
                if here.filter_map(|k| map.get(*k)).any(|a| a == anchor) {
                    return Some(value);
                }
                open.extend(map.values());
            }
            Value::Array(items) => open.extend(items),
            _ => {}
        }
    }
    None
}
