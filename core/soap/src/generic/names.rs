//! Names that XML cannot have, as ISO/IEC 9075-14 §9.1 writes them.

/// A name that XML can have (Namespaces in XML §4, `NCName`), everything else escaped as ISO/IEC 9075-14 §9.1 does.
pub(super) fn escape_name(name: &str) -> String {
    let mut out = String::with_capacity(name.len());
    if name.is_empty() {
        return "_x0000_".into();
    }
    for (i, c) in name.char_indices() {
        let start = c.is_ascii_alphabetic() || c == '_' || (c as u32 >= 0xc0 && c.is_alphabetic());
        let fits = start || (i > 0 && (c.is_ascii_digit() || matches!(c, '-' | '.')));
        // What looks like an escape is escaped itself.
        if fits && !(c == '_' && escape_at(&name[i..]).is_some()) {
            out.push(c);
        } else if c as u32 > 0xffff {
            out.push_str(&format!("_x{:08X}_", c as u32));
        } else {
            out.push_str(&format!("_x{:04X}_", c as u32));
        }
    }
    out
}

/// Whether a text can be a name of XML as it stands, with or without a prefix.
pub(crate) fn is_name(name: &str) -> bool {
    name.split(':').count() <= 2 && name.split(':').all(|part| escape_name(part) == part)
}

/// The character that an escape at the front of a text stands for, and the escape's length.
fn escape_at(text: &str) -> Option<(char, usize)> {
    let rest = text.strip_prefix("_x")?;
    let digits = rest.bytes().take_while(u8::is_ascii_hexdigit).count();
    if !(digits == 4 || digits == 8) || rest.as_bytes().get(digits) != Some(&b'_') {
        return None;
    }
    Some((
        char::from_u32(u32::from_str_radix(&rest[..digits], 16).ok()?)?,
        digits + 3,
    ))
}

pub(super) fn unescape_name(name: &str) -> String {
    if name == "_x0000_" {
        return String::new();
    }
    let Some(first) = name.find("_x") else {
        return name.to_owned();
    };
    let mut out = name[..first].to_owned();
    let mut rest = &name[first..];
    while let Some(c) = rest.chars().next() {
        match escape_at(rest) {
            Some((stood, len)) => {
                out.push(stood);
                rest = &rest[len..];
            }
            None => {
                out.push(c);
                rest = &rest[c.len_utf8()..];
            }
        }
    }
    out
}
