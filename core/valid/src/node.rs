//! Schemas as they are held against values.

use std::collections::HashMap;
use std::hash::BuildHasherDefault;

use porch_contract::Fnv;
use regex::Regex;
use serde_json::Value;

use crate::format::Check;
use crate::number::Decimal;

/// A number of a node.
pub(crate) type Id = u32;

/// The schema that takes everything.
pub(crate) const ANYTHING: Id = 0;

/// Types of values, a bit each.
pub(crate) const NULL: u8 = 1;
pub(crate) const BOOLEAN: u8 = 2;
pub(crate) const OBJECT: u8 = 4;
pub(crate) const ARRAY: u8 = 8;
pub(crate) const NUMBER: u8 = 16;
pub(crate) const STRING: u8 = 32;
pub(crate) const INTEGER: u8 = 64;

/// One schema. What it does not say is not there.
#[derive(Debug, Default)]
pub(crate) struct Node {
    /// Nothing fits (`false`).
    pub(crate) never: bool,
    /// Types that it takes; none: all.
    pub(crate) types: u8,
    /// Whether only the service sets what stands here.
    pub(crate) read_only: bool,
    /// Other schemas that hold too (`$ref`).
    pub(crate) refers: Option<Id>,
    pub(crate) values: Option<Box<Values>>,
    pub(crate) number: Option<Box<Numbers>>,
    pub(crate) text: Option<Box<Texts>>,
    pub(crate) list: Option<Box<Lists>>,
    pub(crate) object: Option<Box<Objects>>,
    pub(crate) several: Option<Box<Several>>,
}

/// `enum` and `const`.
#[derive(Debug)]
pub(crate) struct Values {
    pub(crate) listed: Vec<Value>,
    pub(crate) constant: bool,
}

/// Validation §6.2.
#[derive(Debug, Default)]
pub(crate) struct Numbers {
    pub(crate) least: Option<Decimal>,
    pub(crate) most: Option<Decimal>,
    pub(crate) above: Option<Decimal>,
    pub(crate) below: Option<Decimal>,
    pub(crate) multiple: Option<Decimal>,
    /// As they are shown: least, most, above, below, multiple.
    pub(crate) shown: [String; 5],
    /// The range of `int32` and its like.
    pub(crate) width: Option<(Decimal, Decimal, &'static str)>,
    /// The least and the most, where whole numbers alone say it, exclusive bounds among them.
    pub(crate) whole: Option<(i64, i64)>,
}

/// Validation §6.3, and formats.
#[derive(Debug, Default)]
pub(crate) struct Texts {
    pub(crate) least: Option<u64>,
    pub(crate) most: Option<u64>,
    pub(crate) pattern: Option<(Regex, String)>,
    pub(crate) format: Option<(Check, String)>,
}

/// Core §10.3.1, validation §6.4.
#[derive(Debug, Default)]
pub(crate) struct Lists {
    pub(crate) first: Vec<Id>,
    pub(crate) items: Option<Id>,
    pub(crate) contains: Option<(Id, u64, Option<u64>)>,
    pub(crate) least: Option<u64>,
    pub(crate) most: Option<u64>,
    pub(crate) unique: bool,
    pub(crate) unevaluated: Option<Id>,
}

/// Core §10.3.2, validation §6.5.
#[derive(Debug, Default)]
pub(crate) struct Objects {
    /// Where a property stands among those that are listed.
    pub(crate) properties: HashMap<Box<str>, usize, BuildHasherDefault<Fnv>>,
    /// In the order of the contract.
    pub(crate) listed: Vec<(Box<str>, Id)>,
    /// Whether it says nothing but which members there are, what each must be, and how many.
    pub(crate) plain: bool,
    /// Properties that must be there, a bit each by where they are listed.
    pub(crate) needed: u128,
    /// Members that must be there and are no properties, or are listed too far behind.
    pub(crate) needed_others: Vec<Box<str>>,
    pub(crate) patterns: Vec<(Regex, Id)>,
    pub(crate) others: Option<Id>,
    pub(crate) names: Option<Id>,
    pub(crate) required: Vec<Box<str>>,
    pub(crate) least: Option<u64>,
    pub(crate) most: Option<u64>,
    pub(crate) with: Vec<(Box<str>, Vec<Box<str>>)>,
    pub(crate) with_schemas: Vec<(Box<str>, Id)>,
    pub(crate) unevaluated: Option<Id>,
}

impl Objects {
    /// Where a property is listed; it may well be the next one.
    pub(crate) fn named(&self, name: &str, next: usize) -> Option<usize> {
        match self.listed.get(next) {
            Some((listed, _)) if **listed == *name => Some(next),
            _ => self.properties.get(name).copied(),
        }
    }

