//! Numbers of few digits, written without a search for the shortest text.

use super::text::digits;

/// Appends a number that at most six digits behind the point write exactly, as most do; else nothing, and says so.
///
/// Fifteen decimal digits come back from a binary double as they were (IEEE 754, decimal to binary and back), so that no two texts
/// of at most so many digits are one double: a text that is read as the number is the shortest one.
pub(super) fn write_short(out: &mut Vec<u8>, value: f64) -> bool {
    let size = value.abs();
    // Smaller and larger ones have an exponent, or more digits.
    if !(1e-5..1e9).contains(&size) {
        return false;
    }
    let scaled = (size * 1e6 + 0.5) as u64;
    if scaled as f64 / 1e6 != size {
        return false;
    }
    if value < 0.0 {
        out.push(b'-');
    }
    let (whole, mut part) = (scaled / 1_000_000, (scaled % 1_000_000) as u32);
    out.extend_from_slice(itoa::Buffer::new().format(whole).as_bytes());
    if part > 0 {
        let mut width = 6;
        while part % 10 == 0 {
            part /= 10;
            width -= 1;
        }
        out.push(b'.');
        digits(out, part, width);
    }
    true
}

#[cfg(test)]
mod tests {
    use super::*;

    /// What the way without a short cut says.
    fn shortest(value: f64) -> String {
        let text = ryu::Buffer::new().format_finite(value).to_owned();
        text.strip_suffix(".0").unwrap_or(&text).to_owned()
    }

    fn short(value: f64) -> Option<String> {
        let mut out = Vec::new();
        write_short(&mut out, value).then(|| String::from_utf8(out).unwrap())
    }

    #[test]
    fn numbers_of_few_digits_are_written_as_the_shortest_text() {
        for value in [
            0.1,
            2.5625,
            -950.25,
            40.0,
            999_999_999.999_999,
            0.000_01,
            1e-5,
            0.3,
            123_456.7,
        ] {
            assert_eq!(short(value), Some(shortest(value)), "{value}");
        }
        for value in [
            0.0,
            -0.0,
            1e9,
            9.999e-6,
            0.1 + 0.2,
            1.0 / 3.0,
            f64::NAN,
            f64::INFINITY,
            5e-324,
        ] {
            assert_eq!(short(value), None, "{value}");
        }
    }

    proptest::proptest! {
        #![proptest_config(proptest::prelude::ProptestConfig { cases: 20_000, failure_persistence: None, ..Default::default() })]

        #[test]
        fn no_number_is_written_otherwise_than_shortest(bits in proptest::prelude::any::<u64>(), near in -2_000_000_000i64..2_000_000_000, scale in 0u32..8, step in -2i64..3) {
            let decimal = near as f64 / 10f64.powi(scale as i32);
            let beside = f64::from_bits(decimal.to_bits().wrapping_add_signed(step));
            for value in [f64::from_bits(bits), decimal, beside] {
                if let Some(text) = short(value) {
                    proptest::prop_assert_eq!(text, shortest(value));
                }
            }
        }
    }
}
