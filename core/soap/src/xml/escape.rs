//! Escaping texts for XML 1.0 (§2.4).

/// Appends `text` as character data.
///
/// A carriage return becomes a character reference, since a parser would turn it into a line feed (§2.11).
///
/// # Errors
/// The character, when XML 1.0 §2.2 has no way to write it.
pub fn escape_text(out: &mut Vec<u8>, text: &str) -> Result<(), char> {
    escape(out, text, false)
}

/// Appends `text` as an attribute's value, to stand between double quotes.
///
/// # Errors
/// The character, when XML 1.0 §2.2 has no way to write it.
pub fn escape_attribute(out: &mut Vec<u8>, text: &str) -> Result<(), char> {
    escape(out, text, true)
}

/// What must be looked at: 1 in any text, 2 in attributes only.
const SPECIAL: [u8; 256] = {
    let mut table = [0; 256];
    let mut b = 0;
    while b < 0x20 {
        table[b] = 1;
        b += 1;
    }
    table[b'\t' as usize] = 2;
    table[b'\n' as usize] = 2;
    table[b'"' as usize] = 2;
    table[b'<' as usize] = 1;
    table[b'>' as usize] = 1;
    table[b'&' as usize] = 1;
    table[0xef] = 1;
    table
};

fn escape(out: &mut Vec<u8>, text: &str, attribute: bool) -> Result<(), char> {
    let mut rest = text.as_bytes();
    let most = if attribute { 2 } else { 1 };
    out.reserve(rest.len());
    while let Some(i) = rest
        .iter()
        .position(|b| SPECIAL[*b as usize].wrapping_sub(1) < most)
    {
        out.extend_from_slice(&rest[..i]);
        let with: &[u8] = match rest[i] {
            b'<' => b"&lt;",
            b'>' => b"&gt;",
            b'&' => b"&amp;",
            b'"' => b"&quot;",
            b'\r' => b"&#13;",
            b'\n' => b"&#10;",
            b'\t' => b"&#9;",
            // U+FFFE and U+FFFF, the only others that XML cannot write.
            0xef if matches!(rest.get(i + 1..i + 3), Some([0xbf, 0xbe | 0xbf])) => {
                return Err('\u{fffe}');
            }
            0xef => &[0xef],
            b => return Err(b as char),
        };
        out.extend_from_slice(with);
        rest = &rest[i + 1..];
    }
    out.extend_from_slice(rest);
    Ok(())
}
