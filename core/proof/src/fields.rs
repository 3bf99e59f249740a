//! Structured fields (RFC 9651): dictionaries, lists and items, read within bounds and written so that nothing is left to choose.

use base64::Engine;
use base64::engine::general_purpose::STANDARD;

/// A bare item.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Item {
    Text(String),
    Number(i64),
    /// Thousandths.
    Decimal(i64),
    /// Seconds since 1970.
    Date(i64),
    /// Text of any characters.
    Display(String),
    Truth(bool),
    Token(String),
    Bytes(Vec<u8>),
}

/// Parameters, in order.
pub(crate) type Params = Vec<(String, Item)>;

/// A member of a dictionary.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Member {
    /// An inner list with its parameters.
    List(Vec<(Item, Params)>, Params),
    /// An item.
    Item(Item, Params),
}

/// Members of a dictionary, items of a list and parameters, each at most.
const MOST: usize = 64;

struct Reader<'t> {
    rest: &'t str,
}

/// A dictionary (RFC 9651 §4.2.2); a name that stands twice is refused, since two may mean different things by it.
pub(crate) fn dictionary(text: &str) -> Result<Vec<(String, Member)>, String> {
    let mut reader = Reader { rest: text.trim() };
    let mut all: Vec<(String, Member)> = Vec::new();
    while !reader.rest.is_empty() {
        let name = reader.key()?;
        let member = match reader.takes('=') {
            true => reader.member()?,
            false => Member::Item(Item::Truth(true), reader.params()?),
        };
        if all.iter().any(|(n, _)| *n == name) || all.len() >= MOST {
            return Err(format!("“{name}” stands twice, or there are too many"));
        }
        all.push((name, member));
        reader.comma()?;
    }
    Ok(all)
}

/// A list (RFC 9651 §4.2.1).
fn list(text: &str) -> Result<Vec<Member>, String> {
    let mut reader = Reader { rest: text.trim() };
    let mut all = Vec::new();
    while !reader.rest.is_empty() {
        if all.len() >= MOST {
            return Err("the list is too long".to_owned());
        }
        all.push(reader.member()?);
        reader.comma()?;
    }
    Ok(all)
}

/// What a structured field is made of.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Kind {
    Dictionary,
    List,
    Item,
}

impl Kind {
    /// That of a field, where the registry of field names has one for it (RFC 9651 §3, HTTP Field Name Registry).
    pub(crate) fn of(field: &str) -> Option<Self> {
        Some(match field {
            "accept-signature"
            | "cdn-cache-control"
            | "content-digest"
            | "priority"
            | "repr-digest"
            | "signature"
            | "signature-input"
            | "use-as-dictionary"
            | "want-content-digest"
            | "want-repr-digest" => Self::Dictionary,
            "accept-ch"
            | "cache-group-invalidation"
            | "cache-groups"
            | "cache-status"
            | "client-cert-chain"
            | "proxy-status"
            | "ratelimit"
            | "ratelimit-policy" => Self::List,
            "available-dictionary"
            | "capsule-protocol"
            | "client-cert"
            | "deprecation"
            | "dictionary-id"
            | "idempotency-key"
            | "incremental" => Self::Item,
            _ => return None,
        })
    }
}

/// A structured field as it is written when nothing is left to choose.
pub(crate) fn normal(kind: Kind, text: &str) -> Result<String, String> {
    let all: Vec<String> = match kind {
        Kind::Dictionary => dictionary(text)?
            .iter()
            .map(|(name, member)| match member {
                Member::Item(Item::Truth(true), params) => name.clone() + &written_params(params),
                member => format!("{name}={}", written_member(member)),
            })
            .collect(),
        Kind::List => list(text)?.iter().map(written_member).collect(),
        Kind::Item => match list(text)?.as_slice() {
            [only @ Member::Item(..)] => vec![written_member(only)],
            _ => return Err("it is no single item".to_owned()),
        },
    };
    Ok(all.join(", "))
}

