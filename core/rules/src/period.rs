//! Periods of the calendar, in a time zone or from a moment on.

use std::sync::atomic::{AtomicU64, Ordering};

use chrono::{
    DateTime, Datelike, Days, Months, NaiveDate, NaiveDateTime, NaiveTime, Offset, TimeDelta,
    TimeZone, Utc,
};
use chrono_tz::Tz;

/// How long a period is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Length {
    /// An hour.
    Hour,
    /// A day.
    Day,
    /// A week; those of the calendar begin on Monday (ISO 8601 §4.3.2.2).
    Week,
    /// A month.
    Month,
}

/// Periods, one behind the other without a gap.
#[derive(Clone, Copy, Debug)]
pub struct Periods {
    /// How long each is.
    pub length: Length,
    /// Where their days begin.
    pub zone: Tz,
}

/// The period of the calendar that was asked for last: nearly every call is in the same one as that before it, and the calendar is
/// slow to ask.
#[derive(Debug, Default)]
pub struct Lately(AtomicU64);

impl Lately {
    /// The period of the calendar that a moment is in, as [`Periods::of_calendar`] says it.
    pub fn of_calendar(&self, periods: &Periods, now: i64) -> (i64, i64) {
        let known = self.0.load(Ordering::Relaxed);
        // Both in seconds, in one number: no other thread is seen half-way.
        let at = |part: u64| (part & 0xffff_ffff) as i64 * 1000;
        let (from, until) = (at(known >> 32), at(known));
        if from <= now && now < until {
            return (from, until);
        }
        let (from, until) = periods.of_calendar(now);
        let part = |at: i64| match at % 1000 {
            0 => u32::try_from(at / 1000).ok(),
            _ => None,
        };
        if let (Some(from), Some(until)) = (part(from), part(until)) {
            let both = u64::from(from) << 32 | u64::from(until);
            self.0.store(both, Ordering::Relaxed);
        }
        (from, until)
    }
}

/// The time zone of a name (IANA Time Zone Database).
pub fn zone(name: &str) -> Option<Tz> {
    name.parse().ok()
}

const HOUR: i64 = 3_600_000;

impl Periods {
    /// The period that a moment is in, of the calendar: its beginning, and that of the next. Everything in milliseconds since
    /// 1970.
    pub fn of_calendar(&self, now: i64) -> (i64, i64) {
        let Some(local) = self.local(now) else {
            return (0, i64::MAX);
        };
        let date = local.date();
        let first = match self.length {
            Length::Hour => return self.hour(now, 0),
            Length::Day => Some(date),
            Length::Week => {
                date.checked_sub_days(Days::new(date.weekday().num_days_from_monday().into()))
            }
            Length::Month => date.with_day(1),
        };
        let first = first.unwrap_or(date).and_time(NaiveTime::MIN);
        (self.moment(first), self.moment(self.later(first, 1)))
    }

    /// The same of periods that are counted from a moment on. What is before it is in the first.
    pub fn since(&self, from: i64, now: i64) -> (i64, i64) {
        let now = now.max(from);
        let (Some(first), Some(local)) = (self.local(from), self.local(now)) else {
            return (0, i64::MAX);
        };
        let whole = match self.length {
            Length::Hour => return self.hour(now, from.rem_euclid(HOUR)),
            Length::Day => (local.date() - first.date()).num_days(),
            Length::Week => (local.date() - first.date()).num_days() / 7,
            Length::Month => months(local.date()) - months(first.date()),
        };
        let begins = |n: i64| match n {
            0 => from,
            n => self.moment(self.later(first, n.unsigned_abs())),
        };
        // What comes out is a period too far where the day or time within it is not reached yet.
        let whole = match begins(whole) > now {
            true => whole - 1,
            false => whole,
        };
        (begins(whole.max(0)), begins(whole.max(0) + 1))
    }

    fn hour(&self, now: i64, offset: i64) -> (i64, i64) {
        let of_zone = DateTime::<Utc>::from_timestamp_millis(now).map_or(0, |utc| {
            self.zone
                .offset_from_utc_datetime(&utc.naive_utc())
                .fix()
                .local_minus_utc()
        });
        // Of the calendar: the zone's full hours. From a moment: the same minute of each hour.
        let shift = match offset {
            0 => -i64::from(of_zone) * 1000,
            offset => offset,
        };
        let from = (now - shift).div_euclid(HOUR) * HOUR + shift;
        (from, from + HOUR)
    }

