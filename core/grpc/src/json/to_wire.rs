//! JSON bytes to wire bytes.
//!
//! Fields are written in the order in which JSON has them, which the encoding allows. Lengths are written as one byte and
//! widened behind the content when it turns out longer. Every mistake is told with a JSON Pointer, not just the first.

use std::borrow::Cow;

use super::pull::{Next, Pull, SyntaxError};
use super::unfit::Unfit;
use super::varint::{put_varint, varint};
use crate::types::*;

/// One thing that does not fit.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Mistake {
    /// JSON Pointer to it (RFC 6901).
    pub pointer: String,
    /// What is wrong.
    pub message: String,
}

/// Why a JSON text is no message.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum JsonError {
    /// It is no JSON.
    Syntax(SyntaxError),
    /// It is not this message's JSON.
    Mistakes(Vec<Mistake>),
}

impl std::fmt::Display for JsonError {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            JsonError::Syntax(e) => e.fmt(f),
            JsonError::Mistakes(list) => f.write_str(
                &list
                    .iter()
                    .map(|m| format!("{} {}", m.pointer, m.message))
                    .collect::<Vec<_>>()
                    .join("; "),
            ),
        }
    }
}

impl From<SyntaxError> for JsonError {
    fn from(e: SyntaxError) -> Self {
        JsonError::Syntax(e)
    }
}

pub(super) type Result<T> = std::result::Result<T, SyntaxError>;

/// Mistakes told, at most.
const MAX_MISTAKES: usize = 50;

/// Fields that stood in an object already.
#[derive(Default)]
struct Seen {
    low: u64,
    /// A bit for each of those behind the first 64.
    rest: Vec<u64>,
    oneofs: Vec<(u16, u16)>,
}

impl Seen {
    /// Whether it is the first time.
    fn first(&mut self, index: usize) -> bool {
        let bit = 1u64 << (index % 64);
        let word = match index / 64 {
            0 => &mut self.low,
            n => {
                if self.rest.len() < n {
                    self.rest.resize(n, 0);
                }
                &mut self.rest[n - 1]
            }
        };
        let first = *word & bit == 0;
        *word |= bit;
        first
    }

    fn has(&self, index: usize) -> bool {
        let word = match index / 64 {
            0 => Some(&self.low),
            n => self.rest.get(n - 1),
        };
        word.is_some_and(|w| w & (1 << (index % 64)) != 0)
    }
}

fn needs(field: &Field) -> String {
    format!("needs “{}”", field.json)
}

/// Writes the wire while it reads JSON.
pub(crate) struct ToWire<'t, 'j, 'o> {
    pub(super) types: &'t Types,
    pub(super) options: JsonOptions,
    pub(super) json: Pull<'j>,
    pub(super) out: &'o mut Vec<u8>,
    pub(super) mistakes: Vec<Mistake>,
    /// Whether defaults are written too, because they must win over what stands before.
    explicit: bool,
    /// Whether values are texts of a path or query, where numbers cannot be told from names.
    pub(super) texts: bool,
}

impl Types {
    /// Appends the wire bytes of a message's JSON.
    ///
    /// # Errors
    /// See [`JsonError`]; what was appended is of no use then.
    pub fn to_wire(
        &self,
        message: MessageId,
        json: &[u8],
        options: JsonOptions,
        out: &mut Vec<u8>,
    ) -> std::result::Result<(), JsonError> {
        self.read(json, options, false, out, |r| r.message(message, 0))
    }

    /// The same for a message some of whose fields are given elsewhere, so that they need not be in the JSON.
    ///
    /// # Errors
    /// See [`JsonError`]; what was appended is of no use then.
    pub fn to_wire_beside(
        &self,
        message: MessageId,
        json: &[u8],
        options: JsonOptions,
        given: &[u32],
        out: &mut Vec<u8>,
    ) -> std::result::Result<(), JsonError> {
        let of = self.message(message);
        let elsewhere = |m: &Mistake| {
            m.pointer.is_empty()
                && of
                    .fields
                    .iter()
                    .any(|f| given.contains(&f.number) && m.message == needs(f))
        };
        self.read(json, options, false, out, |r| {
            r.message(message, 0)?;
            r.mistakes.retain(|m| !elsewhere(m));
            Ok(())
        })
    }

    /// The same for a message that is laid over what stands in `out` already: its members win, also with their defaults.
    ///
    /// # Errors
    /// See [`JsonError`].
    pub fn lay_over(
        &self,
        message: MessageId,
        json: &[u8],
        options: JsonOptions,
        out: &mut Vec<u8>,
    ) -> std::result::Result<(), JsonError> {
        self.read(json, options, true, out, |r| r.message(message, 0))
    }