impl Reader<'_> {
    fn space(&mut self) {
        self.rest = self.rest.trim_start_matches([' ', '\t']);
    }

    /// What stands between two members, or the end.
    fn comma(&mut self) -> Result<(), String> {
        self.space();
        if self.rest.is_empty() {
            return Ok(());
        }
        if !self.takes(',') {
            return Err("a comma is missing".to_owned());
        }
        self.space();
        match self.rest.is_empty() {
            true => Err("nothing stands behind the last comma".to_owned()),
            false => Ok(()),
        }
    }

    fn takes(&mut self, c: char) -> bool {
        match self.rest.strip_prefix(c) {
            Some(rest) => {
                self.rest = rest;
                true
            }
            None => false,
        }
    }

    fn while_is(&mut self, fits: impl Fn(char) -> bool) -> String {
        let end = self.rest.find(|c| !fits(c)).unwrap_or(self.rest.len());
        let (taken, rest) = self.rest.split_at(end);
        self.rest = rest;
        taken.to_owned()
    }

    fn key(&mut self) -> Result<String, String> {
        let first = |c: char| c.is_ascii_lowercase() || c == '*';
        let others = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || "_-.*".contains(c);
        match self.rest.starts_with(first) {
            true => Ok(self.while_is(others)),
            false => Err("a name is missing".to_owned()),
        }
    }

    fn member(&mut self) -> Result<Member, String> {
        if !self.takes('(') {
            let item = self.item()?;
            return Ok(Member::Item(item, self.params()?));
        }
        let mut items = Vec::new();
        loop {
            self.rest = self.rest.trim_start_matches(' ');
            if self.takes(')') {
                return Ok(Member::List(items, self.params()?));
            }
            if items.len() >= MOST {
                return Err("a list is too long".to_owned());
            }
            let item = self.item()?;
            items.push((item, self.params()?));
            if !self.rest.starts_with([' ', ')']) {
                return Err("a list is not closed".to_owned());
            }
        }
    }

    fn params(&mut self) -> Result<Params, String> {
        let mut all = Params::new();
        while self.takes(';') {
            self.rest = self.rest.trim_start_matches(' ');
            let name = self.key()?;
            let value = match self.takes('=') {
                true => self.item()?,
                false => Item::Truth(true),
            };
            if all.iter().any(|(n, _)| *n == name) || all.len() >= MOST {
                return Err(format!("“{name}” stands twice, or there are too many"));
            }
            all.push((name, value));
        }
        Ok(all)
    }

    fn item(&mut self) -> Result<Item, String> {
        let first = self.rest.chars().next().ok_or("a value is missing")?;
        match first {
            '"' => self.text().map(Item::Text),
            ':' => self.bytes().map(Item::Bytes),
            '?' => {
                self.takes('?');
                match self.while_is(|c| c.is_ascii_digit()).as_str() {
                    "1" => Ok(Item::Truth(true)),
                    "0" => Ok(Item::Truth(false)),
                    _ => Err("a truth value is ?0 or ?1".to_owned()),
                }
            }
            '-' | '0'..='9' => self.number(),
            '@' => {
                self.takes('@');
                match self.number()? {
                    Item::Number(at) => Ok(Item::Date(at)),
                    _ => Err("a date is a whole number of seconds".to_owned()),
                }
            }
            '%' => self.display(),
            c if c.is_ascii_alphabetic() || c == '*' => {
                let fits = |c: char| c.is_ascii_alphanumeric() || "!#$%&'*+-.^_`|~:/".contains(c);
                Ok(Item::Token(self.while_is(fits)))
            }
            _ => Err(format!("“{first}” begins no value")),
        }
    }

    /// A number, or one with a fraction of at most three digits (RFC 9651 §4.2.4).
    fn number(&mut self) -> Result<Item, String> {
        let sign = if self.takes('-') { -1 } else { 1 };
        let digits = self.while_is(|c| c.is_ascii_digit());
        let whole = || digits.parse::<i64>().ok();
        if !self.rest.starts_with('.') {
            let number = (1..=15).contains(&digits.len()).then(whole).flatten();
            return Ok(Item::Number(
                sign * number.ok_or("a number has 1 to 15 digits")?,
            ));
        }
        self.takes('.');
        let fraction = self.while_is(|c| c.is_ascii_digit());
        let fits = (1..=12).contains(&digits.len()) && (1..=3).contains(&fraction.len());
        let number =
            fits.then(|| Some(whole()? * 1000 + format!("{fraction:0<3}").parse::<i64>().ok()?));
        let number = number.flatten();
        let number =
            number.ok_or("a number has 1 to 12 digits before its point, and 1 to 3 behind")?;
        Ok(Item::Decimal(sign * number))
    }

    /// Text of any characters (RFC 9651 §4.2.10).
    fn display(&mut self) -> Result<Item, String> {
        self.takes('%');
        if !self.takes('"') {
            return Err("a display text begins with %\"".to_owned());
        }
        let end = self.rest.find('"').ok_or("a display text is not closed")?;
        let (text, rest) = self.rest.split_at(end);
        self.rest = &rest[1..];
        let mut bytes = Vec::new();
        let mut all = text.bytes();
        let hex = |b: Option<u8>| match b? {
            b @ b'0'..=b'9' => Some(b - b'0'),
            b @ b'a'..=b'f' => Some(b - b'a' + 10),
            _ => None,
        };
        while let Some(byte) = all.next() {
            bytes.push(match byte {
                b'%' => match (hex(all.next()), hex(all.next())) {
                    (Some(high), Some(low)) => high * 16 + low,
                    _ => return Err("a display text has an escape that is none".to_owned()),
                },
                b' '..=b'~' => byte,
                _ => return Err("a display text has a character that it cannot have".to_owned()),
            });
        }
        let text = String::from_utf8(bytes);
        Ok(Item::Display(
            text.map_err(|_| "a display text is no UTF-8")?,
        ))
    }

    fn text(&mut self) -> Result<String, String> {
        self.takes('"');
        let mut text = String::new();
        let mut all = self.rest.char_indices();
        while let Some((at, c)) = all.next() {
            match c {
                '"' => {
                    self.rest = &self.rest[at + 1..];
                    return Ok(text);
                }
                '\\' => match all.next() {
                    Some((_, c @ ('"' | '\\'))) => text.push(c),
                    _ => return Err("a text has an escape that is none".to_owned()),
                },
                ' '..='~' => text.push(c),
                _ => return Err("a text has a character that it cannot have".to_owned()),
            }
        }
        Err("a text is not closed".to_owned())
    }

    fn bytes(&mut self) -> Result<Vec<u8>, String> {
        self.takes(':');
        let end = self.rest.find(':').ok_or("bytes are not closed")?;
        let bytes = STANDARD.decode(&self.rest[..end]);
        self.rest = &self.rest[end + 1..];
        bytes.map_err(|_| "bytes are no base64".to_owned())
    }
}

