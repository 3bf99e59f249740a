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

fn escape(out: &mut Vec<u8>, text: &str, attribute: bool) -> Result<(), char> {
    let bytes = text.as_bytes();
    let mut from = 0;
    for (i, b) in bytes.iter().enumerate() {
        let with: &[u8] = match b {
            b'<' => b"&lt;",
            b'>' => b"&gt;",
            b'&' => b"&amp;",
            b'"' if attribute => b"&quot;",
            b'\r' => b"&#13;",
            b'\n' if attribute => b"&#10;",
            b'\t' if attribute => b"&#9;",
            b'\t' | b'\n' => continue,
            0..=0x1f => return Err(*b as char),
            // U+FFFE and U+FFFF, the only others that XML cannot write.
            0xef if matches!(bytes.get(i + 1..i + 3), Some([0xbf, 0xbe | 0xbf])) => {
                return Err('\u{fffe}');
            }
            _ => continue,
        };
        out.extend_from_slice(&bytes[from..i]);
        out.extend_from_slice(with);
        from = i + 1;
    }
    out.extend_from_slice(&bytes[from..]);
    Ok(())
}
