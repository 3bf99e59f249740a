//! Variable-length integers (encoding of protocol buffers, “Base 128 Varints”).

/// A varint in place: its bytes, and how many they are.
pub(super) fn varint(mut value: u64) -> ([u8; 10], usize) {
    let (mut bytes, mut last) = ([0; 10], 0);
    while value >= 0x80 {
        bytes[last] = value as u8 | 0x80;
        value >>= 7;
        last += 1;
    }
    bytes[last] = value as u8;
    (bytes, last + 1)
}

/// Appends a varint.
#[inline]
pub fn put_varint(out: &mut Vec<u8>, mut value: u64) {
    while value >= 0x80 {
        out.push(value as u8 | 0x80);
        value >>= 7;
    }
    out.push(value as u8);
}

/// Reads a varint at `pos` and moves behind it; `None` when it is cut off or too long.
#[inline]
pub fn read_varint(bytes: &[u8], pos: &mut usize) -> Option<u64> {
    let first = *bytes.get(*pos)?;
    if first < 0x80 {
        *pos += 1;
        return Some(u64::from(first));
    }
    let (mut value, mut shift) = (u64::from(first & 0x7f), 7);
    for (i, b) in bytes.get(*pos + 1..)?.iter().take(9).enumerate() {
        value |= u64::from(b & 0x7f) << shift;
        if *b < 0x80 {
            *pos += i + 2;
            return Some(value);
        }
        shift += 7;
    }
    None
}

pub(crate) fn zigzag(value: i64) -> u64 {
    ((value << 1) ^ (value >> 63)) as u64
}

pub(crate) fn unzigzag(value: u64) -> i64 {
    (value >> 1) as i64 ^ -((value & 1) as i64)
}
