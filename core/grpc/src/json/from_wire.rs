//! Wire bytes to JSON bytes.
//!
//! Fields usually stand in the order of their numbers, each once, lists in one piece: then every byte is looked at once
//! and JSON is written as it goes. Where a message does otherwise (which the encoding allows), what was written of it is
//! taken back and it is read by the slower way, which sorts first; everything inside it then takes the slower way too, so
//! that no message is read more often than it has messages around it.

mod known;
mod maps;
mod quick;
mod values;

use std::collections::{HashMap, HashSet};

use super::raw::{Raw, WireError, read_tag, read_value, varint_len, wire_name};
use super::text::{base64_into, quoted};
use super::varint::unzigzag;
use crate::types::*;

use quick::Flow;

type Result<T> = std::result::Result<T, WireError>;

/// Writes JSON while it reads the wire.
pub(super) struct FromWire<'t, 'o> {
    pub(super) types: &'t Types,
    pub(super) options: JsonOptions,
    pub(super) out: &'o mut Vec<u8>,
}

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
        FromWire {
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
        let mut w = FromWire {
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

impl FromWire<'_, '_> {
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
            return self.known(known, of, wire, depth);
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

    #[inline]
    fn key(&mut self, field: &Field, start: usize) {
        let key = if self.options.own_names {
            &field.own_key
        } else {
            &field.key
        };
        if self.out.len() > start {
            key.put(self.out);
        } else {
            key.put_first(self.out);
        }
    }

    /// All values with their field's index, by field, otherwise in the order they came; only the last of a choice.
    fn sorted<'b>(&self, of: &MessageType, wire: &'b [u8]) -> Result<Vec<(usize, Raw<'b>)>> {
        let cut = || WireError::CutOff(of.name.to_string());
        let (mut pos, mut found) = (0, Vec::new());
        // Of each choice the field that came last, and since where in what was found.
        let mut chosen: HashMap<u16, (usize, usize)> = HashMap::new();
        while pos < wire.len() {
            let (number, wire_type) = read_tag(wire, &mut pos).ok_or_else(cut)?;
            let raw = read_value(wire, &mut pos, number, wire_type).ok_or_else(cut)?;
            let Some(index) = of.index(number) else {
                continue;
            };
            if let Some(choice) = of.fields[index].oneof {
                let last = chosen.entry(choice).or_insert((index, found.len()));
                if last.0 != index {
                    *last = (index, found.len());
                }
            }
            found.push((index, raw));
        }
        if !chosen.is_empty() {
            // Whatever of the choice came before is no longer set (“Last One Wins”).
            let mut at = 0..;
            found.retain(|(index, _): &(usize, Raw<'_>)| {
                let since = of.fields[*index].oneof.and_then(|c| chosen.get(&c));
                at.next() >= since.map(|(_, since)| *since)
            });
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

fn four(raw: &Raw<'_>) -> [u8; 4] {
    raw.bytes.try_into().unwrap_or_default()
}

fn eight(raw: &Raw<'_>) -> [u8; 8] {
    raw.bytes.try_into().unwrap_or_default()
}

fn place(of: &MessageType, field: &Field) -> String {
    format!("{}.{}", of.name, field.name)
}
