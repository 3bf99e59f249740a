//! Command lines of `curl`, as people paste them from documentation and browsers.

mod options;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;

use self::options::{Data, Meaning, meaning};
use crate::words::{Part, parts};
use crate::{MAX_SAMPLES, MAX_TEXT, NoSample, field};

/// A request that somebody wrote down.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Call {
    /// Its method.
    pub method: String,
    /// Its address, without credentials and fragment.
    pub url: String,
    /// Its header fields.
    pub fields: Vec<(String, String)>,
    /// Its body.
    pub body: Option<Vec<u8>>,
    /// What of the command was not followed, in words.
    pub told: Vec<String>,
}

/// Whether a text begins with a command.
pub fn is_command(text: &str) -> bool {
    let text = text.trim_start();
    let text = text.strip_prefix("$ ").unwrap_or(text).trim_start();
    let rest = text.strip_prefix("curl");
    rest.is_some_and(|r| r.starts_with(|c: char| c.is_whitespace() || c == '\\'))
}

/// Reads the commands of a text.
///
/// # Errors
/// What is wrong with the first that cannot be read.
pub fn read_commands(text: &str) -> Result<Vec<Call>, NoSample> {
    if text.len() > MAX_TEXT {
        let message = format!("the sample has more than {MAX_TEXT} bytes");
        return Err(NoSample::new(message, "give a shorter one"));
    }
    let (mut calls, mut words, mut aside) = (Vec::new(), Vec::new(), false);
    for part in parts(text)? {
        match part {
            Part::Word(_) if aside => {}
            Part::Word(word) if word == "$" && words.is_empty() => {}
            Part::Word(word) => words.push(word),
            Part::Aside => aside = true,
            Part::End => {
                aside = false;
                let words = std::mem::take(&mut words);
                if words.first().is_some_and(|w| w == "curl") {
                    calls.push(call(words)?);
                } else if let Some(first) = words.first() {
                    let message = format!("“{first}” is no sample call");
                    return Err(NoSample::new(
                        message,
                        "give command lines of curl, or addresses",
                    ));
                }
                if calls.len() > MAX_SAMPLES {
                    let message = format!("there are more than {MAX_SAMPLES} samples");
                    return Err(NoSample::new(message, "a few of each kind are enough"));
                }
            }
        }
    }
    Ok(calls)
}

#[derive(Default)]
struct Building {
    call: Call,
    method: Option<String>,
    data: Vec<String>,
    form: Vec<(String, String)>,
    in_query: bool,
    head: bool,
    kind: Option<&'static str>,
}

fn call(words: Vec<String>) -> Result<Call, NoSample> {
    let mut building = Building::default();
    let mut words = words.into_iter().skip(1);
    while let Some(word) = words.next() {
        if let Some(long) = word.strip_prefix("--").filter(|l| !l.is_empty()) {
            let (name, value) = match long.split_once('=') {
                Some((name, value)) => (name, Some(value.to_owned())),
                None => (long, None),
            };
            let known = meaning(name).filter(|_| name.len() > 1);
            let Some(meaning) = known else {
                building.unknown(&format!("--{name}"));
                continue;
            };
            let value = match meaning.takes_value() {
                true => Some(value.or_else(|| words.next()).ok_or_else(|| needs(&word))?),
                false => None,
            };
            building.option(meaning, &format!("--{name}"), value)?;
        } else if let Some(short) = word.strip_prefix('-').filter(|s| !s.is_empty()) {
            building.short(short, &mut words)?;
        } else {
            building.address(&word)?;
        }
    }
    building.finish()
}

fn needs(option: &str) -> NoSample {
    NoSample::new(
        format!("{option} needs a value"),
        "paste the whole command line",
    )
}

impl Building {
    /// Short options, several of which may stand together; a value stands behind the last of them, or is the next word.
    fn short(
        &mut self,
        all: &str,
        words: &mut impl Iterator<Item = String>,
    ) -> Result<(), NoSample> {
        for (at, c) in all.char_indices() {
            let name = c.to_string();
            let Some(meaning) = meaning(&name) else {
                self.unknown(&format!("-{c}"));
                continue;
            };
            if !meaning.takes_value() {
                self.option(meaning, &format!("-{c}"), None)?;
                continue;
            }
            let rest = &all[at + c.len_utf8()..];
            let value = match rest {
                "" => words.next().ok_or_else(|| needs(&format!("-{c}")))?,
                rest => rest.to_owned(),
            };
            return self.option(meaning, &format!("-{c}"), Some(value));
        }
        Ok(())
    }

    fn unknown(&mut self, option: &str) {
        self.call
            .told
            .push(format!("{option} is not known here and was left out"));
    }

