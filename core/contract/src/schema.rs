//! Walking JSON Schemas (draft 2020-12, as OpenAPI 3.1 §4.8.24 uses them).

use serde_json::{Map, Value};

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

impl<'a> SchemaView<'a> {
    /// A schema of a document.
    pub fn new(root: &'a Value, schema: &'a Value) -> Self {
        Self { root, schema }.resolved()
    }

    fn resolved(mut self) -> Self {
        // A chain of references longer than this is a circle.
        for _ in 0..32 {
            let Some(pointer) = self.schema.get("$ref").and_then(Value::as_str) else {
                break;
            };
            match pointer.strip_prefix('#').and_then(|p| self.root.pointer(p)) {
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
                    && self.alternatives().next().is_none()
            }
            _ => true,
        }
    }

    /// The types named, without `null`.
    pub fn types(&self) -> Vec<&'a str> {
        match self.schema.get("type") {
            Some(Value::String(one)) => vec![one],
            Some(Value::Array(many)) => many
                .iter()
                .filter_map(Value::as_str)
                .filter(|t| *t != "null")
                .collect(),
            _ => {
                let mut all: Vec<&str> = Vec::new();
                for kind in self.alternatives().flat_map(|a| a.types()) {
                    if !all.contains(&kind) {
                        all.push(kind);
                    }
                }
                all
            }
        }
    }

    /// The schema of a member; `None` if there is no such member.
    pub fn property(&self, name: &str) -> Option<SchemaView<'a>> {
        if let Some(found) = self.schema.get("properties").and_then(|p| p.get(name)) {
            return Some(Self::new(self.root, found));
        }
        self.all_of()
            .find_map(|part| part.property(name))
            .or_else(|| self.alternatives().find_map(|part| part.property(name)))
    }

    /// The names of the members, in the order written.
    pub fn property_names(&self) -> Vec<&'a str> {
        let mut names: Vec<&str> = self
            .own_properties()
            .into_iter()
            .flat_map(|p| p.keys().map(String::as_str))
            .collect();
        for name in self
            .all_of()
            .chain(self.alternatives())
            .flat_map(|part| part.property_names())
        {
            if !names.contains(&name) {
                names.push(name);
            }
        }
        names
    }

    /// Whether members that are not named may stand in the object.
    pub fn allows_other_members(&self) -> bool {
        self.own_properties().is_none()
            && self.all_of().next().is_none()
            && self.alternatives().all(|a| a.allows_other_members())
            || self
                .schema
                .get("additionalProperties")
                .is_some_and(|v| *v != Value::Bool(false))
    }

    /// The schema of an array's items.
    pub fn items(&self) -> Option<SchemaView<'a>> {
        self.schema
            .get("items")
            .map(|items| Self::new(self.root, items))
            .or_else(|| self.alternatives().find_map(|a| a.items()))
    }

    /// Whether a member must be there.
    pub fn requires(&self, name: &str) -> bool {
        let here = self.schema.get("required").and_then(Value::as_array);
        let mut others = self.alternatives().peekable();
        here.is_some_and(|list| list.iter().any(|v| v == name))
            || self.all_of().any(|part| part.requires(name))
            || (others.peek().is_some() && others.all(|part| part.requires(name)))
    }

    /// The members as a list for people.
    pub fn fields(&self) -> Vec<Field> {
        self.property_names()
            .into_iter()
            .map(|name| Field {
                name: name.to_owned(),
                kind: self.property(name).map_or_else(String::new, |s| s.kind()),
                required: self.requires(name),
            })
            .collect()
    }

    /// The type in words.
    pub fn kind(&self) -> String {
        let types = self.types();
        let mut kind = match types.as_slice() {
            [] => "any".to_owned(),
            ["array"] => format!(
                "array of {}",
                self.items().map_or_else(|| "any".into(), |i| i.kind())
            ),
            many => many.join(" or "),
        };
        if let Some(format) = self.schema.get("format").and_then(Value::as_str) {
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

    /// A value that fits, made from examples, defaults, enumerations and types.
    pub fn sample(&self) -> Value {
        self.sample_to(8, &mut 400)
    }

    fn sample_to(&self, depth: usize, budget: &mut usize) -> Value {
        // Schemas that refer to one another could otherwise grow beyond all bounds.
        *budget = budget.saturating_sub(1);
        let depth = if *budget == 0 { 0 } else { depth };
        let Value::Object(map) = self.schema else {
            return Value::Null;
        };
        let given = map
            .get("example")
            .or_else(|| map.get("examples").and_then(|e| e.get(0)));
        if let Some(value) = given
            .or_else(|| map.get("default"))
            .or_else(|| map.get("const"))
            .or_else(|| map.get("enum").and_then(|e| e.get(0)))
        {
            return value.clone();
        }
        if self.own_properties().is_none()
            && self.schema.get("type").is_none()
            && let Some(first) = self.alternatives().next()
        {
            return first.sample_to(depth, budget);
        }
        match self.types().first().copied() {
            Some("array") if depth > 0 => Value::Array(
                self.items()
                    .map(|i| i.sample_to(depth - 1, budget))
                    .into_iter()
                    .collect(),
            ),
            Some("array") => Value::Array(Vec::new()),
            // One, where that is allowed; else the least that is.
            Some("integer" | "number") => map
                .get("minimum")
                .filter(|m| m.as_f64().is_some_and(|m| m > 1.0))
                .cloned()
                .unwrap_or_else(|| Value::from(1)),
            Some("boolean") => Value::Bool(true),
            Some("string") => Value::String(sample_text(map)),
            _ if depth > 0 => {
                let others = self.other_branches();
                let names = self
                    .property_names()
                    .into_iter()
                    .filter(|n| !others.contains(n));
                Value::Object(
                    names
                        .filter_map(|n| {
                            Some((n.to_owned(), self.property(n)?.sample_to(depth - 1, budget)))
                        })
                        .collect(),
                )
            }
            _ => Value::Object(Map::new()),
        }
    }

    fn own_properties(&self) -> Option<&'a Map<String, Value>> {
        self.schema.get("properties").and_then(Value::as_object)
    }

    /// The schemas of which one must fit, but for `null` and for those that only say what is required.
    fn alternatives(&self) -> impl Iterator<Item = SchemaView<'a>> + use<'a> {
        let root = self.root;
        let lists = ["oneOf", "anyOf"]
            .into_iter()
            .filter_map(|k| self.schema.get(k).and_then(Value::as_array));
        let all: Vec<_> = lists.flatten().map(move |s| Self::new(root, s)).collect();
        all.into_iter()
            .filter(|s| s.schema.get("type").is_none_or(|t| t != "null") && !s.only_requires())
    }

    fn only_requires(&self) -> bool {
        matches!(self.schema, Value::Object(map) if map.keys().all(|k| k == "required" || k == "not"))
    }

    /// The members that only belong to other branches of a choice than its first one.
    fn other_branches(&self) -> Vec<&'a str> {
        let own = self.schema.get("oneOf").into_iter();
        let lists = own.chain(
            self.schema
                .get("allOf")
                .and_then(Value::as_array)
                .into_iter()
                .flatten()
                .filter_map(|part| part.get("oneOf")),
        );
        let needs = |branch: &'a Value| {
            branch
                .get("required")
                .and_then(Value::as_array)
                .into_iter()
                .flatten()
                .filter_map(Value::as_str)
        };
        lists
            .filter_map(Value::as_array)
            .flat_map(|branches| branches.iter().skip(1).flat_map(needs))
            .collect()
    }

    fn all_of(&self) -> impl Iterator<Item = SchemaView<'a>> + use<'a> {
        let root = self.root;
        self.schema
            .get("allOf")
            .and_then(Value::as_array)
            .into_iter()
            .flatten()
            .map(move |s| Self::new(root, s))
    }
}

