//! Limits and quotas, as documents say them.

use std::borrow::Cow;
use std::fmt;

use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::de::{self, Visitor};
use serde::{Deserialize, Deserializer};

use crate::units::{Size, Span, duration_text};

/// A limit: so much in any window of a length, or so many at the same time.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct LimitDoc {
    /// Greatest number of requests, or of what they weigh: a number, or an expression over what was agreed to
    /// (`=terms.requests`) and the request.
    pub requests: Option<Amount>,
    /// Greatest number of bytes of requests and replies: a size, or an expression.
    pub bytes: Option<Bytes>,
    /// Greatest number of requests that are under way at the same time.
    pub at_once: Option<Amount>,
    /// Length of the window.
    pub window: Option<Span>,
    /// Who shares it; `consumer` unless given.
    #[serde(default)]
    pub per: Per,
    /// How much a request counts; 1 unless given.
    pub weight: Option<Amount>,
    /// Whether what is allowed comes at even distances, and not whenever it likes within the window.
    #[serde(default)]
    pub smooth: bool,
    /// How many may come at once where it is smooth; a tenth of `requests` unless given.
    #[schemars(range(min = 1))]
    pub burst: Option<u32>,
    /// How many may wait for one of those at the same time to end; none unless given.
    pub waiting: Option<u32>,
    /// How long each of them waits at most; 1s unless given.
    pub within: Option<Span>,
    /// What happens while this node cannot count together with the others; `share` unless given.
    pub apart: Option<WhenApart>,
}

/// A quota: so much in each hour, day, week or month.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct QuotaDoc {
    /// Greatest number of requests, or of what they weigh: a number or an expression.
    pub requests: Option<Amount>,
    /// Greatest number of bytes of requests and replies: a size or an expression.
    pub bytes: Option<Bytes>,
    /// The period.
    pub each: Each,
    /// The time zone in which periods begin, by its name in the IANA database; UTC unless given.
    pub zone: Option<String>,
    /// From when periods are counted; the `calendar` unless given.
    #[serde(default)]
    pub from: PeriodsFrom,
    /// Who shares it; `consumer` unless given.
    #[serde(default)]
    pub per: Per,
    /// How much a request counts; 1 unless given.
    pub weight: Option<Amount>,
    /// At which shares of it publisher and consumer are told, in per cent; 80 and 100 unless given.
    pub warn_at: Option<Vec<u8>>,
    /// What happens when it is used up; `refuse` unless given.
    #[serde(default)]
    pub end: QuotaEnd,
    /// What happens while this node cannot count together with the others; `share` unless given.
    pub apart: Option<WhenApart>,
}

/// What happens while the place in which several nodes count gives no answer.
#[derive(Clone, Copy, Debug, Default, Deserialize, JsonSchema, PartialEq, Eq)]
#[serde(rename_all = "kebab-case")]
pub enum WhenApart {
    /// Calls go on, within this node's share of the limit: all nodes' shares together are no more than the limit, beside what was
    /// counted before.
    #[default]
    Share,
    /// Calls are refused (503).
    Refuse,
}

/// A period of the calendar.
#[derive(Clone, Copy, Debug, Deserialize, JsonSchema, PartialEq, Eq)]
#[serde(rename_all = "kebab-case")]
pub enum Each {
    /// From one full hour to the next.
    Hour,
    /// From midnight to midnight.
    Day,
    /// From Monday to Monday (ISO 8601).
    Week,
    /// From the first of a month to the first of the next.
    Month,
}

impl Each {
    /// As documents write it.
    pub fn label(self) -> &'static str {
        match self {
            Each::Hour => "hour",
            Each::Day => "day",
            Each::Week => "week",
            Each::Month => "month",
        }
    }
}

/// From when periods are counted.
#[derive(Clone, Copy, Debug, Default, Deserialize, JsonSchema, PartialEq, Eq)]
#[serde(rename_all = "kebab-case")]
pub enum PeriodsFrom {
    /// From the calendar's full hours, midnights, Mondays and firsts.
    #[default]
    Calendar,
    /// From the moment at which the agreement begins.
    Agreement,
}

/// What happens when a quota is used up.
#[derive(Clone, Copy, Debug, Default, Deserialize, JsonSchema, PartialEq, Eq)]
#[serde(rename_all = "kebab-case")]
pub enum QuotaEnd {
    /// Calls are refused (429) until the next period.
    #[default]
    Refuse,
    /// Calls go on, and it is told.
    Tell,
}

