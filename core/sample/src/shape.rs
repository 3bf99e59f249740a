//! Types that follow from values: what all of them have in common, and nothing that only one of them says.

use indexmap::IndexMap;
use serde_json::{Map, Value, json};

use crate::secrets::is_secret;
use crate::segments::is_value;

/// Deeper than this, nothing is said.
const MAX_DEPTH: usize = 60;
/// So many values of all samples together are looked at.
pub(crate) const MAX_PARTS: usize = 200_000;
/// So many different values are kept as examples.
const KEPT: usize = 5;
/// An example is a text of at most so many characters.
const MAX_EXAMPLE: usize = 100;
/// An object with so many members whose names are values is a table by these values.
const TABLE: usize = 8;

/// Where there are more spellings of secrets than this to look for, nothing is kept as an example.
pub(crate) const MAX_SECRETS: usize = 100;

/// Formats that values are known by (2020-12 validation §7.3), in the order in which they are asked.
const FORMATS: [&str; 7] = ["date", "date-time", "time", "uuid", "email", "ipv4", "uri"];

/// What of a sample may be kept as an example.
pub(crate) struct Keeping<'k> {
    /// Texts that must not be seen.
    pub(crate) secrets: &'k [String],
    /// What may still be looked at.
    pub(crate) parts: &'k mut usize,
}

impl Keeping<'_> {
    /// Whether a text may be shown.
    pub(crate) fn may_show(&self, text: &str) -> bool {
        self.secrets.len() <= MAX_SECRETS && !self.secrets.iter().any(|s| text.contains(s.as_str()))
    }
}

/// What is known of the values at one place.
#[derive(Clone, Debug, Default)]
pub(crate) struct Shape {
    null: bool,
    boolean: bool,
    integer: bool,
    number: bool,
    string: bool,
    /// Formats that all texts so far have.
    formats: Vec<&'static str>,
    items: Option<Box<Shape>>,
    /// How often there was an object, and its members with how often each was there.
    objects: usize,
    members: IndexMap<String, (usize, Shape)>,
    examples: Vec<Value>,
}

impl Shape {
    /// Takes in one more value.
    pub(crate) fn add(&mut self, value: &Value, keeping: &mut Keeping<'_>) {
        self.take(value, 0, true, keeping);
    }

    fn take(&mut self, value: &Value, depth: usize, show: bool, keeping: &mut Keeping<'_>) {
        let Some(left) = keeping.parts.checked_sub(1) else {
            return;
        };
        *keeping.parts = left;
        if depth > MAX_DEPTH {
            return;
        }
        match value {
            Value::Null => self.null = true,
            Value::Bool(_) => self.boolean = true,
            Value::Number(n) => {
                let text = n.to_string();
                let whole = !text.contains(['.', 'e', 'E']);
                self.integer |= whole;
                self.number |= !whole;
            }
            Value::String(text) => self.text(text),
            Value::Array(items) => {
                let shape = self.items.get_or_insert_default();
                for item in items {
                    shape.take(item, depth + 1, show, keeping);
                }
            }
            Value::Object(members) => {
                self.objects += 1;
                for (name, value) in members {
                    if *keeping.parts == 0 {
                        break;
                    }
                    let show = show && !is_secret(name);
                    let (times, shape) = self.members.entry(name.clone()).or_default();
                    *times += 1;
                    shape.take(value, depth + 1, show, keeping);
                }
            }
        }
        self.example(value, show, keeping);
    }

    fn text(&mut self, text: &str) {
        let is =
            |f: &&str| porch_valid::is_of_format(f, text) && (*f != "uri" || text.contains("://"));
        if self.string {
            self.formats.retain(|f| is(f));
        } else {
            self.formats = FORMATS.into_iter().filter(|f| is(f)).collect();
        }
        self.string = true;
    }