    fn option(
        &mut self,
        meaning: Meaning,
        name: &str,
        value: Option<String>,
    ) -> Result<(), NoSample> {
        let value = value.unwrap_or_default();
        match meaning {
            Meaning::Method => self.method = Some(value.trim().to_ascii_uppercase()),
            Meaning::Field => self.field(&value)?,
            Meaning::Data(how) => self.add_data(how, value, name)?,
            Meaning::Form { literal } => self.add_part(&value, literal)?,
            Meaning::Login => self.set("Authorization", &basic(&value)),
            Meaning::Bearer => self.set("Authorization", &format!("Bearer {}", value.trim())),
            Meaning::Cookie if value.contains('=') => self.set("Cookie", &value),
            Meaning::Cookie => self
                .call
                .told
                .push(format!("{name}: cookies are not read from files")),
            Meaning::Url => self.address(&value)?,
            Meaning::Agent => self.set("User-Agent", &value),
            Meaning::Referrer => self.set("Referer", &value),
            Meaning::InQuery => self.in_query = true,
            Meaning::Head => self.head = true,
            Meaning::Nothing { .. } => {}
            Meaning::NotFollowed { why, .. } => self.call.told.push(format!("{name}: {why}")),
        }
        Ok(())
    }

    fn set(&mut self, name: &str, value: &str) {
        self.call
            .fields
            .retain(|(n, _)| !n.eq_ignore_ascii_case(name));
        self.call
            .fields
            .push((name.to_owned(), value.trim().to_owned()));
    }

    fn field(&mut self, text: &str) -> Result<(), NoSample> {
        if text.starts_with('@') {
            return Err(from_file("header fields"));
        }
        // `Name;` is a field without a value, and `Name:` takes one away.
        if let Some(name) = text.strip_suffix(';').filter(|n| !n.contains(':')) {
            self.call
                .fields
                .push((name.trim().to_owned(), String::new()));
            return Ok(());
        }
        let Some((name, value)) = text.split_once(':') else {
            let message = format!("“{}” is no header field", shortened(text));
            return Err(NoSample::new(message, "a field is written `Name: value`"));
        };
        let name = name.trim();
        let token = |b: u8| b.is_ascii_alphanumeric() || b"!#$%&'*+-.^_`|~".contains(&b);
        if name.is_empty() || !name.bytes().all(token) {
            let message = format!("“{}” is no name of a header field", shortened(name));
            return Err(NoSample::new(message, "a field is written `Name: value`"));
        }
        if !value.trim().is_empty() {
            self.call
                .fields
                .push((name.to_owned(), value.trim().to_owned()));
        }
        Ok(())
    }

    fn add_data(&mut self, how: Data, value: String, name: &str) -> Result<(), NoSample> {
        let is_raw = name == "--data-raw";
        if value.starts_with('@') && !is_raw {
            return Err(from_file("data"));
        }
        self.kind = match how {
            Data::Json => Some("application/json"),
            _ => self.kind.or(Some("application/x-www-form-urlencoded")),
        };
        self.data.push(match how {
            Data::Plain => value.replace(['\r', '\n'], ""),
            Data::Raw | Data::Json => value,
            Data::Encoded => match value.split_once('=') {
                Some(("", content)) => encoded(content),
                Some((name, content)) => format!("{name}={}", encoded(content)),
                None if value.contains('@') => return Err(from_file("data")),
                None => encoded(&value),
            },
        });
        Ok(())
    }

    fn add_part(&mut self, text: &str, literal: bool) -> Result<(), NoSample> {
        let Some((name, value)) = text.split_once('=') else {
            let message = format!("“{}” is no part of a form", shortened(text));
            return Err(NoSample::new(message, "a part is written `name=value`"));
        };
        if !literal && value.starts_with(['@', '<']) {
            return Err(from_file("parts of forms"));
        }
        self.form.push((name.to_owned(), value.to_owned()));
        Ok(())
    }

    fn address(&mut self, text: &str) -> Result<(), NoSample> {
        if !self.call.url.is_empty() {
            let help = "write one command for each address";
            return Err(NoSample::new("the command has two addresses", help));
        }
        let text = text.trim();
        let text = match text.contains("://") {
            true => text.to_owned(),
            false => format!("http://{text}"),
        };
        let text = text.split('#').next().unwrap_or_default();
        let (scheme, rest) = text.split_once("://").unwrap_or(("http", text));
        let scheme = scheme.to_ascii_lowercase();
        if !matches!(scheme.as_str(), "http" | "https") {
            let message = format!("{scheme}:// is no address of an HTTP service");
            return Err(NoSample::new(
                message,
                "sample calls go to http:// or https://",
            ));
        }
        let end = rest.find(['/', '?']).unwrap_or(rest.len());
        let (authority, path) = rest.split_at(end);
        let (login, host) = match authority.rsplit_once('@') {
            Some((login, host)) => (Some(login), host),
            None => (None, authority),
        };
        if host.is_empty() {
            return Err(NoSample::new("the address has no host", ""));
        }
        if let Some(login) = login {
            self.set("Authorization", &basic(&decoded(login)));
        }
        let path = match path.starts_with('/') {
            true => path.to_owned(),
            false => format!("/{path}"),
        };
        self.call.url = format!("{scheme}://{host}{path}");
        Ok(())
    }

