//! The lexical forms of XML Schema part 2 §3.2, and how their texts are respelled and compared.

use std::borrow::Cow;

/// Appends a number's digits in JSON's spelling; false when the text is no such number.
pub(super) fn push_number(out: &mut Vec<u8>, text: &str, fraction: bool, exponent: bool) -> bool {
    let (negative, rest) = match text.as_bytes().first() {
        Some(b'-') => (true, &text[1..]),
        Some(b'+') => (false, &text[1..]),
        _ => (false, text),
    };
    let (mantissa, power) = match rest.split_once(['e', 'E']) {
        Some((m, p)) if exponent => (m, Some(p)),
        Some(_) => return false,
        None => (rest, None),
    };
    let (whole, part) = match mantissa.split_once('.') {
        Some(split) if fraction => split,
        Some(_) => return false,
        None => (mantissa, ""),
    };
    let digits = |s: &str| s.bytes().all(|b| b.is_ascii_digit());
    if whole.len() + part.len() == 0 || !digits(whole) || !digits(part) {
        return false;
    }
    if let Some(p) = power {
        let p = p.strip_prefix(['-', '+']).unwrap_or(p);
        if p.is_empty() || !digits(p) {
            return false;
        }
    }
    if negative {
        out.push(b'-');
    }
    let whole = whole.trim_start_matches('0');
    out.extend_from_slice(if whole.is_empty() {
        b"0"
    } else {
        whole.as_bytes()
    });
    if !part.is_empty() {
        out.push(b'.');
        out.extend_from_slice(part.as_bytes());
    }
    if let Some(p) = power {
        out.push(b'E');
        out.extend_from_slice(p.as_bytes());
    }
    true
}

/// A JSON number without an exponent, as XML Schema's decimal wants it (part 2 §3.2.3.1).
pub(super) fn expand(text: &str) -> Option<Cow<'_, str>> {
    let Some((mantissa, power)) = text.split_once(['e', 'E']) else {
        return Some(Cow::Borrowed(text));
    };
    let power: i64 = power.parse().ok().filter(|p: &i64| p.abs() <= 1000)?;
    let (sign, mantissa) = mantissa
        .strip_prefix('-')
        .map_or(("", mantissa), |m| ("-", m));
    let (whole, part) = mantissa.split_once('.').unwrap_or((mantissa, ""));
    let digits = format!("{whole}{part}");
    let point = whole.len() as i64 + power;
    let text = if point <= 0 {
        format!("{sign}0.{}{digits}", "0".repeat((-point) as usize))
    } else if point as usize >= digits.len() {
        format!(
            "{sign}{digits}{}",
            "0".repeat(point as usize - digits.len())
        )
    } else {
        format!(
            "{sign}{}.{}",
            &digits[..point as usize],
            &digits[point as usize..]
        )
    };
    let (whole, part) = text
        .split_once('.')
        .map_or((text.as_str(), None), |(w, p)| (w, Some(p)));
    let (sign, whole) = whole.strip_prefix('-').map_or(("", whole), |w| ("-", w));
    let whole = whole.trim_start_matches('0');
    let whole = if whole.is_empty() { "0" } else { whole };
    Some(
        part.map_or_else(
            || format!("{sign}{whole}"),
            |p| format!("{sign}{whole}.{p}"),
        )
        .into(),
    )
}

/// Compares two decimals by value, digit by digit.
pub(super) fn compare_decimals(a: &str, b: &str) -> std::cmp::Ordering {
    fn parts(text: &str) -> (bool, &str, &str) {
        let negative = text.starts_with('-');
        let text = text.trim_start_matches(['-', '+']);
        let (whole, part) = text.split_once('.').unwrap_or((text, ""));
        let (whole, part) = (whole.trim_start_matches('0'), part.trim_end_matches('0'));
        (
            negative && !(whole.is_empty() && part.is_empty()),
            whole,
            part,
        )
    }
    let ((an, aw, ap), (bn, bw, bp)) = (parts(a), parts(b));
    let size = aw
        .len()
        .cmp(&bw.len())
        .then_with(|| aw.cmp(bw))
        .then_with(|| ap.cmp(bp));
    match (an, bn) {
        (false, false) => size,
        (true, true) => size.reverse(),
        (true, false) => std::cmp::Ordering::Less,
        (false, true) => std::cmp::Ordering::Greater,
    }
}