    /// Sets what is known when all of it was read.
    pub(crate) fn known(mut self) -> Self {
        self.plain = self.patterns.is_empty()
            && self.names.is_none()
            && self.with.is_empty()
            && self.with_schemas.is_empty()
            && self.unevaluated.is_none();
        for name in &self.required {
            let bit = self.properties.get(name).and_then(|at| {
                let at = u32::try_from(*at).ok()?;
                1_u128.checked_shl(at)
            });
            match bit {
                Some(bit) => self.needed |= bit,
                None => self.needed_others.push(name.clone()),
            }
        }
        self
    }
}

impl Node {
    /// Whether it says anything by itself, and not only by other schemas.
    pub(crate) fn says_itself(&self) -> bool {
        self.types != 0
            || self.values.is_some()
            || self.number.is_some()
            || self.text.is_some()
            || self.list.is_some()
            || self.object.is_some()
    }
}

impl Texts {
    /// Whether nothing is wrong with a text.
    pub(crate) fn takes(&self, text: &str) -> bool {
        let count = || text.chars().count() as u64;
        // A character is one byte or more.
        let most = (self.most).is_none_or(|most| text.len() as u64 <= most || count() <= most);
        most && self.least.is_none_or(|least| count() >= least)
            && self.pattern.as_ref().is_none_or(|(p, _)| p.is_match(text))
            && self.format.as_ref().is_none_or(|(is, _)| is(text))
    }
}

impl Numbers {
    /// Whether nothing is wrong with a number.
    pub(crate) fn takes(&self, value: &Decimal) -> bool {
        self.least.as_ref().is_none_or(|l| value >= l)
            && self.most.as_ref().is_none_or(|m| value <= m)
            && self.above.as_ref().is_none_or(|l| value > l)
            && self.below.as_ref().is_none_or(|m| value < m)
            && self
                .multiple
                .as_ref()
                .is_none_or(|m| value.is_multiple_of(m))
            && (self.width.as_ref()).is_none_or(|(from, to, _)| value >= from && value <= to)
    }
}

/// Core §10.2.
#[derive(Debug, Default)]
pub(crate) struct Several {
    pub(crate) all: Vec<Id>,
    pub(crate) any: Vec<Id>,
    pub(crate) one: Vec<Id>,
    pub(crate) not: Option<Id>,
    pub(crate) when: Option<Id>,
    pub(crate) then: Option<Id>,
    pub(crate) otherwise: Option<Id>,
}

/// What a value is.
pub(crate) fn type_of(value: &Value) -> u8 {
    match value {
        Value::Null => NULL,
        Value::Bool(_) => BOOLEAN,
        Value::Object(_) => OBJECT,
        Value::Array(_) => ARRAY,
        Value::String(_) => STRING,
        Value::Number(number) => {
            let text = number.as_str();
            // Digits alone are a whole number; others are looked at.
            let digits = text.bytes().all(|b| b.is_ascii_digit() || b == b'-');
            match digits || Decimal::of(number).is_whole() {
                true => NUMBER | INTEGER,
                false => NUMBER,
            }
        }
    }
}

/// A type's bit by its name.
pub(crate) fn type_bit(name: &str) -> u8 {
    match name {
        "null" => NULL,
        "boolean" => BOOLEAN,
        "object" => OBJECT,
        "array" => ARRAY,
        "number" => NUMBER,
        "string" => STRING,
        "integer" => INTEGER,
        _ => 0,
    }
}
