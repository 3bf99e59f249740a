//! JSON as the writers read it: borrowed from the bytes of a request, or from a value that was built.
//!
//! Strings are only copied when they hold escapes; numbers are the characters that stand there.

use std::borrow::Cow;

use porch_contract::plain_in_json;
use serde_json::{Map, Value};

/// Values nested deeper than this are refused.
pub(crate) const MAX_DEPTH: usize = 128;

/// A JSON value.
#[derive(Clone, Debug, PartialEq)]
pub enum Json<'a> {
    /// `null`.
    Null,
    /// `true` or `false`.
    Bool(bool),
    /// A number as it is written (RFC 8259 §6).
    Number(Cow<'a, str>),
    /// A string, its escapes replaced.
    String(Cow<'a, str>),
    /// An array.
    Array(Vec<Json<'a>>),
    /// An object; of members with one name the last one counts.
    Object(Vec<(Cow<'a, str>, Json<'a>)>),
}

/// What is wrong with a text that should be JSON.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{message} at line {line} column {column}")]
pub struct JsonError {
    /// What is wrong.
    pub message: &'static str,
    /// Line, from 1.
    pub line: usize,
    /// Column in bytes, from 1.
    pub column: usize,
}

impl<'a> Json<'a> {
    /// Parses a whole document (RFC 8259).
    ///
    /// # Errors
    /// What is wrong and where.
    pub fn parse(bytes: &'a [u8]) -> Result<Self, JsonError> {
        let fail = |message, at: usize| {
            let before = &bytes[..at.min(bytes.len())];
            let line_start = memchr::memrchr(b'\n', before).map_or(0, |i| i + 1);
            JsonError {
                message,
                line: memchr::memchr_iter(b'\n', before).count() + 1,
                column: before.len() - line_start + 1,
            }
        };
        let text = std::str::from_utf8(bytes).map_err(|e| fail("not UTF-8", e.valid_up_to()))?;
        let mut parser = Parser::new(text);
        let value = parser.value().and_then(|v| {
            parser.space();
            if parser.pos == text.len() {
                Ok(v)
            } else {
                Err("something behind the value")
            }
        });
        value.map_err(|message| fail(message, parser.pos))
    }

    /// A built value, borrowed.
    pub fn of(value: &'a Value) -> Self {
        match value {
            Value::Null => Self::Null,
            Value::Bool(b) => Self::Bool(*b),
            Value::Number(n) => Self::Number(Cow::Owned(n.to_string())),
            Value::String(s) => Self::String(Cow::Borrowed(s)),
            Value::Array(items) => Self::Array(items.iter().map(Self::of).collect()),
            Value::Object(map) => Self::Object(
                map.iter()
                    .map(|(k, v)| (Cow::Borrowed(k.as_str()), Self::of(v)))
                    .collect(),
            ),
        }
    }

    /// The same as a value of its own.
    pub fn to_value(&self) -> Value {
        match self {
            Self::Null => Value::Null,
            Self::Bool(b) => Value::Bool(*b),
            Self::Number(n) => n.parse().map_or(Value::Null, Value::Number),
            Self::String(s) => Value::String(s.clone().into_owned()),
            Self::Array(items) => Value::Array(items.iter().map(Self::to_value).collect()),
            Self::Object(members) => Value::Object(
                members
                    .iter()
                    .map(|(k, v)| (k.clone().into_owned(), v.to_value()))
                    .collect::<Map<_, _>>(),
            ),
        }
    }

    /// A member of an object.
    pub fn get(&self, name: &str) -> Option<&Json<'a>> {
        match self {
            Self::Object(members) => get(members, name),
            _ => None,
        }
    }

    /// Its type in words.
    pub fn kind(&self) -> &'static str {
        match self {
            Self::Null => "null",
            Self::Bool(_) => "true or false",
            Self::Number(_) => "a number",
            Self::String(_) => "a string",
            Self::Array(_) => "an array",
            Self::Object(_) => "an object",
        }
    }
}

/// A member of an object's members; of several with one name the last.
pub(crate) fn get<'m, 'a>(
    members: &'m [(Cow<'a, str>, Json<'a>)],
    name: &str,
) -> Option<&'m Json<'a>> {
    members
        .iter()
        .rev()
        .find(|(n, _)| n == name)
        .map(|(_, v)| v)
}

/// A text that is read from its beginning to its end.
pub(crate) struct Parser<'a> {
    pub(crate) text: &'a str,
    pub(crate) pos: usize,
    pub(crate) depth: usize,
}

pub(crate) type Parsed<T> = Result<T, &'static str>;

impl<'a> Parser<'a> {
    pub(crate) fn new(text: &'a str) -> Self {
        Self {
            text,
            pos: 0,
            depth: 0,
        }
    }

