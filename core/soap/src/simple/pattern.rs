//! Patterns of XML Schema.

/// A pattern of XML Schema (part 2 appendix F) as the same pattern of ECMA-262 and of the `regex` crate: anchors are
/// ordinary characters there, and `\i`, `\c` name the characters of names.
pub(crate) fn regex_of(pattern: &str) -> String {
    let mut out = String::with_capacity(pattern.len() + 8);
    let mut chars = pattern.chars().peekable();
    let mut class = 0;
    while let Some(c) = chars.next() {
        match c {
            '\\' => match chars.next() {
                Some('i') if class > 0 => out.push_str("A-Za-z_:\\u{C0}-\\u{EFFFF}"),
                Some('i') => out.push_str("[A-Za-z_:\\u{C0}-\\u{EFFFF}]"),
                Some('c') if class > 0 => out.push_str("\\-.0-9:A-Z_a-z\\u{B7}-\\u{EFFFF}"),
                Some('c') => out.push_str("[\\-.0-9:A-Z_a-z\\u{B7}-\\u{EFFFF}]"),
                Some('I') => out.push_str("[^A-Za-z_:\\u{C0}-\\u{EFFFF}]"),
                Some('C') => out.push_str("[^\\-.0-9:A-Z_a-z\\u{B7}-\\u{EFFFF}]"),
                Some(other) => {
                    out.push('\\');
                    out.push(other);
                }
                None => out.push('\\'),
            },
            '[' => {
                class += 1;
                out.push('[');
            }
            ']' => {
                class -= 1;
                out.push(']');
            }
            // Subtraction of classes.
            '-' if class > 0 && chars.peek() == Some(&'[') => out.push_str("--"),
            '^' | '$' if class == 0 => {
                out.push('\\');
                out.push(c);
            }
            '&' | '~' if class > 0 => {
                out.push('\\');
                out.push(c);
            }
            _ => out.push(c),
        }
    }
    out
}
