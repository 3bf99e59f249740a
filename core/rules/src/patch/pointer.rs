//! JSON Pointers (RFC 6901), with `*` for every item of a list.

use serde_json::Value;

/// A pointer as it is written: its reference tokens, decoded.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Pointer(Vec<String>);

/// A place in one value: names of members, and items by their numbers as texts.
pub(super) type Place = Vec<String>;

/// Stands for every item where it meets a list; the name of a member elsewhere.
const EACH: &str = "*";
/// A pointer has at most so many tokens.
const DEEPEST: usize = 64;

impl Pointer {
    /// Reads one (RFC 6901 §3).
    ///
    /// # Errors
    /// Why it is none.
    pub fn parse(text: &str) -> Result<Self, String> {
        if text.is_empty() {
            return Ok(Self::default());
        }
        let Some(rest) = text.strip_prefix('/') else {
            return Err(format!("“{text}” is no JSON Pointer: it begins with “/”"));
        };
        if rest.split('/').count() > DEEPEST {
            return Err(format!("a path has at most {DEEPEST} parts"));
        }
        let tokens = rest.split('/').map(|token| {
            let escaped = token.split('~').skip(1);
            if escaped.clone().any(|t| !t.starts_with(['0', '1'])) {
                return Err(format!(
                    "“{text}” is no JSON Pointer: behind “~” comes 0 or 1"
                ));
            }
            Ok(token.replace("~1", "/").replace("~0", "~"))
        });
        Ok(Self(tokens.collect::<Result<_, _>>()?))
    }

    /// Its tokens.
    pub fn tokens(&self) -> &[String] {
        &self.0
    }

    /// The tokens up to the last that stands for every item; none where there is no such.
    pub(super) fn shared(&self) -> &[String] {
        let last = self.0.iter().rposition(|t| t == EACH);
        last.map_or(&[], |at| &self.0[..=at])
    }

    /// The places that it means in a value, as far as its tokens stand for every item: what comes behind the last of those
    /// need not be there. `None`: they are more than `most`.
    pub(super) fn places(&self, value: &Value, most: usize) -> Option<Vec<Place>> {
        let mut found = Vec::new();
        let fits = self.walk(Some(value), &mut Vec::new(), &mut found, most);
        fits.then_some(found)
    }

    fn walk(
        &self,
        value: Option<&Value>,
        here: &mut Place,
        found: &mut Vec<Place>,
        most: usize,
    ) -> bool {
        let Some(token) = self.0.get(here.len()) else {
            found.push(here.clone());
            return found.len() <= most;
        };
        match value {
            Some(Value::Array(items)) if token == EACH => {
                for (i, item) in items.iter().enumerate() {
                    here.push(i.to_string());
                    let fits = self.walk(Some(item), here, found, most);
                    here.pop();
                    if !fits {
                        return false;
                    }
                }
                true
            }
            other => {
                here.push(token.clone());
                let below = other.and_then(|v| child(v, token));
                let fits = self.walk(below, here, found, most);
                here.pop();
                fits
            }
        }
    }
}

impl std::fmt::Display for Pointer {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&written(&self.0))
    }
}

/// A place as a pointer.
pub(super) fn written(place: &[String]) -> String {
    let tokens = place.iter();
    tokens
        .map(|t| format!("/{}", t.replace('~', "~0").replace('/', "~1")))
        .collect()
}

/// The number that a token is (RFC 6901 §4): digits, without zeros before them.
pub(super) fn index(token: &str) -> Option<usize> {
    let digits = !token.is_empty() && token.bytes().all(|b| b.is_ascii_digit());
    let plain = token == "0" || !token.starts_with('0');
    (digits && plain).then(|| token.parse().ok()).flatten()
}

pub(super) fn child<'v>(value: &'v Value, token: &str) -> Option<&'v Value> {
    match value {
        Value::Object(members) => members.get(token),
        Value::Array(items) => items.get(index(token)?),
        _ => None,
    }
}

pub(super) fn at<'v>(value: &'v Value, place: &[String]) -> Option<&'v Value> {
    place.iter().try_fold(value, |v, token| child(v, token))
}

pub(super) fn at_mut<'v>(value: &'v mut Value, place: &[String]) -> Option<&'v mut Value> {
    place.iter().try_fold(value, |v, token| match v {
        Value::Object(members) => members.get_mut(token),
        Value::Array(items) => items.get_mut(index(token)?),
        _ => None,
    })
}