/// An item as it is written (RFC 9651 §4.1.3).
pub(crate) fn written(item: &Item) -> String {
    match item {
        Item::Text(text) => format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\"")),
        Item::Number(number) => number.to_string(),
        Item::Decimal(thousandths) => {
            let (sign, amount) = match *thousandths {
                below @ ..0 => ("-", -below),
                amount => ("", amount),
            };
            let fraction = format!("{:03}", amount % 1000);
            let fraction = match fraction.trim_end_matches('0') {
                "" => "0",
                some => some,
            };
            format!("{sign}{}.{fraction}", amount / 1000)
        }
        Item::Date(at) => format!("@{at}"),
        Item::Display(text) => {
            let one = |b: u8| match b {
                b'%' | b'"' | 0..=0x1f | 0x7f.. => format!("%{b:02x}"),
                b => char::from(b).to_string(),
            };
            let text: String = text.bytes().map(one).collect();
            format!("%\"{text}\"")
        }
        Item::Truth(truth) => format!("?{}", u8::from(*truth)),
        Item::Token(token) => token.clone(),
        Item::Bytes(bytes) => format!(":{}:", STANDARD.encode(bytes)),
    }
}

/// Parameters as they are written (RFC 9651 §4.1.1.2).
pub(crate) fn written_params(params: &Params) -> String {
    let one = |(name, value): &(String, Item)| match value {
        Item::Truth(true) => format!(";{name}"),
        value => format!(";{name}={}", written(value)),
    };
    params.iter().map(one).collect()
}

