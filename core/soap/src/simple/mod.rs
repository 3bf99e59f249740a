//! Simple types: how a text of XML and a value of JSON stand for each other (XML Schema part 2).
//!
//! Numbers are never computed with: their digits are copied, and only what JSON's grammar (RFC 8259 §6) cannot write is
//! respelled (`+5`, `.5`, `5.`, `007`).

mod facets;
mod lexical;
mod pattern;
mod schema;
mod temporal;
mod text;
mod wrong;

use std::borrow::Cow;

use regex::Regex;
use serde_json::Value;

use self::lexical::{
    compare_decimals, expand, from_hex, is_base64, is_collapsed, push_number, short, trim,
};
pub use self::lexical::{from_base64, to_base64};
pub(crate) use self::pattern::regex_of;
pub use self::text::push_json_string;
pub use self::wrong::ValueError;
use crate::tree::Json;

/// The primitive behind a simple type.
#[derive(Clone, Debug)]
pub enum Base {
    /// `string` and what is only a longer name for it: every character counts.
    Text,
    /// `normalizedString`: tabs and line ends become spaces (part 2 §4.3.6).
    Normalized,
    /// Texts whose white space is collapsed: `token`, `anyURI`, `NMTOKEN`, `QName` …
    Token,
    /// `boolean`.
    Boolean,
    /// `decimal`.
    Decimal,
    /// Whole numbers, the range given by facets.
    Integer,
    /// `float` and `double`.
    Float,
    /// Dates, times and durations, by their JSON Schema format if there is one.
    Temporal(Temporal),
    /// `base64Binary`.
    Base64,
    /// `hexBinary`.
    Hex,
    /// `xsd:list`: values with white space between them.
    List(Box<Simple>),
    /// `xsd:union`: the first of these that a value fits.
    Union(Vec<Simple>),
}

/// The kinds of dates and times.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Temporal {
    /// `date`.
    Date,
    /// `time`.
    Time,
    /// `dateTime`.
    DateTime,
    /// `duration`.
    Duration,
    /// `gYearMonth`.
    YearMonth,
    /// `gYear`.
    Year,
    /// `gMonthDay`.
    MonthDay,
    /// `gMonth`.
    Month,
    /// `gDay`.
    Day,
}

/// A simple type with its facets.
#[derive(Clone, Debug)]
pub struct Simple {
    /// The primitive.
    pub base: Base,
    /// The allowed texts; none given: all.
    pub enumeration: Vec<String>,
    /// Patterns that must all match, with the text they had in the schema.
    pub patterns: Vec<(Regex, String)>,
    /// Least and greatest number of characters (or octets).
    pub length: (Option<usize>, Option<usize>),
    /// Bounds as written, with whether they are exclusive.
    pub min: Option<(String, bool)>,
    /// See `min`.
    pub max: Option<(String, bool)>,
    /// Greatest number of digits, in all and behind the point.
    pub digits: (Option<usize>, Option<usize>),
}

impl Simple {
    /// A type without facets.
    pub fn plain(base: Base) -> Self {
        Self {
            base,
            enumeration: Vec::new(),
            patterns: Vec::new(),
            length: (None, None),
            min: None,
            max: None,
            digits: (None, None),
        }
    }

