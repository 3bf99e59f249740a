//! Times, durations, field masks and numbers as texts, both ways.

use super::unfit::Unfit;
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use porch_contract::plain_in_json;

/// Seconds from 0001-01-01T00:00:00Z to 9999-12-31T23:59:59Z, as `timestamp.proto` allows.
const FIRST: i64 = -62_135_596_800;
const LAST: i64 = 253_402_300_799;
/// Seconds of a duration, at most, as `duration.proto` allows.
const LONGEST: i64 = 315_576_000_000;

pub(super) fn digits(out: &mut Vec<u8>, mut value: u32, width: usize) {
    let at = out.len();
    out.resize(at + width, b'0');
    for slot in out[at..].iter_mut().rev() {
        *slot = b'0' + (value % 10) as u8;
        value /= 10;
    }
}

/// `.5`, with three, six or nine digits; nothing for none.
fn fraction(out: &mut Vec<u8>, nanos: u32) {
    let (value, width) = match nanos {
        0 => return,
        n if n % 1_000_000 == 0 => (n / 1_000_000, 3),
        n if n % 1000 == 0 => (n / 1000, 6),
        n => (n, 9),
    };
    out.push(b'.');
    digits(out, value, width);
}

/// Appends a timestamp (RFC 3339, always with `Z`); `None` outside its range.
pub(crate) fn write_timestamp(out: &mut Vec<u8>, seconds: i64, nanos: i32) -> Option<()> {
    let nanos = u32::try_from(nanos).ok().filter(|n| *n < 1_000_000_000)?;
    if !(FIRST..=LAST).contains(&seconds) {
        return None;
    }
    // Days to a date (proleptic Gregorian calendar), in eras of 400 years.
    let (days, of_day) = (
        seconds.div_euclid(86_400) + 719_468,
        seconds.rem_euclid(86_400) as u32,
    );
    let (era, day_of_era) = (days.div_euclid(146_097), days.rem_euclid(146_097));
    let year_of_era =
        (day_of_era - day_of_era / 1460 + day_of_era / 36_524 - day_of_era / 146_096) / 365;
    let day_of_year = day_of_era - (365 * year_of_era + year_of_era / 4 - year_of_era / 100);
    let shifted = (5 * day_of_year + 2) / 153;
    let day = (day_of_year - (153 * shifted + 2) / 5 + 1) as u32;
    let month = if shifted < 10 {
        shifted + 3
    } else {
        shifted - 9
    } as u32;
    let year = (year_of_era + era * 400 + i64::from(month <= 2)) as u32;
    let mut text = *b"0000-00-00T00:00:00";
    for (at, value) in [
        (0, year / 100),
        (2, year % 100),
        (5, month),
        (8, day),
        (11, of_day / 3600),
        (14, of_day / 60 % 60),
        (17, of_day % 60),
    ] {
        text[at] += (value / 10) as u8;
        text[at + 1] += (value % 10) as u8;
    }
    out.extend_from_slice(&text);
    fraction(out, nanos);
    out.push(b'Z');
    Some(())
}

/// Days since 1970-01-01 of a date in the proleptic Gregorian calendar.
fn days(year: i64, month: i64, day: i64) -> i64 {
    let year = if month <= 2 { year - 1 } else { year };
    let era = year.div_euclid(400);
    let year_of_era = year - era * 400;
    let day_of_year = (153 * (if month > 2 { month - 3 } else { month + 9 }) + 2) / 5 + day - 1;
    era * 146_097 + year_of_era * 365 + year_of_era / 4 - year_of_era / 100 + day_of_year - 719_468
}