fn sample_text(schema: &Map<String, Value>) -> String {
    match schema.get("format").and_then(Value::as_str) {
        Some("date") => "2027-05-14".into(),
        Some("time") => "08:30:00Z".into(),
        Some("date-time") => "2027-05-14T08:30:00Z".into(),
        Some("duration") => "PT45M".into(),
        _ => {
            let fitting = schema
                .get("pattern")
                .and_then(Value::as_str)
                .and_then(from_pattern);
            let text = fitting.unwrap_or_else(|| "text".into());
            let least = schema
                .get("minLength")
                .and_then(Value::as_u64)
                .unwrap_or(0)
                .min(1000) as usize;
            if text.len() < least {
                format!("{text}{}", "x".repeat(least - text.len()))
            } else {
                text
            }
        }
    }
}

/// A text that fits a simple pattern: characters, classes and counts, in groups without alternatives.
fn from_pattern(pattern: &str) -> Option<String> {
    let plain: String = pattern
        .trim_start_matches('^')
        .trim_end_matches('$')
        .replace("(?:", "(")
        .replace(['(', ')'], "");
    let chars: Vec<char> = plain.chars().collect();
    let (mut out, mut i) = (String::new(), 0);
    while i < chars.len() {
        let one = match chars[i] {
            '[' => {
                let end = i + chars[i..].iter().position(|c| *c == ']')?;
                let first = *chars.get(i + 1)?;
                i = end;
                if first == '^' {
                    return None;
                } else if first == '\\' {
                    class(*chars.get(end - 1)?)?
                } else {
                    first
                }
            }
            '\\' => {
                i += 1;
                let c = *chars.get(i)?;
                if c.is_ascii_alphanumeric() {
                    class(c)?
                } else {
                    c
                }
            }
            '.' => 'x',
            '|' | '*' | '?' | '+' | '{' => return None,
            c => c,
        };
        i += 1;
        let (times, used) = match chars.get(i) {
            Some('{') => {
                let end = chars[i..].iter().position(|c| *c == '}')?;
                let least: String = chars[i + 1..i + end]
                    .iter()
                    .take_while(|c| c.is_ascii_digit())
                    .collect();
                (least.parse::<usize>().ok()?.min(200), end + 1)
            }
            Some('?' | '*' | '+') => (1, 1),
            _ => (1, 0),
        };
        i += used;
        out.extend(std::iter::repeat_n(one, times));
    }
    Some(out)
}