    fn local(&self, at: i64) -> Option<NaiveDateTime> {
        let utc = DateTime::<Utc>::from_timestamp_millis(at)?.naive_utc();
        // The first and the last moments that can be said at all are none everywhere.
        utc.checked_add_offset(self.zone.offset_from_utc_datetime(&utc).fix())
    }

    fn later(&self, first: NaiveDateTime, n: u64) -> NaiveDateTime {
        let months = Months::new(u32::try_from(n).unwrap_or(u32::MAX));
        let made = match self.length {
            Length::Hour => first.checked_add_signed(TimeDelta::hours(n as i64)),
            Length::Day => first.checked_add_days(Days::new(n)),
            Length::Week => first.checked_add_days(Days::new(n.saturating_mul(7))),
            Length::Month => first.checked_add_months(months),
        };
        made.unwrap_or(NaiveDateTime::MAX)
    }

    /// The moment of a local time; where clocks are put forward over it, the first that there is behind it.
    fn moment(&self, local: NaiveDateTime) -> i64 {
        let mut at = local;
        for _ in 0..8 {
            if let Some(found) = self.zone.from_local_datetime(&at).earliest() {
                return found.timestamp_millis();
            }
            match at.checked_add_signed(TimeDelta::minutes(30)) {
                Some(later) => at = later,
                None => break,
            }
        }
        local.and_utc().timestamp_millis()
    }
}