    /// The built-in type of a local name; `None` for names that XML Schema does not have.
    pub fn built_in(name: &str) -> Option<Self> {
        let range = |min: &str, max: &str| Simple {
            min: (!min.is_empty()).then(|| (min.to_owned(), false)),
            max: (!max.is_empty()).then(|| (max.to_owned(), false)),
            ..Simple::plain(Base::Integer)
        };
        Some(match name {
            "string" | "anySimpleType" | "anyAtomicType" => Self::plain(Base::Text),
            "normalizedString" => Self::plain(Base::Normalized),
            "token" | "language" | "Name" | "NCName" | "NMTOKEN" | "ID" | "IDREF" | "ENTITY"
            | "anyURI" | "uriReference" | "QName" | "NOTATION" => Self::plain(Base::Token),
            "NMTOKENS" | "IDREFS" | "ENTITIES" => {
                Self::plain(Base::List(Box::new(Self::plain(Base::Token))))
            }
            "boolean" => Self::plain(Base::Boolean),
            "decimal" => Self::plain(Base::Decimal),
            "integer" => range("", ""),
            "nonNegativeInteger" => range("0", ""),
            "positiveInteger" => range("1", ""),
            "nonPositiveInteger" => range("", "0"),
            "negativeInteger" => range("", "-1"),
            "long" => range("-9223372036854775808", "9223372036854775807"),
            "int" => range("-2147483648", "2147483647"),
            "short" => range("-32768", "32767"),
            "byte" => range("-128", "127"),
            "unsignedLong" => range("0", "18446744073709551615"),
            "unsignedInt" => range("0", "4294967295"),
            "unsignedShort" => range("0", "65535"),
            "unsignedByte" => range("0", "255"),
            "float" | "double" => Self::plain(Base::Float),
            "date" => Self::plain(Base::Temporal(Temporal::Date)),
            "time" => Self::plain(Base::Temporal(Temporal::Time)),
            // `timeInstant` and `timeDuration` are what the drafts of 1999 and 2000 called them.
            "dateTime" | "timeInstant" => Self::plain(Base::Temporal(Temporal::DateTime)),
            "duration" | "timeDuration" => Self::plain(Base::Temporal(Temporal::Duration)),
            "gYearMonth" => Self::plain(Base::Temporal(Temporal::YearMonth)),
            "gYear" => Self::plain(Base::Temporal(Temporal::Year)),
            "gMonthDay" => Self::plain(Base::Temporal(Temporal::MonthDay)),
            "gMonth" => Self::plain(Base::Temporal(Temporal::Month)),
            "gDay" => Self::plain(Base::Temporal(Temporal::Day)),
            "base64Binary" => Self::plain(Base::Base64),
            "hexBinary" => Self::plain(Base::Hex),
            _ => return None,
        })
    }

    /// Appends the JSON for a text found in XML.
    ///
    /// # Errors
    /// What is wrong with the text, when its type rules it out.
    pub fn to_json(&self, out: &mut Vec<u8>, text: &str) -> Result<(), ValueError> {
        if matches!(self.base, Base::Text) {
            push_json_string(out, text);
            return Ok(());
        }
        let trimmed = trim(text);
        match &self.base {
            Base::Text => {}
            Base::Normalized => push_json_string(out, &text.replace(['\t', '\n', '\r'], " ")),
            Base::List(item) => {
                out.push(b'[');
                for (i, one) in text.split_ascii_whitespace().enumerate() {
                    if i > 0 {
                        out.push(b',');
                    }
                    item.to_json(out, one)?;
                }
                out.push(b']');
            }
            Base::Union(kinds) => first_that_keeps(kinds, out, text),
            Base::Token if is_collapsed(trimmed) => push_json_string(out, trimmed),
            Base::Token => {
                let collapsed: Vec<&str> = trimmed.split_ascii_whitespace().collect();
                push_json_string(out, &collapsed.join(" "));
            }
            Base::Temporal(_) => push_json_string(out, trimmed),
            Base::Boolean => match trimmed {
                "true" | "1" => out.extend_from_slice(b"true"),
                "false" | "0" => out.extend_from_slice(b"false"),
                _ => return Err(ValueError::lexical(trimmed, "boolean")),
            },
            Base::Decimal | Base::Integer => {
                let whole = matches!(self.base, Base::Integer);
                if !push_number(out, trimmed, !whole, false) {
                    let kind = if whole { "integer" } else { "decimal" };
                    return Err(ValueError::lexical(trimmed, kind));
                }
            }
            Base::Float => match trimmed {
                _ if push_number(out, trimmed, true, true) => {}
                _ => match no_number(trimmed) {
                    Some(named) => push_json_string(out, named),
                    None => return Err(ValueError::lexical(trimmed, "floating-point number")),
                },
            },
            Base::Base64 => {
                let packed: String = trimmed.split_ascii_whitespace().collect();
                push_json_string(out, &packed);
            }
            Base::Hex => {
                let octets =
                    from_hex(trimmed).ok_or_else(|| ValueError::lexical(trimmed, "hexBinary"))?;
                push_json_string(out, &to_base64(&octets));
            }
        }
        Ok(())
    }

