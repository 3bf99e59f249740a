//! Samples: values that fit a schema.

use regex_syntax::hir::{Class, Hir, HirKind};
use serde_json::{Map, Value};

use super::SchemaView;

/// A sample is nested at most so deep, and made of at most so many parts.
const MAX_DEPTH: usize = 8;
const MAX_PARTS: usize = 400;
/// Deeper than this there is only what must be there.
const OPTIONAL_DEPTH: usize = 4;
/// So many branches of a choice are tried.
const MAX_BRANCHES: usize = 6;
/// A text of a sample is at most so long.
const MAX_TEXT: usize = 1000;

impl<'a> SchemaView<'a> {
    /// A value to begin with, made from examples, defaults, enumerations and types. It fits wherever that can be found out.
    pub fn sample(&self) -> Value {
        let made = self.make(0, &mut { MAX_PARTS });
        made.unwrap_or_else(|| match self.types().first() {
            Some(&"array") => Value::Array(Vec::new()),
            Some(&"string") => Value::String("text".into()),
            Some(&"integer" | &"number") => Value::from(1),
            Some(&"boolean") => Value::Bool(true),
            _ => Value::Object(Map::new()),
        })
    }

    /// A value that fits for certain; nothing when none was found.
    pub fn example(&self) -> Option<Value> {
        let made = self.make(0, &mut { MAX_PARTS })?;
        self.fits(&made).then_some(made)
    }

    fn make(&self, depth: usize, budget: &mut usize) -> Option<Value> {
        // Schemas that refer to one another could otherwise grow beyond all bounds.
        *budget = budget.checked_sub(1)?;
        if depth > MAX_DEPTH {
            return None;
        }
        let Value::Object(map) = self.schema else {
            return (*self.schema != Value::Bool(false)).then(|| Value::Object(Map::new()));
        };
        if let Some(value) = given(map) {
            // What is given at the top is there once; deeper it may stand in many places.
            let room = depth == 0 || charged(value, budget);
            return room.then(|| value.clone());
        }
        let plain = self.own_properties().is_some() || self.schema.get("type").is_some();
        // Only so many branches are looked at, however wide a family is.
        let branches = self.first_alternatives(if plain { 0 } else { MAX_BRANCHES });
        if !branches.is_empty() {
            let mut branches = branches.into_iter();
            return branches.find_map(|branch| branch.make(depth, budget));
        }
        match self.types().first().copied() {
            Some("array") => self.make_list(map, depth, budget),
            Some("integer") => number(map, true),
            Some("number") => number(map, false),
            Some("boolean") => Some(Value::Bool(true)),
            Some("string") => text(map).map(Value::String),
            _ if map.get("type").is_some_and(|t| t == "null") => Some(Value::Null),
            _ => self.make_members(depth, budget),
        }
    }

    fn make_list(
        &self,
        map: &Map<String, Value>,
        depth: usize,
        budget: &mut usize,
    ) -> Option<Value> {
        let bound = |name: &str| map.get(name).and_then(Value::as_u64);
        let least = usize::try_from(bound("minItems").unwrap_or(0)).ok()?;
        if least > MAX_PARTS {
            return None;
        }
        let wanted = if depth >= OPTIONAL_DEPTH || bound("maxItems") == Some(0) {
            least
        } else {
            least.max(1)
        };
        let mut items = Vec::new();
        while items.len() < wanted {
            match self.items().and_then(|i| i.make(depth + 1, budget)) {
                Some(item) => items.push(item),
                None if items.len() >= least => break,
                None => return None,
            }
        }
        Some(Value::Array(items))
    }

