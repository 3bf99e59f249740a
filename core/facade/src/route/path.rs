//! Paths as they are compared, and their percent-encodings.

use std::borrow::Cow;

/// A path after normalisation.
#[derive(Debug, PartialEq, Eq)]
pub struct Normalised<'p> {
    /// The path.
    pub path: Cow<'p, str>,
}

/// Normalises a path (RFC 3986 §6.2.2): percent-encoded unreserved characters are decoded, the hexadecimal digits of the
/// others made upper-case, dot segments removed. Encoded slashes stay encoded, so they never make or leave a segment.
///
/// # Errors
/// What is wrong: a broken percent-encoding, or a control character.
pub fn normalise(path: &str) -> Result<Normalised<'_>, &'static str> {
    let bytes = path.as_bytes();
    // Nearly all paths are as they should be: each byte is looked at once.
    if bytes.iter().all(|b| PLAIN[usize::from(*b)]) && !has_dots(bytes) {
        return Ok(Normalised {
            path: Cow::Borrowed(path),
        });
    }
    if bytes.iter().any(|b| *b < 0x21 || *b == 0x7f || *b == b'\\') {
        return Err("a path has no spaces, control characters or backslashes");
    }
    let decoded = if bytes.contains(&b'%') {
        Cow::Owned(decode_unreserved(path)?)
    } else {
        Cow::Borrowed(path)
    };
    if (decoded.contains("%2F") || decoded.contains("%5C")) && hides_dots(&decoded) {
        return Err("a path hides no dot segments behind encoded slashes");
    }
    if !decoded.split('/').any(|s| s == "." || s == "..") {
        return Ok(Normalised { path: decoded });
    }
    let mut out: Vec<&str> = Vec::new();
    let mut segments = decoded.split('/').skip(1).peekable();
    while let Some(segment) = segments.next() {
        let last = segments.peek().is_none();
        match segment {
            "." | ".." => {
                if segment == ".." {
                    out.pop();
                }
                if last {
                    out.push("");
                }
            }
            other => out.push(other),
        }
    }
    Ok(Normalised {
        path: Cow::Owned(format!("/{}", out.join("/"))),
    })
}

/// Bytes that are neither decoded nor refused.
static PLAIN: [bool; 256] = {
    let mut plain = [false; 256];
    let mut b = 0x21;
    while b < 256 {
        plain[b] = !matches!(b as u8, b'%' | b'\\' | 0x7f);
        b += 1;
    }
    plain
};

/// Whether a segment may be one of dots; only those begin with one.
fn has_dots(bytes: &[u8]) -> bool {
    bytes.first() == Some(&b'.') || bytes.windows(2).any(|pair| pair == b"/.")
}

/// Whether a reader that decodes slashes, of either kind, would find a dot segment that is no segment of its own here.
fn hides_dots(path: &str) -> bool {
    let parts = |segment: &str| -> Vec<String> {
        let decoded = segment.replace("%2F", "/").replace("%5C", "/");
        decoded.split('/').map(str::to_owned).collect()
    };
    let segments = path.split('/').map(parts);
    segments
        .filter(|parts| parts.len() > 1)
        .flatten()
        .any(|part| part == "." || part == "..")
}

/// A part of a segment as it is compared; dots are no segments of their own here.
pub(super) fn spelled(text: &str) -> String {
    decode_unreserved(text).unwrap_or_else(|_| text.to_owned())
}

fn decode_unreserved(path: &str) -> Result<String, &'static str> {
    let bytes = path.as_bytes();
    let mut out = String::with_capacity(path.len());
    let mut i = 0;
    while i < bytes.len() {
        if bytes[i] != b'%' {
            let end = path[i..].find('%').map_or(path.len(), |n| i + n);
            out.push_str(&path[i..end]);
            i = end;
            continue;
        }
        let code = path
            .get(i + 1..i + 3)
            .filter(|h| h.bytes().all(|b| b.is_ascii_hexdigit()))
            .ok_or("a % is followed by two hexadecimal digits")?;
        let byte = u8::from_str_radix(code, 16)
            .map_err(|_| "a % is followed by two hexadecimal digits")?;
        if byte == 0 {
            return Err("a path has no NUL");
        }
        if byte.is_ascii_alphanumeric() || b"-._~".contains(&byte) {
            out.push(byte as char);
        } else {
            out.push('%');
            out.push_str(&code.to_ascii_uppercase());
        }
        i += 3;
    }
    Ok(out)
}