    fn example(&mut self, value: &Value, show: bool, keeping: &Keeping<'_>) {
        let may = match value {
            Value::String(text) => {
                text.chars().nth(MAX_EXAMPLE).is_none() && keeping.may_show(text)
            }
            Value::Number(_) => keeping.may_show(&value.to_string()),
            _ => false,
        };
        if show && may && self.examples.len() < KEPT && !self.examples.contains(value) {
            self.examples.push(value.clone());
        }
    }

    /// The same with what another knows.
    fn join(&mut self, other: Shape) {
        self.null |= other.null;
        self.boolean |= other.boolean;
        self.integer |= other.integer;
        self.number |= other.number;
        match (self.string, other.string) {
            (true, true) => self.formats.retain(|f| other.formats.contains(f)),
            (false, true) => self.formats = other.formats,
            _ => {}
        }
        self.string |= other.string;
        match (&mut self.items, other.items) {
            (Some(own), Some(items)) => own.join(*items),
            (own @ None, items) => *own = items,
            _ => {}
        }
        self.objects += other.objects;
        for (name, (times, shape)) in other.members {
            let (own, known) = self.members.entry(name).or_default();
            *own += times;
            known.join(shape);
        }
        for example in other.examples {
            if self.examples.len() < KEPT && !self.examples.contains(&example) {
                self.examples.push(example);
            }
        }
    }

    /// Whether an object has values for names.
    fn is_table(&self) -> bool {
        self.members.len() >= TABLE && self.members.keys().all(|name| is_value(name))
    }

    /// The names that objects here have.
    pub(crate) fn names(&self) -> Vec<&str> {
        match &self.items {
            Some(items) if self.members.is_empty() => items.names(),
            _ => self.members.keys().map(String::as_str).collect(),
        }
    }

    /// The schema of all values so far (JSON Schema 2020-12).
    pub(crate) fn schema(self) -> Value {
        let mut types: Vec<&str> = Vec::new();
        for (is, name) in [
            (self.objects > 0, "object"),
            (self.items.is_some(), "array"),
            (self.string, "string"),
            (self.number, "number"),
            (self.integer && !self.number, "integer"),
            (self.boolean, "boolean"),
            (self.null, "null"),
        ] {
            types.extend(is.then_some(name));
        }
        let mut schema = Map::new();
        match types.as_slice() {
            // A value that was never anything but null may be anything.
            [] | ["null"] => return json!({}),
            [one] => schema.insert("type".into(), json!(one)),
            several => schema.insert("type".into(), json!(several)),
        };
        if let (true, Some(format)) = (self.string, self.formats.first()) {
            schema.insert("format".into(), json!(format));
        }
        if self.objects > 0 && self.is_table() {
            let mut all = Shape::default();
            for (_, (_, shape)) in self.members {
                all.join(shape);
            }
            schema.insert("additionalProperties".into(), all.schema());
        } else if self.objects > 0 {
            // One object alone does not say what another may lack.
            let always = |times: usize| self.objects > 1 && times == self.objects;
            let required: Vec<&String> = self
                .members
                .iter()
                .filter(|(_, (times, _))| always(*times))
                .map(|(name, _)| name)
                .collect();
            if !required.is_empty() {
                schema.insert("required".into(), json!(required));
            }
            let members = self.members.into_iter();
            let properties: Map<String, Value> = members
                .map(|(name, (_, shape))| (name, shape.schema()))
                .collect();
            schema.insert("properties".into(), Value::Object(properties));
        }
        if let Some(items) = self.items {
            schema.insert("items".into(), items.schema());
        }
        if !self.examples.is_empty() {
            schema.insert("examples".into(), Value::Array(self.examples));
        }
        Value::Object(schema)
    }
}

