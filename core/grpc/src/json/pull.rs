//! A pull reader for JSON (RFC 8259): values are taken or passed over one by one, nothing is built.

use std::borrow::Cow;

use porch_contract::plain_in_json;

/// Where and why a text is no JSON.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("is no JSON: {message} at line {line}, column {column}")]
pub struct SyntaxError {
    /// What is wrong.
    pub message: &'static str,
    /// Line, from 1.
    pub line: usize,
    /// Column in characters, from 1.
    pub column: usize,
}

type Result<T> = std::result::Result<T, SyntaxError>;

/// What kind of value comes next.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[expect(missing_docs, reason = "the kinds of RFC 8259 §3")]
pub enum Next {
    Object,
    Array,
    String,
    Number,
    True,
    False,
    Null,
}

impl Next {
    /// In words, for messages.
    pub fn name(self) -> &'static str {
        match self {
            Next::Object => "an object",
            Next::Array => "an array",
            Next::String => "a text",
            Next::Number => "a number",
            Next::True | Next::False => "a boolean",
            Next::Null => "null",
        }
    }
}

/// Arrays and objects in one another, at most, when a value is passed over.
const MAX_NESTING: usize = 256;

/// The reader.
#[derive(Clone)]
pub struct Pull<'j> {
    /// The same twice: as a text, pieces of it are texts without being looked at again.
    whole: &'j str,
    text: &'j [u8],
    pos: usize,
}

impl<'j> Pull<'j> {
    /// A reader of a text.
    ///
    /// # Errors
    /// When it is not UTF-8 (RFC 8259 §8.1).
    pub fn new(text: &'j [u8]) -> Result<Self> {
        let start = if text.starts_with(b"\xef\xbb\xbf") {
            3
        } else {
            0
        };
        match std::str::from_utf8(text) {
            Ok(whole) => Ok(Self {
                whole,
                text,
                pos: start,
            }),
            Err(e) => Err(Self {
                whole: "",
                text,
                pos: e.valid_up_to(),
            }
            .error("bytes that are not UTF-8")),
        }
    }

    /// Where it stands.
    pub fn position(&self) -> usize {
        self.pos
    }

    /// Goes back to a place that it was at before.
    pub fn rewind(&mut self, position: usize) {
        self.pos = position;
    }

    /// An error where it stands.
    pub fn error(&self, message: &'static str) -> SyntaxError {
        let before = &self.text[..self.pos.min(self.text.len())];
        let line_start = before
            .iter()
            .rposition(|b| *b == b'\n')
            .map_or(0, |i| i + 1);
        let line = before.iter().filter(|b| **b == b'\n').count() + 1;
        let column = before[line_start..]
            .iter()
            .filter(|b| **b & 0xc0 != 0x80)
            .count()
            + 1;
        SyntaxError {
            message,
            line,
            column,
        }
    }

    #[inline]
    fn blank(&mut self) {
        while let Some(b' ' | b'\n' | b'\r' | b'\t') = self.text.get(self.pos) {
            self.pos += 1;
        }
    }

    /// What comes next.
    ///
    /// # Errors
    /// When no value does.
    #[inline]
    pub fn peek(&mut self) -> Result<Next> {
        self.blank();
        match self.text.get(self.pos) {
            Some(b'"') => Ok(Next::String),
            Some(b'{') => Ok(Next::Object),
            Some(b'[') => Ok(Next::Array),
            Some(b'-' | b'0'..=b'9') => Ok(Next::Number),
            Some(b't') => Ok(Next::True),
            Some(b'f') => Ok(Next::False),
            Some(b'n') => Ok(Next::Null),
            Some(_) => Err(self.error("a character where a value should begin")),
            None => Err(self.error("the end where a value should begin")),
        }
    }

    fn word(&mut self, word: &'static str) -> Result<()> {
        if self.text[self.pos..].starts_with(word.as_bytes()) {
            self.pos += word.len();
            return Ok(());
        }
        Err(self.error("a word that is none of true, false and null"))
    }

    /// Takes `null`, when that comes next.
    ///
    /// # Errors
    /// When no value comes.
    #[inline]
    pub fn null(&mut self) -> Result<bool> {
        if self.peek()? != Next::Null {
            return Ok(false);
        }
        self.word("null").map(|()| true)
    }

    /// Takes a boolean.
    ///
    /// # Errors
    /// When none comes.
    pub fn boolean(&mut self) -> Result<bool> {
        if self.peek()? == Next::True {
            self.word("true").map(|()| true)
        } else {
            self.word("false").map(|()| false)
        }
    }

