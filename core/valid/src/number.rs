//! Numbers of JSON with all their digits (RFC 8259 §6).

use std::cmp::Ordering;

use serde_json::Number;

/// Divisors with more digits, and numbers with more zeros behind them, are looked at as floating-point numbers.
const MAX_DIGITS: usize = 37;
const MAX_ZEROS: usize = 1_000;
/// Exponents beyond this stand for numbers that nobody means.
const MAX_EXPONENT: i64 = 10_000;

/// A number as digits and a power of ten; no zeros at either end.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(crate) struct Decimal {
    negative: bool,
    digits: Vec<u8>,
    /// The power of ten that the last digit counts.
    exponent: i64,
}

impl Decimal {
    pub(crate) fn of(number: &Number) -> Self {
        Self::read(number.as_str())
    }

    pub(crate) fn read(text: &str) -> Self {
        let (negative, text) = match text.strip_prefix('-') {
            Some(rest) => (true, rest),
            None => (false, text),
        };
        let (mantissa, power) = text.split_once(['e', 'E']).unwrap_or((text, "0"));
        let power = power.parse::<i64>().unwrap_or(MAX_EXPONENT * 10);
        let (whole, part) = mantissa.split_once('.').unwrap_or((mantissa, ""));
        let digits = whole.bytes().chain(part.bytes()).skip_while(|b| *b == b'0');
        let mut digits: Vec<u8> = digits.map(|b| b.saturating_sub(b'0')).collect();
        let mut exponent = power.saturating_sub(part.len() as i64);
        while digits.last() == Some(&0) {
            digits.pop();
            exponent += 1;
        }
        let zero = digits.is_empty();
        Self {
            negative: negative && !zero,
            exponent: if zero { 0 } else { exponent },
            digits,
        }
    }

    pub(crate) fn is_whole(&self) -> bool {
        self.exponent >= 0
    }

    /// The power of ten that the first digit counts.
    fn size(&self) -> i64 {
        self.exponent.saturating_add(self.digits.len() as i64)
    }

    /// As a whole number of `10^exponent`, where that fits.
    fn scaled(&self, exponent: i64) -> Option<i128> {
        let zeros = usize::try_from(self.exponent.checked_sub(exponent)?).ok()?;
        if self.digits.len() + zeros > MAX_DIGITS {
            return None;
        }
        let zeros = std::iter::repeat_n(0, zeros);
        let digits = self.digits.iter().copied().chain(zeros);
        Some(digits.fold(0, |all, digit| all * 10 + i128::from(digit)))
    }

    /// Whether it is a whole number of times another one.
    pub(crate) fn is_multiple_of(&self, other: &Self) -> bool {
        if self.digits.is_empty() || other.digits.is_empty() {
            return self.digits.is_empty();
        }
        if self.size() < other.size() {
            return false;
        }
        let least = self.exponent.min(other.exponent);
        let zeros = usize::try_from(self.exponent - least).unwrap_or(MAX_ZEROS + 1);
        match other.scaled(least) {
            // Digit by digit, as on paper.
            Some(of) if zeros <= MAX_ZEROS => {
                let zeros = std::iter::repeat_n(0, zeros);
                let digits = self.digits.iter().copied().chain(zeros);
                digits.fold(0, |rest, digit| (rest * 10 + i128::from(digit)) % of) == 0
            }
            _ => {
                let parts = self.as_float() / other.as_float();
                parts.is_finite() && parts.fract() == 0.0
            }
        }
    }

    fn as_float(&self) -> f64 {
        let digits: String = self.digits.iter().map(|d| char::from(d + b'0')).collect();
        format!("{digits}e{}", self.exponent)
            .parse()
            .unwrap_or(f64::INFINITY)
    }
}

impl Ord for Decimal {
    fn cmp(&self, other: &Self) -> Ordering {
        let sign = |d: &Self| match (d.digits.is_empty(), d.negative) {
            (true, _) => 0,
            (false, true) => -1,
            (false, false) => 1,
        };
        let (a, b) = (sign(self), sign(other));
        if a != b || a == 0 {
            return a.cmp(&b);
        }
        let size = self.size().cmp(&other.size());
        let by_size = size.then_with(|| self.digits.cmp(&other.digits));
        if self.negative {
            by_size.reverse()
        } else {
            by_size
        }
    }
}

impl PartialOrd for Decimal {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_are_compared_by_all_their_digits() {
        let d = Decimal::read;
        for (a, b) in [
            ("-2", "-1"),
            ("-1e3", "-999.5"),
            ("-0.1", "0"),
            ("0", "1e-400"),
            ("9007199254740992", "9007199254740993"),
            ("0.1", "0.10000000000000000001"),
            ("99", "1e2"),
            ("1.5e10", "15000000001"),
        ] {
            assert!(d(a) < d(b), "{a} {b}");
        }
        for (a, b) in [
            ("1.0", "1"),
            ("10e-1", "1"),
            ("-0", "0"),
            ("0.50", "5E-1"),
            ("100", "1e+2"),
        ] {
            assert_eq!(d(a), d(b));
        }
        for (value, of, is) in [
            ("1.005", "0.01", false),
            ("19.99", "0.01", true),
            ("0", "3", true),
            ("1e308", "0.5", true),
            ("7", "1e400", false),
            ("12391239123", "1e-8", true),
        ] {
            assert_eq!(d(value).is_multiple_of(&d(of)), is, "{value} {of}");
        }
        assert!(d("1e400").is_whole() && d("1.0").is_whole() && !d("1.5").is_whole());
        assert!(d("1e99999999999999999999") > d("1"));
    }
}
