//! Texts of JSON.

/// One in each byte, and the high bit of each.
const ONES: u64 = 0x0101_0101_0101_0101;
const HIGH: u64 = 0x8080_8080_8080_8080;

/// How many bytes come before the first quote, backslash or control character; behind the last whole eight bytes nothing is looked for.
#[inline]
pub fn plain_in_json(bytes: &[u8]) -> usize {
    let zero = |v: u64| v.wrapping_sub(ONES) & !v & HIGH;
    let (chunks, _) = bytes.as_chunks::<8>();
    for (i, chunk) in chunks.iter().enumerate() {
        let v = u64::from_le_bytes(*chunk);
        // Below 0x20: what is left of a byte after that is subtracted borrows, unless its high bit was set.
        let control = v.wrapping_sub(ONES * 0x20) & !v & HIGH;
        let found =
            zero(v ^ (ONES * u64::from(b'"'))) | zero(v ^ (ONES * u64::from(b'\\'))) | control;
        if found != 0 {
            // Only a byte that is found takes from those above it: the lowest is right.
            return i * 8 + found.trailing_zeros() as usize / 8;
        }
    }
    chunks.len() * 8
}

/// Whether a text stands in JSON as it is and is ASCII, so that it need not be looked at for anything else.
#[inline]
pub fn plain_ascii_in_json(bytes: &[u8]) -> bool {
    // For bytes below 0x80 each of these sets the high bit of its own byte alone: nothing is borrowed from the next.
    let special = |v: u64| {
        let zero = |v: u64| HIGH.wrapping_sub(v);
        let quote = zero(v ^ (ONES * u64::from(b'"')));
        let escape = zero(v ^ (ONES * u64::from(b'\\')));
        let control = (ONES * 0x9f).wrapping_sub(v);
        (v | quote | escape | control) & HIGH
    };
    let (chunks, rest) = bytes.as_chunks::<8>();
    if chunks.iter().any(|c| special(u64::from_le_bytes(*c)) != 0) {
        return false;
    }
    match bytes.last_chunk::<8>() {
        Some(_) if rest.is_empty() => true,
        // The last eight again, some of them for the second time.
        Some(last) => special(u64::from_le_bytes(*last)) == 0,
        None => rest
            .iter()
            .all(|b| matches!(b, 0x20..=0x7f) && !matches!(b, b'"' | b'\\')),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn plain_ascii_is_told_at_every_place_and_length() {
        for length in 0..20 {
            assert!(plain_ascii_in_json(&vec![b'x'; length]), "{length}");
            for at in 0..length {
                for byte in 0..=255u8 {
                    let mut text = vec![b'x'; length];
                    text[at] = byte;
                    let plain = matches!(byte, 0x20..=0x7f) && !matches!(byte, b'"' | b'\\');
                    assert_eq!(
                        plain_ascii_in_json(&text),
                        plain,
                        "{byte:#x} at {at} of {length}"
                    );
                }
            }
        }
    }

    #[test]
    fn no_step_passes_what_must_be_escaped() {
        for byte in 0..=255u8 {
            let escaped = byte < 0x20 || matches!(byte, b'"' | b'\\');
            for at in 0..24 {
                let mut text = [b'x'; 24];
                text[at] = byte;
                let plain = if escaped { at } else { 24 };
                assert_eq!(plain_in_json(&text), plain, "{byte:#x} at {at}");
            }
        }
        assert_eq!(plain_in_json(b"short"), 0);
    }
}
