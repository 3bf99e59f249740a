//! Keys: in a header field, as a bearer token, or in the query.

use http::{HeaderMap, HeaderName, HeaderValue, header};
use porch_facade::{CompiledFacade, CredentialKind, KeyPlace};
use porch_rules::grant::Grant;
use porch_rules::key::prefix;

use super::{Asked, Credential, NotGood};

/// A consumer's key.
pub(super) struct Key;

/// What is shown at a key's place.
enum Shown<'a> {
    Nothing,
    One(&'a str),
    /// Several that are not the same.
    Several,
}

fn place(kind: &CredentialKind) -> Option<&KeyPlace> {
    match kind {
        CredentialKind::Key(place) => Some(place),
        _ => None,
    }
}

fn shown<'a>(asked: Asked<'a>) -> Shown<'a> {
    let headers = &asked.parts.headers;
    match place(asked.kind) {
        None => Shown::Nothing,
        Some(KeyPlace::Header(name, _)) => {
            only(headers, name, |value| Some(value.to_str().unwrap_or("?")))
        }
        Some(KeyPlace::Bearer) => only(headers, &header::AUTHORIZATION, |v| bearer(v)),
        Some(KeyPlace::Query(_)) => match asked.taken {
            None => Shown::Nothing,
            // What is written several times stands in lines of its own.
            Some(taken) => {
                let mut all = taken.lines();
                let first = all.next().unwrap_or_default();
                match all.any(|other| other.trim() != first.trim()) {
                    true => Shown::Several,
                    false => Shown::One(first.trim()),
                }
            }
        },
    }
}

/// The one value of a field, without white space around it, which is pasted easily.
#[inline]
fn only<'h>(
    headers: &'h HeaderMap,
    name: &HeaderName,
    read: impl Fn(&'h HeaderValue) -> Option<&'h str>,
) -> Shown<'h> {
    let mut all = headers.get_all(name).into_iter().filter_map(&read);
    let Some(first) = all.next() else {
        return Shown::Nothing;
    };
    match all.any(|other| other.trim() != first.trim()) {
        true => Shown::Several,
        false => Shown::One(first.trim()),
    }
}

/// What stands behind `Bearer`, in whatever case (RFC 9110 §11.1, RFC 6750 §2.1).
pub(super) fn bearer(value: &HeaderValue) -> Option<&str> {
    super::basic::behind(value, "bearer")
}

impl Credential for Key {
    fn is_shown(&self, asked: Asked<'_>) -> bool {
        match shown(asked) {
            Shown::Nothing => false,
            // A token may be a bearer token too, and has dots; no key has.
            Shown::One(text) if matches!(place(asked.kind), Some(KeyPlace::Bearer)) => {
                !text.contains('.')
            }
            _ => true,
        }
    }

    #[inline]
    fn check<'a>(&self, asked: Asked<'a>) -> Result<&'a Grant, NotGood> {
        let key = match shown(asked) {
            Shown::One(key) => key,
            Shown::Nothing => return Err(nothing(asked)),
            Shown::Several => {
                return Err(NotGood::shown(
                    "several keys were sent that are not the same",
                ));
            }
        };
        let checked = asked.grants.check(key, asked.now);
        checked.map_err(|refused| match prefix(key) {
            Some(known) => NotGood::refused(&format!("the key “{known}…”"), refused),
            None => NotGood::shown("what was sent does not have the form of a key"),
        })
    }

    fn way(&self, kind: &CredentialKind) -> String {
        format!("your key {}", where_to(kind))
    }

    fn challenge(&self, kind: &CredentialKind, facade: &CompiledFacade) -> String {
        let realm = &facade.name;
        match place(kind) {
            Some(KeyPlace::Header(_, shown)) => {
                format!("Key realm=\"{realm}\", header=\"{shown}\"")
            }
            Some(KeyPlace::Query(name)) => format!("Key realm=\"{realm}\", query=\"{name}\""),
            Some(KeyPlace::Bearer) | None => format!("Bearer realm=\"{realm}\""),
        }
    }
}

fn where_to(kind: &CredentialKind) -> String {
    match place(kind) {
        Some(KeyPlace::Header(_, shown)) => format!("in the header “{shown}”"),
        Some(KeyPlace::Query(name)) => format!("as the query parameter “{name}”"),
        Some(KeyPlace::Bearer) | None => "as “Authorization: Bearer KEY”".to_owned(),
    }
}

/// What to do where no key was sent.
#[cold]
fn nothing(asked: Asked<'_>) -> NotGood {
    let where_to = where_to(asked.kind);
    let also = elsewhere(asked);
    NotGood {
        why: format!("no key {where_to}{also}"),
        hint: Some(format!("Send your key {where_to}{also}.")),
    }
}

/// Where a key may have been put by mistake.
fn elsewhere(asked: Asked<'_>) -> String {
    let own = match place(asked.kind) {
        Some(KeyPlace::Header(name, _)) => Some(name.as_str()),
        Some(KeyPlace::Bearer) => Some(header::AUTHORIZATION.as_str()),
        _ => None,
    };
    let like = |name: &str| name.replace('_', "-");
    let names = asked.parts.headers.keys().map(HeaderName::as_str);
    let mut names = names.filter(|n| Some(*n) != own);
    let meant = |n: &&str| {
        matches!(*n, "authorization" | "api-key" | "x-api-key")
            || own.is_some_and(|own| like(n) == own)
    };
    names.find(meant).map_or_else(String::new, |n| {
        format!("; what came in the header “{n}” is not looked at")
    })
}
