//! Values of fields as JSON.

use porch_contract::plain_ascii_in_json;

use super::super::short::write_short;
use super::*;

impl FromWire<'_, '_> {
    #[inline]
    pub(in crate::json) fn value(
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
            Kind::String if plain_ascii_in_json(raw.bytes) => {
                self.out.reserve(raw.bytes.len() + 2);
                self.out.push(b'"');
                self.out.extend_from_slice(raw.bytes);
                self.out.push(b'"');
            }
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
    pub(super) fn text_integer<I: itoa::Integer>(&mut self, value: I) {
        self.out.push(b'"');
        self.integer(value);
        self.out.push(b'"');
    }

    pub(super) fn float(&mut self, value: f32) {
        match special(f64::from(value)) {
            Some(text) => self.out.extend_from_slice(text),
            None => self.number(ryu::Buffer::new().format_finite(value)),
        }
    }

    pub(super) fn double(&mut self, value: f64) {
        match special(value) {
            Some(text) => self.out.extend_from_slice(text),
            None if write_short(self.out, value) => {}
            None => self.number(ryu::Buffer::new().format_finite(value)),
        }
    }

    /// Shortest digits; whole numbers without a fraction.
    pub(super) fn number(&mut self, text: &str) {
        self.out
            .extend_from_slice(text.strip_suffix(".0").unwrap_or(text).as_bytes());
    }

    pub(super) fn enumeration(&mut self, id: EnumId, number: i32) {
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

    pub(super) fn defaults(&mut self, fields: &[Field], start: usize) -> Result<()> {
        for field in fields.iter().filter(|f| !f.presence) {
            self.key(field, start);
            self.default(field)?;
        }
        Ok(())
    }

    /// What a field is when nothing came for it.
    pub(super) fn default(&mut self, field: &Field) -> Result<()> {
        match field.cardinality {
            Cardinality::Repeated => self.out.extend_from_slice(b"[]"),
            Cardinality::Map { .. } => self.out.extend_from_slice(b"{}"),
            Cardinality::Single if field.presence => self.out.extend_from_slice(b"null"),
            Cardinality::Single => self.zero(field.kind)?,
        }
        Ok(())
    }

    pub(in crate::json) fn zero(&mut self, kind: Kind) -> Result<()> {
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
