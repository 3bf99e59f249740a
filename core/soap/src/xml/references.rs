//! References in texts and attributes, replaced.

/// A reference that stands for nothing.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum ReferenceError {
    /// An ampersand without a semicolon near behind it.
    #[error("a reference without an end")]
    Endless,
    /// No entity of XML itself, and no character (XML 1.0 §4.1, §4.6).
    #[error("the reference &{0}; is unknown")]
    Unknown(String),
}

/// Appends character data with its references replaced and line ends made line feeds (XML 1.0 §2.11).
///
/// # Errors
/// The reference that is unknown or names no character.
pub fn push_text(out: &mut String, raw: &str) -> Result<(), ReferenceError> {
    let mut rest = raw;
    while let Some(i) = memchr::memchr2(b'&', b'\r', rest.as_bytes()) {
        out.push_str(&rest[..i]);
        rest = &rest[i..];
        if rest.starts_with('\r') {
            out.push('\n');
            rest = rest[1..].strip_prefix('\n').unwrap_or(&rest[1..]);
            continue;
        }
        let end = rest
            .bytes()
            .take(16)
            .position(|b| b == b';')
            .ok_or(ReferenceError::Endless)?;
        let name = &rest[1..end];
        out.push(match name {
            "lt" => '<',
            "gt" => '>',
            "amp" => '&',
            "apos" => '\'',
            "quot" => '"',
            _ => char_reference(name).ok_or_else(|| ReferenceError::Unknown(name.to_owned()))?,
        });
        rest = &rest[end + 1..];
    }
    out.push_str(rest);
    Ok(())
}

/// Appends an attribute's value with its references replaced; line ends and tabs that stand there themselves are blanks
/// (XML 1.0 §3.3.3).
///
/// # Errors
/// As [`push_text`].
pub fn push_attribute(out: &mut String, raw: &str) -> Result<(), ReferenceError> {
    if !raw.contains(['\t', '\n', '\r']) {
        return push_text(out, raw);
    }
    push_text(
        out,
        &raw.replace("\r\n", " ").replace(['\t', '\n', '\r'], " "),
    )
}

fn char_reference(name: &str) -> Option<char> {
    let digits = name.strip_prefix('#')?;
    let code = match digits.strip_prefix('x') {
        Some(hex) => u32::from_str_radix(hex, 16).ok()?,
        None => digits.parse().ok()?,
    };
    let c = char::from_u32(code)?;
    (c >= ' ' || matches!(c, '\t' | '\n' | '\r')).then_some(c)
}
