//! Messages with a JSON form of their own, from the wire (JSON mapping of protocol buffers, table).

use super::super::text::{camel_path, write_duration, write_timestamp};
use super::super::varint::read_varint;
use super::*;

fn no_json(of: &MessageType, why: impl Into<String>) -> WireError {
    WireError::NoJson(of.name.to_string(), why.into())
}

/// Goes through the values of a message, in the order they came.
#[inline]
fn each<'b>(of: &MessageType, wire: &'b [u8], mut f: impl FnMut(u32, Raw<'b>)) -> Result<()> {
    let mut pos = 0;
    while pos < wire.len() {
        let cut = || WireError::CutOff(of.name.to_string());
        let key = read_varint(wire, &mut pos).ok_or_else(cut)?;
        let number = u32::try_from(key >> 3).map_err(|_| cut())?;
        let raw = read_value(wire, &mut pos, number, (key & 7) as u32).ok_or_else(cut)?;
        if let Some(i) = of.index(number)
            && of.fields[i].kind.wire_type() != raw.wire_type
        {
            return Err(WireError::OtherType(
                format!("{}.{}", of.name, of.fields[i].name),
                "another wire type",
            ));
        }
        f(number, raw);
    }
    Ok(())
}

/// The values of a message by number, in the order they came.
fn values<'b>(of: &MessageType, wire: &'b [u8]) -> Result<Vec<(u32, Raw<'b>)>> {
    let mut all = Vec::new();
    each(of, wire, |number, raw| all.push((number, raw)))?;
    Ok(all)
}

fn text<'b>(of: &MessageType, bytes: &'b [u8]) -> Result<&'b str> {
    std::str::from_utf8(bytes).map_err(|_| WireError::NotUtf8(of.name.to_string()))
}

impl FromWire<'_, '_> {
    pub(super) fn known(
        &mut self,
        known: WellKnown,
        of: &MessageType,
        wire: &[u8],
        depth: usize,
    ) -> Result<()> {
        match known {
            WellKnown::Empty => {
                values(of, wire)?;
                self.out.extend_from_slice(b"{}");
                Ok(())
            }
            WellKnown::Timestamp | WellKnown::Duration => self.time(known, of, wire),
            WellKnown::FieldMask => self.field_mask(of, wire),
            WellKnown::Wrapper => self.wrapper(of, wire, depth),
            WellKnown::Struct => self.structure(of, wire, depth),
            WellKnown::ListValue => self.list_value(of, wire, depth),
            WellKnown::Value => self.any_value(of, wire, depth),
            WellKnown::Any => self.any(of, wire, depth),
            WellKnown::HttpBody => {
                self.out.push(b'{');
                self.members(of, wire, depth)?;
                self.out.push(b'}');
                Ok(())
            }
        }
    }

    fn field_mask(&mut self, of: &MessageType, wire: &[u8]) -> Result<()> {
        let mut paths = Vec::new();
        for (_, raw) in values(of, wire)?.iter().filter(|(n, _)| *n == 1) {
            let path = text(of, raw.bytes)?;
            let camel = camel_path(path).ok_or_else(|| {
                let why = format!(
                    "the path “{path}” cannot be written in lower camel case and read back"
                );
                no_json(of, why)
            })?;
            paths.push(camel);
        }
        quoted(self.out, &paths.join(","));
        Ok(())
    }

    fn list_value(&mut self, of: &MessageType, wire: &[u8], depth: usize) -> Result<()> {
        self.out.push(b'[');
        let start = self.out.len();
        let value = of.fields.first().and_then(|f| f.kind.message());
        for (_, raw) in values(of, wire)?.iter().filter(|(n, _)| *n == 1) {
            if self.out.len() > start {
                self.out.push(b',');
            }
            if let Some(value) = value {
                self.message(value, raw.bytes, depth + 1, true)?;
            }
        }
        self.out.push(b']');
        Ok(())
    }

    fn time(&mut self, known: WellKnown, of: &MessageType, wire: &[u8]) -> Result<()> {
        let (mut seconds, mut nanos) = (0i64, 0i32);
        each(of, wire, |number, raw| match number {
            1 => seconds = raw.number as i64,
            2 => nanos = raw.number as i32,
            _ => {}
        })?;
        self.out.push(b'"');
        let written = if known == WellKnown::Timestamp {
            write_timestamp(self.out, seconds, nanos)
        } else {
            write_duration(self.out, seconds, nanos)
        };
        self.out.push(b'"');
        written.ok_or_else(|| {
            no_json(
                of,
                format!("{seconds} seconds and {nanos} nanoseconds are out of its range"),
            )
        })
    }

