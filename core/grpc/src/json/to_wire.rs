//! JSON bytes to wire bytes.
//!
//! Fields are written in the order in which JSON has them, which the encoding allows. Lengths are written as one byte and
//! widened behind the content when it turns out longer. Every mistake is told with a JSON Pointer, not just the first.

use base64::Engine;
use base64::alphabet;
use base64::engine::{DecodePaddingMode, GeneralPurpose, GeneralPurposeConfig};

use super::pull::{Next, Pull, SyntaxError};
use super::text::{NotInteger, read_duration, read_integer, read_timestamp, snake_path};
use super::varint::{put_varint, zigzag};
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
            JsonError::Mistakes(list) => f.write_str(&list.iter().map(|m| format!("{} {}", m.pointer, m.message)).collect::<Vec<_>>().join("; ")),
        }
    }
}

impl From<SyntaxError> for JsonError {
    fn from(e: SyntaxError) -> Self {
        JsonError::Syntax(e)
    }
}

type Result<T> = std::result::Result<T, SyntaxError>;

/// Standard and URL-safe base64, padded or not, as the mapping demands of readers.
const FORGIVING: GeneralPurposeConfig = GeneralPurposeConfig::new().with_decode_padding_mode(DecodePaddingMode::Indifferent).with_decode_allow_trailing_bits(true);
const STANDARD: GeneralPurpose = GeneralPurpose::new(&alphabet::STANDARD, FORGIVING);
const URL_SAFE: GeneralPurpose = GeneralPurpose::new(&alphabet::URL_SAFE, FORGIVING);

/// Mistakes told, at most.
const MAX_MISTAKES: usize = 50;

/// Fields that stood in an object already.
struct Seen {
    low: u128,
    rest: Vec<u16>,
    oneofs: Vec<(u16, u16)>,
}

impl Seen {
    fn new() -> Self {
        Self { low: 0, rest: Vec::new(), oneofs: Vec::new() }
    }

    /// Whether it is the first time.
    fn first(&mut self, index: usize) -> bool {
        if index < 128 {
            let bit = 1u128 << index;
            let first = self.low & bit == 0;
            self.low |= bit;
            return first;
        }
        let first = !self.rest.contains(&(index as u16));
        self.rest.push(index as u16);
        first
    }

    fn has(&self, index: usize) -> bool {
        if index < 128 { self.low & (1 << index) != 0 } else { self.rest.contains(&(index as u16)) }
    }
}

pub(crate) struct Reader<'t, 'j, 'o> {
    types: &'t Types,
    options: JsonOptions,
    json: Pull<'j>,
    out: &'o mut Vec<u8>,
    mistakes: Vec<Mistake>,
    /// Whether defaults are written too, because they must win over what stands before.
    explicit: bool,
    /// Whether values are texts of a path or query, where numbers cannot be told from names.
    texts: bool,
}

impl Types {
    /// Appends the wire bytes of a message's JSON.
    ///
    /// # Errors
    /// See [`JsonError`]; what was appended is of no use then.
    pub fn to_wire(&self, message: MessageId, json: &[u8], options: JsonOptions, out: &mut Vec<u8>) -> std::result::Result<(), JsonError> {
        self.read(json, options, false, out, |r| r.message(message, 0))
    }

    /// The same for a message that is laid over what stands in `out` already: its members win, also with their defaults.
    ///
    /// # Errors
    /// See [`JsonError`].
    pub fn lay_over(&self, message: MessageId, json: &[u8], options: JsonOptions, out: &mut Vec<u8>) -> std::result::Result<(), JsonError> {
        self.read(json, options, true, out, |r| r.message(message, 0))
    }

    /// Appends one field of a message whose value is the whole JSON: what `body` names.
    ///
    /// # Errors
    /// See [`JsonError`].
    pub fn field_to_wire(&self, message: MessageId, field: &Field, json: &[u8], options: JsonOptions, out: &mut Vec<u8>) -> std::result::Result<(), JsonError> {
        let of = self.message(message);
        self.read(json, options, false, out, |r| r.field(of, field, 0))
    }