    fn finish(mut self) -> Result<Call, NoSample> {
        if self.call.url.is_empty() {
            return Err(NoSample::new(
                "the command has no address",
                "paste the whole command line",
            ));
        }
        let data = (!self.data.is_empty()).then(|| self.data.join("&"));
        if self.in_query {
            if let Some(data) = data {
                let mark = if self.call.url.contains('?') {
                    '&'
                } else {
                    '?'
                };
                self.call.url.push(mark);
                self.call.url.push_str(&data);
            }
        } else if !self.form.is_empty() {
            let (kind, body) = multipart(&self.form);
            self.set("Content-Type", &kind);
            self.call.body = Some(body);
        } else if let Some(data) = data {
            if let Some(kind) = self
                .kind
                .filter(|_| field(&self.call.fields, "content-type").is_none())
            {
                self.set("Content-Type", kind);
            }
            self.call.body = Some(data.into_bytes());
        }
        let usual = match (&self.call.body, self.head) {
            (_, true) => "HEAD",
            (Some(_), _) => "POST",
            (None, _) => "GET",
        };
        self.call.method = self.method.unwrap_or_else(|| usual.to_owned());
        if self.call.method.is_empty() || !self.call.method.bytes().all(|b| b.is_ascii_uppercase())
        {
            let message = format!("“{}” is no method", shortened(&self.call.method));
            return Err(NoSample::new(message, "methods are GET, POST, PUT …"));
        }
        Ok(self.call)
    }
}

/// A form in parts (RFC 7578).
fn multipart(parts: &[(String, String)]) -> (String, Vec<u8>) {
    let mut boundary = "porch-sample".to_owned();
    while parts.iter().any(|(_, value)| value.contains(&boundary)) {
        boundary.push('x');
    }
    let mut body = String::new();
    for (name, value) in parts {
        let name = name.replace('"', "%22").replace(['\r', '\n'], "");
        body.push_str(&format!(
            "--{boundary}\r\nContent-Disposition: form-data; name=\"{name}\"\r\n\r\n{value}\r\n"
        ));
    }
    body.push_str(&format!("--{boundary}--\r\n"));
    (
        format!("multipart/form-data; boundary={boundary}"),
        body.into_bytes(),
    )
}

fn from_file(what: &str) -> NoSample {
    NoSample::new(
        format!("{what} are not read from files"),
        "put the content into the command",
    )
}

/// The Basic scheme (RFC 7617 §2); white space around name and password is taken away.
fn basic(login: &str) -> String {
    let (user, password) = login.split_once(':').unwrap_or((login, ""));
    format!(
        "Basic {}",
        STANDARD.encode(format!("{}:{}", user.trim(), password.trim()))
    )
}

/// A text for a query (RFC 3986 §2.1).
pub(crate) fn encoded(text: &str) -> String {
    let mut out = String::new();
    for b in text.bytes() {
        match b {
            b'A'..=b'Z' | b'a'..=b'z' | b'0'..=b'9' | b'-' | b'.' | b'_' | b'~' => {
                out.push(b as char)
            }
            b => out.push_str(&format!("%{b:02X}")),
        }
    }
    out
}

/// A text of an address as it was meant; what is no encoding stays.
pub(crate) fn decoded(text: &str) -> String {
    let bytes = text.as_bytes();
    let hex = |at: usize| bytes.get(at).and_then(|b| (*b as char).to_digit(16));
    let (mut out, mut at) = (Vec::with_capacity(bytes.len()), 0);
    while let Some(b) = bytes.get(at) {
        match (b, hex(at + 1), hex(at + 2)) {
            (b'%', Some(high), Some(low)) => {
                out.push((high * 16 + low) as u8);
                at += 3;
            }
            _ => {
                out.push(*b);
                at += 1;
            }
        }
    }
    String::from_utf8_lossy(&out).into_owned()
}

fn shortened(text: &str) -> String {
    let short: String = text.chars().take(40).collect();
    // What stands behind a colon may be a secret.
    short.split(':').next().unwrap_or_default().to_owned()
}

#[cfg(test)]
mod tests;