/// Reads a timestamp (RFC 3339 §5.6), any offset; upper-case letters, four digits for the year, no leap seconds.
pub(crate) fn read_timestamp(text: &str) -> Result<(i64, i32), Unfit> {
    const WRONG: Unfit = Unfit::Time("must be a time as in 2027-05-14T08:30:00Z (RFC 3339)");
    let b = text.as_bytes();
    let number = |from: usize, to: usize| -> Result<i64, Unfit> {
        let digits = b
            .get(from..to)
            .filter(|d| d.iter().all(u8::is_ascii_digit))
            .ok_or(WRONG)?;
        Ok(digits.iter().fold(0, |n, d| n * 10 + i64::from(d - b'0')))
    };
    let marks = [(4, b'-'), (7, b'-'), (10, b'T'), (13, b':'), (16, b':')];
    if b.len() < 20 || marks.iter().any(|(i, m)| b[*i] != *m) {
        return Err(WRONG);
    }
    let (year, month, day) = (number(0, 4)?, number(5, 7)?, number(8, 10)?);
    let (hour, minute, second) = (number(11, 13)?, number(14, 16)?, number(17, 19)?);
    let leap = (year % 4 == 0 && year % 100 != 0) || year % 400 == 0;
    let last = match month {
        2 => 28 + i64::from(leap),
        4 | 6 | 9 | 11 => 30,
        1..=12 => 31,
        _ => return Err(WRONG),
    };
    if !(1..=last).contains(&day) || hour > 23 || minute > 59 || second > 59 {
        return Err(WRONG);
    }
    let mut at = 19;
    let mut nanos = 0;
    if b[at] == b'.' {
        let width = b[at + 1..]
            .iter()
            .take_while(|c| c.is_ascii_digit())
            .count();
        if width == 0 || width > 9 {
            return Err(Unfit::Time("must have one to nine digits behind its point"));
        }
        nanos = number(at + 1, at + 1 + width)? * 10i64.pow(9 - width as u32);
        at += 1 + width;
    }
    let offset = match b.get(at) {
        Some(b'Z') if b.len() == at + 1 => 0,
        Some(sign @ (b'+' | b'-')) if b.len() == at + 6 && b[at + 3] == b':' => {
            let (hours, minutes) = (number(at + 1, at + 3)?, number(at + 4, at + 6)?);
            if hours > 23 || minutes > 59 {
                return Err(WRONG);
            }
            (hours * 3600 + minutes * 60) * if *sign == b'-' { -1 } else { 1 }
        }
        _ => return Err(WRONG),
    };
    let seconds = days(year, month, day) * 86_400 + hour * 3600 + minute * 60 + second - offset;
    if !(FIRST..=LAST).contains(&seconds) {
        return Err(Unfit::Time("must lie between the years 0001 and 9999"));
    }
    Ok((seconds, nanos as i32))
}

/// Appends a duration: `1.5s`; `None` when it is out of range or its signs differ.
pub(crate) fn write_duration(out: &mut Vec<u8>, seconds: i64, nanos: i32) -> Option<()> {
    let fits = (-LONGEST..=LONGEST).contains(&seconds) && nanos.unsigned_abs() < 1_000_000_000;
    if !fits || (seconds > 0 && nanos < 0) || (seconds < 0 && nanos > 0) {
        return None;
    }
    if seconds < 0 || nanos < 0 {
        out.push(b'-');
    }
    out.extend_from_slice(
        itoa::Buffer::new()
            .format(seconds.unsigned_abs())
            .as_bytes(),
    );
    fraction(out, nanos.unsigned_abs());
    out.push(b's');
    Some(())
}

/// Reads a duration: seconds with up to nine digits behind the point, then `s`.
pub(crate) fn read_duration(text: &str) -> Result<(i64, i32), Unfit> {
    const WRONG: Unfit = Unfit::Time("must be seconds as in 1.5s");
    let body = text.strip_suffix('s').ok_or(WRONG)?;
    let (negative, body) = body.strip_prefix('-').map_or((false, body), |b| (true, b));
    let (whole, part) = body.split_once('.').unwrap_or((body, ""));
    let digits = |t: &str| t.bytes().all(|b| b.is_ascii_digit());
    if whole.is_empty()
        || !digits(whole)
        || !digits(part)
        || part.len() > 9
        || (body.contains('.') && part.is_empty())
    {
        return Err(WRONG);
    }
    let seconds: i64 = whole
        .parse()
        .ok()
        .filter(|s| *s <= LONGEST)
        .ok_or(Unfit::Time("must be at most 315576000000 seconds"))?;
    let nanos: i32 = format!("{part:0<9}").parse().map_err(|_| WRONG)?;
    Ok(if negative {
        (-seconds, -nanos)
    } else {
        (seconds, nanos)
    })
}

/// A path of a field mask in lower camel case; `None` when it could not be read back.
pub(crate) fn camel_path(path: &str) -> Option<String> {
    let (mut out, mut raise) = (String::with_capacity(path.len()), false);
    for c in path.chars() {
        match c {
            _ if raise && !c.is_ascii_lowercase() => return None,
            '_' => raise = true,
            c if c.is_ascii_uppercase() => return None,
            c => {
                out.push(if raise { c.to_ascii_uppercase() } else { c });
                raise = false;
            }
        }
    }
    (!raise).then_some(out)
}

