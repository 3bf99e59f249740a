//! Fields as they stand on the wire.

use super::varint::read_varint;
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

pub(super) fn wire_name(wire_type: u32) -> &'static str {
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
pub(super) fn skip_group(bytes: &[u8], pos: &mut usize, number: u32) -> Option<usize> {
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
pub(super) fn read_tag(bytes: &[u8], pos: &mut usize) -> Option<(u32, u32)> {
    let key = read_varint(bytes, pos)?;
    let number = u32::try_from(key >> 3).ok().filter(|n| *n > 0)?;
    Some((number, (key & 7) as u32))
}

pub(super) fn varint_len(bytes: &[u8], at: usize) -> usize {
    bytes[at..]
        .iter()
        .position(|b| *b < 0x80)
        .map_or(0, |n| n + 1)
}

/// Content type and data of a `google.api.HttpBody` on the wire, or of one in a field of a message; nothing is copied. What
/// comes later wins, as everywhere (Protocol Buffers, Encoding, “Last One Wins”).
///
/// # Errors
/// When the bytes are no such message.
pub fn http_body(wire: &[u8], field: Option<u32>) -> Result<(&str, &[u8]), WireError> {
    let mut found = ("", &b""[..]);
    let mut read = |bytes| {
        each(bytes, |number, raw| {
            match (number, raw.wire_type) {
                (1, LENGTH) => {
                    let text = std::str::from_utf8(raw.bytes);
                    found.0 = text.map_err(|_| WireError::NotUtf8("its content type".into()))?;
                }
                (2, LENGTH) => found.1 = raw.bytes,
                (1 | 2, other) => {
                    return Err(WireError::OtherType("a body".into(), wire_name(other)));
                }
                _ => {}
            }
            Ok(())
        })
    };
    let Some(field) = field else {
        read(wire)?;
        return Ok(found);
    };
    each(wire, |number, raw| match raw.wire_type {
        LENGTH | START_GROUP if number == field => read(raw.bytes),
        other if number == field => Err(WireError::OtherType("a body".into(), wire_name(other))),
        _ => Ok(()),
    })?;
    Ok(found)
}

/// Goes through the fields of a message.
fn each<'b>(
    wire: &'b [u8],
    mut take: impl FnMut(u32, Raw<'b>) -> Result<(), WireError>,
) -> Result<(), WireError> {
    let mut pos = 0;
    while pos < wire.len() {
        let field = read_tag(wire, &mut pos)
            .and_then(|(number, kind)| Some((number, read_value(wire, &mut pos, number, kind)?)));
        let (number, raw) = field.ok_or_else(|| WireError::CutOff("a body".into()))?;
        take(number, raw)?;
    }
    Ok(())
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_body_is_found_wherever_its_bytes_are() {
        let one = b"\x0a\x03a/b\x12\x02xy\x1a\x01z";
        assert_eq!(http_body(one, None), Ok(("a/b", &b"xy"[..])));
        assert_eq!(http_body(b"", None), Ok(("", &b""[..])));
        // What comes later wins, in the field and in the message.
        let twice = [&b"\x12\x05\x0a\x03a/b\x18\x07\x12\x04\x12\x02xy"[..]].concat();
        assert_eq!(http_body(&twice, Some(2)), Ok(("a/b", &b"xy"[..])));
        let group = b"\x13\x12\x01q\x14";
        assert_eq!(http_body(group, Some(2)), Ok(("", &b"q"[..])));
        for wrong in [
            &b"\x0a\x03a"[..],
            b"\x12",
            b"\x08\x01",
            b"\x0a\x01\xff",
            b"\x10\x01",
        ] {
            assert!(http_body(wrong, None).is_err(), "{wrong:?}");
        }
        assert!(http_body(b"\x10\x07", Some(2)).is_err());
    }
}
