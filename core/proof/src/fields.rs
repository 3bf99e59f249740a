//! As much of structured fields (RFC 9651) as signatures need: dictionaries of inner lists with parameters, and of byte sequences.

use base64::Engine;
use base64::engine::general_purpose::STANDARD;

/// A bare item.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Item {
    Text(String),
    Number(i64),
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
        reader.space();
        if reader.rest.is_empty() {
            break;
        }
        if !reader.takes(',') {
            return Err("a comma is missing".to_owned());
        }
        reader.space();
        if reader.rest.is_empty() {
            return Err("nothing stands behind the last comma".to_owned());
        }
    }
    Ok(all)
}

impl Reader<'_> {
    fn space(&mut self) {
        self.rest = self.rest.trim_start_matches([' ', '\t']);
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
            '-' | '0'..='9' => {
                let sign = if self.takes('-') { -1 } else { 1 };
                let digits = self.while_is(|c| c.is_ascii_digit());
                let number = (1..=15)
                    .contains(&digits.len())
                    .then(|| digits.parse::<i64>().ok());
                let number = number.flatten().ok_or("a number has 1 to 15 digits")?;
                Ok(Item::Number(sign * number))
            }
            c if c.is_ascii_alphabetic() || c == '*' => {
                let fits = |c: char| c.is_ascii_alphanumeric() || "!#$%&'*+-.^_`|~:/".contains(c);
                Ok(Item::Token(self.while_is(fits)))
            }
            _ => Err(format!("“{first}” begins no value")),
        }
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

    proptest! {
        #[test]
        fn any_text_is_read_without_a_panic(text in "[a-z0-9=;:?\"()\\\\ ,*\u{e9}-]{0,200}") {
            let _ = dictionary(&text);
        }
    }
}
