//! A pull scanner for untrusted XML 1.0 with namespaces.
//!
//! It works on whatever part of the document has arrived: when a token is not complete yet, [`Token::More`] says so and
//! [`Scanner::consumed`] tells how much of the buffer may be let go. Nothing is ever fetched and nothing is expanded
//! but the five predefined entities and character references: a document type declaration is refused, so there is
//! nothing else to expand. Depth, names and attributes are bounded.

use memchr::{memchr, memmem};

use super::names::{is_name, name_end, qualified_end, skip_space};
use super::references::push_text;
use super::token::{Attribute, Token, XmlError};

mod leaf;

const MAX_DEPTH: usize = 512;
const MAX_ATTRIBUTES: usize = 256;
const MAX_TAG: usize = 1 << 20;

/// What may be long without being a tag.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Inside {
    Comment,
    Instruction,
    Section,
}

impl Inside {
    fn end(self) -> &'static [u8] {
        match self {
            Inside::Comment => b"--",
            Inside::Instruction => b"?>",
            Inside::Section => b"]]>",
        }
    }
}

/// The scanner's memory from one piece to the next.
#[derive(Debug, Default)]
pub struct Scanner {
    /// Open elements: the qualified names one behind the other, and where each begins.
    names: String,
    starts: Vec<(usize, usize)>,
    bindings: Vec<(String, String)>,
    attributes: Vec<(usize, usize, usize, usize)>,
    pos: usize,
    /// What has begun and not ended yet; its content is let go, or handed on, as it arrives.
    inside: Option<Inside>,
    base: u64,
    seen_root: bool,
    started: bool,
    close_pending: bool,
    doctype: bool,
}

impl Scanner {
    /// A scanner at the beginning of a document.
    pub fn new() -> Self {
        Self {
            // Most documents need no more.
            names: String::with_capacity(256),
            starts: Vec::with_capacity(16),
            ..Self::default()
        }
    }

    /// The same, passing by a document type declaration instead of refusing it: for definitions, whose parser replaces
    /// entities within bounds of its own.
    pub fn with_doctype(mut self) -> Self {
        self.doctype = true;
        self
    }

    /// Bytes of the current buffer that were used up.
    pub fn consumed(&self) -> usize {
        self.pos
    }

    /// Tells that the used-up bytes were removed from the front of the buffer.
    pub fn rebase(&mut self) {
        self.base += self.pos as u64;
        self.pos = 0;
    }

    /// How many elements are open.
    pub fn depth(&self) -> usize {
        self.starts.len()
    }

