//! Components of requests that are signed (RFC 9421 §2).

use crate::fields::{
    Item, Kind, Params, dictionary, normal, written, written_member, written_params,
};

/// A request, as its components are taken from it.
pub trait Message {
    /// The method.
    fn method(&self) -> &str;
    /// `http` or `https`.
    fn scheme(&self) -> &str;
    /// Host and port, as they were asked for.
    fn authority(&self) -> &str;
    /// The path, as it was written.
    fn path(&self) -> &str;
    /// The query without its `?`, where there is one.
    fn query(&self) -> Option<&str>;
    /// All values of a field, in order.
    fn field(&self, name: &str) -> Vec<&[u8]>;
}

/// A component that is signed.
#[derive(Clone, Debug)]
pub(crate) struct Component {
    pub(crate) name: String,
    pub(crate) params: Params,
}

/// How a field is taken (§2.1).
#[derive(Default)]
struct How<'c> {
    /// `sf`: as a structured field is written when nothing is left to choose (§2.1.1).
    strict: bool,
    /// `key`: one member of a dictionary (§2.1.2).
    member: Option<&'c str>,
    /// `bs`: each value as bytes (§2.1.3).
    bytes: bool,
}

impl Component {
    pub(crate) fn written(&self) -> String {
        written(&Item::Text(self.name.clone())) + &written_params(&self.params)
    }

    /// The value of a component (§2.1, §2.2).
    ///
    /// # Errors
    /// Why it has none.
    pub(crate) fn value(&self, message: &dyn Message) -> Result<String, String> {
        let name = self.name.as_str();
        if self.params.iter().any(|(key, _)| key == "req") {
            return Err(format!(
                "“{name}” with “req” is for signatures of responses (RFC 9421 §2.4)"
            ));
        }
        if !name.starts_with('@') {
            return self.field(message);
        }
        if name == "@query-param" {
            return self.query_param(message);
        }
        if let Some((param, _)) = self.params.first() {
            return Err(format!("“{name}” with “{param}” is not known here"));
        }
        let query = || {
            message
                .query()
                .map_or_else(String::new, |q| format!("?{q}"))
        };
        let path = || match message.path() {
            "" => "/",
            path => path,
        };
        Ok(match name {
            "@method" => message.method().to_owned(),
            "@scheme" => message.scheme().to_owned(),
            "@authority" => authority(message),
            "@path" => path().to_owned(),
            // An empty query is a question mark alone (§2.2.7).
            "@query" => format!("?{}", message.query().unwrap_or_default()),
            "@request-target" => format!("{}{}", path(), query()),
            "@target-uri" => {
                let (scheme, authority) = (message.scheme(), authority(message));
                format!("{scheme}://{authority}{}{}", path(), query())
            }
            derived => return Err(format!("“{derived}” is not known here")),
        })
    }

