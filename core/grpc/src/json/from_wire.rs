//! Wire bytes to JSON bytes.
//!
//! Fields usually stand in the order of their numbers, each once, lists in one piece: then every byte is looked at once
//! and JSON is written as it goes. Where a message does otherwise (which the encoding allows), what was written of it is
//! taken back and it is read by the slower way, which sorts first; everything inside it then takes the slower way too, so
//! that no message is read more often than it has messages around it.

use std::collections::{HashMap, HashSet};

use base64::Engine;
use base64::engine::general_purpose::STANDARD;

use super::known;
use super::varint::{read_varint, unzigzag};
use crate::types::*;

/// Why wire bytes could not be read as a message.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum WireError {
    /// It ends in the middle.
    #[error("{0}: the bytes end in the middle of a value")]
    CutOff(String),
    /// A field has another wire type than its definition says.
    #[error("{0} came as {1}, which its definition rules out: this may be another message")]
    OtherType(String, &'static str),
    /// A text is not UTF-8.
    #[error("{0} is not UTF-8")]
    NotUtf8(String),
    /// Messages in messages, too many.
    #[error("{0} lies in more than 100 messages")]
    TooDeep(String),
    /// The value has no JSON form.
    #[error("{0}: {1}")]
    NoJson(String, String),
}

type Result<T> = std::result::Result<T, WireError>;

/// How a message is to be read on.
enum Flow {
    Done,
    /// The quick way cannot go on.
    Again,
}

pub(super) struct Writer<'t, 'o> {
    pub(super) types: &'t Types,
    pub(super) options: JsonOptions,
    pub(super) out: &'o mut Vec<u8>,
}

/// A value as it stands on the wire.
#[derive(Clone, Copy)]
pub(super) struct Raw<'b> {
    pub(super) wire_type: u32,
    /// The varint's value.
    pub(super) number: u64,
    /// The bytes of fixed and length-delimited values, and what stands in a group.
    pub(super) bytes: &'b [u8],
}

fn wire_name(wire_type: u32) -> &'static str {
    match wire_type {
        VARINT => "a varint",
        FIXED64 => "eight bytes",
        LENGTH => "a length-delimited value",
        START_GROUP => "a group",
        FIXED32 => "four bytes",
        _ => "an unknown wire type",
    }
}

/// Reads the value behind a tag.
#[inline]
pub(super) fn read_value<'b>(
    bytes: &'b [u8],
    pos: &mut usize,
    number: u32,
    wire_type: u32,
) -> Option<Raw<'b>> {
    let take = |pos: &mut usize, n: usize| -> Option<&'b [u8]> {
        let end = pos.checked_add(n)?;
        let found = bytes.get(*pos..end)?;
        *pos = end;
        Some(found)
    };
    match wire_type {
        VARINT => Some(Raw {
            wire_type,
            number: read_varint(bytes, pos)?,
            bytes: &[],
        }),
        FIXED64 => Some(Raw {
            wire_type,
            number: 0,
            bytes: take(pos, 8)?,
        }),
        FIXED32 => Some(Raw {
            wire_type,
            number: 0,
            bytes: take(pos, 4)?,
        }),
        LENGTH => {
            let n = usize::try_from(read_varint(bytes, pos)?).ok()?;
            Some(Raw {
                wire_type,
                number: 0,
                bytes: take(pos, n)?,
            })
        }
        START_GROUP => {
            let start = *pos;
            let end = skip_group(bytes, pos, number)?;
            Some(Raw {
                wire_type,
                number: 0,
                bytes: &bytes[start..end],
            })
        }
        _ => None,
    }
}

/// Moves behind a group's end; gives where its content ends. Groups in groups are counted, not called for.
fn skip_group(bytes: &[u8], pos: &mut usize, number: u32) -> Option<usize> {
    let mut open = vec![number];
    loop {
        let at = *pos;
        let key = read_varint(bytes, pos)?;
        let (field, wire_type) = (u32::try_from(key >> 3).ok()?, (key & 7) as u32);
        match wire_type {
            START_GROUP if open.len() > MAX_DEPTH => return None,
            START_GROUP => open.push(field),
            END_GROUP if open.pop() != Some(field) => return None,
            END_GROUP if open.is_empty() => return Some(at),
            END_GROUP => {}
            other => drop(read_value(bytes, pos, field, other)?),
        }
    }
}

#[inline]
fn read_tag(bytes: &[u8], pos: &mut usize) -> Option<(u32, u32)> {
    let key = read_varint(bytes, pos)?;
    let number = u32::try_from(key >> 3).ok().filter(|n| *n > 0)?;
    Some((number, (key & 7) as u32))
}

