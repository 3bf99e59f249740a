//! Dates and times: the lexical forms of XML Schema 1.0 part 2 §3.2.6 to §3.2.14, one table for requests and unions.

use super::Temporal;

/// What a kind is called where something is none, with an example.
pub(super) fn name(kind: Temporal) -> &'static str {
    match kind {
        Temporal::Date => "date (2027-05-14)",
        Temporal::Time => "time (08:30:00)",
        Temporal::DateTime => "date and time (2027-05-14T08:30:00Z)",
        Temporal::Duration => "duration (PT45M)",
        Temporal::YearMonth => "month of a year (2027-05)",
        Temporal::Year => "year (2027)",
        Temporal::MonthDay => "day of a month (--05-14)",
        Temporal::Month => "month (--05)",
        Temporal::Day => "day (---14)",
    }
}

/// One of them.
pub(super) fn example(kind: Temporal) -> &'static str {
    let name = name(kind);
    name.rsplit('(')
        .next()
        .map_or("", |e| e.trim_end_matches(')'))
}

/// Whether a text has the lexical form of a kind, and names a day and a time that there are.
pub(super) fn fits(kind: Temporal, text: &str) -> bool {
    let mut at = Cursor(text.as_bytes());
    let read = match kind {
        Temporal::Duration => return duration(text).is_some(),
        Temporal::DateTime => at
            .date()
            .and_then(|()| at.mark(b'T'))
            .and_then(|()| at.time()),
        Temporal::Date => at.date(),
        Temporal::Time => at.time(),
        Temporal::YearMonth => at.year().and_then(|_| at.month_behind()).map(|_| ()),
        Temporal::Year => at.year().map(|_| ()),
        Temporal::MonthDay => at.month_day(),
        Temporal::Month => at.marks(b"--").and_then(|()| at.two(1, 12)).map(|_| ()),
        Temporal::Day => at.marks(b"---").and_then(|()| at.two(1, 31)).map(|_| ()),
    };
    read.and_then(|()| at.zone()).is_some() && at.0.is_empty()
}

/// What is left of a text.
struct Cursor<'t>(&'t [u8]);

impl Cursor<'_> {
    fn mark(&mut self, mark: u8) -> Option<()> {
        self.marks(&[mark])
    }

    fn marks(&mut self, marks: &[u8]) -> Option<()> {
        self.0 = self.0.strip_prefix(marks)?;
        Some(())
    }

    /// As many digits as there are.
    fn digits(&mut self) -> &[u8] {
        let end = self.0.iter().take_while(|b| b.is_ascii_digit()).count();
        let (digits, rest) = self.0.split_at(end);
        self.0 = rest;
        digits
    }

    /// Two digits, within bounds.
    fn two(&mut self, least: u32, most: u32) -> Option<u32> {
        let [a, b, rest @ ..] = self.0 else {
            return None;
        };
        if !(a.is_ascii_digit() && b.is_ascii_digit()) {
            return None;
        }
        let number = u32::from(a - b'0') * 10 + u32::from(b - b'0');
        self.0 = rest;
        (least..=most).contains(&number).then_some(number)
    }

    /// Whether the year is a leap year. At least four digits, more only without a zero before them, and none is 0000
    /// (§3.2.7.1).
    fn year(&mut self) -> Option<bool> {
        if self.0.first() == Some(&b'-') {
            self.0 = &self.0[1..];
        }
        let digits = self.digits();
        if digits.len() < 4 || (digits.len() > 4 && digits[0] == b'0') || digits == b"0000" {
            return None;
        }
        // Four digits say whether a year is a leap year: the ones before them are multiples of 400.
        let last = &digits[digits.len() - 4..];
        let year = last.iter().fold(0, |n, b| n * 10 + u32::from(b - b'0'));
        Some(year % 4 == 0 && (year % 100 != 0 || year % 400 == 0))
    }

    fn month_behind(&mut self) -> Option<u32> {
        self.mark(b'-')?;
        self.two(1, 12)
    }

    fn date(&mut self) -> Option<()> {
        let leap = self.year()?;
        let month = self.month_behind()?;
        self.mark(b'-')?;
        self.two(1, days(month, leap)).map(|_| ())
    }

    /// A day that some year has (§3.2.12).
    fn month_day(&mut self) -> Option<()> {
        self.marks(b"--")?;
        let month = self.two(1, 12)?;
        self.mark(b'-')?;
        self.two(1, days(month, true)).map(|_| ())
    }

    /// Midnight may be the end of a day: 24:00:00, and not a moment more (§3.2.7.1).
    fn time(&mut self) -> Option<()> {
        let hour = self.two(0, 24)?;
        self.mark(b':')?;
        let minute = self.two(0, 59)?;
        self.mark(b':')?;
        let second = self.two(0, 59)?;
        let mut moment = false;
        if self.0.first() == Some(&b'.') {
            self.0 = &self.0[1..];
            let fraction = self.digits();
            if fraction.is_empty() {
                return None;
            }
            moment = fraction.iter().any(|b| *b != b'0');
        }
        (hour < 24 || (minute == 0 && second == 0 && !moment)).then_some(())
    }

    /// None, `Z`, or at most fourteen hours away (§3.2.7.3).
    fn zone(&mut self) -> Option<()> {
        match self.0.first() {
            None => Some(()),
            Some(b'Z') => self.mark(b'Z'),
            Some(b'+' | b'-') => {
                self.0 = &self.0[1..];
                let hours = self.two(0, 14)?;
                self.mark(b':')?;
                let minutes = self.two(0, 59)?;
                (hours < 14 || minutes == 0).then_some(())
            }
            Some(_) => None,
        }
    }
}

