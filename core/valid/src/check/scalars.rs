//! What is said of single values.

use serde_json::{Number, Value};

use super::Check;
use crate::node::{Node, Numbers, Texts};
use crate::number::Decimal;
use crate::told::{shown, some, values};

impl<'n> Check<'n, '_> {
    pub(super) fn scalar(&mut self, node: &'n Node, value: &Value) -> bool {
        let mut good = true;
        if let Some(said) = &node.values {
            self.charge(said.listed.len());
        }
        if let Some(said) = &node.values
            && !said.listed.iter().any(|v| same(v, value))
        {
            good = self.wrong(|| match said.constant {
                true => format!(
                    "must be {}",
                    said.listed.first().map_or_else(String::new, shown)
                ),
                false => format!("is none of {}", values(&said.listed)),
            });
        }
        match value {
            Value::String(text) => match &node.text {
                Some(said) => good & self.text(said, text),
                None => good,
            },
            Value::Number(number) => match &node.number {
                Some(said) => good & self.number(said, number),
                None => good,
            },
            _ => good,
        }
    }

    fn text(&mut self, said: &'n Texts, text: &str) -> bool {
        let mut good = true;
        if said.least.is_some() || said.most.is_some() {
            let count = text.chars().count() as u64;
            if let Some(least) = said.least.filter(|l| count < *l) {
                good = self.wrong(|| format!("must have at least {}", characters(least)));
            }
            if let Some(most) = said.most.filter(|m| count > *m) {
                good = self.wrong(|| format!("must have at most {}", characters(most)));
            }
        }
        if let Some((pattern, written)) = &said.pattern
            && !pattern.is_match(text)
        {
            good = self.wrong(|| format!("does not match the pattern {written}"));
        }
        if let Some((check, name)) = &said.format
            && !check(text)
        {
            good = self.wrong(|| format!("is no {name}"));
        }
        good
    }

    fn number(&mut self, said: &'n Numbers, number: &Number) -> bool {
        // Most are whole and small, and so are their bounds.
        if let (Some((from, to)), Some(value)) = (said.whole, small(number))
            && (from..=to).contains(&value)
        {
            return true;
        }
        let value = Decimal::of(number);
        let [least, most, above, below, multiple] = &said.shown;
        let mut good = true;
        if said.least.as_ref().is_some_and(|l| value < *l) {
            good = self.wrong(|| format!("must be {least} or more"));
        }
        if said.most.as_ref().is_some_and(|m| value > *m) {
            good = self.wrong(|| format!("must be {most} or less"));
        }
        if said.above.as_ref().is_some_and(|l| value <= *l) {
            good = self.wrong(|| format!("must be more than {above}"));
        }
        if said.below.as_ref().is_some_and(|m| value >= *m) {
            good = self.wrong(|| format!("must be less than {below}"));
        }
        if said
            .multiple
            .as_ref()
            .is_some_and(|m| !value.is_multiple_of(m))
        {
            good = self.wrong(|| format!("must be a multiple of {multiple}"));
        }
        if let Some((from, to, name)) = &said.width
            && (value < *from || value > *to)
        {
            good = self.wrong(|| format!("is outside of {name}"));
        }
        good
    }
}

/// A number that is written as a whole one of few digits.
fn small(number: &Number) -> Option<i64> {
    const FEW: usize = 18;
    let text = number.as_str();
    let few = text.len() <= FEW && text.bytes().all(|b| b.is_ascii_digit());
    if few { text.parse().ok() } else { None }
}

fn characters(count: u64) -> String {
    some(count, "character", "characters")
}

/// Whether two values are the same (core §4.2.2): numbers by what they are, objects in any order.
pub(super) fn same(a: &Value, b: &Value) -> bool {
    match (a, b) {
        (Value::Number(a), Value::Number(b)) => a == b || Decimal::of(a) == Decimal::of(b),
        (Value::Array(a), Value::Array(b)) => {
            a.len() == b.len() && a.iter().zip(b).all(|(a, b)| same(a, b))
        }
        (Value::Object(a), Value::Object(b)) => {
            let also = |(name, a): (&String, &Value)| b.get(name).is_some_and(|b| same(a, b));
            a.len() == b.len() && a.iter().all(also)
        }
        _ => a == b,
    }
}

/// A text that the same values have, and no others.
pub(super) fn canonical(value: &Value, out: &mut String) {
    match value {
        Value::Number(number) => out.push_str(&format!("{:?}", Decimal::of(number))),
        Value::Array(items) => {
            out.push('[');
            for item in items {
                canonical(item, out);
                out.push(',');
            }
            out.push(']');
        }
        Value::Object(members) => {
            let mut names: Vec<&String> = members.keys().collect();
            names.sort_unstable();
            out.push('{');
            for name in names {
                out.push_str(&Value::String(name.clone()).to_string());
                canonical(&members[name.as_str()], out);
                out.push(',');
            }
            out.push('}');
        }
        other => out.push_str(&other.to_string()),
    }
}