    /// The XML text for a JSON value, facets checked.
    ///
    /// # Errors
    /// What is wrong with the value.
    pub fn to_text<'v>(&self, value: &'v Json<'_>) -> Result<Cow<'v, str>, ValueError> {
        let text = match (&self.base, value) {
            (Base::List(item), Json::Array(values)) => list_text(item, values)?.into(),
            (Base::Union(kinds), value) => union_text(kinds, value)?,
            (_, Json::String(text)) => self.string_text(text)?,
            (Base::Boolean, Json::Bool(b)) => if *b { "true" } else { "false" }.into(),
            (Base::Decimal, Json::Number(n)) => expand(n).ok_or(ValueError::Endless)?,
            (Base::Integer, Json::Number(n)) => {
                let text = expand(n).ok_or(ValueError::Endless)?;
                match text.split_once('.') {
                    None => text,
                    Some((whole, rest)) if rest.bytes().all(|b| b == b'0') => {
                        whole.to_owned().into()
                    }
                    Some(_) => return Err(ValueError::Kind("a whole number", n.to_string())),
                }
            }
            (Base::Float, Json::Number(n)) => Cow::Borrowed(n.as_ref()),
            _ => return Err(self.unexpected(value)),
        };
        self.check_facets(&text)?;
        Ok(text)
    }

    /// The XML text for a JSON string.
    fn string_text<'v>(&self, text: &'v str) -> Result<Cow<'v, str>, ValueError> {
        Ok(match &self.base {
            Base::Text => Cow::Borrowed(text),
            Base::Normalized => text.replace(['\t', '\n', '\r'], " ").into(),
            Base::Token if is_collapsed(text) => Cow::Borrowed(text),
            Base::Token => {
                let words: Vec<&str> = text.split_ascii_whitespace().collect();
                words.join(" ").into()
            }
            Base::Temporal(kind) if temporal::fits(*kind, text) => Cow::Borrowed(text),
            Base::Temporal(kind) => {
                return Err(ValueError::lexical(text, temporal::name(*kind)));
            }
            Base::Float if matches!(text, "INF" | "-INF" | "NaN") => Cow::Borrowed(text),
            Base::Base64 if is_base64(text) => Cow::Borrowed(text),
            Base::Base64 => return Err(ValueError::Base64),
            Base::Hex => {
                let octets = from_base64(text).ok_or(ValueError::Base64)?;
                let digits = octets.iter().map(|b| format!("{b:02X}"));
                digits.collect::<String>().into()
            }
            _ => return Err(ValueError::Kind(self.expected(), "a string".into())),
        })
    }

    fn unexpected(&self, value: &Json<'_>) -> ValueError {
        ValueError::Kind(self.expected(), value.kind().to_owned())
    }

    /// Whether its values are single ones, which can stand in a path or query.
    pub fn is_scalar(&self) -> bool {
        !matches!(self.base, Base::List(_) | Base::Union(_))
    }

    /// Whether a text fits facets and lexical form, as the members of a union are tried.
    fn fits_text(&self, text: &str) -> bool {
        let form = match &self.base {
            Base::Temporal(kind) => temporal::fits(*kind, text),
            Base::Base64 => from_base64(text).is_some(),
            _ => true,
        };
        form && self.check_facets(text).is_ok()
    }

    fn expected(&self) -> &'static str {
        match self.base {
            Base::List(_) => "an array",
            Base::Boolean => "true or false",
            Base::Decimal | Base::Float => "a number",
            Base::Integer => "a whole number",
            _ => "a string",
        }
    }

    pub(crate) fn json_of(&self, text: &str) -> Value {
        let mut out = Vec::new();
        match self.to_json(&mut out, text) {
            Ok(()) => serde_json::from_slice(&out).unwrap_or(Value::Null),
            Err(_) => Value::String(text.to_owned()),
        }
    }
}

/// Appends the JSON of the first type that the text fits and that carries it without a change of spelling; else the text itself.
fn first_that_keeps(kinds: &[Simple], out: &mut Vec<u8>, text: &str) {
    let (at, trimmed) = (out.len(), trim(text));
    let kept = kinds.iter().any(|kind| {
        out.truncate(at);
        kind.to_json(out, text).is_ok()
            && kind.fits_text(trimmed)
            && (out[at..].starts_with(b"\"")
                || out[at..].starts_with(b"[")
                || &out[at..] == trimmed.as_bytes())
    });
    if !kept {
        out.truncate(at);
        push_json_string(out, trimmed);
    }
}