    /// How a field is to be taken.
    fn how(&self) -> Result<How<'_>, String> {
        let name = &self.name;
        let mut how = How::default();
        for (param, value) in &self.params {
            match (param.as_str(), value) {
                ("sf", Item::Truth(true)) => how.strict = true,
                ("bs", Item::Truth(true)) => how.bytes = true,
                ("key", Item::Text(key)) => how.member = Some(key),
                ("tr", _) => {
                    return Err(format!(
                        "“{name}” with “tr” is a trailer, which comes when it is too late"
                    ));
                }
                ("sf" | "bs" | "key", _) => {
                    return Err(format!(
                        "“{name}” has a “{param}” that is none (RFC 9421 §2.1)"
                    ));
                }
                _ => return Err(format!("“{name}” with “{param}” is not known here")),
            }
        }
        match how.bytes && (how.strict || how.member.is_some()) {
            true => Err(format!(
                "“{name}” is taken as bytes or by its structure, not both (RFC 9421 §2.1.3)"
            )),
            false => Ok(how),
        }
    }

    fn field(&self, message: &dyn Message) -> Result<String, String> {
        let field = &self.name;
        if field.bytes().any(|b| b.is_ascii_uppercase()) {
            return Err(format!("“{field}” is not in lower case (RFC 9421 §2.1)"));
        }
        let how = self.how()?;
        let values = message.field(field);
        if values.is_empty() {
            return Err(format!("the field “{field}” is signed, and not there"));
        }
        let values = values.iter().map(|v| v.trim_ascii());
        if how.bytes {
            let all: Vec<String> = values.map(|v| written(&Item::Bytes(v.to_vec()))).collect();
            return Ok(all.join(", "));
        }
        let texts: Option<Vec<&str>> = values.map(text).collect();
        let whole = texts
            .ok_or_else(|| format!("the field “{field}” is no text"))?
            .join(", ");
        let wrong = |e: String| format!("the field “{field}” is not well formed: {e}");
        if let Some(key) = how.member {
            let all = dictionary(&whole).map_err(wrong)?;
            let found = all.iter().find(|(name, _)| name == key);
            let (_, member) =
                found.ok_or_else(|| format!("the field “{field}” has no member “{key}”"))?;
            return Ok(written_member(member));
        }
        match how.strict {
            false => Ok(whole),
            true => {
                let kind = Kind::of(field).ok_or_else(|| {
                    format!("whether “{field}” is a list, a dictionary or one item is not known, so that “sf” means nothing (RFC 9421 §2.1.1)")
                })?;
                normal(kind, &whole).map_err(wrong)
            }
        }
    }

    /// One parameter of the query, read as a form's and written again (§2.2.8).
    fn query_param(&self, message: &dyn Message) -> Result<String, String> {
        let [(key, Item::Text(wanted))] = self.params.as_slice() else {
            return Err("“@query-param” says which, and nothing else".to_owned());
        };
        if key != "name" {
            return Err("“@query-param” says which by `name`".to_owned());
        }
        let name = decoded(wanted.as_bytes(), false);
        let pairs = message.query().unwrap_or_default().split('&');
        let mut values = pairs.filter_map(|pair| {
            let (own, value) = pair.split_once('=').unwrap_or((pair, ""));
            (!pair.is_empty() && decoded(own.as_bytes(), true) == name).then_some(value)
        });
        match (values.next(), values.next()) {
            (Some(value), None) => Ok(encoded(&decoded(value.as_bytes(), true))),
            (None, _) => Err(format!(
                "the query parameter “{wanted}” is signed, and not there"
            )),
            _ => Err(format!(
                "the query parameter “{wanted}” stands several times"
            )),
        }
    }
}

/// A value that is text: visible characters of ASCII, spaces and tabs.
fn text(value: &[u8]) -> Option<&str> {
    let fits = |b: &u8| matches!(b, b'\t' | b' '..=b'~');
    value
        .iter()
        .all(fits)
        .then(|| std::str::from_utf8(value).ok())
        .flatten()
}

/// Host and port in lower case, without the port that a scheme has by itself (§2.2.3).
fn authority(message: &dyn Message) -> String {
    let authority = message.authority().to_ascii_lowercase();
    let usual = match message.scheme() {
        "https" => ":443",
        _ => ":80",
    };
    authority
        .strip_suffix(usual)
        .map_or(authority.clone(), str::to_owned)
}

/// Percent-encoding undone; what is no such encoding stays as it is.
fn decoded(text: &[u8], is_form: bool) -> Vec<u8> {
    let hex = |b: Option<&u8>| (*b? as char).to_digit(16);
    let mut bytes = Vec::with_capacity(text.len());
    let mut at = 0;
    while let Some(byte) = text.get(at) {
        let pair = (hex(text.get(at + 1)), hex(text.get(at + 2)));
        let (byte, width) = match (byte, pair) {
            (b'%', (Some(high), Some(low))) => ((high * 16 + low) as u8, 3),
            (b'+', _) if is_form => (b' ', 1),
            _ => (*byte, 1),
        };
        bytes.push(byte);
        at += width;
    }
    bytes
}

/// Percent-encoding of all that a form does not leave as it is, a space too (§2.2.8).
fn encoded(bytes: &[u8]) -> String {
    use std::fmt::Write;
    let mut text = String::with_capacity(bytes.len());
    for byte in bytes {
        match byte {
            b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'*' | b'-' | b'.' | b'_' => {
                text.push(*byte as char);
            }
            _ => {
                let _ = write!(text, "%{byte:02X}");
            }
        }
    }
    text
}
