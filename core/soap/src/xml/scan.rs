//! A pull scanner for untrusted XML 1.0 with namespaces.
//!
//! It works on whatever part of the document has arrived: when a token is not complete yet, [`Token::More`] says so and
//! [`Scanner::consumed`] tells how much of the buffer may be let go. Nothing is ever fetched and nothing is expanded
//! but the five predefined entities and character references: a document type declaration is refused, so there is
//! nothing else to expand. Depth, names and attributes are bounded.

use memchr::{memchr, memmem};

/// What is wrong with a document.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{message}")]
pub struct XmlError {
    /// What is wrong.
    pub message: String,
    /// Bytes of the document before the place.
    pub offset: u64,
}

/// One attribute; the value is as written, references not yet replaced.
#[derive(Clone, Copy, Debug)]
pub struct Attribute<'a> {
    /// The qualified name.
    pub name: &'a str,
    /// The raw value.
    pub value: &'a str,
}

/// What comes next in a document.
#[derive(Debug)]
pub enum Token<'a> {
    /// A start tag; `empty` when it ends the element as well (no [`Token::End`] follows then).
    Start {
        /// Prefix, bound to a namespace for sure ([`Scanner::resolve`]) or empty.
        prefix: &'a str,
        /// Local name.
        local: &'a str,
        /// `<name/>`.
        empty: bool,
    },
    /// An end tag.
    End,
    /// Character data; `raw` when references must still be replaced ([`push_text`]).
    Text {
        /// The text.
        text: &'a str,
        /// Whether it may hold references.
        raw: bool,
    },
    /// The token is not complete in the bytes at hand.
    More,
    /// The end of a well-formed document.
    Eof,
}

const MAX_DEPTH: usize = 512;
const MAX_ATTRIBUTES: usize = 256;
const MAX_TAG: usize = 1 << 20;

/// The scanner's memory from one piece to the next.
#[derive(Debug, Default)]
pub struct Scanner {
    /// Open elements: the qualified names one behind the other, and where each begins.
    names: String,
    starts: Vec<(usize, usize)>,
    bindings: Vec<(String, String)>,
    attributes: Vec<(usize, usize, usize, usize)>,
    pos: usize,
    base: u64,
    seen_root: bool,
    started: bool,
    close_pending: bool,
    doctype: bool,
}

impl Scanner {
    /// A scanner at the beginning of a document.
    pub fn new() -> Self {
        Self::default()
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
            let bytes = text.as_bytes();
            if self.pos >= bytes.len() {
                return self.at_end(last);
            }
            if bytes[self.pos] != b'<' {
                let end = memchr(b'<', &bytes[self.pos..]).map(|i| self.pos + i);
                let complete = end.is_some() || last;
                let mut stop = end.unwrap_or(bytes.len());
                if !complete {
                    // A reference must not be cut in two.
                    if let Some(amp) = bytes[self.pos..stop].iter().rposition(|b| *b == b'&')
                        && !bytes[self.pos + amp..stop].contains(&b';')
                    {
                        stop = self.pos + amp;
                    }
                    if stop == self.pos {
                        return if bytes.len() - stop > 64 {
                            self.fail("a reference without an end")
                        } else {
                            Ok(Token::More)
                        };
                    }
                }
                let from = self.pos;
                let part = &text[from..stop];
                if self.starts.is_empty() {
                    if part.bytes().any(|b| !b.is_ascii_whitespace()) {
                        return self.fail("text outside of the document's element");
                    }
                    self.pos = stop;
                    continue;
                }
                self.pos = stop;
                return Ok(Token::Text {
                    text: part,
                    raw: true,
                });
            }
            let rest = &bytes[self.pos..];
            match rest.get(1) {
                None => return self.incomplete(last),
                Some(b'/') => return self.end_tag(text, last),
                Some(b'?') => match memmem::find(rest, b"?>") {
                    Some(i) => self.pos += i + 2,
                    None => return self.incomplete(last),
                },
                Some(b'!') => {
                    if rest.starts_with(b"<!--") {
                        match memmem::find(&rest[4..], b"--") {
                            Some(i) if rest.get(4 + i + 2) == Some(&b'>') => self.pos += 4 + i + 3,
                            Some(i) if rest.get(4 + i + 2).is_some() => {
                                return self.fail("“--” inside a comment");
                            }
                            _ => return self.incomplete(last),
                        }
                    } else if rest.starts_with(b"<![CDATA[") {
                        let Some(i) = memmem::find(rest, b"]]>") else {
                            return self.incomplete(last);
                        };
                        if self.starts.is_empty() {
                            return self.fail("text outside of the document's element");
                        }
                        let from = self.pos + 9;
                        self.pos += i + 3;
                        return Ok(Token::Text {
                            text: &text[from..from + i - 9],
                            raw: false,
                        });
                    } else if self.doctype && !self.seen_root && rest.starts_with(b"<!DOCTYPE") {
                        match doctype_end(rest) {
                            Some(i) => self.pos += i,
                            None => return self.incomplete(last),
                        }
                    } else if b"<![CDATA[".starts_with(rest) || b"<!--".starts_with(rest) {
                        return self.incomplete(last);
                    } else {
                        return self.fail("a document type declaration (DTD) is not accepted");
                    }
                }
                Some(_) => return self.start_tag(text, last),
            }
        }
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
        let mut i = self.pos + 1;
        i = name_end(bytes, i);
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
                Some(_) => {
                    let from = i;
                    i = name_end(bytes, i);
                    let name_to = i;
                    i = skip_space(bytes, i);
                    match bytes.get(i) {
                        None => return self.tag_incomplete(bytes.len(), last),
                        Some(b'=') if is_name(&text[from..name_to]) => {}
                        _ => return self.fail("an attribute without “=”"),
                    }
                    i = skip_space(bytes, i + 1);
                    let quote = match bytes.get(i) {
                        None => return self.tag_incomplete(bytes.len(), last),
                        Some(q @ (b'"' | b'\'')) => *q,
                        Some(_) => return self.fail("an attribute's value without quotes"),
                    };
                    let Some(len) = memchr(quote, &bytes[i + 1..]) else {
                        return self.tag_incomplete(bytes.len(), last);
                    };
                    let value = (i + 1, i + 1 + len);
                    if bytes[value.0..value.1].contains(&b'<') {
                        return self.fail("“<” inside an attribute's value");
                    }
                    i = value.1 + 1;
                    let name = &text[from..name_to];
                    if self
                        .attributes
                        .iter()
                        .any(|&(a, b, ..)| &text[a..b] == name)
                    {
                        return self.fail(format!("the attribute {name} stands twice"));
                    }
                    if self.attributes.len() == MAX_ATTRIBUTES {
                        return self.fail(format!("more than {MAX_ATTRIBUTES} attributes"));
                    }
                    self.attributes.push((from, name_to, value.0, value.1));
                }
            }
        };
        self.open(text, name_range)?;
        self.pos = i;
        let name = &text[name_range.0..name_range.1];
        let (prefix, local) = name.split_once(':').unwrap_or(("", name));
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

