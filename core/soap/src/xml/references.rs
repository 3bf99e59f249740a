//! References in texts and attributes, replaced.

/// Appends character data with its references replaced and line ends made line feeds (XML 1.0 §2.11).
///
/// # Errors
/// The reference that is unknown or names no character.
pub fn push_text(out: &mut String, raw: &str) -> Result<(), String> {
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
            .ok_or_else(|| "a reference without an end".to_owned())?;
        let name = &rest[1..end];
        out.push(match name {
            "lt" => '<',
            "gt" => '>',
            "amp" => '&',
            "apos" => '\'',
            "quot" => '"',
            _ => {
                char_reference(name).ok_or_else(|| format!("the reference &{name}; is unknown"))?
            }
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
pub fn push_attribute(out: &mut String, raw: &str) -> Result<(), String> {
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