/// The values of a list with blanks between them.
fn list_text(item: &Simple, values: &[Json<'_>]) -> Result<String, ValueError> {
    let mut texts = Vec::with_capacity(values.len());
    for value in values {
        let text = item.to_text(value)?;
        if text.is_empty() || text.contains([' ', '\t', '\n', '\r']) {
            return Err(ValueError::InList(short(&text).to_string()));
        }
        texts.push(text);
    }
    Ok(texts.join(" "))
}

/// The text of the first type that a value fits.
fn union_text<'v>(kinds: &[Simple], value: &'v Json<'_>) -> Result<Cow<'v, str>, ValueError> {
    if let [only] = kinds {
        return only.to_text(value);
    }
    let mut texts = kinds.iter().filter_map(|kind| kind.to_text(value).ok());
    texts
        .next()
        .ok_or_else(|| ValueError::NoMember(value.kind(), kinds.len()))
}

/// What is no number of XML Schema's floating-point types (part 2 §3.2.4.1), in its own spelling; `+INF` is that of 1.1, and
/// the others are what servers write all the same.
fn no_number(text: &str) -> Option<&'static str> {
    let (sign, name) = match text.strip_prefix('-') {
        Some(name) => ("-", name),
        None => ("", text.strip_prefix('+').unwrap_or(text)),
    };
    let infinite = ["inf", "infinity"]
        .iter()
        .any(|n| name.eq_ignore_ascii_case(n));
    match (sign, infinite) {
        ("", true) => Some("INF"),
        ("-", true) => Some("-INF"),
        _ if text.eq_ignore_ascii_case("nan") => Some("NaN"),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn json_text(name: &str, text: &str) -> Result<String, ValueError> {
        let mut out = Vec::new();
        Simple::built_in(name)
            .unwrap()
            .to_json(&mut out, text)
            .map(|()| String::from_utf8(out).unwrap())
    }

    #[test]
    fn digits_are_copied_and_only_spelling_changes() {
        for (kind, xml, json) in [
            ("decimal", "1520.250", "1520.250"),
            ("decimal", " +.5 ", "0.5"),
            ("decimal", "5.", "5"),
            ("decimal", "-0", "-0"),
            (
                "integer",
                "00012345678901234567890123456789012345678901",
                "12345678901234567890123456789012345678901",
            ),
            (
                "unsignedLong",
                "18446744073709551615",
                "18446744073709551615",
            ),
            ("double", "1.50e10", "1.50E10"),
            ("double", "-INF", "\"-INF\""),
            ("float", "+INF", "\"INF\""),
            ("double", "Infinity", "\"INF\""),
            ("double", "-Infinity", "\"-INF\""),
            ("double", "nan", "\"NaN\""),
            ("boolean", "1", "true"),
            ("string", " a  b\n", "\" a  b\\n\""),
            ("token", " a  b\n", "\"a b\""),
            ("hexBinary", "0aFF", "\"Cv8=\""),
            ("string", "007", "\"007\""),
        ] {
            assert_eq!(json_text(kind, xml).as_deref(), Ok(json), "{kind} {xml}");
        }
        for (kind, xml) in [
            ("integer", "1.0"),
            ("decimal", "1e3"),
            ("decimal", ""),
            ("boolean", "yes"),
            ("double", "abc"),
            ("double", "info"),
            ("double", "--INF"),
            ("hexBinary", "abc"),
        ] {
            assert!(json_text(kind, xml).is_err(), "{kind} {xml}");
        }
    }

    #[test]
    fn values_that_do_not_fit_say_why() {
        let text = |kind: &str, json: &str| {
            Simple::built_in(kind)
                .unwrap()
                .to_text(&Json::parse(json.as_bytes()).unwrap())
                .map(Cow::into_owned)
        };
        assert_eq!(text("decimal", "1.5e3").unwrap(), "1500");
        assert_eq!(text("decimal", "12e-4").unwrap(), "0.0012");
        assert_eq!(text("int", "5.0").unwrap(), "5");
        assert_eq!(
            text("byte", "128").unwrap_err().to_string(),
            "128 is more than 127"
        );
        assert_eq!(
            text("int", "\"5\"").unwrap_err().to_string(),
            "a whole number is expected, not a string"
        );
        assert_eq!(
            text("int", "5.5").unwrap_err().to_string(),
            "a whole number is expected, not 5.5"
        );
        assert!(text("date", "\"2027-02-29\"").is_err());
        assert!(text("date", "\"2028-02-29+02:00\"").is_ok());
        assert!(text("dateTime", "\"2027-05-14T08:30:00.25Z\"").is_ok());
        assert!(text("duration", "\"P1DT2H\"").is_ok());
        assert!(text("duration", "\"P\"").is_err());
        assert!(text("decimal", "1e999999").is_err());
        assert!(text("base64Binary", "\"Cv8=\"").is_ok());
        assert!(text("base64Binary", "\"C*8=\"").is_err());
    }
}