/// A member as it is written (RFC 9651 §4.1.1, §4.1.3).
pub(crate) fn written_member(member: &Member) -> String {
    match member {
        Member::Item(item, params) => written(item) + &written_params(params),
        Member::List(items, params) => {
            let one = |(item, params): &(Item, Params)| written(item) + &written_params(params);
            let all: Vec<String> = items.iter().map(one).collect();
            format!("({}){}", all.join(" "), written_params(params))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn dictionaries_are_read_and_written_as_they_were() {
        let text = "sig1=(\"@method\" \"x-a\";key=\"b\");created=1618884473;keyid=\"a \\\"b\\\"\";x;y=?0;z=tok/en;b=:AQI=:, other=:AQI=:";
        let all = dictionary(text).unwrap();
        assert_eq!(all.len(), 2);
        let Member::List(items, params) = &all[0].1 else {
            panic!("no list")
        };
        let shown: Vec<String> = items
            .iter()
            .map(|(i, p)| written(i) + &written_params(p))
            .collect();
        assert_eq!(shown, ["\"@method\"", "\"x-a\";key=\"b\""]);
        assert_eq!(
            written_params(params),
            ";created=1618884473;keyid=\"a \\\"b\\\"\";x;y=?0;z=tok/en;b=:AQI=:"
        );
        assert_eq!(all[1].1, Member::Item(Item::Bytes(vec![1, 2]), vec![]));
        for bad in [
            "a=(",
            "a=(\"x\"",
            "a=(\"x\"\"y\")",
            "a=\"",
            "a=:x:",
            "a=1,",
            "a=1 b=2",
            "A=1",
            "a=1, a=2",
            "a=;",
            "a=1;b=1;b=2",
            "a=?2",
            "a=1234567890123456",
            "a=\"\u{e9}\"",
            "=1",
            ",",
        ] {
            assert!(dictionary(bad).is_err(), "{bad}");
        }
        assert_eq!(dictionary("").unwrap(), vec![]);
    }

    #[test]
    fn structured_fields_are_written_so_that_nothing_is_left_to_choose() {
        for (kind, text, wanted) in [
            (
                Kind::Dictionary,
                "a=1,  b=2;x=1;y=2,   c=(a   b   c), d, e=?1;f",
                "a=1, b=2;x=1;y=2, c=(a b c), d, e;f",
            ),
            (
                Kind::List,
                " \"a\" ,tok;q=0.500, 1.0 ,-0.125;x=?0 ,007",
                "\"a\", tok;q=0.5, 1.0, -0.125;x=?0, 7",
            ),
            (Kind::Item, "@1688169600", "@1688169600"),
            (Kind::Item, "%\"f%c3%bc%25\"; a = 1", ""),
            (
                Kind::Item,
                "%\"f%c3%bc%25%22 x\";a",
                "%\"f%c3%bc%25%22 x\";a",
            ),
            (Kind::Item, ":AQI:;a", ""),
            (Kind::Item, "1, 2", ""),
            (Kind::Item, "(1)", ""),
            (Kind::Item, "@1.5", ""),
            (Kind::Item, "1.2345", ""),
            (Kind::Item, "1.", ""),
            (Kind::Item, "%\"%C3%BC\"", ""),
            (Kind::Item, "%\"%ff\"", ""),
            (Kind::List, "1,", ""),
        ] {
            assert_eq!(normal(kind, text).unwrap_or_default(), wanted, "{text}");
        }
    }

    proptest! {
        #[test]
        fn any_text_is_read_without_a_panic(text in "[a-z0-9=;:?.@%\"()\\\\ ,*\u{e9}-]{0,200}") {
            let _ = dictionary(&text);
            for kind in [Kind::Dictionary, Kind::List, Kind::Item] {
                // What is written once is written the same again.
                if let Ok(once) = normal(kind, &text) {
                    prop_assert_eq!(normal(kind, &once), Ok(once));
                }
            }
        }
    }
}
