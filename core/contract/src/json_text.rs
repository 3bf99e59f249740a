//! Texts of JSON.

/// How many bytes come before the first quote, backslash or control character, in steps of eight.
#[inline]
pub fn plain_in_json(bytes: &[u8]) -> usize {
    const ONES: u64 = 0x0101_0101_0101_0101;
    const HIGH: u64 = 0x8080_8080_8080_8080;
    let zero = |v: u64| v.wrapping_sub(ONES) & !v & HIGH;
    let (chunks, _) = bytes.as_chunks::<8>();
    for (i, chunk) in chunks.iter().enumerate() {
        let v = u64::from_le_bytes(*chunk);
        // Below 0x20: what is left of a byte after that is subtracted borrows, unless its high bit was set.
        let control = v.wrapping_sub(ONES * 0x20) & !v & HIGH;
        if zero(v ^ (ONES * u64::from(b'"'))) | zero(v ^ (ONES * u64::from(b'\\'))) | control != 0 {
            return i * 8;
        }
    }
    chunks.len() * 8
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_step_passes_what_must_be_escaped() {
        for byte in 0..=255u8 {
            let escaped = byte < 0x20 || matches!(byte, b'"' | b'\\');
            for at in 0..24 {
                let mut text = [b'x'; 24];
                text[at] = byte;
                let plain = if escaped { at / 8 * 8 } else { 24 };
                assert_eq!(plain_in_json(&text), plain, "{byte:#x} at {at}");
            }
        }
        assert_eq!(plain_in_json(b"short"), 0);
    }
}