/// Appends character data with its references replaced and line ends made line feeds (XML 1.0 §2.11).
///
/// # Errors
/// The reference that is unknown or names no character.
pub fn push_text(out: &mut String, raw: &str) -> Result<(), String> {
    let mut rest = raw;
    while let Some(i) = memchr::memchr2(b'&', b'\r', rest.as_bytes()) {
        out.push_str(&rest[..i]);
        rest = &rest[i..];
        if rest.starts_with('\r') {
            out.push('\n');
            rest = rest[1..].strip_prefix('\n').unwrap_or(&rest[1..]);
            continue;
        }
        let end = rest
            .bytes()
            .take(16)
            .position(|b| b == b';')
            .ok_or_else(|| "a reference without an end".to_owned())?;
        let name = &rest[1..end];
        out.push(match name {
            "lt" => '<',
            "gt" => '>',
            "amp" => '&',
            "apos" => '\'',
            "quot" => '"',
            _ => {
                char_reference(name).ok_or_else(|| format!("the reference &{name}; is unknown"))?
            }
        });
        rest = &rest[end + 1..];
    }
    out.push_str(rest);
    Ok(())
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

/// Appends an attribute's value with its references replaced; line ends and tabs that stand there themselves are blanks
/// (XML 1.0 §3.3.3).
///
/// # Errors
/// As [`push_text`].
pub fn push_attribute(out: &mut String, raw: &str) -> Result<(), String> {
    if !raw.contains(['\t', '\n', '\r']) {
        return push_text(out, raw);
    }
    push_text(
        out,
        &raw.replace("\r\n", " ").replace(['\t', '\n', '\r'], " "),
    )
}

fn char_reference(name: &str) -> Option<char> {
    let digits = name.strip_prefix('#')?;
    let code = match digits.strip_prefix('x') {
        Some(hex) => u32::from_str_radix(hex, 16).ok()?,
        None => digits.parse().ok()?,
    };
    let c = char::from_u32(code)?;
    (c >= ' ' || matches!(c, '\t' | '\n' | '\r')).then_some(c)
}

/// What a byte can be in a name: 1 anywhere, 2 not at the front. Bytes of characters beyond ASCII are taken as such.
const NAME: [u8; 256] = {
    let mut table = [0; 256];
    let mut b = 0;
    while b < 256 {
        table[b] = match b as u8 {
            b'A'..=b'Z' | b'a'..=b'z' | b'_' | 0x80..=0xff => 1,
            b'0'..=b'9' | b'-' | b'.' | b':' => 2,
            _ => 0,
        };
        b += 1;
    }
    table
};

fn name_end(bytes: &[u8], mut i: usize) -> usize {
    while let Some(b) = bytes.get(i) {
        if NAME[*b as usize] == 0 {
            break;
        }
        i += 1;
    }
    i
}

fn skip_space(bytes: &[u8], mut i: usize) -> usize {
    while matches!(bytes.get(i), Some(b' ' | b'\t' | b'\r' | b'\n')) {
        i += 1;
    }
    i
}

/// Whether a text that is made of the bytes of names can be a qualified name.
fn is_name(name: &str) -> bool {
    name.bytes().next().is_some_and(|b| NAME[b as usize] == 1)
}