/// Appends a text as a JSON string.
#[inline]
pub(crate) fn quoted(out: &mut Vec<u8>, text: &str) {
    out.push(b'"');
    let bytes = text.as_bytes();
    let mut from = 0;
    let skipped = super::pull::plain(bytes);
    for (i, b) in bytes.iter().enumerate().skip(skipped) {
        if PLAIN[usize::from(*b)] {
            continue;
        }
        out.extend_from_slice(&bytes[from..i]);
        from = i + 1;
        match *b {
            b'"' => out.extend_from_slice(b"\\\""),
            b'\\' => out.extend_from_slice(b"\\\\"),
            b'\n' => out.extend_from_slice(b"\\n"),
            b'\r' => out.extend_from_slice(b"\\r"),
            b'\t' => out.extend_from_slice(b"\\t"),
            other => {
                const HEX: &[u8; 16] = b"0123456789abcdef";
                out.extend_from_slice(b"\\u00");
                out.extend_from_slice(&[
                    HEX[usize::from(other >> 4)],
                    HEX[usize::from(other & 15)],
                ]);
            }
        }
    }
    out.extend_from_slice(&bytes[from..]);
    out.push(b'"');
}

/// Bytes that a JSON string holds as they are.
const PLAIN: [bool; 256] = {
    let mut table = [true; 256];
    let mut i = 0;
    while i < 0x20 {
        table[i] = false;
        i += 1;
    }
    table[b'"' as usize] = false;
    table[b'\\' as usize] = false;
    table
};

impl Types {
    /// Appends the JSON of a message's wire bytes.
    ///
    /// # Errors
    /// See [`WireError`]; what was appended is of no use then.
    pub fn to_json(
        &self,
        message: MessageId,
        wire: &[u8],
        options: JsonOptions,
        out: &mut Vec<u8>,
    ) -> Result<()> {
        Writer {
            types: self,
            options,
            out,
        }
        .message(message, wire, 0, false)
    }

    /// Appends the JSON of one field of a message: what `response_body` names.
    ///
    /// # Errors
    /// See [`WireError`].
    pub fn field_to_json(
        &self,
        message: MessageId,
        field: &Field,
        wire: &[u8],
        options: JsonOptions,
        out: &mut Vec<u8>,
    ) -> Result<()> {
        let mut w = Writer {
            types: self,
            options,
            out,
        };
        let entries = w.sorted(self.message(message), wire)?;
        let index = self.message(message).index(field.number);
        let own: Vec<Raw<'_>> = entries
            .into_iter()
            .filter(|(i, _)| Some(*i) == index)
            .map(|(_, raw)| raw)
            .collect();
        if own.is_empty() {
            w.default(field)
        } else {
            w.gathered(self.message(message), field, &own, 0)
        }
    }
}

