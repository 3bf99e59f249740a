//! Texts, numbers and words.

use std::borrow::Cow;

use serde_json::Value;

use super::Reading;
use crate::node::{BOOLEAN, INTEGER, NULL, NUMBER, Node, STRING, Values};
use crate::number::Decimal;

/// A text as it is written, between its quotes.
pub(super) struct Text<'t> {
    pub(super) raw: &'t str,
    pub(super) escaped: bool,
}

/// Whether a value is one of a list.
fn is_one_of(said: &Values, is: impl Fn(&Value) -> bool) -> bool {
    said.listed.iter().any(is)
}

impl<'n, 't> Reading<'n, 't> {
    /// RFC 8259 §7; escapes are read by whoever wants to know what they stand for.
    pub(super) fn text(&mut self) -> Option<Text<'t>> {
        self.past(b'"')?;
        let (from, bytes) = (self.at, self.text.as_bytes());
        let mut escaped = false;
        loop {
            match *bytes.get(self.at)? {
                b'"' => break,
                b'\\' => {
                    escaped = true;
                    self.at += 2;
                }
                0..0x20 => return None,
                _ => self.at += 1,
            }
        }
        let raw = self.text.get(from..self.at)?;
        self.at += 1;
        Some(Text { raw, escaped })
    }

    pub(super) fn string(&mut self, node: &'n Node) -> Option<bool> {
        let from = self.at;
        let text = self.text()?;
        let text = match text.escaped {
            false => Cow::Borrowed(text.raw),
            true => Cow::Owned(serde_json::from_str(self.text.get(from..self.at)?).ok()?),
        };
        if node.types != 0 && node.types & STRING == 0 {
            return Some(false);
        }
        if let Some(said) = &node.values {
            self.charge(said.listed.len() / 4)?;
            if !is_one_of(said, |v| v.as_str() == Some(&*text)) {
                return Some(false);
            }
        }
        Some(node.text.as_ref().is_none_or(|said| said.takes(&text)))
    }

    pub(super) fn number(&mut self, node: &'n Node) -> Option<bool> {
        let from = self.at;
        let whole = self.digits_of_number()?;
        let written = self.text.get(from..self.at)?;
        let kinds = if whole { NUMBER | INTEGER } else { NUMBER };
        if node.types != 0 && node.types & kinds == 0 {
            // It may be whole in another way, as 1.0 is.
            return if node.types & INTEGER == 0 {
                Some(false)
            } else {
                None
            };
        }
        if let Some(said) = &node.values {
            self.charge(said.listed.len() / 4)?;
            let is = |v: &Value| matches!(v, Value::Number(n) if n.as_str() == written);
            if !is_one_of(said, is) {
                return match is_one_of(said, Value::is_number) {
                    true => None,
                    false => Some(false),
                };
            }
        }
        let Some(said) = &node.number else {
            return Some(true);
        };
        if said.whole.is_some_and(|range| is_within(written, range)) {
            return Some(true);
        }
        // Comparing long ones takes longer.
        const LONG: usize = 400;
        if written.len() > LONG {
            return None;
        }
        Some(said.takes(&Decimal::read(written)))
    }

    /// RFC 8259 §6; whether it is written as a whole number.
    fn digits_of_number(&mut self) -> Option<bool> {
        if self.peek() == Some(b'-') {
            self.at += 1;
        }
        match self.peek()? {
            b'0' => self.at += 1,
            _ => self.digits()?,
        }
        let mut whole = true;
        if self.peek() == Some(b'.') {
            whole = false;
            self.at += 1;
            self.digits()?;
        }
        if let Some(b'e' | b'E') = self.peek() {
            whole = false;
            self.at += 1;
            if let Some(b'+' | b'-') = self.peek() {
                self.at += 1;
            }
            self.digits()?;
        }
        Some(whole)
    }

    /// One digit or more.
    fn digits(&mut self) -> Option<()> {
        let from = self.at;
        while matches!(self.peek(), Some(b'0'..=b'9')) {
            self.at += 1;
        }
        (self.at > from).then_some(())
    }

    /// `true`, `false` and `null`.
    pub(super) fn word(&mut self, node: &'n Node) -> Option<bool> {
        let rest = self.text.as_bytes().get(self.at..)?;
        let (word, kind, value): (&[u8], u8, Option<bool>) = match rest.first()? {
            b't' => (b"true", BOOLEAN, Some(true)),
            b'f' => (b"false", BOOLEAN, Some(false)),
            _ => (b"null", NULL, None),
        };
        if !rest.starts_with(word) {
            return None;
        }
        self.at += word.len();
        if node.types != 0 && node.types & kind == 0 {
            return Some(false);
        }
        let is = |v: &Value| value.map_or(v.is_null(), |b| *v == b);
        let listed = |said: &Values| is_one_of(said, is);
        Some(node.values.as_deref().is_none_or(listed))
    }
}

/// Whether a number of few digits surely lies between two whole ones; what stands behind the point takes it less than one further.
fn is_within(written: &str, (least, most): (i64, i64)) -> bool {
    const FEW: usize = 18;
    let (whole, part) = match written.split_once('.') {
        Some((whole, part)) => (whole, part),
        None => (written, ""),
    };
    if whole.len() > FEW || part.bytes().any(|b| !b.is_ascii_digit()) {
        return false;
    }
    let Ok(value) = whole.parse::<i64>() else {
        return false;
    };
    let (down, up) = match (part.is_empty(), written.starts_with('-')) {
        (true, _) => (value, value),
        (false, false) => (value, value + 1),
        (false, true) => (value - 1, value),
    };
    least <= down && up <= most
}
