//! JSON Web Tokens (RFC 7519) as access tokens (RFC 9068), in their compact form (RFC 7515 §7.1).

use std::collections::HashSet;
use std::fmt;

use serde::de::{self, MapAccess, Visitor};
use serde::{Deserialize, Deserializer};
use serde_json::{Map, Value};

use crate::alg::Algorithm;
use crate::from_base64url;
use crate::jwk::KeySet;

/// Bytes of a token at most: more is work for nothing, and no caller's header field holds it.
const MOST_BYTES: usize = 16 << 10;
/// Values in a header, and in claims.
const MOST_IN_HEADER: usize = 32;
const MOST_CLAIMS: usize = 1000;

/// Why a token is not good; for the publisher, never for whoever sent it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum NotGood {
    /// It is no token.
    Form(String),
    /// It is signed with a key that the issuer has not, as far as is known.
    UnknownKey(Option<String>),
    /// Its signature is not that of the issuer's key.
    Signature,
    /// What it claims does not hold here or now.
    Claim(String),
}

impl fmt::Display for NotGood {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Form(why) => write!(f, "it is no token that is taken here: {why}"),
            Self::UnknownKey(Some(kid)) => write!(f, "the issuer has no key “{kid}” that fits"),
            Self::UnknownKey(None) => f.write_str("the issuer has no key that fits"),
            Self::Signature => f.write_str("its signature is not that of the issuer's key"),
            Self::Claim(why) => f.write_str(why),
        }
    }
}

fn form(why: impl Into<String>) -> NotGood {
    NotGood::Form(why.into())
}

/// What a token must be.
#[derive(Clone, Debug, Default)]
pub struct Expected {
    /// Who issued it.
    pub issuer: String,
    /// For whom it is: one of these.
    pub audience: Vec<String>,
    /// The algorithms that are taken.
    pub algorithms: Vec<Algorithm>,
    /// What it says that it is (`typ`), in lower case without `application/`; an empty text: nothing.
    pub types: Vec<String>,
    /// By how many seconds clocks may differ.
    pub skew: i64,
}

/// A token as it was sent.
#[derive(Debug)]
pub struct Token<'t> {
    /// Its algorithm.
    pub algorithm: Algorithm,
    /// The name of the key that it is signed with.
    pub kid: Option<String>,
    pub(crate) kind: String,
    /// The key that stands in its header; heeded nowhere but in proofs of possession.
    pub(crate) jwk: Option<Value>,
    /// What it claims; true only once it is verified.
    pub(crate) claims: Map<String, Value>,
    pub(crate) signed: &'t str,
    pub(crate) signature: Vec<u8>,
}

/// An object each of whose members stands once (RFC 7515 §4, RFC 7519 §4).
struct Once(Map<String, Value>);

impl<'de> Deserialize<'de> for Once {
    fn deserialize<D: Deserializer<'de>>(d: D) -> Result<Self, D::Error> {
        struct Members;
        impl<'de> Visitor<'de> for Members {
            type Value = Once;
            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("an object")
            }
            fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<Once, A::Error> {
                let (mut made, mut seen) = (Map::new(), HashSet::new());
                while let Some((name, value)) = map.next_entry::<String, Value>()? {
                    if !seen.insert(name.clone()) {
                        return Err(de::Error::custom(format!("“{name}” stands twice")));
                    }
                    made.insert(name, value);
                }
                Ok(Once(made))
            }
        }
        d.deserialize_map(Members)
    }
}

/// How many values there are, up to one more than a bound.
fn count(value: &Value, most: usize) -> usize {
    let mut sum = 1;
    let mut add = |inner: &Value| {
        if sum <= most {
            sum += count(inner, most - sum);
        }
    };
    match value {
        Value::Array(items) => items.iter().for_each(&mut add),
        Value::Object(members) => members.values().for_each(&mut add),
        _ => {}
    }
    sum
}

fn object(part: &str, what: &str, most: usize) -> Result<Map<String, Value>, NotGood> {
    let bytes = from_base64url(part).ok_or_else(|| form(format!("its {what} is no base64url")))?;
    let read: Result<Once, _> = serde_json::from_slice(&bytes);
    let Once(members) = read.map_err(|e| form(format!("its {what} is no JSON object: {e}")))?;
    let all: usize = members
        .values()
        .take(most + 1)
        .map(|v| count(v, most))
        .sum();
    if all > most {
        return Err(form(format!("its {what} has more than {most} values")));
    }
    Ok(members)
}

