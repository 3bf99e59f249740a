//! Header fields that every request of a call gets.

use std::collections::HashMap;

use ::http::{HeaderName, HeaderValue, header};

use super::HeaderRule;

/// Fields that are the same in each request, as they stand in its head (RFC 9112 §5): they are written in one piece.
#[derive(Debug, Default)]
pub struct FixedFields {
    lines: Box<str>,
    /// Where in the lines each name begins and ends.
    at: Box<[(u32, u32)]>,
    names: u64,
}

/// A bit for a name; others may have the same. Where it is not among those of some fields, the name is not there.
#[inline]
pub fn name_bit(name: &HeaderName) -> u64 {
    let bytes = name.as_str().as_bytes();
    let (first, last) = match bytes {
        [] => (0, 0),
        [first, .., last] => (*first, *last),
        [one] => (*one, *one),
    };
    let middle = bytes.get(bytes.len() / 2).copied().unwrap_or_default();
    let mixed = u32::from_le_bytes([first, middle, last, bytes.len() as u8]);
    // The upper bits of a product with a large odd number hang on all of the lower ones.
    1 << (mixed.wrapping_mul(0x9e37_79b1) >> 26)
}

impl FixedFields {
    /// Takes the fixed fields out of an operation's rules. One that has several rules keeps them, and so do those that say
    /// how a message is framed.
    pub fn of(rules: &mut Vec<(HeaderName, HeaderRule)>) -> Option<Self> {
        let (mut lines, mut at, mut names) = (String::new(), Vec::new(), 0);
        let mut counts: HashMap<HeaderName, usize> = HashMap::new();
        for (name, _) in &*rules {
            *counts.entry(name.clone()).or_default() += 1;
        }
        rules.retain(|(name, rule)| {
            let HeaderRule::Set(value) = rule else {
                return true;
            };
            let frames = matches!(*name, header::CONTENT_LENGTH | header::TRANSFER_ENCODING);
            let alone = counts.get(name) == Some(&1);
            let Some(text) = value.to_str().ok().filter(|_| alone && !frames) else {
                return true;
            };
            let end = lines.len() + name.as_str().len();
            let (Ok(from), Ok(to)) = (u32::try_from(lines.len()), u32::try_from(end)) else {
                return true;
            };
            at.push((from, to));
            for part in [name.as_str(), ": ", text, "\r\n"] {
                lines.push_str(part);
            }
            names |= name_bit(name);
            false
        });
        (!lines.is_empty()).then(|| Self {
            lines: lines.into(),
            at: at.into(),
            names,
        })
    }

    /// All of them, each with its line's end.
    pub fn lines(&self) -> &str {
        &self.lines
    }

    /// The bits of their names.
    pub fn names(&self) -> u64 {
        self.names
    }

    /// Whether a name is among them.
    pub fn has(&self, name: &HeaderName) -> bool {
        let (bytes, name) = (self.lines.as_bytes(), name.as_str().as_bytes());
        self.at
            .iter()
            .any(|(from, to)| bytes[*from as usize..*to as usize] == *name)
    }

    /// One by one.
    pub fn iter(&self) -> impl Iterator<Item = (HeaderName, HeaderValue)> + '_ {
        let pairs = self.lines.lines().filter_map(|line| line.split_once(": "));
        pairs.filter_map(|(name, value)| {
            let name = HeaderName::from_bytes(name.as_bytes()).ok()?;
            Some((name, HeaderValue::from_str(value).ok()?))
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn rule(name: &'static str, value: &'static str) -> (HeaderName, HeaderRule) {
        let value = HeaderValue::from_static(value);
        (HeaderName::from_static(name), HeaderRule::Set(value))
    }

    #[test]
    fn what_is_fixed_is_taken_out_and_the_rest_stays() {
        let mut rules = vec![
            rule("berth", "7"),
            rule("empty", ""),
            rule("twice", "1"),
            rule("note", "a: b "),
            rule("twice", "2"),
            rule("content-length", "9"),
        ];
        let fixed = FixedFields::of(&mut rules).unwrap();
        let left: Vec<&str> = rules.iter().map(|(n, _)| n.as_str()).collect();
        assert_eq!(left, ["twice", "twice", "content-length"]);
        assert_eq!(fixed.lines(), "berth: 7\r\nempty: \r\nnote: a: b \r\n");
        let back: Vec<(String, HeaderValue)> =
            fixed.iter().map(|(n, v)| (n.to_string(), v)).collect();
        let of = |n: &str, v: &'static str| (n.to_owned(), HeaderValue::from_static(v));
        assert_eq!(
            back,
            [of("berth", "7"), of("empty", ""), of("note", "a: b ")]
        );
        assert!(fixed.has(&HeaderName::from_static("note")));
        assert!(!fixed.has(&HeaderName::from_static("twice")));
        assert!(FixedFields::of(&mut rules).is_none());
    }
}