fn days(month: u32, leap: bool) -> u32 {
    match month {
        4 | 6 | 9 | 11 => 30,
        2 => 28 + u32::from(leap),
        _ => 31,
    }
}

/// At least one part, and at least one behind a `T` (§3.2.6.1). Only seconds have a fraction.
fn duration(text: &str) -> Option<()> {
    let rest = text.strip_prefix('-').unwrap_or(text).strip_prefix('P')?;
    let (date, time) = match rest.split_once('T') {
        Some((date, time)) => (date, Some(time)),
        None => (rest, None),
    };
    let parts = in_order(date, "YMD")? + time.map_or(Some(0), |t| in_order(t, "HMS"))?;
    let empty = time.is_some_and(str::is_empty);
    (parts > 0 && !empty).then_some(())
}

/// How many numbers with units there are, each unit once and in this order.
fn in_order(text: &str, units: &str) -> Option<usize> {
    let (mut left, mut at, mut count) = (units, Cursor(text.as_bytes()), 0);
    while !at.0.is_empty() {
        if at.digits().is_empty() {
            return None;
        }
        let fraction = at.0.first() == Some(&b'.');
        if fraction {
            at.mark(b'.')?;
            if at.digits().is_empty() {
                return None;
            }
        }
        let unit = char::from(*at.0.first()?);
        at.0 = &at.0[1..];
        if fraction && unit != 'S' {
            return None;
        }
        left = &left[left.find(unit)? + 1..];
        count += 1;
    }
    Some(count)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The forms of each type that there are, and that there are none: with zones behind them where they may stand.
    const FORMS: [(Temporal, &[&str], &[&str]); 9] = [
        (
            Temporal::Duration,
            &[
                "P1Y",
                "P1Y2M3DT4H5M6S",
                "-P3D",
                "PT0.5S",
                "P0D",
                "PT36H",
                "P1M",
                "PT1M",
                "P1YT1S",
            ],
            &[
                "P", "PT", "P1YT", "1Y", "P-1D", "P1.5D", "PT1.S", "PT.5S", "P1S", "P1D1Y",
                "P1Y1Y", "+P1D", "P1H", "p1d", "PT5M4H", "",
            ],
        ),
        (
            Temporal::DateTime,
            &[
                "2024-07-01T01:02:03",
                "2024-07-01T01:02:03.000001",
                "2024-02-29T24:00:00",
                "2024-07-01T24:00:00.00",
                "-0044-03-15T12:00:00",
                "12024-07-01T01:02:03",
            ],
            &[
                "2024-07-01",
                "2024-07-01 01:02:03",
                "2024-07-01t01:02:03",
                "2024-07-01T1:02:03",
                "2024-07-01T01:02",
                "2024-07-01T24:00:01",
                "2024-07-01T24:00:00.1",
                "2024-07-01T25:00:00",
                "2024-07-01T23:60:00",
                "2024-07-01T23:59:60",
                "2024-07-01T01:02:03.",
                "0000-07-01T01:02:03",
            ],
        ),
        (
            Temporal::Time,
            &["01:02:03", "00:00:00", "24:00:00", "23:59:59.999999999999"],
            &[
                "1:02:03",
                "01:02",
                "24:00:01",
                "01:02:03.",
                "010203",
                "01:02:0é",
                "",
            ],
        ),
        (
            Temporal::Date,
            &[
                "2024-02-29",
                "2000-02-29",
                "1899-12-31",
                "-0001-01-01",
                "99999-12-31",
                "0001-01-01",
            ],
            &[
                "2023-02-29",
                "1900-02-29",
                "2024-13-01",
                "2024-00-10",
                "2024-04-31",
                "2024-4-01",
                "024-04-01",
                "02024-04-01",
                "24-04-01",
                "2024/04/01",
                "0000-01-01",
                "--2024-01-01",
                "2024-01-01T",
                "é024-01-01",
            ],
        ),
        (
            Temporal::YearMonth,
            &["2024-07", "-2024-12", "10000-01"],
            &["2024", "2024-13", "2024-7", "2024-07-01"],
        ),
        (
            Temporal::Year,
            &["2024", "-0001", "12345"],
            &["-", "024", "02024", "0000", "2024-", "+2024", "20.4", ""],
        ),
        (
            Temporal::MonthDay,
            &["--02-29", "--12-31"],
            &["--02-30", "-02-29", "02-29", "--2-29", "--04-31", "--13-01"],
        ),
        (
            Temporal::Day,
            &["---01", "---31"],
            &["---32", "---00", "--01", "---1", "01"],
        ),
        (
            Temporal::Month,
            &["--01", "--12"],
            &["--13", "--00", "-01", "--1", "--01--"],
        ),
    ];

    const ZONES: [&str; 6] = ["", "Z", "+00:00", "-05:00", "+14:00", "-14:00"];
    const NO_ZONES: [&str; 8] = [
        "z", "+14:30", "-14:01", "+15:00", "+5:00", "-0500", "+05:60", "ZZ",
    ];

    #[test]
    fn each_type_takes_its_forms_and_no_others() {
        for (kind, good, bad) in FORMS {
            for text in good {
                assert!(fits(kind, text), "{kind:?} {text}");
                for zone in ZONES {
                    let text = format!("{text}{zone}");
                    let expected = kind != Temporal::Duration || zone.is_empty();
                    assert_eq!(fits(kind, &text), expected, "{kind:?} {text}");
                }
                for zone in NO_ZONES {
                    let text = format!("{text}{zone}");
                    assert!(!fits(kind, &text), "{kind:?} {text}");
                }
            }
            for text in bad {
                assert!(!fits(kind, text), "{kind:?} {text}");
            }
        }
    }
}
