//! Messages with a JSON form of their own, from JSON (JSON mapping of protocol buffers, table).

use super::pull::Next;
use super::text::{read_duration, read_timestamp, snake_path};
use super::to_wire::{Result, ToWire};
use super::unfit::Unfit;
use super::varint::put_varint;
use crate::types::*;

impl ToWire<'_, '_, '_> {
    /// A well-known message that JSON writes as a text, without its length.
    pub(super) fn known_text(
        &mut self,
        of: &MessageType,
        text: &str,
    ) -> std::result::Result<(), Unfit> {
        match of.well_known {
            Some(kind @ (WellKnown::Timestamp | WellKnown::Duration)) => {
                let (seconds, nanos) = if kind == WellKnown::Timestamp {
                    read_timestamp(text)
                } else {
                    read_duration(text)
                }?;
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
                    // A query gives fields by either of their names, and so the paths of a mask.
                    let own = (self.texts && !path.contains(|c: char| c.is_ascii_uppercase()))
                        .then(|| path.to_owned());
                    let path = own
                        .or_else(|| snake_path(path))
                        .ok_or_else(|| Unfit::Path(path.to_owned()))?;
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
                None => Err(Unfit::Nothing),
            },
            Some(WellKnown::Value) => {
                // string_value, 3.
                self.out.push(0x1a);
                put_varint(self.out, text.len() as u64);
                self.out.extend_from_slice(text.as_bytes());
                Ok(())
            }
            _ => Err(Unfit::Message(of.name.to_string())),
        }
    }

    pub(super) fn known(&mut self, known: WellKnown, of: &MessageType, depth: usize) -> Result<()> {
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
                if let Err(unfit) = self.known_text(of, &text) {
                    self.mistake(unfit.to_string());
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
        let ahead = self.look_ahead()?;
        let Some(url) = &ahead.url else {
            self.json.rewind(ahead.end);
            if !ahead.empty {
                self.mistake("needs “@type”, the type of what it holds");
            }
            return Ok(());
        };
        let name = url.rsplit('/').next().unwrap_or(url);
        let Some(id) = self.types.find(name).filter(|_| url.contains('/')) else {
            self.json.rewind(ahead.end);
            let since = self.mistakes.len();
            let hint = if url.contains('/') {
                ""
            } else {
                "; a type’s address has a slash before its name"
            };
            self.mistake(format!(
                "the definition does not know the type “{url}”{hint}"
            ));
            self.below(since, "@type");
            return Ok(());
        };
        self.out.push(0x0a);
        put_varint(self.out, url.len() as u64);
        self.out.extend_from_slice(url.as_bytes());
        self.out.push(0x12);
        let content = self.open();
        self.any_content(self.types.message(id), &ahead, depth)?;
        self.close(content);
        self.json.rewind(ahead.end);
        Ok(())
    }

    fn any_content(&mut self, of: &MessageType, ahead: &Ahead, depth: usize) -> Result<()> {
        if depth >= MAX_DEPTH {
            self.mistake("lies in more than 100 messages");
            return Ok(());
        }
        let Some(known) = of.well_known.filter(WellKnown::stands_as_value) else {
            // Some write every message as `value`; where the message has no such field, nothing else can be meant.
            let as_value = ahead.value.filter(|_| {
                ahead.others == 0 && (of.well_known.is_some() || of.field("value").is_none())
            });
            let Some(value) = as_value else {
                self.json.rewind(ahead.start);
                return self.members(of, depth + 1, true);
            };
            self.json.rewind(value);
            let since = self.mistakes.len();
            match self.json.peek()? {
                Next::Object => self.members(of, depth + 1, false)?,
                _ => self.wrong("an object")?,
            }
            self.below(since, "value");
            return Ok(());
        };
        let Some(value) = ahead.value else {
            self.mistake(format!("{} stands in the member “value”", of.name));
            return Ok(());
        };
        self.json.rewind(value);
        let since = self.mistakes.len();
        self.known(known, of, depth + 1)?;
        self.below(since, "value");
        Ok(())
    }

    /// What the members of an `Any` are, whose type may stand anywhere among them.
    fn look_ahead(&mut self) -> Result<Ahead> {
        let mut seen = Ahead {
            url: None,
            value: None,
            empty: true,
            others: 0,
            start: self.json.position(),
            end: 0,
        };
        let mut ahead = self.json.clone();
        ahead.enter()?;
        while let Some(name) = ahead.member(seen.empty)? {
            seen.empty = false;
            match &*name {
                "@type" if ahead.peek()? == Next::String => {
                    seen.url = Some(ahead.string()?.into_owned());
                }
                "value" => {
                    ahead.peek()?;
                    seen.value = Some(ahead.position());
                    ahead.skip()?;
                }
                _ => {
                    seen.others += 1;
                    ahead.skip()?;
                }
            }
        }
        seen.end = ahead.position();
        Ok(seen)
    }
}

/// The members of an `Any`.
struct Ahead {
    url: Option<String>,
    /// Where the member `value` has its value.
    value: Option<usize>,
    empty: bool,
    /// Members beside `@type` and `value`.
    others: usize,
    start: usize,
    end: usize,
}