/// The path of the `.proto` file for one in lower camel case.
pub(crate) fn snake_path(path: &str) -> Option<String> {
    let mut out = String::with_capacity(path.len() + 4);
    for c in path.chars() {
        match c {
            '_' => return None,
            c if c.is_ascii_uppercase() => {
                out.push('_');
                out.push(c.to_ascii_lowercase());
            }
            c => out.push(c),
        }
    }
    Some(out)
}

/// Reads an integer: digits, or any JSON number whose value is whole, as `1.0` and `1e3` are.
pub(crate) fn read_integer(text: &str) -> Result<i128, Unfit> {
    if let Ok(value) = text.parse::<i64>()
        && plain(text)
    {
        return Ok(i128::from(value));
    }
    let (negative, body) = text.strip_prefix('-').map_or((false, text), |b| (true, b));
    let (mantissa, exponent) = body.split_once(['e', 'E']).unwrap_or((body, "0"));
    let (whole, part) = mantissa.split_once('.').unwrap_or((mantissa, ""));
    let digits = |t: &str| t.bytes().all(|b| b.is_ascii_digit());
    let dot = mantissa.contains('.');
    if whole.is_empty()
        || !digits(whole)
        || !digits(part)
        || (dot && part.is_empty())
        || (whole.len() > 1 && whole.starts_with('0'))
    {
        return Err(Unfit::Number);
    }
    let unsigned = exponent.strip_prefix(['+', '-']).unwrap_or(exponent);
    if unsigned.is_empty() || !digits(unsigned) {
        return Err(Unfit::Number);
    }
    let all = format!("{whole}{part}");
    let significant = all.trim_start_matches('0').trim_end_matches('0');
    if significant.is_empty() {
        return Ok(0);
    }
    let exponent: i64 = exponent.parse().map_err(|_| Unfit::Range)?;
    let trailing = (all.len() - all.trim_end_matches('0').len()) as i64;
    let shift = exponent
        .saturating_sub(part.len() as i64)
        .saturating_add(trailing);
    if shift < 0 {
        return Err(Unfit::Whole);
    }
    if significant.len() as i64 + shift > 30 {
        return Err(Unfit::Range);
    }
    let value: i128 = significant.parse().map_err(|_| Unfit::Range)?;
    let value = value * 10i128.pow(shift as u32);
    Ok(if negative { -value } else { value })
}

/// Whether an integer is written as JSON writes it: no plus, no leading zeros.
fn plain(text: &str) -> bool {
    let body = text.strip_prefix('-').unwrap_or(text);
    body == "0" || !body.starts_with(['0', '+'])
}

/// Appends a text as a JSON string.
#[inline]
pub(crate) fn quoted(out: &mut Vec<u8>, text: &str) {
    out.push(b'"');
    let bytes = text.as_bytes();
    let mut from = 0;
    let skipped = plain_in_json(bytes);
    for (i, b) in bytes.iter().enumerate().skip(skipped) {
        if PLAIN[usize::from(*b)] {
            continue;
        }
        out.extend_from_slice(&bytes[from..i]);
        from = i + 1;
        match *b {
            b'"' => out.extend_from_slice(b"\\\""),
            b'\\' => out.extend_from_slice(b"\\\\"),
            b'\n' => out.extend_from_slice(b"\\n"),
            b'\r' => out.extend_from_slice(b"\\r"),
            b'\t' => out.extend_from_slice(b"\\t"),
            other => {
                const HEX: &[u8; 16] = b"0123456789abcdef";
                out.extend_from_slice(b"\\u00");
                out.extend_from_slice(&[
                    HEX[usize::from(other >> 4)],
                    HEX[usize::from(other & 15)],
                ]);
            }
        }
    }
    out.extend_from_slice(&bytes[from..]);
    out.push(b'"');
}

/// Bytes that a JSON string holds as they are.
const PLAIN: [bool; 256] = {
    let mut table = [true; 256];
    let mut i = 0;
    while i < 0x20 {
        table[i] = false;
        i += 1;
    }
    table[b'"' as usize] = false;
    table[b'\\' as usize] = false;
    table
};