/// A number, or an expression that gives one.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Amount {
    /// A number.
    Fixed(u64),
    /// An expression, with its `=`.
    Asked(String),
}

/// A size, or an expression that gives one in bytes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Bytes(pub Amount);

impl Amount {
    /// As documents write it.
    pub(crate) fn in_words(&self) -> String {
        match self {
            Amount::Fixed(number) => number.to_string(),
            Amount::Asked(text) => text.clone(),
        }
    }
}

struct OfAmount;

impl Visitor<'_> for OfAmount {
    type Value = Amount;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("u64")
    }

    fn visit_u64<E: de::Error>(self, number: u64) -> Result<Amount, E> {
        Ok(Amount::Fixed(number))
    }

    fn visit_str<E: de::Error>(self, text: &str) -> Result<Amount, E> {
        if is_expression(text) {
            return Ok(Amount::Asked(text.to_owned()));
        }
        Err(E::invalid_type(de::Unexpected::Str(text), &self))
    }
}

fn is_expression(text: &str) -> bool {
    text.starts_with('=') && !text.starts_with("==")
}

impl<'de> Deserialize<'de> for Amount {
    fn deserialize<D: Deserializer<'de>>(d: D) -> Result<Self, D::Error> {
        let value = serde_json::Value::deserialize(d)?;
        if let Some(text) = value.as_str() {
            return OfAmount.visit_str(text);
        }
        match value.as_u64() {
            Some(number) => Ok(Amount::Fixed(number)),
            None if value.is_number() => Err(de::Error::custom("invalid number")),
            None => serde_json::from_value::<u64>(value)
                .map(Amount::Fixed)
                .map_err(de::Error::custom),
        }
    }
}

impl<'de> Deserialize<'de> for Bytes {
    fn deserialize<D: Deserializer<'de>>(d: D) -> Result<Self, D::Error> {
        let value = serde_json::Value::deserialize(d)?;
        match value.as_str().filter(|text| is_expression(text)) {
            Some(text) => Ok(Self(Amount::Asked(text.to_owned()))),
            None => serde_json::from_value::<Size>(value)
                .map(|size| Self(Amount::Fixed(size.0)))
                .map_err(de::Error::custom),
        }
    }
}

impl JsonSchema for Amount {
    fn schema_name() -> Cow<'static, str> {
        "Amount".into()
    }

    fn json_schema(_: &mut SchemaGenerator) -> Schema {
        json_schema!({
            "description": "A number, or an expression that gives one.",
            "anyOf": [{ "type": "integer", "minimum": 0 }, { "type": "string", "pattern": "^=" }],
            "examples": [60, "=terms.requests"]
        })
    }
}

impl JsonSchema for Bytes {
    fn schema_name() -> Cow<'static, str> {
        "SizeOrExpression".into()
    }

    fn json_schema(generator: &mut SchemaGenerator) -> Schema {
        let size = generator.subschema_for::<Size>();
        json_schema!({ "anyOf": [size, { "type": "string", "pattern": "^=" }] })
    }
}

/// Who shares a limit.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub enum Per {
    /// Each consumer has its own.
    #[default]
    Consumer,
    /// Each agreement has its own; without one, each consumer.
    Agreement,
    /// Each key, or other credential, has its own.
    Key,
    /// Each account has its own, with all its consumers; consumers without one each have theirs.
    Account,
    /// Each address that calls has its own.
    Address,
    /// Each facade has its own.
    Facade,
    /// All callers share one.
    Everyone,
    /// Each value of an expression has its own; what has none shares one.
    Value(String),
}

const KNOWN: &[&str] = &[
    "consumer",
    "agreement",
    "key",
    "account",
    "address",
    "facade",
    "everyone",
];

impl Per {
    /// As documents write it.
    pub fn label(&self) -> &str {
        match self {
            Per::Consumer => "consumer",
            Per::Agreement => "agreement",
            Per::Key => "key",
            Per::Account => "account",
            Per::Address => "address",
            Per::Facade => "facade",
            Per::Everyone => "everyone",
            Per::Value(text) => text,
        }
    }

    /// Whether it takes callers that are known.
    pub(crate) fn needs_consumer(&self) -> bool {
        matches!(
            self,
            Per::Consumer | Per::Agreement | Per::Key | Per::Account
        )
    }
}