    pub(crate) fn space(&mut self) {
        while matches!(
            self.text.as_bytes().get(self.pos),
            Some(b' ' | b'\t' | b'\n' | b'\r')
        ) {
            self.pos += 1;
        }
    }

    pub(crate) fn peek(&mut self) -> Option<u8> {
        self.space();
        self.text.as_bytes().get(self.pos).copied()
    }

    fn word(&mut self, word: &str, value: Json<'a>) -> Parsed<Json<'a>> {
        if self.text.as_bytes()[self.pos..].starts_with(word.as_bytes()) {
            self.pos += word.len();
            return Ok(value);
        }
        Err("expected a value")
    }

    pub(crate) fn value(&mut self) -> Parsed<Json<'a>> {
        match self.peek() {
            Some(b'{') => self.deeper(Self::object),
            Some(b'[') => self.deeper(Self::array),
            Some(b'"') => self.string().map(Json::String),
            Some(b't') => self.word("true", Json::Bool(true)),
            Some(b'f') => self.word("false", Json::Bool(false)),
            Some(b'n') => self.word("null", Json::Null),
            Some(b'-' | b'0'..=b'9') => self.number(),
            Some(_) => Err("expected a value"),
            None => Err("the end, where a value was expected"),
        }
    }

    fn deeper(&mut self, f: fn(&mut Self) -> Parsed<Json<'a>>) -> Parsed<Json<'a>> {
        self.depth += 1;
        let result = if self.depth > MAX_DEPTH {
            Err("nested more than 128 levels deep")
        } else {
            f(self)
        };
        self.depth -= 1;
        result
    }

    fn object(&mut self) -> Parsed<Json<'a>> {
        self.pos += 1;
        let mut members = Vec::new();
        if self.peek() == Some(b'}') {
            self.pos += 1;
            return Ok(Json::Object(members));
        }
        loop {
            let name = self.name()?;
            let value = self.value()?;
            members.push((name, value));
            if !self.another(b'}')? {
                return Ok(Json::Object(members));
            }
        }
    }