    /// Appends one field of a message whose value is the whole JSON: what `body` names.
    ///
    /// # Errors
    /// See [`JsonError`].
    pub fn field_to_wire(
        &self,
        field: &Field,
        json: &[u8],
        options: JsonOptions,
        out: &mut Vec<u8>,
    ) -> std::result::Result<(), JsonError> {
        self.read(json, options, false, out, |r| r.field(field, 0))
    }

    fn read(
        &self,
        json: &[u8],
        options: JsonOptions,
        explicit: bool,
        out: &mut Vec<u8>,
        with: impl FnOnce(&mut ToWire<'_, '_, '_>) -> Result<()>,
    ) -> std::result::Result<(), JsonError> {
        let mut to_wire = ToWire {
            types: self,
            options,
            json: Pull::new(json)?,
            out,
            mistakes: Vec::new(),
            explicit,
            texts: false,
        };
        with(&mut to_wire)?;
        to_wire.json.end()?;
        if to_wire.mistakes.is_empty() {
            Ok(())
        } else {
            Err(JsonError::Mistakes(to_wire.mistakes))
        }
    }

    /// Appends one scalar, or well-known message with a text form, from the text of a path or query.
    pub(crate) fn text_to_wire(
        &self,
        kind: Kind,
        text: &str,
        out: &mut Vec<u8>,
    ) -> std::result::Result<(), Unfit> {
        let mut r = ToWire {
            types: self,
            options: JsonOptions::default(),
            json: Pull::new(b"")?,
            out,
            mistakes: Vec::new(),
            explicit: true,
            texts: true,
        };
        r.text(kind, text)
    }
}

impl ToWire<'_, '_, '_> {
    pub(super) fn mistake(&mut self, message: impl Into<String>) {
        if self.mistakes.len() < MAX_MISTAKES {
            self.mistakes.push(Mistake {
                pointer: String::new(),
                message: message.into(),
            });
        }
    }

    /// Puts a step before the pointers of the mistakes found since.
    pub(super) fn below(&mut self, since: usize, step: &str) {
        for mistake in &mut self.mistakes[since..] {
            mistake.pointer.insert_str(
                0,
                &format!("/{}", step.replace('~', "~0").replace('/', "~1")),
            );
        }
    }

    pub(super) fn wrong(&mut self, wanted: &str) -> Result<()> {
        let next = self.json.peek()?;
        self.json.skip()?;
        self.mistake(format!("must be {wanted}, not {}", next.name()));
        Ok(())
    }

    /// Opens a length-delimited value; to be closed with what this gives.
    pub(super) fn open(&mut self) -> usize {
        self.out.push(0);
        self.out.len()
    }

    pub(super) fn close(&mut self, start: usize) {
        let len = self.out.len() - start;
        if len < 0x80 {
            self.out[start - 1] = len as u8;
            return;
        }
        let (bytes, width) = varint(len as u64);
        self.out.resize(self.out.len() + width - 1, 0);
        self.out.copy_within(start..start + len, start + width - 1);
        self.out[start - 1..start - 1 + width].copy_from_slice(&bytes[..width]);
    }

    pub(super) fn message(&mut self, id: MessageId, depth: usize) -> Result<()> {
        let of = self.types.message(id);
        if depth > MAX_DEPTH {
            self.json.skip()?;
            self.mistake("lies in more than 100 messages");
            return Ok(());
        }
        if let Some(known) = of.well_known {
            return self.known(known, of, depth);
        }
        if self.json.peek()? != Next::Object {
            return self.wrong("an object");
        }
        self.members(of, depth, false)
    }

    /// The members of an object; `typed` when it is an `Any`, which has its type among them.
    pub(super) fn members(&mut self, of: &MessageType, depth: usize, typed: bool) -> Result<()> {
        self.json.enter()?;
        let (mut first, mut seen, mut guess) = (true, Seen::default(), 0);
        loop {
            let guessed = of.fields.get(guess);
            let (name, index) = match guessed.filter(|f| self.json.take(f.key.text(first))) {
                // Most come in the order of their fields.
                Some(field) => (Cow::Borrowed(&*field.json), Some(guess)),
                None => match self.json.member(first)? {
                    Some(name) => {
                        let index = of.names.get(&*name).map(|i| usize::from(*i));
                        (name, index)
                    }
                    None => break,
                },
            };
            first = false;
            let Some(index) = index else {
                if !(typed && name == "@type") {
                    self.unknown(of, &name)?;
                } else {
                    self.json.skip()?;
                }
                continue;
            };
            guess = index + 1;
            let field = &of.fields[index];
            let since = self.mistakes.len();
            self.once(of, field, index, &mut seen);
            self.field(field, depth)?;
            if self.mistakes.len() > since {
                self.below(since, &name);
            }
        }
        // What is laid over another message is a part of it.
        if of.any_required && !self.explicit {
            let must = self.options.required;
            let needed = |f: &Field| f.required || (must && f.must && !f.output_only);
            for (i, field) in of.fields.iter().enumerate().filter(|(_, f)| needed(f)) {
                if !seen.has(i) {
                    self.mistake(needs(field));
                }
            }
        }
        Ok(())
    }