impl<'t> Writer<'t, '_> {
    pub(super) fn message(
        &mut self,
        id: MessageId,
        wire: &[u8],
        depth: usize,
        slow: bool,
    ) -> Result<()> {
        let of = self.types.message(id);
        if depth > MAX_DEPTH {
            return Err(WireError::TooDeep(of.name.to_string()));
        }
        if let Some(known) = of.well_known {
            return known::write(self, known, of, wire, depth);
        }
        let start = self.out.len();
        self.out.push(b'{');
        if slow || matches!(self.quick(of, wire, depth, start + 1)?, Flow::Again) {
            self.out.truncate(start + 1);
            self.slow(of, wire, depth, start + 1)?;
        }
        self.out.push(b'}');
        Ok(())
    }

    /// Members of a message without braces: for `Any`, whose type stands before them.
    pub(super) fn members(&mut self, of: &MessageType, wire: &[u8], depth: usize) -> Result<()> {
        let start = self.out.len();
        self.slow(of, wire, depth, start)
    }

    fn key(&mut self, field: &Field, start: usize) {
        if self.out.len() > start {
            self.out.push(b',');
        }
        self.out.extend_from_slice(if self.options.own_names {
            &field.own_key
        } else {
            &field.key
        });
    }

    fn quick(&mut self, of: &MessageType, wire: &[u8], depth: usize, start: usize) -> Result<Flow> {
        let (mut pos, mut next, mut oneofs) = (0, 0usize, 0u64);
        while pos < wire.len() {
            let tag_at = pos;
            let cut = || WireError::CutOff(of.name.to_string());
            let (number, wire_type) = read_tag(wire, &mut pos).ok_or_else(cut)?;
            let Some(index) = of.index(number) else {
                read_value(wire, &mut pos, number, wire_type).ok_or_else(cut)?;
                continue;
            };
            if index < next {
                return Ok(Flow::Again);
            }
            let field = &of.fields[index];
            if let Some(choice) = field.oneof {
                let bit = 1u64.checked_shl(u32::from(choice)).unwrap_or(0);
                if bit == 0 || oneofs & bit != 0 {
                    return Ok(Flow::Again);
                }
                oneofs |= bit;
            }
            let raw = read_value(wire, &mut pos, number, wire_type)
                .ok_or_else(|| WireError::CutOff(place(of, field)))?;
            if self.options.defaults {
                self.defaults(&of.fields[next..index], start)?;
            }
            next = index + 1;
            match field.cardinality {
                Cardinality::Single => {
                    if !self.skipped(field, &raw) {
                        self.key(field, start);
                        self.value(of, field, field.kind, &raw, depth, false)?;
                    }
                }
                Cardinality::Repeated => {
                    if raw.wire_type == LENGTH
                        && raw.bytes.is_empty()
                        && field.kind.packable()
                        && !self.options.defaults
                    {
                        next = index;
                        continue;
                    }
                    self.key(field, start);
                    self.out.push(b'[');
                    let list = self.out.len();
                    self.element(of, field, &raw, depth, false, list)?;
                    let tag = &wire[tag_at..tag_at + varint_len(wire, tag_at)];
                    while wire[pos..].starts_with(tag) {
                        pos += tag.len();
                        let raw = read_value(wire, &mut pos, number, wire_type)
                            .ok_or_else(|| WireError::CutOff(place(of, field)))?;
                        self.element(of, field, &raw, depth, false, list)?;
                    }
                    self.out.push(b']');
                }
                Cardinality::Map { key } => {
                    self.key(field, start);
                    let tag = &wire[tag_at..tag_at + varint_len(wire, tag_at)];
                    if !wire[pos..].starts_with(tag) {
                        self.map(of, field, key, &[raw], depth)?;
                        continue;
                    }
                    let mut entries = vec![raw];
                    while wire[pos..].starts_with(tag) {
                        pos += tag.len();
                        entries.push(
                            read_value(wire, &mut pos, number, wire_type)
                                .ok_or_else(|| WireError::CutOff(place(of, field)))?,
                        );
                    }
                    self.map(of, field, key, &entries, depth)?;
                }
            }
        }
        if self.options.defaults {
            self.defaults(&of.fields[next..], start)?;
        }
        Ok(Flow::Done)
    }

    /// All values with their field's index, by field, otherwise in the order they came; only the last of a choice.
    fn sorted<'b>(&self, of: &MessageType, wire: &'b [u8]) -> Result<Vec<(usize, Raw<'b>)>> {
        let cut = || WireError::CutOff(of.name.to_string());
        let (mut pos, mut found) = (0, Vec::new());
        let mut chosen: HashMap<u16, usize> = HashMap::new();
        while pos < wire.len() {
            let (number, wire_type) = read_tag(wire, &mut pos).ok_or_else(cut)?;
            let raw = read_value(wire, &mut pos, number, wire_type).ok_or_else(cut)?;
            let Some(index) = of.index(number) else {
                continue;
            };
            if let Some(choice) = of.fields[index].oneof {
                // Whatever of the choice came before is no longer set (“Last One Wins”).
                if chosen
                    .insert(choice, index)
                    .is_some_and(|before| before != index)
                {
                    found.retain(|(i, _): &(usize, Raw<'_>)| of.fields[*i].oneof != Some(choice));
                }
            }
            found.push((index, raw));
        }
        found.sort_by_key(|(i, _)| *i);
        Ok(found)
    }

    fn slow(&mut self, of: &MessageType, wire: &[u8], depth: usize, start: usize) -> Result<()> {
        let entries = self.sorted(of, wire)?;
        let mut next = 0;
        for run in entries.chunk_by(|a, b| a.0 == b.0) {
            let index = run[0].0;
            let field = &of.fields[index];
            if self.options.defaults {
                self.defaults(&of.fields[next..index], start)?;
            }
            next = index + 1;
            let raws: Vec<Raw<'_>> = run.iter().map(|(_, raw)| *raw).collect();
            if field.cardinality == Cardinality::Single
                && raws.last().is_some_and(|raw| self.skipped(field, raw))
            {
                continue;
            }
            self.key(field, start);
            self.gathered(of, field, &raws, depth)?;
        }
        if self.options.defaults {
            self.defaults(&of.fields[next..], start)?;
        }
        Ok(())
    }

    /// The value of a field from everything that came for it.
    fn gathered(
        &mut self,
        of: &MessageType,
        field: &Field,
        raws: &[Raw<'_>],
        depth: usize,
    ) -> Result<()> {
        match field.cardinality {
            Cardinality::Single => match (field.kind, raws) {
                (_, []) => self.default(field),
                (Kind::Message(id) | Kind::Group(id), [_, _, ..]) => {
                    // Several parts of one message are merged, which is what their bytes one behind the other mean.
                    self.check(of, field, &raws[0])?;
                    self.message(
                        id,
                        &raws.iter().map(|r| r.bytes).collect::<Vec<_>>().concat(),
                        depth + 1,
                        true,
                    )
                }
                (kind, [.., last]) => self.value(of, field, kind, last, depth, true),
            },
            Cardinality::Repeated => {
                self.out.push(b'[');
                let list = self.out.len();
                raws.iter()
                    .try_for_each(|raw| self.element(of, field, raw, depth, true, list))?;
                self.out.push(b']');
                Ok(())
            }
            Cardinality::Map { key } => self.map(of, field, key, raws, depth),
        }
    }

    /// Numbers that a closed enum does not know are left out, as unknown fields are; so is a default that somebody wrote
    /// out although it has no presence.
    #[inline]
    fn skipped(&self, field: &Field, raw: &Raw<'_>) -> bool {
        if field.cardinality == Cardinality::Single
            && !field.presence
            && !self.options.defaults
            && raw.number == 0
            && raw.bytes.iter().all(|b| *b == 0)
            && (raw.wire_type != LENGTH || raw.bytes.is_empty())
        {
            return true;
        }
        match field.kind {
            Kind::Enum(id) => {
                let e = self.types.enumeration(id);
                e.closed && e.name_of(raw.number as i32).is_none()
            }
            _ => false,
        }
    }

    fn check(&self, of: &MessageType, field: &Field, raw: &Raw<'_>) -> Result<()> {
        if raw.wire_type == field.kind.wire_type() {
            return Ok(());
        }
        Err(WireError::OtherType(
            place(of, field),
            wire_name(raw.wire_type),
        ))
    }

    /// One element of a list, or a packed record of them.
    #[inline]
    fn element(
        &mut self,
        of: &MessageType,
        field: &Field,
        raw: &Raw<'_>,
        depth: usize,
        slow: bool,
        list: usize,
    ) -> Result<()> {
        if raw.wire_type == LENGTH && field.kind.packable() {
            let (mut pos, wire_type) = (0, field.kind.wire_type());
            while pos < raw.bytes.len() {
                let one = read_value(raw.bytes, &mut pos, 0, wire_type)
                    .ok_or_else(|| WireError::CutOff(place(of, field)))?;
                self.one(of, field, &one, depth, slow, list)?;
            }
            return Ok(());
        }
        self.one(of, field, raw, depth, slow, list)
    }

    #[inline]
    fn one(
        &mut self,
        of: &MessageType,
        field: &Field,
        raw: &Raw<'_>,
        depth: usize,
        slow: bool,
        list: usize,
    ) -> Result<()> {
        if self.skipped(field, raw) {
            return Ok(());
        }
        if self.out.len() > list {
            self.out.push(b',');
        }
        self.value(of, field, field.kind, raw, depth, slow)
    }

    fn map(
        &mut self,
        of: &MessageType,
        field: &Field,
        key: Kind,
        entries: &[Raw<'_>],
        depth: usize,
    ) -> Result<()> {
        self.out.push(b'{');
        let list = self.out.len();
        if let [one] = entries {
            let (k, v) = entry_of(of, field, key, one)?;
            self.entry(of, field, key, (k.as_ref(), v.as_ref()), depth, list)?;
        } else {
            let parts: Vec<_> = entries
                .iter()
                .map(|entry| entry_of(of, field, key, entry))
                .collect::<Result<_>>()?;
            // The last entry of a key counts.
            let identity = |raw: &Option<Raw<'_>>| {
                raw.map_or((0, Vec::new()), |r| (r.number, r.bytes.to_vec()))
            };
            let mut seen = HashSet::new();
            let keep: Vec<bool> = parts
                .iter()
                .rev()
                .map(|(k, _)| seen.insert(identity(k)))
                .collect();
            for ((k, v), _) in parts
                .iter()
                .zip(keep.iter().rev())
                .filter(|(_, keep)| **keep)
            {
                self.entry(of, field, key, (k.as_ref(), v.as_ref()), depth, list)?;
            }
        }
        self.out.push(b'}');
        Ok(())
    }

    fn entry(
        &mut self,
        of: &MessageType,
        field: &Field,
        key: Kind,
        (k, v): (Option<&Raw<'_>>, Option<&Raw<'_>>),
        depth: usize,
        list: usize,
    ) -> Result<()> {
        if v.is_some_and(|raw| self.skipped(field, raw)) {
            return Ok(());
        }
        if self.out.len() > list {
            self.out.push(b',');
        }
        self.map_key(of, field, key, k)?;
        self.out.push(b':');
        match v {
            Some(raw) => self.value(of, field, field.kind, raw, depth, true),
            None => self.zero(field.kind),
        }
    }

    fn map_key(
        &mut self,
        of: &MessageType,
        field: &Field,
        key: Kind,
        raw: Option<&Raw<'_>>,
    ) -> Result<()> {
        if key == Kind::String {
            return match raw {
                Some(raw) => self.value(of, field, key, raw, 0, true),
                None => self.zero(key),
            };
        }
        // Numbers and booleans are texts as names of members.
        let at = self.out.len();
        match raw {
            Some(raw) => self.value(of, field, key, raw, 0, true)?,
            None => self.zero(key)?,
        }
        if self.out.get(at) != Some(&b'"') {
            self.out.insert(at, b'"');
            self.out.push(b'"');
        }
        Ok(())
    }

    #[inline]
    pub(super) fn value(
        &mut self,
        of: &MessageType,
        field: &Field,
        kind: Kind,
        raw: &Raw<'_>,
        depth: usize,
        slow: bool,
    ) -> Result<()> {
        if raw.wire_type != kind.wire_type() {
            return Err(WireError::OtherType(
                place(of, field),
                wire_name(raw.wire_type),
            ));
        }
        match kind {
            Kind::String => match std::str::from_utf8(raw.bytes) {
                Ok(text) => quoted(self.out, text),
                Err(_) => return Err(WireError::NotUtf8(place(of, field))),
            },
            Kind::Message(id) | Kind::Group(id) => {
                return self.message(id, raw.bytes, depth + 1, slow);
            }
            Kind::Enum(id) => self.enumeration(id, raw.number as i32),
            Kind::Bytes => {
                self.out.push(b'"');
                base64_into(self.out, raw.bytes);
                self.out.push(b'"');
            }
            Kind::Bool => {
                self.out
                    .extend_from_slice(if raw.number != 0 { b"true" } else { b"false" })
            }
            Kind::Int32 => self.integer(raw.number as i32),
            Kind::Uint32 => self.integer(raw.number as u32),
            Kind::Sint32 => self.integer(unzigzag(raw.number) as i32),
            Kind::Int64 => self.text_integer(raw.number as i64),
            Kind::Uint64 => self.text_integer(raw.number),
            Kind::Sint64 => self.text_integer(unzigzag(raw.number)),
            Kind::Fixed32 => self.integer(u32::from_le_bytes(four(raw))),
            Kind::Sfixed32 => self.integer(i32::from_le_bytes(four(raw))),
            Kind::Fixed64 => self.text_integer(u64::from_le_bytes(eight(raw))),
            Kind::Sfixed64 => self.text_integer(i64::from_le_bytes(eight(raw))),
            Kind::Float => self.float(f32::from_le_bytes(four(raw))),
            Kind::Double => self.double(f64::from_le_bytes(eight(raw))),
        }
        Ok(())
    }

    pub(super) fn integer<I: itoa::Integer>(&mut self, value: I) {
        self.out
            .extend_from_slice(itoa::Buffer::new().format(value).as_bytes());
    }

    /// 64-bit integers are texts, since many JSON readers have binary floats only.
    fn text_integer<I: itoa::Integer>(&mut self, value: I) {
        self.out.push(b'"');
        self.integer(value);
        self.out.push(b'"');
    }

    fn float(&mut self, value: f32) {
        match special(f64::from(value)) {
            Some(text) => self.out.extend_from_slice(text),
            None => self.number(ryu::Buffer::new().format_finite(value)),
        }
    }

    pub(super) fn double(&mut self, value: f64) {
        match special(value) {
            Some(text) => self.out.extend_from_slice(text),
            None => self.number(ryu::Buffer::new().format_finite(value)),
        }
    }

    /// Shortest digits; whole numbers without a fraction.
    fn number(&mut self, text: &str) {
        self.out
            .extend_from_slice(text.strip_suffix(".0").unwrap_or(text).as_bytes());
    }

    fn enumeration(&mut self, id: EnumId, number: i32) {
        let e = self.types.enumeration(id);
        if e.null {
            return self.out.extend_from_slice(b"null");
        }
        match e.name_of(number).filter(|_| !self.options.enum_numbers) {
            Some(name) => {
                self.out.push(b'"');
                self.out.extend_from_slice(name.as_bytes());
                self.out.push(b'"');
            }
            None => self.integer(number),
        }
    }

    fn defaults(&mut self, fields: &[Field], start: usize) -> Result<()> {
        for field in fields.iter().filter(|f| !f.presence) {
            self.key(field, start);
            self.default(field)?;
        }
        Ok(())
    }

    /// What a field is when nothing came for it.
    fn default(&mut self, field: &Field) -> Result<()> {
        match field.cardinality {
            Cardinality::Repeated => self.out.extend_from_slice(b"[]"),
            Cardinality::Map { .. } => self.out.extend_from_slice(b"{}"),
            Cardinality::Single if field.presence => self.out.extend_from_slice(b"null"),
            Cardinality::Single => self.zero(field.kind)?,
        }
        Ok(())
    }

    pub(super) fn zero(&mut self, kind: Kind) -> Result<()> {
        match kind {
            Kind::Message(id) | Kind::Group(id) => return self.message(id, &[], 0, true),
            Kind::String | Kind::Bytes => self.out.extend_from_slice(b"\"\""),
            Kind::Bool => self.out.extend_from_slice(b"false"),
            Kind::Enum(id) => {
                let first = self.types.enumeration(id).values.first().map_or(0, |v| v.1);
                self.enumeration(id, first);
            }
            Kind::Int64 | Kind::Uint64 | Kind::Sint64 | Kind::Fixed64 | Kind::Sfixed64 => {
                self.out.extend_from_slice(b"\"0\"")
            }
            _ => self.out.push(b'0'),
        }
        Ok(())
    }
}

type Entry<'b> = (Option<Raw<'b>>, Option<Raw<'b>>);

/// Key and value of a map's entry.
fn entry_of<'b>(of: &MessageType, field: &Field, key: Kind, entry: &Raw<'b>) -> Result<Entry<'b>> {
    if entry.wire_type != LENGTH {
        return Err(WireError::OtherType(
            place(of, field),
            wire_name(entry.wire_type),
        ));
    }
    let (mut pos, mut k, mut v) = (0, None, None);
    while pos < entry.bytes.len() {
        let cut = || WireError::CutOff(place(of, field));
        let (number, wire_type) = read_tag(entry.bytes, &mut pos).ok_or_else(cut)?;
        let raw = read_value(entry.bytes, &mut pos, number, wire_type).ok_or_else(cut)?;
        match number {
            1 if wire_type == key.wire_type() => k = Some(raw),
            2 if wire_type == field.kind.wire_type() => v = Some(raw),
            1 | 2 => return Err(WireError::OtherType(place(of, field), wire_name(wire_type))),
            _ => {}
        }
    }
    Ok((k, v))
}

/// Numbers that JSON has no digits for.
fn special(value: f64) -> Option<&'static [u8]> {
    if value.is_nan() {
        Some(b"\"NaN\"")
    } else if value.is_infinite() {
        Some(if value > 0.0 {
            b"\"Infinity\""
        } else {
            b"\"-Infinity\""
        })
    } else {
        None
    }
}

pub(super) fn base64_into(out: &mut Vec<u8>, bytes: &[u8]) {
    let at = out.len();
    out.resize(at + bytes.len().div_ceil(3) * 4, 0);
    // The room is what the encoding takes.
    let _ = STANDARD.encode_slice(bytes, &mut out[at..]);
}

fn four(raw: &Raw<'_>) -> [u8; 4] {
    raw.bytes.try_into().unwrap_or_default()
}

fn eight(raw: &Raw<'_>) -> [u8; 8] {
    raw.bytes.try_into().unwrap_or_default()
}

fn varint_len(bytes: &[u8], at: usize) -> usize {
    bytes[at..]
        .iter()
        .position(|b| *b < 0x80)
        .map_or(0, |n| n + 1)
}

fn place(of: &MessageType, field: &Field) -> String {
    format!("{}.{}", of.name, field.name)
}