    fn read(&self, json: &[u8], options: JsonOptions, explicit: bool, out: &mut Vec<u8>, with: impl FnOnce(&mut Reader<'_, '_, '_>) -> Result<()>) -> std::result::Result<(), JsonError> {
        let mut reader = Reader { types: self, options, json: Pull::new(json)?, out, mistakes: Vec::new(), explicit, texts: false };
        with(&mut reader)?;
        reader.json.end()?;
        if reader.mistakes.is_empty() { Ok(()) } else { Err(JsonError::Mistakes(reader.mistakes)) }
    }

    /// Appends one scalar, or well-known message with a text form, from the text of a path or query.
    pub(crate) fn text_to_wire(&self, kind: Kind, text: &str, out: &mut Vec<u8>) -> std::result::Result<(), String> {
        let mut r = Reader { types: self, options: JsonOptions::default(), json: Pull::new(b"").map_err(|e| e.to_string())?, out, mistakes: Vec::new(), explicit: true, texts: true };
        r.text(kind, text)
    }
}

/// Text of an enum's names, a few of them.
fn names_of(e: &EnumType) -> String {
    let names: Vec<&str> = e.values.iter().take(8).map(|v| &*v.0).collect();
    format!("{}{}", names.join(", "), if e.values.len() > 8 { ", …" } else { "" })
}

impl Reader<'_, '_, '_> {
    fn mistake(&mut self, message: impl Into<String>) {
        if self.mistakes.len() < MAX_MISTAKES {
            self.mistakes.push(Mistake { pointer: String::new(), message: message.into() });
        }
    }

    /// Puts a step before the pointers of the mistakes found since.
    fn below(&mut self, since: usize, step: &str) {
        for mistake in &mut self.mistakes[since..] {
            mistake.pointer.insert_str(0, &format!("/{}", step.replace('~', "~0").replace('/', "~1")));
        }
    }

    fn wrong(&mut self, wanted: &str) -> Result<()> {
        let next = self.json.peek()?;
        self.json.skip()?;
        self.mistake(format!("must be {wanted}, not {}", next.name()));
        Ok(())
    }

    /// Opens a length-delimited value; to be closed with what this gives.
    fn open(&mut self) -> usize {
        self.out.push(0);
        self.out.len()
    }

    fn close(&mut self, start: usize) {
        let len = self.out.len() - start;
        if len < 0x80 {
            self.out[start - 1] = len as u8;
            return;
        }
        let mut prefix = Vec::with_capacity(5);
        put_varint(&mut prefix, len as u64);
        self.out[start - 1] = prefix[0];
        self.out.splice(start..start, prefix[1..].iter().copied());
    }