    fn make_members(&self, depth: usize, budget: &mut usize) -> Option<Value> {
        let others = self.other_branches();
        let mut object = Map::new();
        for (name, schema) in self.members() {
            let required = self.requires(name);
            let wanted =
                required || (depth < OPTIONAL_DEPTH && *budget > 0 && !others.contains(&name));
            if !wanted {
                continue;
            }
            match schema.make(depth + 1, budget) {
                Some(value) => drop(object.insert(name.to_owned(), value)),
                None if required => return None,
                None => {}
            }
        }
        Some(Value::Object(object))
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

/// Takes the parts of a value, and the length of its texts, from what may still be made.
fn charged(value: &Value, budget: &mut usize) -> bool {
    let mut open = vec![value];
    while let Some(value) = open.pop() {
        let parts = match value {
            Value::String(text) => text.len() / MAX_TEXT,
            Value::Array(items) => items.len(),
            Value::Object(members) => members.len(),
            _ => 0,
        };
        match budget.checked_sub(parts) {
            Some(left) => *budget = left,
            None => return false,
        }
        match value {
            Value::Array(items) => open.extend(items),
            Value::Object(members) => open.extend(members.values()),
            _ => {}
        }
    }
    true
}

/// A value that the schema itself gives.
fn given(map: &Map<String, Value>) -> Option<&Value> {
    map.get("example")
        .or_else(|| map.get("examples").and_then(|e| e.get(0)))
        .or_else(|| map.get("default"))
        .or_else(|| map.get("const"))
        .or_else(|| map.get("enum").and_then(|e| e.get(0)))
}

/// One, where that is allowed; else the least that is, else the greatest.
fn number(map: &Map<String, Value>, whole: bool) -> Option<Value> {
    let bound = |name: &str| map.get(name).and_then(Value::as_f64);
    let beside = |name: &str| map.get(name) == Some(&Value::Bool(true));
    let step = bound("multipleOf").filter(|s| *s > 0.0);
    let (mut low, mut high) = (f64::NEG_INFINITY, f64::INFINITY);
    let small = step.unwrap_or(if whole { 1.0 } else { 0.5 });
    if let Some(least) = bound("minimum") {
        low = if beside("exclusiveMinimum") {
            least + small
        } else {
            least
        };
    }
    if let Some(greatest) = bound("maximum") {
        high = if beside("exclusiveMaximum") {
            greatest - small
        } else {
            greatest
        };
    }
    let above = bound("exclusiveMinimum").map(|b| b + small);
    let below = bound("exclusiveMaximum").map(|b| b - small);
    low = above.map_or(low, |a| low.max(a));
    high = below.map_or(high, |b| high.min(b));
    if low > high && !whole && step.is_none() {
        // Between bounds that are near one another.
        let from = bound("exclusiveMinimum").or_else(|| bound("minimum"))?;
        let to = bound("exclusiveMaximum").or_else(|| bound("maximum"))?;
        return (from < to).then(|| Value::from(f64::midpoint(from, to)));
    }
    let wanted = if low <= 1.0 && 1.0 <= high {
        1.0
    } else if low.is_finite() && low > 1.0 {
        low
    } else {
        high
    };
    let wanted = match step {
        Some(step) if wanted == high => (wanted / step).floor() * step,
        Some(step) => (wanted / step).ceil() * step,
        None if whole && wanted == high => wanted.floor(),
        None if whole => wanted.ceil(),
        None => wanted,
    };
    // The bound itself keeps all its digits.
    for name in ["minimum", "maximum"] {
        if let Some(value) = map.get(name).filter(|v| v.as_f64() == Some(wanted)) {
            return Some(value.clone());
        }
    }
    match wanted.fract() == 0.0 && wanted.abs() < 9e15 {
        true => Some(Value::from(wanted as i64)),
        false => serde_json::Number::from_f64(wanted).map(Value::Number),
    }
}

fn text(schema: &Map<String, Value>) -> Option<String> {
    let length = |name: &str| schema.get(name).and_then(Value::as_u64);
    let least = usize::try_from(length("minLength").unwrap_or(0)).ok()?;
    let most = length("maxLength").map_or(MAX_TEXT, |m| usize::try_from(m).unwrap_or(MAX_TEXT));
    if least > MAX_TEXT {
        return None;
    }
    if let Some(pattern) = schema.get("pattern").and_then(Value::as_str) {
        return from_pattern(pattern, least);
    }
    let formatted = match schema.get("format").and_then(Value::as_str) {
        Some("date") => "2027-05-14",
        Some("time") => "08:30:00Z",
        Some("date-time") => "2027-05-14T08:30:00Z",
        Some("duration") => "PT45M",
        Some("uuid") => "5f0c3c1e-8a52-4d43-9f3a-2b6f0f2f7d11",
        Some("email") => "desk@skerry.example",
        Some("uri") => "https://skerry.example/",
        Some("ipv4") => "192.0.2.7",
        Some("hostname") => "skerry.example",
        _ => "",
    };
    if !formatted.is_empty() {
        return Some(formatted.to_owned());
    }
    let encoded = schema.get("contentEncoding").is_some();
    let mut text: String = "text".chars().take(most).collect();
    let fill = least.saturating_sub(text.len());
    // Base64 comes in fours.
    let fill = if encoded { fill.div_ceil(4) * 4 } else { fill };
    text.push_str(&"x".repeat(fill));
    Some(text)
}

/// A text that fits a pattern, at least so long where the pattern has room.
fn from_pattern(pattern: &str, least: usize) -> Option<String> {
    let parsed = regex_syntax::ParserBuilder::new()
        .nest_limit(50)
        .build()
        .parse(pattern)
        .ok()?;
    // More of what may be repeated, until it is long enough.
    for times in [1, 2, 4, 8, 16, 32, 64, 128, 256, 512, 1024] {
        let mut out = String::new();
        write(&parsed, times, &mut out)?;
        if out.chars().count() >= least {
            return Some(out);
        }
    }
    None
}

fn write(hir: &Hir, times: u32, out: &mut String) -> Option<()> {
    if out.len() > MAX_TEXT {
        return None;
    }
    match hir.kind() {
        HirKind::Empty | HirKind::Look(_) => Some(()),
        HirKind::Literal(text) => {
            out.push_str(std::str::from_utf8(&text.0).ok()?);
            Some(())
        }
        HirKind::Class(class) => {
            out.push(one_of(class)?);
            Some(())
        }
        HirKind::Repetition(again) => {
            let wanted = again.min.max(times).min(again.max.unwrap_or(u32::MAX));
            (0..wanted).try_for_each(|_| write(&again.sub, times, out))
        }
        HirKind::Capture(group) => write(&group.sub, times, out),
        HirKind::Concat(parts) => parts.iter().try_for_each(|part| write(part, times, out)),
        HirKind::Alternation(branches) => write(branches.first()?, times, out),
    }
}

/// A character of a class: a letter or digit where it has one.
fn one_of(class: &Class) -> Option<char> {
    let Class::Unicode(class) = class else {
        return None;
    };
    let has = |c: char| {
        class
            .ranges()
            .iter()
            .any(|r| r.start() <= c && c <= r.end())
    };
    let mut usual = "Aa0x-_ .".chars().filter(|c| has(*c));
    let first = class.ranges().first().map(|r| r.start());
    usual.next().or(first.filter(|c| !c.is_control()))
}