pub(super) fn base64_into(out: &mut Vec<u8>, bytes: &[u8]) {
    let at = out.len();
    out.resize(at + bytes.len().div_ceil(3) * 4, 0);
    // The room is what the encoding takes.
    let _ = STANDARD.encode_slice(bytes, &mut out[at..]);
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn integers_are_whole_numbers_in_any_spelling() {
        for (text, value) in [
            ("0", 0),
            ("-0", 0),
            ("1.0", 1),
            ("1e3", 1000),
            ("120e-1", 12),
            ("-9223372036854775808", i64::MIN.into()),
            ("18446744073709551615", u64::MAX.into()),
            ("0.00", 0),
        ] {
            assert_eq!(read_integer(text), Ok(value), "{text}");
        }
        for (text, error) in [
            ("", Unfit::Number),
            ("+1", Unfit::Number),
            ("01", Unfit::Number),
            ("1.", Unfit::Number),
            ("1.5", Unfit::Whole),
            ("1e-1", Unfit::Whole),
            ("1e99999999999", Unfit::Range),
            (" 1", Unfit::Number),
        ] {
            assert_eq!(read_integer(text), Err(error), "{text}");
        }
    }

    #[test]
    fn times_and_durations_come_back_as_they_were() {
        for (seconds, nanos, text) in [
            (0, 0, "1970-01-01T00:00:00Z"),
            (FIRST, 1, "0001-01-01T00:00:00.000000001Z"),
            (LAST, 999_000_000, "9999-12-31T23:59:59.999Z"),
            (951_782_400, 10_000, "2000-02-29T00:00:00.000010Z"),
        ] {
            let mut out = Vec::new();
            write_timestamp(&mut out, seconds, nanos).unwrap();
            assert_eq!(String::from_utf8(out).unwrap(), text);
            assert_eq!(read_timestamp(text), Ok((seconds, nanos)));
        }
        assert_eq!(
            read_timestamp("2027-05-14T08:30:00.5+02:00"),
            Ok((1_810_276_200, 500_000_000))
        );
        for text in [
            "2027-05-14",
            "2027-05-14t08:30:00Z",
            "2027-05-14T08:30:60Z",
            "2027-05-14T08:30:00",
            "2027-02-30T00:00:00Z",
            "2027-05-14T08:30:00.1234567891Z",
            "äöü-05-14T08:30:00Z",
            "0001-01-01T00:00:00+01:00",
        ] {
            assert!(read_timestamp(text).is_err(), "{text}");
        }
        for (seconds, nanos, text) in [
            (1, 500_000_000, "1.500s"),
            (0, -1, "-0.000000001s"),
            (-LONGEST, 0, "-315576000000s"),
            (0, 0, "0s"),
        ] {
            let mut out = Vec::new();
            write_duration(&mut out, seconds, nanos).unwrap();
            assert_eq!(String::from_utf8(out).unwrap(), text);
            assert_eq!(read_duration(text), Ok((seconds, nanos)));
        }
        assert!(
            write_duration(&mut Vec::new(), 1, -1).is_none()
                && write_timestamp(&mut Vec::new(), LAST + 1, 0).is_none()
        );
        for text in [
            "1",
            "s",
            ".5s",
            "1.s",
            "1.1234567891s",
            "+1s",
            "315576000001s",
            "1 s",
        ] {
            assert!(read_duration(text).is_err(), "{text}");
        }
    }

    proptest::proptest! {
        #[test]
        fn times_are_read_as_another_reader_reads_them(text in "[0-9]{4}-(0[0-9]|1[0-3])-[0-3][0-9]T[0-2][0-9]:[0-6][0-9]:[0-6][0-9](\\.[0-9]{1,9})?(Z|[+-][0-2][0-9]:[0-6][0-9])") {
            let other = chrono::DateTime::parse_from_rfc3339(&text).ok().filter(|_| &text[17..19] != "60").map(|t| (t.timestamp(), t.timestamp_subsec_nanos() as i32));
            let other = other.filter(|(s, _)| (FIRST..=LAST).contains(s));
            proptest::prop_assert_eq!(read_timestamp(&text).ok(), other);
        }
    }

    #[test]
    fn paths_of_field_masks_are_written_only_when_they_can_be_read_back() {
        assert_eq!(
            camel_path("home_port.berth_no").as_deref(),
            Some("homePort.berthNo")
        );
        assert_eq!(
            snake_path("homePort.berthNo").as_deref(),
            Some("home_port.berth_no")
        );
        for path in ["homePort", "a__b", "a_1", "a_", "_.a"] {
            assert_eq!(camel_path(path), None, "{path}");
        }
        assert_eq!(snake_path("a_b"), None);
    }
}