/// Decodes all percent-encodings of a text; `None` when the result is not UTF-8 or an encoding is broken.
pub fn percent_decode(text: &str, plus_is_space: bool) -> Option<Cow<'_, str>> {
    let encoded = text.contains('%') || (plus_is_space && text.contains('+'));
    if !encoded {
        return Some(Cow::Borrowed(text));
    }
    let bytes = text.as_bytes();
    let mut out = Vec::with_capacity(bytes.len());
    let mut i = 0;
    while i < bytes.len() {
        match bytes[i] {
            b'%' => {
                let hex = text.get(i + 1..i + 3)?;
                out.push(
                    u8::from_str_radix(hex, 16)
                        .ok()
                        .filter(|_| hex.bytes().all(|b| b.is_ascii_hexdigit()))?,
                );
                i += 3;
            }
            b'+' if plus_is_space => {
                out.push(b' ');
                i += 1;
            }
            b => {
                out.push(b);
                i += 1;
            }
        }
    }
    String::from_utf8(out).ok().map(Cow::Owned)
}

/// Appends a text with everything but unreserved characters percent-encoded (RFC 6570 §3.2.2, simple expansion).
pub fn percent_encode_segment(out: &mut String, text: &str) {
    for b in text.bytes() {
        if b.is_ascii_alphanumeric() || b"-._~".contains(&b) {
            out.push(b as char);
        } else {
            out.push('%');
            out.push(
                char::from_digit(u32::from(b >> 4), 16)
                    .unwrap_or('0')
                    .to_ascii_uppercase(),
            );
            out.push(
                char::from_digit(u32::from(b & 15), 16)
                    .unwrap_or('0')
                    .to_ascii_uppercase(),
            );
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn path(text: &str) -> Result<String, &'static str> {
        normalise(text).map(|n| n.path.into_owned())
    }

    #[test]
    fn every_spelling_of_a_path_is_one_path() {
        for (given, wanted) in [
            ("/a/b", "/a/b"),
            ("/a/./b", "/a/b"),
            ("/a/x/../b", "/a/b"),
            ("/../../a/b", "/a/b"),
            ("/%61/%62", "/a/b"),
            ("/a/%2e/b", "/a/b"),
            ("/a/x/%2E%2e/b", "/a/b"),
            ("/a/b/", "/a/b/"),
            ("/a/b/.", "/a/b/"),
            ("/a/b/c/..", "/a/b/"),
            ("/a//b", "/a//b"),
            ("/a%2fb", "/a%2Fb"),
            ("/a/%7Eb", "/a/~b"),
            ("/a/%c3%a4", "/a/%C3%A4"),
            ("/a/..b/c..", "/a/..b/c.."),
            ("/a/...", "/a/..."),
        ] {
            assert_eq!(path(given).as_deref(), Ok(wanted), "{given}");
        }
    }

    #[test]
    fn nothing_that_a_backend_could_read_as_a_way_up_passes() {
        for bad in [
            "/pub/..%2fsecret",
            "/pub/%2e%2e%2Fsecret",
            "/pub/x%2f..%2fsecret",
            "/pub/x%2f..",
            "/pub/.%2fsecret",
            "/pub/%2F..",
            "/pub/a%2f%2e%2e/b",
            "/pub/..%5csecret",
            "/pub/x%5C..%2Fsecret",
            "/pub/..\\secret",
            "/pub/a b",
            "/pub/%00",
            "/pub/%",
            "/pub/%2",
            "/pub/%zz",
            "/pub/%2\u{e4}",
        ] {
            assert!(path(bad).is_err(), "{bad} became {:?}", path(bad));
        }
        // Encoded twice it is a name like any other: who decodes twice does it at the second place.
        assert_eq!(
            path("/pub/..%252fsecret").as_deref(),
            Ok("/pub/..%252fsecret")
        );
        assert_eq!(
            path("/pub/a%2Fb..c%2F...").as_deref(),
            Ok("/pub/a%2Fb..c%2F...")
        );
    }
}