    /// The attributes of the start tag just returned, given the same buffer.
    pub fn attributes<'a>(
        &self,
        text: &'a str,
    ) -> impl Iterator<Item = Attribute<'a>> + use<'a, '_> {
        self.attributes.iter().map(|&(a, b, c, d)| Attribute {
            name: &text[a..b],
            value: &text[c..d],
        })
    }

    /// Whether the start tag just returned has attributes.
    pub fn has_attributes(&self) -> bool {
        !self.attributes.is_empty()
    }

    /// The namespace that a prefix stands for where the scanner is.
    pub fn resolve(&self, prefix: &str) -> Option<&str> {
        if prefix == "xml" {
            return Some("http://www.w3.org/XML/1998/namespace");
        }
        self.bindings
            .iter()
            .rev()
            .find(|(p, _)| p == prefix)
            .map(|(_, uri)| uri.as_str())
    }

    /// The next token of `text`, the buffer from its front; `last` when nothing will be appended to it.
    ///
    /// # Errors
    /// Whatever is not well-formed, with its offset in the document.
    pub fn next<'a>(&mut self, text: &'a str, last: bool) -> Result<Token<'a>, XmlError> {
        if !self.started && !text.is_empty() {
            self.started = true;
            if text.starts_with('\u{feff}') {
                self.pos = 3;
            }
        }
        if std::mem::take(&mut self.close_pending) {
            self.close();
        }
        loop {
            let found = match text.as_bytes().get(self.pos) {
                _ if self.inside.is_some() => self.go_on(text, last)?,
                None => return self.at_end(last),
                Some(b'<') => self.markup(text, last)?,
                Some(_) => self.characters(text, last)?,
            };
            if let Some(token) = found {
                return Ok(token);
            }
        }
    }

    /// Character data; `None` for the white space around the document's element.
    #[inline]
    fn characters<'a>(&mut self, text: &'a str, last: bool) -> Result<Option<Token<'a>>, XmlError> {
        let bytes = text.as_bytes();
        let end = memchr(b'<', &bytes[self.pos..]).map(|i| self.pos + i);
        let mut stop = end.unwrap_or(bytes.len());
        if end.is_none() && !last {
            // A reference must not be cut in two.
            if let Some(amp) = bytes[self.pos..stop].iter().rposition(|b| *b == b'&')
                && !bytes[self.pos + amp..stop].contains(&b';')
            {
                stop = self.pos + amp;
            } else if bytes[self.pos..stop].ends_with(b"\r") {
                // Nor must a line's end (XML 1.0 §2.11).
                stop -= 1;
            }
            if stop == self.pos {
                if bytes.len() - stop > 64 {
                    return self.fail("a reference without an end");
                }
                return Ok(Some(Token::More));
            }
        }
        let part = &text[self.pos..stop];
        if self.starts.is_empty() {
            if part.bytes().any(|b| !b.is_ascii_whitespace()) {
                return self.fail("text outside of the document's element");
            }
            self.pos = stop;
            return Ok(None);
        }
        self.pos = stop;
        Ok(Some(Token::Text {
            text: part,
            raw: true,
        }))
    }

    /// What begins with `<`; `None` for what is passed by.
    #[inline]
    fn markup<'a>(&mut self, text: &'a str, last: bool) -> Result<Option<Token<'a>>, XmlError> {
        match text.as_bytes().get(self.pos + 1) {
            None => self.incomplete(last).map(Some),
            Some(b'/') => self.end_tag(text, last).map(Some),
            Some(b'?') => self.begin(Inside::Instruction, 2),
            Some(b'!') => self.declaration(text, last),
            Some(_) => self.start_tag(text, last).map(Some),
        }
    }

    /// Comments, sections of character data, and the document type declaration.
    fn declaration<'a>(
        &mut self,
        text: &'a str,
        last: bool,
    ) -> Result<Option<Token<'a>>, XmlError> {
        let rest = &text.as_bytes()[self.pos..];
        if rest.starts_with(b"<!--") {
            return self.begin(Inside::Comment, 4);
        }
        if rest.starts_with(b"<![CDATA[") {
            if self.starts.is_empty() {
                return self.fail("text outside of the document's element");
            }
            return self.begin(Inside::Section, 9);
        }
        if self.doctype && !self.seen_root && rest.starts_with(b"<!DOCTYPE") {
            return match doctype_end(rest) {
                Some(i) => {
                    self.pos += i;
                    Ok(None)
                }
                None => self.incomplete(last).map(Some),
            };
        }
        if b"<![CDATA[".starts_with(rest) || b"<!--".starts_with(rest) {
            return self.incomplete(last).map(Some);
        }
        self.fail("a document type declaration (DTD) is not accepted")
    }

    fn begin<'a>(&mut self, inside: Inside, mark: usize) -> Result<Option<Token<'a>>, XmlError> {
        self.pos += mark;
        self.inside = Some(inside);
        Ok(None)
    }

    /// Goes on inside a comment, processing instruction or section of character data, whose end may arrive later.
    fn go_on<'a>(&mut self, text: &'a str, last: bool) -> Result<Option<Token<'a>>, XmlError> {
        let Some(inside) = self.inside else {
            return Ok(None);
        };
        let (from, end) = (self.pos, inside.end());
        let rest = &text.as_bytes()[from..];
        let part = match memmem::find(rest, end) {
            Some(i) if inside == Inside::Comment => match rest.get(i + end.len()) {
                Some(b'>') => {
                    self.pos += i + end.len() + 1;
                    self.inside = None;
                    return Ok(None);
                }
                Some(_) => return self.fail("“--” inside a comment"),
                None => {
                    self.pos += i;
                    return self.incomplete(last).map(Some);
                }
            },
            Some(i) => {
                self.pos += i + end.len();
                self.inside = None;
                &text[from..from + i]
            }
            None if last => return self.incomplete(last).map(Some),
            None => {
                // The mark may have come in part.
                let kept = text.len().saturating_sub(end.len() - 1);
                self.pos = text.floor_char_boundary(kept).max(from);
                &text[from..self.pos]
            }
        };
        if inside == Inside::Section && (self.inside.is_none() || !part.is_empty()) {
            return Ok(Some(Token::Text {
                text: part,
                raw: false,
            }));
        }
        Ok(self.inside.is_some().then_some(Token::More))
    }

    fn at_end<'a>(&self, last: bool) -> Result<Token<'a>, XmlError> {
        if !last {
            Ok(Token::More)
        } else if !self.starts.is_empty() {
            let (at, _) = self.starts[self.starts.len() - 1];
            self.fail(format!("cut off: <{}> is still open", &self.names[at..]))
        } else if !self.seen_root {
            self.fail("no element at all")
        } else {
            Ok(Token::Eof)
        }
    }

    fn incomplete<'a>(&self, last: bool) -> Result<Token<'a>, XmlError> {
        if last {
            self.fail("cut off in the middle of a tag")
        } else {
            Ok(Token::More)
        }
    }

    fn fail<T>(&self, message: impl Into<String>) -> Result<T, XmlError> {
        Err(XmlError {
            message: message.into(),
            offset: self.base + self.pos as u64,
        })
    }

    fn end_tag<'a>(&mut self, text: &'a str, last: bool) -> Result<Token<'a>, XmlError> {
        if let Some(end) = self.ends_at(text.as_bytes(), self.pos) {
            self.pos = end;
            self.close();
            return Ok(Token::End);
        }
        let rest = &text.as_bytes()[self.pos..];
        let Some(i) = memchr(b'>', rest) else {
            return self.incomplete(last);
        };
        let name = text[self.pos + 2..self.pos + i].trim_ascii_end();
        let Some(&(at, _)) = self.starts.last() else {
            return self.fail(format!("</{name}> ends nothing"));
        };
        if &self.names[at..] != name {
            return self.fail(format!(
                "</{name}> where </{}> was expected",
                &self.names[at..]
            ));
        }
        self.pos += i + 1;
        self.close();
        Ok(Token::End)
    }

    fn close(&mut self) {
        if let Some((at, bindings)) = self.starts.pop() {
            self.names.truncate(at);
            self.bindings.truncate(bindings);
        }
    }

    fn start_tag<'a>(&mut self, text: &'a str, last: bool) -> Result<Token<'a>, XmlError> {
        let bytes = text.as_bytes();
        let (mut i, colon) = qualified_end(bytes, self.pos + 1);
        if i == bytes.len() {
            return self.tag_incomplete(bytes.len(), last);
        }
        let name = &text[self.pos + 1..i];
        if !is_name(name) || !matches!(bytes[i], b' ' | b'\t' | b'\r' | b'\n' | b'>' | b'/') {
            return self.fail("“<” that begins no tag");
        }
        let name_range = (self.pos + 1, i);
        self.attributes.clear();
        let empty = loop {
            let before = i;
            i = skip_space(bytes, i);
            match bytes.get(i) {
                None => return self.tag_incomplete(bytes.len(), last),
                Some(b'>') => {
                    i += 1;
                    break false;
                }
                Some(b'/') => match bytes.get(i + 1) {
                    None => return self.tag_incomplete(bytes.len(), last),
                    Some(b'>') => {
                        i += 2;
                        break true;
                    }
                    _ => return self.fail("“/” inside a tag"),
                },
                Some(_) if before == i => {
                    return self.fail("white space is missing before an attribute");
                }
                Some(_) => match self.attribute(text, i)? {
                    Some(end) => i = end,
                    None => return self.tag_incomplete(bytes.len(), last),
                },
            }
        };
        self.open(text, name_range)?;
        let name = &text[name_range.0..name_range.1];
        let (prefix, local) = match colon {
            Some(at) => (&text[self.pos + 1..at], &text[at + 1..name_range.1]),
            None => ("", name),
        };
        self.pos = i;
        // Its bindings are needed for its own name and attributes; it is closed when the next token is asked for.
        self.close_pending = empty;
        match self.resolve_name(prefix) {
            Some(_) => Ok(Token::Start {
                prefix,
                local,
                empty,
            }),
            None => self.fail(format!("the prefix “{prefix}” is bound to no namespace")),
        }
    }

    /// An attribute, and where it ends; `None` when it is not complete.
    #[inline]
    fn attribute(&mut self, text: &str, from: usize) -> Result<Option<usize>, XmlError> {
        let bytes = text.as_bytes();
        let name_to = name_end(bytes, from);
        let name = &text[from..name_to];
        let equals = skip_space(bytes, name_to);
        match bytes.get(equals) {
            None => return Ok(None),
            Some(b'=') if is_name(name) => {}
            _ => return self.fail("an attribute without “=”"),
        }
        let open = skip_space(bytes, equals + 1);
        let quote = match bytes.get(open) {
            None => return Ok(None),
            Some(q @ (b'"' | b'\'')) => *q,
            Some(_) => return self.fail("an attribute's value without quotes"),
        };
        let Some(len) = memchr(quote, &bytes[open + 1..]) else {
            return Ok(None);
        };
        let (start, end) = (open + 1, open + 1 + len);
        if bytes[start..end].contains(&b'<') {
            return self.fail("“<” inside an attribute's value");
        }
        let mut others = self.attributes.iter();
        if others.any(|&(a, b, ..)| &text[a..b] == name) {
            return self.fail(format!("the attribute {name} stands twice"));
        }
        if self.attributes.len() == MAX_ATTRIBUTES {
            return self.fail(format!("more than {MAX_ATTRIBUTES} attributes"));
        }
        self.attributes.push((from, name_to, start, end));
        Ok(Some(end + 1))
    }

    fn resolve_name(&self, prefix: &str) -> Option<&str> {
        match self.resolve(prefix) {
            Some(uri) => Some(uri),
            None if prefix.is_empty() => Some(""),
            None => None,
        }
    }

    fn tag_incomplete<'a>(&self, len: usize, last: bool) -> Result<Token<'a>, XmlError> {
        if len - self.pos > MAX_TAG {
            return self.fail("a tag of more than 1 MiB");
        }
        self.incomplete(last)
    }

    fn open(&mut self, text: &str, (from, to): (usize, usize)) -> Result<(), XmlError> {
        if self.starts.is_empty() && self.seen_root {
            return self.fail("a second element beside the document's element");
        }
        if self.starts.len() == MAX_DEPTH {
            return self.fail(format!("nested more than {MAX_DEPTH} levels deep"));
        }
        self.seen_root = true;
        self.starts.push((self.names.len(), self.bindings.len()));
        self.names.push_str(&text[from..to]);
        for k in 0..self.attributes.len() {
            let (a, b, c, d) = self.attributes[k];
            let (name, value) = (&text[a..b], &text[c..d]);
            let prefix = match name.strip_prefix("xmlns") {
                Some("") => "",
                Some(rest) if rest.starts_with(':') => &rest[1..],
                _ => continue,
            };
            let mut uri = String::new();
            if push_text(&mut uri, value).is_err() {
                return self.fail("a namespace with an unknown reference");
            }
            if self.bindings.len() > 1000 {
                return self.fail("more than 1000 namespace declarations at once");
            }
            self.bindings.push((prefix.to_owned(), uri));
        }
        Ok(())
    }
}

/// Where a document type declaration ends (XML 1.0 §2.8): at the `>` outside of quotes, comments and brackets.
fn doctype_end(bytes: &[u8]) -> Option<usize> {
    let (mut i, mut inside) = (0, 0usize);
    while let Some(b) = bytes.get(i) {
        match b {
            b'"' | b'\'' => i += 1 + memchr(*b, &bytes[i + 1..])?,
            b'<' if bytes[i..].starts_with(b"<!--") => i += memmem::find(&bytes[i..], b"-->")? + 2,
            b'<' => inside += 1,
            b'>' => {
                inside -= 1;
                if inside == 0 {
                    return Some(i + 1);
                }
            }
            _ => {}
        }
        i += 1;
    }
    None
}

#[cfg(test)]
mod tests;
