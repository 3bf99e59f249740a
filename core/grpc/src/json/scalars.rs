//! Scalars from JSON: numbers, and values that are given as texts.

use base64::Engine;
use base64::alphabet;
use base64::engine::{DecodePaddingMode, GeneralPurpose, GeneralPurposeConfig};

use super::text::read_integer;
use super::to_wire::ToWire;
use super::unfit::Unfit;
use super::varint::{put_varint, zigzag};
use crate::types::*;

/// Standard and URL-safe base64, padded or not, as the mapping demands of readers.
const FORGIVING: GeneralPurposeConfig = GeneralPurposeConfig::new()
    .with_decode_padding_mode(DecodePaddingMode::Indifferent)
    .with_decode_allow_trailing_bits(true);
const STANDARD: GeneralPurpose = GeneralPurpose::new(&alphabet::STANDARD, FORGIVING);
const URL_SAFE: GeneralPurpose = GeneralPurpose::new(&alphabet::URL_SAFE, FORGIVING);

/// Text of an enum's names, a few of them.
fn names_of(e: &EnumType) -> String {
    let names: Vec<&str> = e.values.iter().take(8).map(|v| &*v.0).collect();
    format!(
        "{}{}",
        names.join(", "),
        if e.values.len() > 8 { ", …" } else { "" }
    )
}

impl ToWire<'_, '_, '_> {
    /// A value that is given as a text.
    pub(super) fn text(&mut self, kind: Kind, text: &str) -> std::result::Result<(), Unfit> {
        match kind {
            Kind::String => {
                put_varint(self.out, text.len() as u64);
                self.out.extend_from_slice(text.as_bytes());
                Ok(())
            }
            Kind::Bool => {
                let value = match text {
                    "true" => 1,
                    "false" => 0,
                    _ => return Err(Unfit::Bool),
                };
                self.out.push(value);
                Ok(())
            }
            Kind::Bytes => {
                let engine = if text.contains(['-', '_']) {
                    &URL_SAFE
                } else {
                    &STANDARD
                };
                let bytes = engine.decode(text)?;
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
                let help = porch_contract::suggest(text, e.values.iter().map(|v| &*v.0))
                    .map_or_else(
                        || format!("there are: {}", names_of(e)),
                        |n| format!("did you mean “{n}”?"),
                    );
                Err(Unfit::Name {
                    text: text.to_owned(),
                    of: e.name.to_string(),
                    help,
                })
            }
            Kind::Message(id) | Kind::Group(id) => {
                let start = self.open();
                let result = self.known_text(self.types.message(id), text);
                self.close(start);
                result
            }
            _ => self.number(kind, text),
        }
    }

    pub(super) fn number(&mut self, kind: Kind, text: &str) -> std::result::Result<(), Unfit> {
        if let Kind::Double | Kind::Float = kind {
            return self.float(kind, text);
        }
        let value = read_integer(text)?;
        if let Kind::Enum(id) = kind
            && self.types.enumeration(id).null
            && value != 0
        {
            return Err(Unfit::Null);
        }
        if let Kind::Enum(id) = kind
            && let e = self.types.enumeration(id)
            && e.closed
            && !i32::try_from(value).is_ok_and(|number| e.name_of(number).is_some())
        {
            // A reader would put it among the unknown fields, and the value would be lost.
            return Err(Unfit::Closed(value, e.name.to_string()));
        }
        let (least, most): (i128, i128) = match kind {
            Kind::Int32 | Kind::Sint32 | Kind::Sfixed32 | Kind::Enum(_) => {
                (i32::MIN.into(), i32::MAX.into())
            }
            Kind::Int64 | Kind::Sint64 | Kind::Sfixed64 => (i64::MIN.into(), i64::MAX.into()),
            Kind::Uint32 | Kind::Fixed32 => (0, u32::MAX.into()),
            Kind::Uint64 | Kind::Fixed64 => (0, u64::MAX.into()),
            _ => return Err(Unfit::Kind),
        };
        if !(least..=most).contains(&value) {
            return Err(Unfit::Between(least, most));
        }
        match kind {
            Kind::Sint32 => put_varint(self.out, zigzag(value as i64) & 0xffff_ffff),
            Kind::Sint64 => put_varint(self.out, zigzag(value as i64)),
            Kind::Fixed32 | Kind::Sfixed32 => {
                self.out.extend_from_slice(&(value as u32).to_le_bytes());
            }
            Kind::Fixed64 | Kind::Sfixed64 => {
                self.out.extend_from_slice(&(value as u64).to_le_bytes());
            }
            // Negative ones of 32 bits stand there with the bits of 64.
            _ => put_varint(self.out, value as u64),
        }
        Ok(())
    }

    fn float(&mut self, kind: Kind, text: &str) -> std::result::Result<(), Unfit> {
        let special = match text {
            "NaN" => Some(f64::NAN),
            "Infinity" => Some(f64::INFINITY),
            "-Infinity" => Some(f64::NEG_INFINITY),
            _ => None,
        };
        let numeric = !text.is_empty()
            && text
                .bytes()
                .all(|b| b.is_ascii_digit() || matches!(b, b'.' | b'e' | b'E' | b'+' | b'-'))
            && !text.starts_with(['+', '.']);
        if special.is_none() && !numeric {
            return Err(Unfit::Float);
        }
        if kind == Kind::Double {
            let value: f64 = match special {
                Some(value) => value,
                None => text.parse().map_err(|_| Unfit::Number)?,
            };
            if special.is_none() && value.is_infinite() {
                return Err(Unfit::Large("double"));
            }
            self.out.extend_from_slice(&value.to_le_bytes());
        } else {
            let value: f32 = match special {
                Some(value) => value as f32,
                None => text.parse().map_err(|_| Unfit::Number)?,
            };
            if special.is_none() && value.is_infinite() {
                return Err(Unfit::Large("float"));
            }
            self.out.extend_from_slice(&value.to_le_bytes());
        }
        Ok(())
    }
}