/// A text without the white space of XML (§2.3) around it.
pub(super) fn trim(text: &str) -> &str {
    let space = |b: &u8| matches!(b, b' ' | b'\t' | b'\n' | b'\r');
    match (text.as_bytes().first(), text.as_bytes().last()) {
        (Some(a), Some(b)) if space(a) || space(b) => text.trim_matches([' ', '\t', '\n', '\r']),
        _ => text,
    }
}

pub(super) fn from_hex(text: &str) -> Option<Vec<u8>> {
    let nibble = |b: u8| (b as char).to_digit(16).map(|d| d as u8);
    let bytes = text.as_bytes();
    if bytes.len() % 2 == 1 {
        return None;
    }
    bytes
        .chunks(2)
        .map(|p| Some(nibble(p[0])? << 4 | nibble(p[1])?))
        .collect()
}

const ALPHABET: &[u8; 64] = b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";

/// Base64 (RFC 4648 §4).
pub fn to_base64(octets: &[u8]) -> String {
    let mut out = String::with_capacity(octets.len().div_ceil(3) * 4);
    for chunk in octets.chunks(3) {
        let n = u32::from(chunk[0]) << 16
            | u32::from(*chunk.get(1).unwrap_or(&0)) << 8
            | u32::from(*chunk.get(2).unwrap_or(&0));
        for i in 0..4 {
            out.push(if i <= chunk.len() {
                ALPHABET[(n >> (18 - 6 * i)) as usize & 63] as char
            } else {
                '='
            });
        }
    }
    out
}

/// The octets of base64 (RFC 4648 §4); `None` when it is none.
pub fn from_base64(text: &str) -> Option<Vec<u8>> {
    let packed: Vec<u8> = text.bytes().filter(|b| !b.is_ascii_whitespace()).collect();
    let body = packed
        .strip_suffix(b"==")
        .or_else(|| packed.strip_suffix(b"="))
        .unwrap_or(&packed);
    if !packed.len().is_multiple_of(4) {
        return None;
    }
    let mut out = Vec::with_capacity(body.len() * 3 / 4);
    let (mut n, mut bits) = (0u32, 0);
    for b in body {
        n = n << 6 | ALPHABET.iter().position(|a| a == b)? as u32;
        bits += 6;
        if bits >= 8 {
            bits -= 8;
            out.push((n >> bits) as u8);
        }
    }
    Some(out)
}

pub(super) fn short(text: &str) -> String {
    if text.chars().count() <= 60 {
        text.to_owned()
    } else {
        text.chars().take(60).chain(['…']).collect()
    }
}

/// Whether a text has no white space but single blanks inside (part 2 §4.3.6).
pub(super) fn is_collapsed(text: &str) -> bool {
    let mut before = b' ';
    for b in text.bytes() {
        if matches!(b, b'\t' | b'\n' | b'\r') || (b == b' ' && before == b' ') {
            return false;
        }
        before = b;
    }
    before != b' ' || text.is_empty()
}

/// Whether a text is base64 (RFC 4648 §4), white space let be.
pub(super) fn is_base64(text: &str) -> bool {
    let (mut digits, mut pads) = (0usize, 0usize);
    for b in text.bytes() {
        match b {
            b'A'..=b'Z' | b'a'..=b'z' | b'0'..=b'9' | b'+' | b'/' if pads == 0 => digits += 1,
            b'=' => pads += 1,
            b' ' | b'\t' | b'\n' | b'\r' => {}
            _ => return false,
        }
    }
    pads <= 2 && (digits + pads).is_multiple_of(4)
}
