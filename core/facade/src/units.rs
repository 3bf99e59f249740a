//! Durations and sizes as people write them.

use std::borrow::Cow;
use std::time::Duration;

use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::{Deserialize, Deserializer, de::Error};

/// A duration written as a number and a unit: `500ms`, `30s`, `2m`, `1h`, `7d`.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Span(pub Duration);

/// A size in bytes written as a number and a unit: `64KiB`, `1MiB`, `2MB`, or a plain number.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Size(pub u64);

/// A day as ISO 8601 writes it, `2027-03-01`; it begins at midnight UTC.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Day(chrono::NaiveDate);

impl Day {
    pub(crate) fn parse(text: &str) -> Option<Self> {
        let text = text.trim();
        let written = text.len() == 10 && text.as_bytes()[4] == b'-';
        let day = chrono::NaiveDate::parse_from_str(text, "%Y-%m-%d").ok();
        day.filter(|_| written).map(Self)
    }

    /// Seconds since 1970.
    pub fn seconds(self) -> i64 {
        self.0
            .and_time(chrono::NaiveTime::MIN)
            .and_utc()
            .timestamp()
    }

    /// As HTTP writes it (RFC 9110 §5.6.7, IMF-fixdate).
    pub fn http(self) -> String {
        self.0.format("%a, %d %b %Y 00:00:00 GMT").to_string()
    }
}

impl std::fmt::Display for Day {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}", self.0.format("%Y-%m-%d"))
    }
}

impl<'de> Deserialize<'de> for Day {
    fn deserialize<D: Deserializer<'de>>(d: D) -> Result<Self, D::Error> {
        let value = serde_json::Value::deserialize(d)?;
        let text = value
            .as_str()
            .map_or_else(|| value.to_string(), str::to_owned);
        let wrong = format!("“{text}” is no day: write year, month and day, as in 2027-03-01");
        Self::parse(&text).ok_or_else(|| D::Error::custom(wrong))
    }
}

impl JsonSchema for Day {
    fn schema_name() -> Cow<'static, str> {
        "Day".into()
    }
    fn json_schema(_: &mut SchemaGenerator) -> Schema {
        json_schema!({ "type": "string", "format": "date", "pattern": "^[0-9]{4}-[0-9]{2}-[0-9]{2}$", "examples": ["2027-03-01"] })
    }
}

fn split(text: &str) -> Option<(u64, &str)> {
    let at = text
        .find(|c: char| !c.is_ascii_digit())
        .unwrap_or(text.len());
    Some((text[..at].parse().ok()?, text[at..].trim()))
}

impl Span {
    pub(crate) fn parse(text: &str) -> Option<Self> {
        let (n, unit) = split(text.trim())?;
        let millis: u64 = match unit {
            "ms" => 1,
            "s" => 1000,
            "m" | "min" => 60_000,
            "h" => 3_600_000,
            "d" => 86_400_000,
            _ => return None,
        };
        n.checked_mul(millis)
            .filter(|ms| *ms > 0)
            .map(|ms| Self(Duration::from_millis(ms)))
    }
}

impl Size {
    pub(crate) fn parse(text: &str) -> Option<Self> {
        let (n, unit) = split(text.trim())?;
        let factor: u64 = match unit {
            "" | "B" => 1,
            "kB" | "KB" => 1000,
            "KiB" => 1 << 10,
            "MB" => 1_000_000,
            "MiB" => 1 << 20,
            "GiB" => 1 << 30,
            _ => return None,
        };
        n.checked_mul(factor).map(Self)
    }
}

impl<'de> Deserialize<'de> for Span {
    fn deserialize<D: Deserializer<'de>>(d: D) -> Result<Self, D::Error> {
        let value = serde_json::Value::deserialize(d)?;
        let text = value
            .as_str()
            .map_or_else(|| value.to_string(), str::to_owned);
        Self::parse(&text).ok_or_else(|| {
            D::Error::custom(format!(
                "“{text}” is no duration: write a number and ms, s, m, h or d, as in 2m"
            ))
        })
    }
}

impl<'de> Deserialize<'de> for Size {
    fn deserialize<D: Deserializer<'de>>(d: D) -> Result<Self, D::Error> {
        let value = serde_json::Value::deserialize(d)?;
        let text = value
            .as_str()
            .map_or_else(|| value.to_string(), str::to_owned);
        Self::parse(&text).ok_or_else(|| {
            D::Error::custom(format!(
                "“{text}” is no size: write a number and B, KiB, MiB or GiB, as in 1MiB"
            ))
        })
    }
}

impl JsonSchema for Span {
    fn schema_name() -> Cow<'static, str> {
        "Duration".into()
    }
    fn json_schema(_: &mut SchemaGenerator) -> Schema {
        json_schema!({ "type": "string", "pattern": "^[0-9]+ ?(ms|s|m|min|h|d)$", "examples": ["2m", "500ms"] })
    }
}

impl JsonSchema for Size {
    fn schema_name() -> Cow<'static, str> {
        "Size".into()
    }
    fn json_schema(_: &mut SchemaGenerator) -> Schema {
        json_schema!({ "anyOf": [{ "type": "integer", "minimum": 0 }, { "type": "string", "pattern": "^[0-9]+ ?(B|kB|KB|KiB|MB|MiB|GiB)?$" }], "examples": ["1MiB"] })
    }
}

/// A duration in words, the largest unit that is whole.
pub(crate) fn duration_text(d: Duration) -> String {
    let ms = d.as_millis();
    for (unit, size) in [
        ("d", 86_400_000),
        ("h", 3_600_000),
        ("m", 60_000),
        ("s", 1000),
    ] {
        if ms.is_multiple_of(size) && ms >= size {
            return format!("{}{unit}", ms / size);
        }
    }
    format!("{ms}ms")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn days_are_written_in_full() {
        let day = Day::parse("2027-03-01").unwrap();
        assert_eq!(
            (day.seconds(), day.to_string()),
            (1_803_859_200, "2027-03-01".into())
        );
        assert_eq!(day.http(), "Mon, 01 Mar 2027 00:00:00 GMT");
        for none in [
            "2027-3-1",
            "2027-02-30",
            "01.03.2027",
            "",
            "2027-03-01T00:00:00Z",
            "é027-03-01",
        ] {
            assert_eq!(Day::parse(none), None, "{none}");
        }
    }

    #[test]
    fn units_are_needed_and_bounded() {
        assert_eq!(Span::parse("2m"), Some(Span(Duration::from_secs(120))));
        assert_eq!(Span::parse("2"), None);
        assert_eq!(Span::parse("0s"), None);
        assert_eq!(Span::parse("99999999999999999d"), None);
        assert_eq!(Size::parse("1 MiB"), Some(Size(1 << 20)));
        assert_eq!(Size::parse("-1"), None);
        assert_eq!(duration_text(Duration::from_secs(7200)), "2h");
    }
}