impl<'t> Token<'t> {
    /// Reads a token. Nothing of it is true yet.
    ///
    /// # Errors
    /// Why it is none that can be good.
    pub fn read(text: &'t str) -> Result<Self, NotGood> {
        if text.len() > MOST_BYTES {
            return Err(form(format!("it has more than {MOST_BYTES} bytes")));
        }
        let mut parts = text.split('.');
        let (Some(header), Some(claims), Some(signature), None) =
            (parts.next(), parts.next(), parts.next(), parts.next())
        else {
            return Err(form("it has not three parts (RFC 7515 §7.1)"));
        };
        let header = object(header, "header", MOST_IN_HEADER)?;
        let said = |name: &str| header.get(name).and_then(Value::as_str);
        // What must be understood and is not; what would be unpacked, or is a token within a token.
        for (name, why) in [
            ("crit", "it demands extensions (`crit`)"),
            ("zip", "it is compressed (`zip`)"),
            ("b64", "its payload is not encoded (`b64`)"),
            ("enc", "it is encrypted"),
            ("cty", "there is another one within it (`cty`)"),
        ] {
            if header.contains_key(name) {
                return Err(form(why));
            }
        }
        let name = said("alg").ok_or_else(|| form("it names no algorithm"))?;
        let shown: String = name.chars().take(20).collect();
        let algorithm =
            Algorithm::of(name).ok_or_else(|| form(format!("its algorithm is “{shown}”")))?;
        let kind = said("typ").unwrap_or_default().to_ascii_lowercase();
        Ok(Self {
            algorithm,
            kid: said("kid").map(|kid| kid.chars().take(200).collect()),
            kind: kind
                .strip_prefix("application/")
                .unwrap_or(&kind)
                .to_owned(),
            jwk: header.get("jwk").cloned(),
            claims: object(claims, "payload", MOST_CLAIMS)?,
            signed: &text[..text.len() - signature.len() - 1],
            signature: from_base64url(signature)
                .ok_or_else(|| form("its signature is no base64url"))?,
        })
    }

    /// Holds it against the keys of its issuer, and what is expected at a time (seconds since 1970); gives what it claims.
    ///
    /// # Errors
    /// Why it is not good.
    pub fn verify(
        self,
        keys: &KeySet,
        expected: &Expected,
        now: i64,
    ) -> Result<Map<String, Value>, NotGood> {
        let algorithm = self.algorithm;
        if !expected.algorithms.contains(&algorithm) {
            let why = format!("its algorithm is {}, which is not taken", algorithm.name());
            return Err(form(why));
        }
        if !expected.types.contains(&self.kind) {
            let kind: String = self.kind.chars().take(40).collect();
            return Err(form(format!("its type is “{kind}” (`typ`)")));
        }
        let candidates = keys.candidates(self.kid.as_deref(), algorithm);
        let (mut any, mut good) = (false, false);
        // Several keys fit only where none is named, and then few.
        for jwk in candidates.take(5) {
            any = true;
            let of_key = jwk
                .key
                .verifies(algorithm, self.signed.as_bytes(), &self.signature);
            good |= of_key == Ok(true);
        }
        match (any, good) {
            (false, _) => return Err(NotGood::UnknownKey(self.kid)),
            (true, false) => return Err(NotGood::Signature),
            (true, true) => {}
        }
        expected.hold(&self.claims, now, true)?;
        Ok(self.claims)
    }
}

impl Expected {
    /// Whether what an issuer says of a token holds, of which it says what it likes (RFC 7662 §2.2) but for whom it is.
    ///
    /// # Errors
    /// Why it does not.
    pub fn hold_told(&self, claims: &Map<String, Value>, now: i64) -> Result<(), NotGood> {
        self.hold(claims, now, false)
    }

    /// Whether claims hold (RFC 7519 §4.1, RFC 9068 §4); whether issuer and end must be there is said.
    fn hold(&self, claims: &Map<String, Value>, now: i64, all: bool) -> Result<(), NotGood> {
        let wrong = |why: String| Err(NotGood::Claim(why));
        let shown = |value: Option<&Value>| match value {
            None => "nothing".to_owned(),
            Some(value) => value.to_string().chars().take(100).collect(),
        };
        let said = all || claims.contains_key("iss");
        if said && claims.get("iss").and_then(Value::as_str) != Some(&self.issuer) {
            let told = shown(claims.get("iss"));
            return wrong(format!("its issuer is {told}, and not “{}”", self.issuer));
        }
        let is_meant = |value: &Value| {
            value
                .as_str()
                .is_some_and(|a| self.audience.iter().any(|own| own == a))
        };
        let meant = match claims.get("aud") {
            Some(Value::Array(all)) => all.iter().any(is_meant),
            Some(one) => is_meant(one),
            None => false,
        };
        if !meant {
            let told = shown(claims.get("aud"));
            return wrong(format!(
                "it is for {told}, and not for “{}”",
                self.audience.join("” or “")
            ));
        }
        let time = |name: &str| match claims.get(name) {
            None => Ok(None),
            // NumericDate (RFC 7519 §2): seconds, perhaps with a fraction.
            Some(value) => match value.as_f64().filter(|t| t.is_finite() && t.abs() < 1e15) {
                Some(seconds) => Ok(Some(seconds as i64)),
                None => Err(NotGood::Claim(format!("its “{name}” is no time"))),
            },
        };
        let ends = match time("exp")? {
            None if all => return wrong("it does not end (`exp`)".to_owned()),
            ends => ends.unwrap_or(i64::MAX),
        };
        if ends.saturating_add(self.skew) <= now {
            return wrong(format!("it ended {} seconds ago", now - ends));
        }
        if let Some(begins) = time("nbf")?
            && begins > now.saturating_add(self.skew)
        {
            return wrong(format!(
                "it begins in {} seconds only (`nbf`)",
                begins - now
            ));
        }
        if let Some(made) = time("iat")?
            && made > now.saturating_add(self.skew)
        {
            return wrong(format!(
                "it was made in {} seconds from now (`iat`)",
                made - now
            ));
        }
        Ok(())
    }
}