impl<'de> Deserialize<'de> for Per {
    fn deserialize<D: Deserializer<'de>>(d: D) -> Result<Self, D::Error> {
        let text = String::deserialize(d)?;
        Ok(match text.as_str() {
            "consumer" => Per::Consumer,
            "agreement" => Per::Agreement,
            "key" => Per::Key,
            "account" => Per::Account,
            "address" => Per::Address,
            "facade" => Per::Facade,
            "everyone" => Per::Everyone,
            other if is_expression(other) => Per::Value(text),
            other => return Err(de::Error::unknown_variant(other, KNOWN)),
        })
    }
}

impl JsonSchema for Per {
    fn schema_name() -> Cow<'static, str> {
        "Per".into()
    }

    fn json_schema(_: &mut SchemaGenerator) -> Schema {
        json_schema!({
            "description": "Who shares a limit: one of these, or an expression whose values each have their own.",
            "anyOf": [{ "enum": KNOWN }, { "type": "string", "pattern": "^=" }]
        })
    }
}

impl LimitDoc {
    /// Whether it asks nothing of a request.
    pub(crate) fn is_fixed(&self) -> bool {
        let amounts = [&self.requests, &self.at_once, &self.weight];
        let sizes = self.bytes.iter().map(|b| &b.0);
        let mut all = amounts.into_iter().flatten().chain(sizes);
        all.all(|a| matches!(a, Amount::Fixed(_))) && !matches!(self.per, Per::Value(_))
    }

    /// What makes it the same limit.
    pub(crate) fn identity(&self) -> String {
        let window = self.window.map_or_else(String::new, |w| duration_text(w.0));
        let kind = match (&self.at_once, &self.bytes, self.smooth) {
            (Some(_), ..) => "at once ",
            (_, Some(_), _) => "bytes ",
            (.., true) => "smooth ",
            _ => "",
        };
        format!("{kind}{window}/{}", self.per.label())
    }

    pub(crate) fn in_words(&self) -> String {
        let window = self.window.map_or_else(String::new, |w| duration_text(w.0));
        let per = self.per.label();
        if let Some(most) = &self.at_once {
            let waiting = match self.waiting {
                Some(n) if n > 0 => format!(", {n} may wait"),
                _ => String::new(),
            };
            let apart = apart_in_words(self.apart);
            return format!(
                "limit {} at once per {per}{waiting}{apart}",
                most.in_words()
            );
        }
        let amount = match (&self.requests, &self.bytes) {
            (_, Some(size)) => format!("{} bytes", size.0.in_words()),
            (Some(requests), _) => requests.in_words(),
            _ => String::new(),
        };
        let weight = weight_in_words(self.weight.as_ref());
        let smooth = if self.smooth {
            ", at even distances"
        } else {
            ""
        };
        let apart = apart_in_words(self.apart);
        format!("limit {amount} in {window} per {per}{weight}{smooth}{apart}")
    }
}

fn apart_in_words(apart: Option<WhenApart>) -> &'static str {
    match apart {
        Some(WhenApart::Refuse) => ", refused while it cannot be counted with the other nodes",
        _ => "",
    }
}

fn weight_in_words(weight: Option<&Amount>) -> String {
    weight.map_or_else(String::new, |w| format!(", each counts {}", w.in_words()))
}

impl QuotaDoc {
    pub(crate) fn identity(&self) -> String {
        let kind = if self.bytes.is_some() {
            "bytes"
        } else {
            "requests"
        };
        let zone = self.zone.as_deref().unwrap_or("UTC");
        let each = self.each.label();
        let from = match self.from {
            PeriodsFrom::Calendar => "",
            PeriodsFrom::Agreement => "agreement",
        };
        format!("quota {kind} {each} {zone} {from}/{}", self.per.label())
    }

    pub(crate) fn in_words(&self) -> String {
        let amount = match (&self.requests, &self.bytes) {
            (_, Some(size)) => format!("{} bytes", size.0.in_words()),
            (Some(requests), _) => requests.in_words(),
            _ => String::new(),
        };
        let zone = match &self.zone {
            Some(zone) => format!(" ({zone})"),
            None => String::new(),
        };
        let tells = match self.end {
            QuotaEnd::Refuse => "",
            QuotaEnd::Tell => ", told and not refused",
        };
        let weight = weight_in_words(self.weight.as_ref());
        let (each, per) = (self.each.label(), self.per.label());
        let apart = apart_in_words(self.apart);
        format!("quota {amount} each {each}{zone} per {per}{weight}{tells}{apart}")
    }
}
