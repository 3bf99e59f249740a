//! Values of expressions.

use std::borrow::Cow;

use serde_json::{Map, Number, Value};

/// A value while an expression is evaluated; most are borrowed from the request.
#[derive(Clone, Debug)]
pub enum Val<'a> {
    /// Nothing there; only what asked for it with `?` meets it.
    Absent,
    /// `null`.
    Null,
    /// A truth value.
    Bool(bool),
    /// A whole number.
    Int(i64),
    /// A floating-point number.
    Double(f64),
    /// A number from JSON with all its digits.
    Exact(&'a Number),
    /// A text.
    Str(Cow<'a, str>),
    /// A list or map from JSON.
    Json(&'a Value),
    /// A list that was made here.
    List(Vec<Val<'a>>),
    /// A map that was made here.
    Map(Vec<(String, Val<'a>)>),
}

impl<'a> Val<'a> {
    /// A borrowed JSON value.
    pub fn of(value: &'a Value) -> Self {
        match value {
            Value::Null => Val::Null,
            Value::Bool(b) => Val::Bool(*b),
            Value::Number(n) => Val::Exact(n),
            Value::String(s) => Val::Str(Cow::Borrowed(s)),
            Value::Array(_) | Value::Object(_) => Val::Json(value),
        }
    }

    /// A JSON value that was made here; its numbers are texts or whole numbers.
    pub fn owned(value: Value) -> Self {
        match value {
            Value::Null => Val::Null,
            Value::Bool(b) => Val::Bool(b),
            Value::Number(n) => n
                .as_i64()
                .map_or_else(|| Val::Str(Cow::Owned(n.to_string())), Val::Int),
            Value::String(s) => Val::Str(Cow::Owned(s)),
            Value::Array(items) => Val::List(items.into_iter().map(Val::owned).collect()),
            Value::Object(map) => {
                Val::Map(map.into_iter().map(|(k, v)| (k, Val::owned(v))).collect())
            }
        }
    }

    /// What it costs to copy, in steps: its parts, and its texts by the kilobyte. Not counted beyond `most`.
    pub(crate) fn weight(&self, most: u32) -> u32 {
        let of_text = |text: &str| u32::try_from(text.len() / 1024).unwrap_or(u32::MAX);
        let mut weight = 0u32;
        let mut add = |more: u32| {
            weight = weight.saturating_add(more);
            weight > most
        };
        match self {
            Val::Str(text) => drop(add(of_text(text))),
            Val::List(items) => {
                for item in items {
                    if add(item.weight(most).saturating_add(1)) {
                        break;
                    }
                }
            }
            Val::Map(entries) => {
                for (name, value) in entries {
                    let parts = value.weight(most).saturating_add(of_text(name));
                    if add(parts.saturating_add(1)) {
                        break;
                    }
                }
            }
            _ => {}
        }
        weight
    }

    /// The number as arithmetic sees it: an `Int` where it is one, a `Double` otherwise.
    pub(crate) fn number(&self) -> Option<Val<'static>> {
        match self {
            Val::Int(i) => Some(Val::Int(*i)),
            Val::Double(d) => Some(Val::Double(*d)),
            Val::Exact(n) => match n.as_i64() {
                Some(i) => Some(Val::Int(i)),
                None => n.as_f64().map(Val::Double),
            },
            _ => None,
        }
    }

    pub(crate) fn as_f64(&self) -> Option<f64> {
        match self.number()? {
            Val::Int(i) => Some(i as f64),
            Val::Double(d) => Some(d),
            _ => None,
        }
    }

    /// Its type, as CEL calls it.
    pub fn kind(&self) -> &'static str {
        match self {
            Val::Absent => "absent",
            Val::Null => "null_type",
            Val::Bool(_) => "bool",
            Val::Int(_) => "int",
            Val::Double(_) => "double",
            Val::Exact(n) => {
                if n.is_i64() {
                    "int"
                } else {
                    "double"
                }
            }
            Val::Str(_) => "string",
            Val::Json(Value::Array(_)) | Val::List(_) => "list",
            Val::Json(_) | Val::Map(_) => "map",
        }
    }

    /// The items of a list.
    pub(crate) fn items(&self) -> Option<Vec<Val<'a>>> {
        match self {
            Val::Json(Value::Array(items)) => Some(items.iter().map(Val::of).collect()),
            Val::List(items) => Some(items.clone()),
            Val::Json(Value::Object(map)) => Some(
                map.keys()
                    .map(|k| Val::Str(Cow::Borrowed(k.as_str())))
                    .collect(),
            ),
            Val::Map(entries) => Some(
                entries
                    .iter()
                    .map(|(k, _)| Val::Str(Cow::Owned(k.clone())))
                    .collect(),
            ),
            _ => None,
        }
    }

    /// A member of a map.
    pub(crate) fn member(&self, name: &str) -> Option<Val<'a>> {
        match self {
            Val::Json(Value::Object(map)) => map.get(name).map(Val::of),
            Val::Map(entries) => entries
                .iter()
                .find(|(k, _)| k == name)
                .map(|(_, v)| v.clone()),
            _ => None,
        }
    }

    /// The value as JSON; `None` when absent.
    pub fn to_json(&self) -> Option<Value> {
        Some(match self {
            Val::Absent => return None,
            Val::Null => Value::Null,
            Val::Bool(b) => Value::Bool(*b),
            Val::Int(i) => Value::from(*i),
            Val::Double(d) => Number::from_f64(*d).map_or(Value::Null, Value::Number),
            Val::Exact(n) => Value::Number((*n).clone()),
            Val::Str(s) => Value::String(s.to_string()),
            Val::Json(v) => (*v).clone(),
            Val::List(items) => items.iter().filter_map(Val::to_json).collect(),
            Val::Map(entries) => Value::Object(
                entries
                    .iter()
                    .filter_map(|(k, v)| Some((k.clone(), v.to_json()?)))
                    .collect::<Map<_, _>>(),
            ),
        })
    }

    /// The value as a text for a path, a query or a header; `None` for what has no plain text.
    pub fn to_text(&self) -> Option<Cow<'_, str>> {
        match self {
            Val::Str(s) => Some(Cow::Borrowed(s.as_ref())),
            Val::Bool(b) => Some(Cow::Borrowed(if *b { "true" } else { "false" })),
            Val::Int(i) => Some(Cow::Owned(i.to_string())),
            Val::Double(d) => Some(Cow::Owned(d.to_string())),
            Val::Exact(n) => Some(Cow::Owned(n.to_string())),
            _ => None,
        }
    }

    /// Equality as CEL has it: numbers by value across types, different types unequal.
    pub(crate) fn same(&self, other: &Val<'_>) -> bool {
        match (self, other) {
            (Val::Null, Val::Null) | (Val::Absent, Val::Absent) => true,
            (Val::Bool(a), Val::Bool(b)) => a == b,
            (Val::Str(a), Val::Str(b)) => a == b,
            (Val::Exact(a), Val::Exact(b)) if a == b => true,
            _ => match (self.number(), other.number()) {
                (Some(Val::Int(a)), Some(Val::Int(b))) => a == b,
                (Some(a), Some(b)) => a.as_f64() == b.as_f64(),
                (None, None) => self.same_inside(other),
                _ => false,
            },
        }
    }

    fn same_inside(&self, other: &Val<'_>) -> bool {
        if self.kind() != other.kind() || !matches!(self.kind(), "list" | "map") {
            return false;
        }
        let (Some(a), Some(b)) = (self.items(), other.items()) else {
            return false;
        };
        if a.len() != b.len() {
            return false;
        }
        if self.kind() == "list" {
            return a.iter().zip(&b).all(|(a, b)| a.same(b));
        }
        a.iter().all(|key| {
            let Val::Str(name) = key else { return false };
            matches!((self.member(name), other.member(name)), (Some(x), Some(y)) if x.same(&y))
        })
    }
}