    /// Takes the text of a number.
    ///
    /// # Errors
    /// When it breaks the grammar of RFC 8259 §6.
    pub fn number(&mut self) -> Result<&'j str> {
        self.blank();
        let start = self.pos;
        let digits = |r: &mut Self| -> Result<()> {
            let from = r.pos;
            while r.text.get(r.pos).is_some_and(u8::is_ascii_digit) {
                r.pos += 1;
            }
            if r.pos == from {
                Err(r.error("a number without a digit where one must be"))
            } else {
                Ok(())
            }
        };
        if self.text.get(self.pos) == Some(&b'-') {
            self.pos += 1;
        }
        if self.text.get(self.pos) == Some(&b'0') {
            self.pos += 1;
            if self.text.get(self.pos).is_some_and(u8::is_ascii_digit) {
                return Err(self.error("a number with a leading zero"));
            }
        } else {
            digits(self)?;
        }
        if self.text.get(self.pos) == Some(&b'.') {
            self.pos += 1;
            digits(self)?;
        }
        if let Some(b'e' | b'E') = self.text.get(self.pos) {
            self.pos += 1;
            if let Some(b'+' | b'-') = self.text.get(self.pos) {
                self.pos += 1;
            }
            digits(self)?;
        }
        Ok(&self.whole[start..self.pos])
    }

    /// Takes a string; borrowed unless something in it is escaped.
    ///
    /// # Errors
    /// When it breaks the grammar of RFC 8259 §7.
    #[inline]
    pub fn string(&mut self) -> Result<Cow<'j, str>> {
        self.blank();
        if self.text.get(self.pos) != Some(&b'"') {
            return Err(self.error("a character where a text should begin"));
        }
        self.pos += 1;
        let start = self.pos;
        self.pos += plain_in_json(&self.text[start..]);
        loop {
            match self.text.get(self.pos) {
                Some(b'"') => {
                    let found = &self.whole[start..self.pos];
                    self.pos += 1;
                    return Ok(Cow::Borrowed(found));
                }
                Some(b'\\') => return self.escaped(start).map(Cow::Owned),
                Some(0..=0x1f) => return Err(self.error("a control character in a text")),
                Some(_) => self.pos += 1,
                None => return Err(self.error("the end in the middle of a text")),
            }
        }
    }

    fn escaped(&mut self, start: usize) -> Result<String> {
        let mut out = self.text[start..self.pos].to_vec();
        loop {
            let b = *self
                .text
                .get(self.pos)
                .ok_or_else(|| self.error("the end in the middle of a text"))?;
            match b {
                b'"' => {
                    self.pos += 1;
                    return String::from_utf8(out)
                        .map_err(|_| self.error("bytes that are not UTF-8"));
                }
                0..=0x1f => return Err(self.error("a control character in a text")),
                b'\\' => {
                    let c = self.escape()?;
                    out.extend_from_slice(c.encode_utf8(&mut [0; 4]).as_bytes());
                }
                other => {
                    out.push(other);
                    self.pos += 1;
                }
            }
        }
    }

    fn escape(&mut self) -> Result<char> {
        self.pos += 1;
        let kind = self.text.get(self.pos).copied();
        self.pos += 1;
        Ok(match kind {
            Some(b'"') => '"',
            Some(b'\\') => '\\',
            Some(b'/') => '/',
            Some(b'b') => '\u{8}',
            Some(b'f') => '\u{c}',
            Some(b'n') => '\n',
            Some(b'r') => '\r',
            Some(b't') => '\t',
            Some(b'u') => {
                let high = self.hex()?;
                let code = if (0xd800..0xdc00).contains(&high) {
                    if !self.text[self.pos.min(self.text.len())..].starts_with(b"\\u") {
                        return Err(self.error("half of a surrogate pair"));
                    }
                    self.pos += 2;
                    let low = self.hex()?;
                    if !(0xdc00..0xe000).contains(&low) {
                        return Err(self.error("half of a surrogate pair"));
                    }
                    0x10000 + ((high - 0xd800) << 10) + (low - 0xdc00)
                } else {
                    high
                };
                char::from_u32(code).ok_or_else(|| self.error("half of a surrogate pair"))?
            }
            _ => {
                self.pos -= 1;
                return Err(self.error("an escape that JSON does not have"));
            }
        })
    }

    fn hex(&mut self) -> Result<u32> {
        let digits = self
            .text
            .get(self.pos..self.pos + 4)
            .filter(|d| d.iter().all(u8::is_ascii_hexdigit));
        let code = digits
            .and_then(|d| std::str::from_utf8(d).ok())
            .and_then(|d| u32::from_str_radix(d, 16).ok());
        match code {
            Some(code) => {
                self.pos += 4;
                Ok(code)
            }
            None => Err(self.error("an escape without four hexadecimal digits")),
        }
    }

    /// Enters an object or array.
    ///
    /// # Errors
    /// When none begins here.
    #[inline]
    pub fn enter(&mut self) -> Result<()> {
        match self.peek()? {
            Next::Object | Next::Array => {
                self.pos += 1;
                Ok(())
            }
            _ => Err(self.error("a value where an object or array should begin")),
        }
    }

    /// Moves to the next element of an array; false behind the last.
    ///
    /// # Errors
    /// When neither a comma nor the end comes.
    #[inline]
    pub fn element(&mut self, first: bool) -> Result<bool> {
        self.more(first, b']', "a character where a comma or ] should be")
    }

    /// Moves to the next member of an object and takes its name; `None` behind the last.
    ///
    /// # Errors
    /// When the grammar is broken.
    #[inline]
    pub fn member(&mut self, first: bool) -> Result<Option<Cow<'j, str>>> {
        if !self.more(first, b'}', "a character where a comma or } should be")? {
            return Ok(None);
        }
        let name = self.string()?;
        self.blank();
        if self.text.get(self.pos) != Some(&b':') {
            return Err(self.error("a character where a colon should be"));
        }
        self.pos += 1;
        Ok(Some(name))
    }

    /// Takes a member's name with its marks, `"name":` or `,"name":`, when it comes next and is spelled just so.
    #[inline]
    pub(super) fn take(&mut self, marked: &[u8]) -> bool {
        let comes = !marked.is_empty() && self.text[self.pos..].starts_with(marked);
        if comes {
            self.pos += marked.len();
        }
        comes
    }

    #[inline]
    fn more(&mut self, first: bool, end: u8, message: &'static str) -> Result<bool> {
        self.blank();
        match self.text.get(self.pos) {
            Some(b) if *b == end => {
                self.pos += 1;
                Ok(false)
            }
            Some(b',') if !first => {
                self.pos += 1;
                self.blank();
                if self.text.get(self.pos) == Some(&end) {
                    return Err(self.error("a comma behind the last value"));
                }
                Ok(true)
            }
            Some(_) if first => Ok(true),
            Some(_) => Err(self.error(message)),
            None => Err(self.error("the end where more should come")),
        }
    }

    /// Passes over a value; gives its text.
    ///
    /// # Errors
    /// When the grammar is broken or it is nested too deeply.
    pub fn skip(&mut self) -> Result<&'j [u8]> {
        self.blank();
        let start = self.pos;
        // Per open container: whether it is an object, and whether its first value is still to come.
        let mut open: Vec<(bool, bool)> = Vec::new();
        loop {
            match self.peek()? {
                kind @ (Next::Object | Next::Array) => {
                    if open.len() >= MAX_NESTING {
                        return Err(self.error("too many arrays and objects in one another"));
                    }
                    self.pos += 1;
                    open.push((kind == Next::Object, true));
                }
                Next::String => drop(self.string()?),
                Next::Number => drop(self.number()?),
                Next::True | Next::False => drop(self.boolean()?),
                Next::Null => drop(self.null()?),
            }
            loop {
                let Some((object, first)) = open.last_mut() else {
                    return Ok(&self.text[start..self.pos]);
                };
                let (object, was_first) = (*object, std::mem::take(first));
                let more = if object {
                    self.member(was_first)?.is_some()
                } else {
                    self.element(was_first)?
                };
                if more {
                    break;
                }
                open.pop();
            }
        }
    }

    /// Whether nothing but white space is left.
    ///
    /// # Errors
    /// When something is.
    pub fn end(&mut self) -> Result<()> {
        self.blank();
        if self.pos == self.text.len() {
            Ok(())
        } else {
            Err(self.error("something behind the value"))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn skip(text: &[u8]) -> Result<()> {
        let mut pull = Pull::new(text)?;
        pull.skip()?;
        pull.end()
    }

    #[test]
    fn what_is_no_json_is_told_with_its_place() {
        for (text, line, column) in [
            ("{\"a\": tru}", 1, 7),
            ("[1,\n 2,]", 2, 4),
            ("{\"ä\" 1}", 1, 6),
            ("[01]", 1, 3),
            ("\"\\x\"", 1, 3),
            ("[1] 2", 1, 5),
            ("\"\\ud800x\"", 1, 8),
            ("", 1, 1),
        ] {
            let e = skip(text.as_bytes()).unwrap_err();
            assert_eq!((e.line, e.column), (line, column), "{text}: {e}");
        }
        assert!(skip(&b"[".repeat(100_000)).is_err());
        assert!(skip(b"\"\xff\"").is_err());
    }

    proptest! {
        #[test]
        fn what_is_json_is_what_another_reader_takes(text in "[\\[\\]{}:,\"a\\\\u0019e.+ \\-ntrue]{0,14}") {
            let other = serde_json::from_str::<serde_json::Value>(&text);
            prop_assert_eq!(skip(text.as_bytes()).is_ok(), other.is_ok(), "{:?}", other);
        }
    }
}