fn class(c: char) -> Option<char> {
    match c {
        'd' => Some('0'),
        'w' => Some('a'),
        's' => Some(' '),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn a_sample_of_schemas_that_refer_to_one_another_is_bounded() {
        let many: Map<String, Value> = (0..30)
            .map(|i| (format!("m{i}"), json!({"$ref": "#/s"})))
            .collect();
        let root = json!({"s": {"type": "object", "properties": many}});
        let size = SchemaView::new(&root, &root["s"])
            .sample()
            .to_string()
            .len();
        assert!(size < 40_000, "{size}");
    }

    #[test]
    fn samples_fit_simple_patterns() {
        for (pattern, sample) in [
            ("^([A-Z]{3}-[A-Z]{3})$", "AAA-AAA"),
            (r"\d{2}\.[0-9]+x?", "00.0x"),
            ("a|b", "text"),
            ("[^a]", "text"),
        ] {
            assert_eq!(
                SchemaView::new(&Value::Null, &json!({"type": "string", "pattern": pattern}))
                    .sample(),
                json!(sample),
                "{pattern}"
            );
        }
    }

    #[test]
    fn one_of_several_shapes_has_the_members_of_all() {
        let root = json!({"components": {"schemas": {
            "Crate": {"type": "object", "properties": {"xsi:type": {"type": "string", "enum": ["Crate"]}, "weight": {"type": "number"}}, "required": ["xsi:type", "weight"]},
            "Liquid": {"type": "object", "properties": {"xsi:type": {"type": "string", "enum": ["Liquid"]}, "weight": {"type": "number"}, "litres": {"type": "integer"}}, "required": ["xsi:type", "weight"]},
            "Pay": {"type": "object", "properties": {"card": {"type": "string"}, "bank": {"type": "string"}}, "oneOf": [{"required": ["card"]}, {"required": ["bank"]}]},
        }}});
        let either = json!({"anyOf": [{"oneOf": [{"$ref": "#/components/schemas/Crate"}, {"$ref": "#/components/schemas/Liquid"}]}, {"type": "null"}]});
        let view = SchemaView::new(&root, &either);
        assert_eq!(view.property_names(), ["xsi:type", "weight", "litres"]);
        assert!(
            view.requires("weight")
                && !view.requires("litres")
                && !view.is_open()
                && !view.allows_other_members()
        );
        assert_eq!(view.sample(), json!({"xsi:type": "Crate", "weight": 1}));
        let pay = SchemaView::new(&root, &root["components"]["schemas"]["Pay"]);
        assert_eq!(pay.sample(), json!({"card": "text"}));
        assert!(!pay.allows_other_members() && !pay.requires("card"));
    }

    #[test]
    fn references_and_all_of_are_followed() {
        let root = json!({"components": {"schemas": {
            "Base": {"type": "object", "properties": {"id": {"type": "integer"}}, "required": ["id"]},
            "Fare": {"allOf": [{"$ref": "#/components/schemas/Base"}, {"type": "object", "properties": {"amount": {"type": "number"}}}]},
            "Loop": {"$ref": "#/components/schemas/Loop"},
        }}});
        let fare = SchemaView::new(&root, &root["components"]["schemas"]["Fare"]);
        assert_eq!(fare.property_names(), ["id", "amount"]);
        assert!(fare.requires("id"));
        assert_eq!(fare.sample(), json!({"id": 1, "amount": 1}));
        let circle = SchemaView::new(&root, &root["components"]["schemas"]["Loop"]);
        assert!(circle.is_open());
    }
}