    /// A field stands once, and only one of a choice does; `null` counts for neither.
    fn once(&mut self, of: &MessageType, field: &Field, index: usize, seen: &mut Seen) {
        if !seen.first(index) {
            return self.mistake("stands twice");
        }
        let Some(choice) = field.oneof else { return };
        let is_null = matches!(self.json.peek(), Ok(Next::Null)) && !self.takes_null(field);
        if is_null {
            return;
        }
        if let Some((_, other)) = seen.oneofs.iter().find(|(c, _)| *c == choice) {
            let message = format!(
                "cannot stand beside “{}”: only one of {} can",
                of.fields[usize::from(*other)].json,
                of.oneofs.get(usize::from(choice)).map_or("them", |n| n)
            );
            return self.mistake(message);
        }
        seen.oneofs.push((choice, index as u16));
    }

    pub(super) fn takes_null(&self, field: &Field) -> bool {
        match field.kind {
            Kind::Enum(id) => self.types.enumeration(id).null,
            Kind::Message(id) => self.types.message(id).well_known == Some(WellKnown::Value),
            _ => false,
        }
    }

    fn unknown(&mut self, of: &MessageType, name: &str) -> Result<()> {
        self.json.skip()?;
        // Whoever sends a million names nobody knows is not told of each what may have been meant.
        if !self.options.ignore_unknown && self.mistakes.len() < MAX_MISTAKES {
            let near = porch_contract::suggest(name, of.fields.iter().map(|f| &*f.json));
            let since = self.mistakes.len();
            match near {
                Some(near) => {
                    self.mistake(format!("is not known here; did you mean “{near}”?"));
                }
                None => self.mistake("is not known here".to_owned()),
            }
            self.below(since, name);
        }
        Ok(())
    }

    /// The value of a field, with its tag.
    fn field(&mut self, field: &Field, depth: usize) -> Result<()> {
        if self.json.peek()? == Next::Null && (field.is_many() || !self.takes_null(field)) {
            self.json.null()?;
            return Ok(());
        }
        match field.cardinality {
            Cardinality::Single => self.single(field, depth),
            Cardinality::Repeated => self.list(field, depth),
            Cardinality::Map { key } => self.map(field, key, depth),
        }
    }

    pub(super) fn single(&mut self, field: &Field, depth: usize) -> Result<()> {
        let start = self.out.len();
        self.out.extend_from_slice(field.tag.bytes());
        let content = self.out.len();
        self.value(field.kind, depth)?;
        if let Kind::Group(_) = field.kind {
            self.out
                .extend_from_slice(Tag::new(field.number, END_GROUP).bytes());
        } else if !field.presence && !self.explicit && self.out[content..].iter().all(|b| *b == 0) {
            // A default is the same as nothing.
            self.out.truncate(start);
        }
        Ok(())
    }

    /// A value without its tag.
    pub(super) fn value(&mut self, kind: Kind, depth: usize) -> Result<()> {
        let next = self.json.peek()?;
        match (kind, next) {
            (Kind::Message(id), _) => {
                let start = self.open();
                self.message(id, depth + 1)?;
                self.close(start);
                Ok(())
            }
            (Kind::Group(id), _) => self.message(id, depth + 1),
            (Kind::String, Next::String) => {
                let text = self.json.string()?;
                put_varint(self.out, text.len() as u64);
                self.out.extend_from_slice(text.as_bytes());
                Ok(())
            }
            (Kind::Bool, Next::True | Next::False) => {
                let value = self.json.boolean()?;
                self.out.push(u8::from(value));
                Ok(())
            }
            (Kind::Enum(id), Next::Null) if self.types.enumeration(id).null => {
                self.json.null()?;
                self.out.push(0);
                Ok(())
            }
            (Kind::Bool | Kind::String, _) => self.wrong(if kind == Kind::Bool {
                "true or false"
            } else {
                "a text"
            }),
            (_, Next::String) => {
                let text = self.json.string()?;
                if let Err(unfit) = self.text(kind, &text) {
                    self.mistake(unfit.to_string());
                }
                Ok(())
            }
            (Kind::Bytes, _) => self.wrong("a text in base64"),
            (_, Next::Number) => {
                let text = self.json.number()?;
                if let Err(unfit) = self.number(kind, text) {
                    self.mistake(unfit.to_string());
                }
                Ok(())
            }
            (Kind::Enum(_), _) => self.wrong("a name or number of the enumeration"),
            _ => self.wrong("a number"),
        }
    }
}