    fn wrapper(&mut self, of: &MessageType, wire: &[u8], depth: usize) -> Result<()> {
        let Some(field) = of.fields.first() else {
            return Err(no_json(of, "it has no value"));
        };
        let mut last = None;
        each(of, wire, |number, raw| {
            if number == 1 {
                last = Some(raw);
            }
        })?;
        match last {
            Some(raw) => self.value(of, field, field.kind, &raw, depth, true),
            None => self.zero(field.kind),
        }
    }

    fn structure(&mut self, of: &MessageType, wire: &[u8], depth: usize) -> Result<()> {
        let value = of.fields.first().and_then(|f| f.kind.message());
        let mut entries: Vec<(&str, &[u8])> = Vec::new();
        for (_, raw) in values(of, wire)?.iter().filter(|(n, _)| *n == 1) {
            let (mut pos, mut key, mut content) = (0, &b""[..], &b""[..]);
            while pos < raw.bytes.len() {
                let cut = || WireError::CutOff(of.name.to_string());
                let tag = read_varint(raw.bytes, &mut pos).ok_or_else(cut)?;
                let part = read_value(raw.bytes, &mut pos, 0, (tag & 7) as u32).ok_or_else(cut)?;
                match tag {
                    0x0a => key = part.bytes,
                    0x12 => content = part.bytes,
                    _ => {}
                }
            }
            entries.push((text(of, key)?, content));
        }
        let mut seen = std::collections::HashSet::new();
        let mut keep: Vec<bool> = entries
            .iter()
            .rev()
            .map(|(key, _)| seen.insert(*key))
            .collect();
        keep.reverse();
        self.out.push(b'{');
        let start = self.out.len();
        for ((key, content), _) in entries.iter().zip(keep).filter(|(_, keep)| *keep) {
            if self.out.len() > start {
                self.out.push(b',');
            }
            quoted(self.out, key);
            self.out.push(b':');
            if let Some(value) = value {
                self.message(value, content, depth + 1, true)?;
            }
        }
        self.out.push(b'}');
        Ok(())
    }

    fn any_value(&mut self, of: &MessageType, wire: &[u8], depth: usize) -> Result<()> {
        let all = values(of, wire)?;
        let Some((number, raw)) = all.iter().rev().find(|(n, _)| of.index(*n).is_some()) else {
            return Err(no_json(
                of,
                "none of its kinds is set, and JSON has no value for that",
            ));
        };
        let Some(field) = of.index(*number).map(|i| &of.fields[i]) else {
            return Ok(());
        };
        if let Kind::Double = field.kind {
            let value = f64::from_le_bytes(raw.bytes.try_into().unwrap_or_default());
            if !value.is_finite() {
                return Err(no_json(
                    of,
                    format!("the number {value} has no JSON form here"),
                ));
            }
        }
        match field.kind.message() {
            Some(id) => {
                let parts: Vec<&[u8]> = all
                    .iter()
                    .rev()
                    .take_while(|(n, _)| n == number)
                    .map(|(_, r)| r.bytes)
                    .collect();
                let merged: Vec<u8> = parts.into_iter().rev().flatten().copied().collect();
                self.message(id, &merged, depth + 1, true)
            }
            None => self.value(of, field, field.kind, raw, depth, true),
        }
    }

    /// `{"@type": …, members}`; messages with a JSON form of their own stand as `value`. That of
    /// `Empty` is that of any message without members.
    fn any(&mut self, of: &MessageType, wire: &[u8], depth: usize) -> Result<()> {
        let (mut url, mut content) = ("", &b""[..]);
        for (number, raw) in values(of, wire)? {
            match number {
                1 => url = text(of, raw.bytes)?,
                2 => content = raw.bytes,
                _ => {}
            }
        }
        if url.is_empty() {
            if content.is_empty() {
                self.out.extend_from_slice(b"{}");
                return Ok(());
            }
            return Err(no_json(of, "it does not say of what type its bytes are"));
        }
        let name = url.rsplit('/').next().unwrap_or(url);
        let Some(id) = self.types.find(name) else {
            return Err(no_json(
                of,
                format!("the definition does not know the type “{url}”"),
            ));
        };
        self.out.extend_from_slice(b"{\"@type\":");
        quoted(self.out, url);
        let inner = self.types.message(id);
        if depth >= MAX_DEPTH {
            return Err(WireError::TooDeep(inner.name.to_string()));
        }
        match inner.well_known.filter(WellKnown::stands_as_value) {
            Some(_) => {
                self.out.extend_from_slice(b",\"value\":");
                self.message(id, content, depth + 1, true)?;
            }
            None => {
                let at = self.out.len();
                self.out.push(b',');
                self.members(inner, content, depth + 1)?;
                if self.out.len() == at + 1 {
                    self.out.truncate(at);
                }
            }
        }
        self.out.push(b'}');
        Ok(())
    }
}