/// What a text of an address or field is: a number, a truth value, or a text. What begins with a zero that means nothing is no
/// number.
pub(crate) fn typed(text: &str) -> Value {
    match text {
        "true" => return Value::Bool(true),
        "false" => return Value::Bool(false),
        _ => {}
    }
    let number = text.strip_prefix('-').unwrap_or(text);
    let plain = number.bytes().all(|b| b.is_ascii_digit() || b == b'.');
    match serde_json::from_str::<serde_json::Number>(text) {
        Ok(number) if plain && text.len() <= 15 => Value::Number(number),
        _ => Value::String(text.to_owned()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn schema(values: &[Value]) -> Value {
        let (mut shape, mut parts) = (Shape::default(), MAX_PARTS);
        let secrets = ["s3cr3t".to_owned()];
        for value in values {
            let mut keeping = Keeping {
                secrets: &secrets,
                parts: &mut parts,
            };
            shape.add(value, &mut keeping);
        }
        shape.schema()
    }

    #[test]
    fn what_all_values_have_in_common_is_their_type() {
        let seen = schema(&[
            json!({ "day": "2027-05-14", "seats": 4, "fare": 12.5, "note": null, "tags": [] }),
            json!({ "day": "2027-05-15", "seats": 4.5, "fare": 3, "tags": ["a"], "note": "x" }),
            json!({ "day": "2027-05-16", "seats": 1, "tags": [7], "note": null }),
        ]);
        let expected = json!({ "type": "object", "required": ["day", "seats", "note", "tags"], "properties": {
            "day": { "type": "string", "format": "date", "examples": ["2027-05-14", "2027-05-15", "2027-05-16"] },
            "seats": { "type": "number", "examples": [4, 4.5, 1] },
            "fare": { "type": "number", "examples": [12.5, 3] },
            "note": { "type": ["string", "null"], "examples": ["x"] },
            "tags": { "type": "array", "items": { "type": ["string", "integer"], "examples": ["a", 7] } },
        } });
        assert_eq!(seen, expected);
        // One alone demands nothing.
        assert_eq!(
            schema(&[json!({ "a": true })]),
            json!({ "type": "object", "properties": { "a": { "type": "boolean" } } })
        );
        assert_eq!(schema(&[json!(null)]), json!({}));
        let mixed = schema(&[json!("2027-05-14"), json!("soon")]);
        assert_eq!(mixed["format"], json!(null));
    }

    #[test]
    fn secrets_are_never_examples() {
        let seen = schema(&[
            json!({ "token": "abc", "deep": { "password": ["x"] }, "echo": "Bearer s3cr3t", "name": "Ina" }),
        ]);
        let text = seen.to_string();
        assert!(
            text.contains("Ina")
                && !text.contains("abc")
                && !text.contains("s3cr3t")
                && !text.contains("\"x\""),
            "{text}"
        );
    }

    #[test]
    fn tables_and_bounds() {
        let table: Map<String, Value> = (0..9)
            .map(|n| (format!("2027-05-{:02}", n + 1), json!({ "level": n })))
            .collect();
        let seen = schema(&[Value::Object(table)]);
        assert_eq!(
            seen["additionalProperties"]["properties"]["level"]["type"], "integer",
            "{seen}"
        );
        assert_eq!(seen["additionalProperties"]["required"], json!(["level"]));
        let mut deep = json!(1);
        for _ in 0..500 {
            deep = json!([deep]);
        }
        assert!(schema(&[deep]).to_string().len() < 4000);
        let wide: Vec<Value> = (0..300_000).map(|n| json!(n)).collect();
        assert_eq!(schema(&[Value::Array(wide)])["items"]["type"], "integer");
    }

    #[test]
    fn texts_that_are_numbers_are_numbers_and_others_are_not() {
        assert_eq!(typed("4"), json!(4));
        assert_eq!(typed("-4.50").to_string(), "-4.50");
        assert_eq!(typed("007"), json!("007"));
        assert_eq!(typed("1e5"), json!("1e5"));
        assert_eq!(typed("true"), json!(true));
        assert_eq!(typed("12345678901234567890"), json!("12345678901234567890"));
    }
}