    /// A member's name and the colon behind it.
    pub(crate) fn name(&mut self) -> Parsed<Cow<'a, str>> {
        if self.peek() != Some(b'"') {
            return Err("expected a member's name");
        }
        let name = self.string()?;
        if self.peek() != Some(b':') {
            return Err("expected “:”");
        }
        self.pos += 1;
        Ok(name)
    }

    /// Whether another member or item follows; else the end, `}` or `]`, is behind us.
    pub(crate) fn another(&mut self, end: u8) -> Parsed<bool> {
        match self.peek() {
            Some(b',') => {
                self.pos += 1;
                Ok(true)
            }
            Some(b) if b == end => {
                self.pos += 1;
                Ok(false)
            }
            _ if end == b'}' => Err("expected “,” or “}”"),
            _ => Err("expected “,” or “]”"),
        }
    }

    fn array(&mut self) -> Parsed<Json<'a>> {
        self.pos += 1;
        let mut items = Vec::new();
        if self.peek() == Some(b']') {
            self.pos += 1;
            return Ok(Json::Array(items));
        }
        loop {
            items.push(self.value()?);
            if !self.another(b']')? {
                return Ok(Json::Array(items));
            }
        }
    }

    fn digits(&mut self) -> usize {
        let from = self.pos;
        while self
            .text
            .as_bytes()
            .get(self.pos)
            .is_some_and(u8::is_ascii_digit)
        {
            self.pos += 1;
        }
        self.pos - from
    }

    fn number(&mut self) -> Parsed<Json<'a>> {
        let bytes = self.text.as_bytes();
        let from = self.pos;
        if bytes[self.pos] == b'-' {
            self.pos += 1;
        }
        let whole = self.pos;
        if self.digits() == 0 || (bytes[whole] == b'0' && self.pos - whole > 1) {
            return Err("invalid number");
        }
        if bytes.get(self.pos) == Some(&b'.') {
            self.pos += 1;
            if self.digits() == 0 {
                return Err("invalid number");
            }
        }
        if matches!(bytes.get(self.pos), Some(b'e' | b'E')) {
            self.pos += 1;
            if matches!(bytes.get(self.pos), Some(b'+' | b'-')) {
                self.pos += 1;
            }
            if self.digits() == 0 {
                return Err("invalid number");
            }
        }
        Ok(Json::Number(Cow::Borrowed(&self.text[from..self.pos])))
    }

    fn string(&mut self) -> Parsed<Cow<'a, str>> {
        let bytes = self.text.as_bytes();
        let from = self.pos + 1;
        let mut at = from + plain_in_json(&bytes[from..]);
        loop {
            match bytes.get(at) {
                None => return Err("a string without an end"),
                Some(b'"') => {
                    self.pos = at + 1;
                    return Ok(Cow::Borrowed(&self.text[from..at]));
                }
                Some(b'\\') => return self.escaped(from, at),
                Some(0..=0x1f) => {
                    self.pos = at;
                    return Err("a control character in a string");
                }
                Some(_) => at += 1,
            }
        }
    }

    /// A string with escapes, the first of them at `at`.
    fn escaped(&mut self, from: usize, mut at: usize) -> Parsed<Cow<'a, str>> {
        let bytes = self.text.as_bytes();
        let mut out = self.text[from..at].to_owned();
        loop {
            let plain = at;
            while bytes
                .get(at)
                .is_some_and(|b| !matches!(b, b'"' | b'\\' | 0..=0x1f))
            {
                at += 1;
            }
            out.push_str(&self.text[plain..at]);
            self.pos = at;
            match bytes.get(at) {
                None => return Err("a string without an end"),
                Some(b'"') => {
                    self.pos = at + 1;
                    return Ok(Cow::Owned(out));
                }
                Some(b'\\') => {}
                Some(_) => return Err("a control character in a string"),
            }
            at += 2;
            out.push(match bytes.get(at - 1) {
                Some(b'"') => '"',
                Some(b'\\') => '\\',
                Some(b'/') => '/',
                Some(b'b') => '\u{8}',
                Some(b'f') => '\u{c}',
                Some(b'n') => '\n',
                Some(b'r') => '\r',
                Some(b't') => '\t',
                Some(b'u') => {
                    let first = self.four(at)?;
                    at += 4;
                    let code = match first {
                        0xd800..=0xdbff => {
                            if bytes.get(at..at + 2) != Some(b"\\u") {
                                return Err("half of a surrogate pair");
                            }
                            let second = self.four(at + 2)?;
                            at += 6;
                            if !(0xdc00..=0xdfff).contains(&second) {
                                return Err("half of a surrogate pair");
                            }
                            0x10000 + ((first - 0xd800) << 10) + (second - 0xdc00)
                        }
                        other => other,
                    };
                    char::from_u32(code).ok_or("half of a surrogate pair")?
                }
                _ => return Err("an unknown escape"),
            });
        }
    }

    fn four(&self, at: usize) -> Parsed<u32> {
        let hex = self
            .text
            .as_bytes()
            .get(at..at + 4)
            .filter(|h| h.iter().all(u8::is_ascii_hexdigit))
            .ok_or("an unknown escape")?;
        Ok(hex
            .iter()
            .fold(0, |n, b| n * 16 + (*b as char).to_digit(16).unwrap_or(0)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #![proptest_config(ProptestConfig { cases: 2000, failure_persistence: None, ..ProptestConfig::default() })]

        /// Another parser takes and refuses the same texts, and finds the same values.
        #[test]
        fn it_agrees_with_another_parser(text in "[\\[\\]{},:\"\\\\ntrue/fals0-9eE.+ ud8c\n\u{1}é-]{0,24}") {
            let other = serde_json::from_str::<Value>(&text);
            let ours = Json::parse(text.as_bytes());
            prop_assert_eq!(other.is_ok(), ours.is_ok(), "{:?} {:?} {:?}", text, other, ours);
            if let (Ok(other), Ok(ours)) = (other, ours) {
                prop_assert_eq!(ours.to_value().to_string(), other.to_string());
                prop_assert_eq!(Json::of(&other).to_value().to_string(), other.to_string());
            }
        }
    }

    #[test]
    fn mistakes_have_a_place() {
        for (text, message) in [
            ("{\"a\": 01}", "invalid number at line 1 column 9"),
            ("{\n \"a\" 1}", "expected “:” at line 2 column 6"),
            ("[1, 2", "expected “,” or “]” at line 1 column 6"),
            (
                "\"\\ud800x\"",
                "half of a surrogate pair at line 1 column 2",
            ),
            ("1 2", "something behind the value at line 1 column 3"),
        ] {
            assert_eq!(
                Json::parse(text.as_bytes()).unwrap_err().to_string(),
                message,
                "{text}"
            );
        }
        assert!(
            Json::parse(b"\"\xff\"")
                .unwrap_err()
                .message
                .contains("UTF-8")
        );
        assert!(
            Json::parse("[".repeat(100_000).as_bytes())
                .unwrap_err()
                .message
                .contains("levels")
        );
        assert_eq!(
            Json::parse(r#""\ud834\udd1e\u00e9""#.as_bytes()),
            Ok(Json::String("𝄞é".into()))
        );
    }
}
