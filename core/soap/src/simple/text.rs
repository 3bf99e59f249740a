//! JSON strings.

use porch_contract::plain_in_json;

/// The bytes that a JSON string cannot hold as they are.
const ESCAPED: [bool; 256] = {
    let mut table = [false; 256];
    let mut b = 0;
    while b < 0x20 {
        table[b] = true;
        b += 1;
    }
    table[b'"' as usize] = true;
    table[b'\\' as usize] = true;
    table
};

/// Appends a JSON string (RFC 8259 §7).
pub fn push_json_string(out: &mut Vec<u8>, text: &str) {
    out.reserve(text.len() + 2);
    out.push(b'"');
    let mut rest = text.as_bytes();
    loop {
        let skipped = plain_in_json(rest);
        let found = rest[skipped..].iter().position(|b| ESCAPED[*b as usize]);
        let Some(i) = found.map(|i| skipped + i) else {
            break;
        };
        out.extend_from_slice(&rest[..i]);
        match rest[i] {
            b'"' => out.extend_from_slice(b"\\\""),
            b'\\' => out.extend_from_slice(b"\\\\"),
            b'\n' => out.extend_from_slice(b"\\n"),
            b'\r' => out.extend_from_slice(b"\\r"),
            b'\t' => out.extend_from_slice(b"\\t"),
            b => out.extend_from_slice(format!("\\u{b:04x}").as_bytes()),
        }
        rest = &rest[i + 1..];
    }
    out.extend_from_slice(rest);
    out.push(b'"');
}