fn months(date: NaiveDate) -> i64 {
    i64::from(date.year()) * 12 + i64::from(date.month0())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const ALL: [Length; 4] = [Length::Hour, Length::Day, Length::Week, Length::Month];

    fn at(text: &str) -> i64 {
        DateTime::parse_from_rfc3339(text)
            .unwrap()
            .timestamp_millis()
    }

    fn shown((from, to): (i64, i64), zone: Tz) -> String {
        let text = |ms| {
            let utc = DateTime::<Utc>::from_timestamp_millis(ms).unwrap();
            utc.with_timezone(&zone).format("%F %R").to_string()
        };
        format!("{} to {}", text(from), text(to))
    }

    #[test]
    fn periods_of_the_calendar_begin_where_the_zone_s_days_do() {
        for (length, name, now, wanted) in [
            (
                Length::Hour,
                "UTC",
                "2027-05-14T10:59:59Z",
                "2027-05-14 10:00 to 2027-05-14 11:00",
            ),
            (
                Length::Hour,
                "Asia/Kathmandu",
                "2027-05-14T10:20:00Z",
                "2027-05-14 16:00 to 2027-05-14 17:00",
            ),
            (
                Length::Day,
                "UTC",
                "2027-05-14T00:00:00Z",
                "2027-05-14 00:00 to 2027-05-15 00:00",
            ),
            (
                Length::Day,
                "Europe/Oslo",
                "2027-05-14T22:00:00Z",
                "2027-05-15 00:00 to 2027-05-16 00:00",
            ),
            (
                Length::Week,
                "UTC",
                "2027-05-16T23:59:59Z",
                "2027-05-10 00:00 to 2027-05-17 00:00",
            ),
            (
                Length::Month,
                "Europe/Oslo",
                "2027-02-28T23:30:00Z",
                "2027-03-01 00:00 to 2027-04-01 00:00",
            ),
            (
                Length::Month,
                "UTC",
                "2027-12-31T23:30:00Z",
                "2027-12-01 00:00 to 2028-01-01 00:00",
            ),
        ] {
            let periods = Periods {
                length,
                zone: zone(name).unwrap(),
            };
            let found = periods.of_calendar(at(now));
            assert_eq!(shown(found, periods.zone), wanted, "{length:?} {name}");
        }
    }

    #[test]
    fn moments_that_nobody_can_say_are_no_mistake_of_the_clock() {
        let ends = [
            DateTime::<Utc>::MIN_UTC.timestamp_millis(),
            DateTime::<Utc>::MAX_UTC.timestamp_millis(),
        ];
        for (length, name) in ALL
            .into_iter()
            .zip(["Asia/Kathmandu", "UTC"].iter().cycle())
        {
            for zone in [name, &"America/Asuncion"].map(|n| zone(n).unwrap()) {
                let periods = Periods { length, zone };
                for from in ends.into_iter().chain([i64::MIN, i64::MAX]) {
                    let (a, b) = periods.since(from, 1_800_000_000_000);
                    assert!(a <= b, "{length:?} {zone} {from}: {a} to {b}");
                    periods.of_calendar(from);
                }
            }
        }
    }

    #[test]
    fn days_of_other_lengths_are_as_long_as_they_are() {
        // A day on which clocks are put forward has 23 hours; one without a midnight begins with its first moment.
        let day = |name: &str, now| {
            Periods {
                length: Length::Day,
                zone: zone(name).unwrap(),
            }
            .of_calendar(at(now))
        };
        let (from, to) = day("Europe/Oslo", "2027-03-28T12:00:00Z");
        assert_eq!(to - from, 23 * HOUR);
        let (from, to) = day("America/Asuncion", "2023-10-01T12:00:00Z");
        assert_eq!(to - from, 23 * HOUR);
        assert!(zone("Farholt").is_none());
    }

    #[test]
    fn periods_from_a_moment_on_keep_its_day_and_time() {
        let utc = Tz::UTC;
        for (length, from, now, wanted) in [
            (
                Length::Month,
                "2027-01-31T09:30:00Z",
                "2027-02-28T09:29:59Z",
                "2027-01-31 09:30 to 2027-02-28 09:30",
            ),
            (
                Length::Month,
                "2027-01-31T09:30:00Z",
                "2027-03-01T00:00:00Z",
                "2027-02-28 09:30 to 2027-03-31 09:30",
            ),
            (
                Length::Week,
                "2027-05-14T09:30:00Z",
                "2027-05-21T09:30:00Z",
                "2027-05-21 09:30 to 2027-05-28 09:30",
            ),
            (
                Length::Day,
                "2027-05-14T09:30:00Z",
                "2027-05-16T09:29:00Z",
                "2027-05-15 09:30 to 2027-05-16 09:30",
            ),
            (
                Length::Hour,
                "2027-05-14T09:30:00Z",
                "2027-05-16T09:29:00Z",
                "2027-05-16 08:30 to 2027-05-16 09:30",
            ),
            (
                Length::Day,
                "2027-05-14T09:30:00Z",
                "2027-05-13T00:00:00Z",
                "2027-05-14 09:30 to 2027-05-15 09:30",
            ),
        ] {
            let periods = Periods { length, zone: utc };
            let found = periods.since(at(from), at(now));
            assert_eq!(shown(found, utc), wanted, "{length:?} {from}");
        }
    }

    #[test]
    fn what_is_remembered_of_a_period_is_what_the_calendar_says() {
        for (length, name) in ALL
            .into_iter()
            .flat_map(|l| ["UTC", "Europe/Oslo", "Asia/Kathmandu"].map(|n| (l, n)))
        {
            let periods = Periods {
                length,
                zone: zone(name).unwrap(),
            };
            let lately = Lately::default();
            // On, back again, before 1970 and beyond what is remembered; at edges and beside them.
            let (from, until) = periods.of_calendar(at("2027-03-28T00:59:59Z"));
            for now in [
                at("2027-03-28T00:59:59Z"),
                from,
                until - 1,
                until,
                from - 1,
                from,
                -1,
                i64::MAX,
                i64::MIN,
                9_000_000_000_000,
                until,
            ] {
                for _ in 0..2 {
                    assert_eq!(
                        lately.of_calendar(&periods, now),
                        periods.of_calendar(now),
                        "{length:?} {name} {now}"
                    );
                }
            }
        }
    }

    proptest! {
        /// Every moment is in exactly one period, and the next begins where it ends.
        #[test]
        fn periods_have_no_gap(which in 0usize..4, name in prop_oneof![Just("UTC"), Just("Europe/Oslo"), Just("America/Asuncion"), Just("Australia/Lord_Howe")], from in 0i64..4_000_000_000_000, later in 0i64..400_000_000_000) {
            let periods = Periods { length: ALL[which], zone: zone(name).unwrap() };
            let now = from + later;
            for f in [&(|t| periods.of_calendar(t)) as &dyn Fn(i64) -> (i64, i64), &|t| periods.since(from, t)] {
                let (begins, ends) = f(now);
                prop_assert!(begins <= now && now < ends, "{begins} {now} {ends}");
                prop_assert_eq!(f(ends).0, ends);
                prop_assert_eq!(f(ends - 1), (begins, ends));
            }
        }
    }
}
