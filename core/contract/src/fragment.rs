//! JSON Pointers in references (RFC 6901 §6).

/// A pointer without the percent-encodings that it has as a fragment; where they are broken, as it stands.
///
/// ```
/// assert_eq!(porch_contract::from_fragment("/paths/~1a%20b"), "/paths/~1a b");
/// ```
pub fn from_fragment(text: &str) -> String {
    if !text.contains('%') {
        return text.to_owned();
    }
    let bytes = text.as_bytes();
    let hex = |at: usize| {
        text.get(at + 1..at + 3)
            .and_then(|h| u8::from_str_radix(h, 16).ok())
    };
    let (mut out, mut at) = (Vec::with_capacity(bytes.len()), 0);
    while at < bytes.len() {
        let byte = hex(at).filter(|_| bytes[at] == b'%');
        out.push(byte.unwrap_or(bytes[at]));
        at += if byte.is_some() { 3 } else { 1 };
    }
    String::from_utf8(out).unwrap_or_else(|_| text.to_owned())
}
