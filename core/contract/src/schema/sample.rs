//! Samples: values that fit a schema.

use serde_json::{Map, Value};

use super::SchemaView;

/// A sample is nested at most so deep, and made of at most so many parts.
const MAX_DEPTH: usize = 8;
const MAX_PARTS: usize = 400;

impl<'a> SchemaView<'a> {
    /// A value that fits, made from examples, defaults, enumerations and types.
    pub fn sample(&self) -> Value {
        self.sample_to(MAX_DEPTH, &mut { MAX_PARTS })
    }

    fn sample_to(&self, depth: usize, budget: &mut usize) -> Value {
        // Schemas that refer to one another could otherwise grow beyond all bounds.
        let Some(left) = budget.checked_sub(1) else {
            return Value::Null;
        };
        *budget = left;
        let Value::Object(map) = self.schema else {
            return Value::Null;
        };
        if let Some(value) = given(map) {
            return value.clone();
        }
        if self.own_properties().is_none()
            && self.schema.get("type").is_none()
            && let Some(first) = self.alternatives().first()
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
            _ if depth > 0 => self.sample_members(depth, budget),
            _ => Value::Object(Map::new()),
        }
    }

    fn sample_members(&self, depth: usize, budget: &mut usize) -> Value {
        let others = self.other_branches();
        let mut object = Map::new();
        for (name, schema) in self.members() {
            if *budget == 0 {
                break;
            }
            if !others.contains(&name) {
                object.insert(name.to_owned(), schema.sample_to(depth - 1, budget));
            }
        }
        Value::Object(object)
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
}

/// A value that the schema itself gives.
fn given(map: &Map<String, Value>) -> Option<&Value> {
    map.get("example")
        .or_else(|| map.get("examples").and_then(|e| e.get(0)))
        .or_else(|| map.get("default"))
        .or_else(|| map.get("const"))
        .or_else(|| map.get("enum").and_then(|e| e.get(0)))
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