    fn message(&mut self, id: MessageId, depth: usize) -> Result<()> {
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
    fn members(&mut self, of: &MessageType, depth: usize, typed: bool) -> Result<()> {
        self.json.enter()?;
        let (mut first, mut seen, mut guess) = (true, Seen::new(), 0);
        while let Some(name) = self.json.member(first)? {
            first = false;
            let guessed = of.fields.get(guess).filter(|f| *f.json == *name).map(|_| guess);
            let Some(index) = guessed.or_else(|| of.names.get(&*name).map(|i| usize::from(*i))) else {
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
            self.field(of, field, depth)?;
            if self.mistakes.len() > since {
                self.below(since, &name);
            }
        }
        if of.any_required {
            for (i, field) in of.fields.iter().enumerate().filter(|(_, f)| f.required) {
                if !seen.has(i) {
                    self.mistake(format!("needs “{}”", field.json));
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
            let message = format!("cannot stand beside “{}”: only one of {} can", of.fields[usize::from(*other)].json, of.oneofs.get(usize::from(choice)).map_or("them", |n| n));
            return self.mistake(message);
        }
        seen.oneofs.push((choice, index as u16));
    }

    fn takes_null(&self, field: &Field) -> bool {
        match field.kind {
            Kind::Enum(id) => self.types.enumeration(id).null,
            Kind::Message(id) => self.types.message(id).well_known == Some(WellKnown::Value),
            _ => false,
        }
    }

    fn unknown(&mut self, of: &MessageType, name: &str) -> Result<()> {
        self.json.skip()?;
        if !self.options.ignore_unknown {
            let near = porch_contract::suggest(name, of.fields.iter().map(|f| &*f.json));
            let since = self.mistakes.len();
            match near {
                Some(near) => self.mistake(format!("is no field of {}; did you mean “{near}”?", of.name)),
                None => self.mistake(format!("is no field of {}", of.name)),
            }
            self.below(since, name);
        }
        Ok(())
    }

    /// The value of a field, with its tag.
    fn field(&mut self, _of: &MessageType, field: &Field, depth: usize) -> Result<()> {
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

    fn single(&mut self, field: &Field, depth: usize) -> Result<()> {
        let start = self.out.len();
        self.out.extend_from_slice(field.tag.bytes());
        let content = self.out.len();
        self.value(field.kind, depth)?;
        if let Kind::Group(_) = field.kind {
            self.out.extend_from_slice(Tag::new(field.number, END_GROUP).bytes());
        } else if !field.presence && !self.explicit && self.out[content..].iter().all(|b| *b == 0) {
            // A default is the same as nothing.
            self.out.truncate(start);
        }
        Ok(())
    }

    fn list(&mut self, field: &Field, depth: usize) -> Result<()> {
        if self.json.peek()? != Next::Array {
            return self.wrong("an array");
        }
        self.json.enter()?;
        let before = self.out.len();
        let mut start = 0;
        if field.packed {
            self.out.extend_from_slice(field.length_tag().bytes());
            start = self.open();
        }
        let (mut first, mut i) = (true, 0usize);
        while self.json.element(first)? {
            first = false;
            let since = self.mistakes.len();
            if self.json.peek()? == Next::Null && !self.takes_null(field) {
                self.json.null()?;
                self.mistake("a list holds no null");
            } else {
                if !field.packed {
                    self.out.extend_from_slice(field.tag.bytes());
                }
                self.value(field.kind, depth)?;
                if let Kind::Group(_) = field.kind {
                    self.out.extend_from_slice(Tag::new(field.number, END_GROUP).bytes());
                }
            }
            if self.mistakes.len() > since {
                self.below(since, &i.to_string());
            }
            i += 1;
        }
        if field.packed && self.out.len() == start {
            self.out.truncate(before);
        } else if field.packed {
            self.close(start);
        }
        Ok(())
    }

    fn map(&mut self, field: &Field, key: Kind, depth: usize) -> Result<()> {
        if self.json.peek()? != Next::Object {
            return self.wrong("an object");
        }
        self.json.enter()?;
        let mut first = true;
        // A few names are looked through; many are hashed.
        let (mut few, mut names) = (Vec::new(), std::collections::HashSet::new());
        while let Some(name) = self.json.member(first)? {
            first = false;
            let since = self.mistakes.len();
            let twice = few.contains(&name) || (!names.is_empty() && names.contains(&name));
            if twice {
                self.mistake("stands twice");
            }
            self.out.extend_from_slice(field.length_tag().bytes());
            let entry = self.open();
            self.out.extend_from_slice(Tag::new(1, key.wire_type()).bytes());
            if let Err(message) = self.text(key, &name) {
                self.mistake(format!("as a key {message}"));
            }
            if self.json.peek()? == Next::Null && !self.takes_null(field) {
                self.json.null()?;
                self.mistake("a map holds no null");
            } else {
                self.out.extend_from_slice(Tag::new(2, field.kind.wire_type()).bytes());
                self.value(field.kind, depth)?;
            }
            self.close(entry);
            if self.mistakes.len() > since {
                self.below(since, &name);
            }
            if few.len() < 12 {
                few.push(name);
            } else {
                names.insert(name);
            }
        }
        Ok(())
    }

    /// A value without its tag.
    fn value(&mut self, kind: Kind, depth: usize) -> Result<()> {
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
            (Kind::Bool | Kind::String, _) => self.wrong(if kind == Kind::Bool { "true or false" } else { "a text" }),
            (_, Next::String) => {
                let text = self.json.string()?;
                if let Err(message) = self.text(kind, &text) {
                    self.mistake(message);
                }
                Ok(())
            }
            (Kind::Bytes, _) => self.wrong("a text in base64"),
            (_, Next::Number) => {
                let text = self.json.number()?;
                if let Err(message) = self.number(kind, text) {
                    self.mistake(message);
                }
                Ok(())
            }
            (Kind::Enum(_), _) => self.wrong("a name or number of the enumeration"),
            _ => self.wrong("a number"),
        }
    }

    /// A value that is given as a text.
    fn text(&mut self, kind: Kind, text: &str) -> std::result::Result<(), String> {
        match kind {
            Kind::String => {
                put_varint(self.out, text.len() as u64);
                self.out.extend_from_slice(text.as_bytes());
                Ok(())
            }
            Kind::Bool => match text {
                "true" => Ok(self.out.push(1)),
                "false" => Ok(self.out.push(0)),
                _ => Err("must be true or false".into()),
            },
            Kind::Bytes => {
                let engine = if text.contains(['-', '_']) { &URL_SAFE } else { &STANDARD };
                let bytes = engine.decode(text).map_err(|e| format!("is no base64: {e}"))?;
                put_varint(self.out, bytes.len() as u64);
                self.out.extend_from_slice(&bytes);
                Ok(())
            }
            Kind::Enum(id) => {
                let e = self.types.enumeration(id);
                if let Some(number) = e.names.get(text) {
                    put_varint(self.out, i64::from(*number) as u64);
                    return Ok(());
                }
                if self.texts && text.parse::<i32>().is_ok() {
                    return self.number(kind, text);
                }
                let near = porch_contract::suggest(text, e.values.iter().map(|v| &*v.0)).map_or_else(|| format!("there are: {}", names_of(e)), |n| format!("did you mean “{n}”?"));
                Err(format!("“{text}” is none of {}; {near}", e.name))
            }
            Kind::Message(id) | Kind::Group(id) => {
                let start = self.open();
                let result = self.known_text(id, text);
                self.close(start);
                result
            }
            _ => self.number(kind, text),
        }
    }

    fn number(&mut self, kind: Kind, text: &str) -> std::result::Result<(), String> {
        if let Kind::Double | Kind::Float = kind {
            return self.float(kind, text);
        }
        let value = read_integer(text).map_err(|e| {
            match e {
                NotInteger::Syntax => "must be a number",
                NotInteger::Fraction => "must be a whole number",
                NotInteger::Range => "is out of range",
            }
            .to_owned()
        })?;
        let within = |least: i128, most: i128| if (least..=most).contains(&value) { Ok(()) } else { Err(format!("must lie between {least} and {most}")) };
        match kind {
            Kind::Enum(id) if self.types.enumeration(id).null && value != 0 => return Err("must be null".into()),
            Kind::Int32 | Kind::Enum(_) => {
                within(i32::MIN.into(), i32::MAX.into())?;
                put_varint(self.out, value as i64 as u64);
            }
            Kind::Int64 => {
                within(i64::MIN.into(), i64::MAX.into())?;
                put_varint(self.out, value as i64 as u64);
            }
            Kind::Uint32 => {
                within(0, u32::MAX.into())?;
                put_varint(self.out, value as u64);
            }
            Kind::Uint64 => {
                within(0, u64::MAX.into())?;
                put_varint(self.out, value as u64);
            }
            Kind::Sint32 => {
                within(i32::MIN.into(), i32::MAX.into())?;
                put_varint(self.out, zigzag(value as i64) & 0xffff_ffff);
            }
            Kind::Sint64 => {
                within(i64::MIN.into(), i64::MAX.into())?;
                put_varint(self.out, zigzag(value as i64));
            }
            Kind::Fixed32 => {
                within(0, u32::MAX.into())?;
                self.out.extend_from_slice(&(value as u32).to_le_bytes());
            }
            Kind::Sfixed32 => {
                within(i32::MIN.into(), i32::MAX.into())?;
                self.out.extend_from_slice(&(value as i32).to_le_bytes());
            }
            Kind::Fixed64 => {
                within(0, u64::MAX.into())?;
                self.out.extend_from_slice(&(value as u64).to_le_bytes());
            }
            Kind::Sfixed64 => {
                within(i64::MIN.into(), i64::MAX.into())?;
                self.out.extend_from_slice(&(value as i64).to_le_bytes());
            }
            _ => return Err("must be another kind of value".into()),
        }
        Ok(())
    }

    fn float(&mut self, kind: Kind, text: &str) -> std::result::Result<(), String> {
        let special = match text {
            "NaN" => Some(f64::NAN),
            "Infinity" => Some(f64::INFINITY),
            "-Infinity" => Some(f64::NEG_INFINITY),
            _ => None,
        };
        let numeric = !text.is_empty() && text.bytes().all(|b| b.is_ascii_digit() || matches!(b, b'.' | b'e' | b'E' | b'+' | b'-')) && !text.starts_with(['+', '.']);
        if special.is_none() && !numeric {
            return Err("must be a number, “NaN”, “Infinity” or “-Infinity”".into());
        }
        if kind == Kind::Double {
            let value: f64 = match special {
                Some(value) => value,
                None => text.parse().map_err(|_| "must be a number")?,
            };
            if special.is_none() && value.is_infinite() {
                return Err("is too large for a double".into());
            }
            self.out.extend_from_slice(&value.to_le_bytes());
        } else {
            let value: f32 = match special {
                Some(value) => value as f32,
                None => text.parse().map_err(|_| "must be a number")?,
            };
            if special.is_none() && value.is_infinite() {
                return Err("is too large for a float".into());
            }
            self.out.extend_from_slice(&value.to_le_bytes());
        }
        Ok(())
    }

    /// A well-known message that JSON writes as a text, without its length.
    fn known_text(&mut self, id: MessageId, text: &str) -> std::result::Result<(), String> {
        let of = self.types.message(id);
        match of.well_known {
            Some(kind @ (WellKnown::Timestamp | WellKnown::Duration)) => {
                let (seconds, nanos) = if kind == WellKnown::Timestamp { read_timestamp(text) } else { read_duration(text) }?;
                for (tag, value) in [(0x08, seconds), (0x10, i64::from(nanos))] {
                    if value != 0 {
                        self.out.push(tag);
                        put_varint(self.out, value as u64);
                    }
                }
                Ok(())
            }
            Some(WellKnown::FieldMask) => {
                for path in text.split(',').filter(|p| !p.is_empty()) {
                    let path = snake_path(path).ok_or_else(|| format!("the path “{path}” must be in lower camel case"))?;
                    self.out.push(0x0a);
                    put_varint(self.out, path.len() as u64);
                    self.out.extend_from_slice(path.as_bytes());
                }
                Ok(())
            }
            Some(WellKnown::Wrapper) => match of.fields.first() {
                Some(field) => {
                    self.out.extend_from_slice(field.tag.bytes());
                    self.text(field.kind, text)
                }
                None => Err("has no value".into()),
            },
            Some(WellKnown::Value) => {
                // string_value, 3.
                self.out.push(0x1a);
                put_varint(self.out, text.len() as u64);
                self.out.extend_from_slice(text.as_bytes());
                Ok(())
            }
            _ => Err(format!("is the message {}: name one of its fields", of.name)),
        }
    }

    fn known(&mut self, known: WellKnown, of: &MessageType, depth: usize) -> Result<()> {
        match known {
            WellKnown::Empty => {
                if self.json.peek()? != Next::Object {
                    return self.wrong("an object");
                }
                self.members(of, depth, false)
            }
            WellKnown::Timestamp | WellKnown::Duration | WellKnown::FieldMask => {
                if self.json.peek()? != Next::String {
                    return self.wrong("a text");
                }
                let text = self.json.string()?;
                let id = self.types.find(&of.name);
                if let Some(Err(message)) = id.map(|id| self.known_text(id, &text)) {
                    self.mistake(message);
                }
                Ok(())
            }
            WellKnown::Wrapper => match of.fields.first() {
                Some(field) => self.single(field, depth),
                None => self.wrong("nothing"),
            },
            WellKnown::HttpBody => {
                if self.json.peek()? != Next::Object {
                    return self.wrong("an object");
                }
                self.members(of, depth, false)
            }
            WellKnown::Struct => {
                if self.json.peek()? != Next::Object {
                    return self.wrong("an object");
                }
                self.structure(of, depth)
            }
            WellKnown::ListValue => {
                if self.json.peek()? != Next::Array {
                    return self.wrong("an array");
                }
                match of.fields.first() {
                    Some(field) => self.list(field, depth),
                    None => self.wrong("nothing"),
                }
            }
            WellKnown::Value => self.any_value(of, depth),
            WellKnown::Any => self.any(depth),
        }
    }

    fn structure(&mut self, of: &MessageType, depth: usize) -> Result<()> {
        match of.fields.first() {
            Some(field) => self.map(field, Kind::String, depth),
            None => self.wrong("nothing"),
        }
    }

    /// `google.protobuf.Value`: null 1, number 2, string 3, boolean 4, object 5, array 6.
    fn any_value(&mut self, of: &MessageType, depth: usize) -> Result<()> {
        let number = match self.json.peek()? {
            Next::Null => 1,
            Next::Number => 2,
            Next::String => 3,
            Next::True | Next::False => 4,
            Next::Object => 5,
            Next::Array => 6,
        };
        match of.index(number).map(|i| &of.fields[i]) {
            Some(field) => self.single(field, depth),
            None => self.wrong("another value"),
        }
    }

    fn any(&mut self, depth: usize) -> Result<()> {
        if self.json.peek()? != Next::Object {
            return self.wrong("an object");
        }
        // Its type may stand anywhere among its members.
        let start = self.json.position();
        let (mut url, mut value, mut first, mut empty) = (None, None, true, true);
        let mut ahead = self.json.clone();
        ahead.enter()?;
        while let Some(name) = ahead.member(first)? {
            first = false;
            empty = false;
            match &*name {
                "@type" if ahead.peek()? == Next::String => url = Some(ahead.string()?.into_owned()),
                "value" => {
                    ahead.peek()?;
                    value = Some(ahead.position());
                    ahead.skip()?;
                }
                _ => drop(ahead.skip()?),
            }
        }
        let end = ahead.position();
        let Some(url) = url else {
            self.json.rewind(end);
            if !empty {
                self.mistake("needs “@type”, the type of what it holds");
            }
            return Ok(());
        };
        let name = url.rsplit('/').next().unwrap_or(&url);
        let Some(id) = self.types.find(name).filter(|_| url.contains('/')) else {
            self.json.rewind(end);
            let since = self.mistakes.len();
            self.mistake(format!("the definition does not know the type “{url}”{}", if url.contains('/') { "" } else { "; a type’s address has a slash before its name" }));
            self.below(since, "@type");
            return Ok(());
        };
        self.out.push(0x0a);
        put_varint(self.out, url.len() as u64);
        self.out.extend_from_slice(url.as_bytes());
        self.out.push(0x12);
        let content = self.open();
        let of = self.types.message(id);
        if depth >= MAX_DEPTH {
            self.mistake("lies in more than 100 messages");
        } else if let Some(known) = of.well_known.filter(|k| *k != WellKnown::HttpBody) {
            match value {
                Some(at) => {
                    self.json.rewind(at);
                    let since = self.mistakes.len();
                    self.known(known, of, depth + 1)?;
                    self.below(since, "value");
                }
                None => self.mistake(format!("{name} stands in the member “value”")),
            }
        } else {
            self.json.rewind(start);
            self.members(of, depth + 1, true)?;
        }
        self.close(content);
        self.json.rewind(end);
        Ok(())
    }
}
