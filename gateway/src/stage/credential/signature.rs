//! Signed requests (RFC 9421), with digests of their bodies (RFC 9530).

use std::borrow::Cow;
use std::time::Duration;

use http::request::Parts;
use http::{HeaderMap, header};
use porch_facade::{CompiledFacade, CredentialKind, SignatureRule};
use porch_proof::{Message, Signed};
use porch_rules::grant::{Grant, Proof};
use porch_rules::limit::{Limit, stable_id};

use super::{Asked, Credential, NotGood};
use crate::count::{Ask, Away};
use crate::exchange::state::Exchange;

/// A signature of a consumer's key.
pub(super) struct Signature;

const INPUT: &str = "signature-input";
const SIGNATURE: &str = "signature";
const DIGEST: &str = "content-digest";

/// All values of a field as one (RFC 9110 §5.3).
fn joined<'h>(headers: &'h HeaderMap, name: &str) -> Option<Cow<'h, str>> {
    let mut all = headers.get_all(name).into_iter();
    let first = all.next()?.to_str().ok()?;
    let mut whole = Cow::Borrowed(first);
    for value in all {
        whole.to_mut().push_str(", ");
        whole.to_mut().push_str(value.to_str().ok()?);
    }
    Some(whole)
}

impl Credential for Signature {
    fn is_shown(&self, asked: Asked<'_>) -> bool {
        asked.parts.headers.contains_key(INPUT)
    }

    fn check<'a>(&self, _: Asked<'a>) -> Result<&'a Grant, NotGood> {
        Err(NotGood {
            why: "no field “Signature-Input”".into(),
            hint: Some("Sign the request (RFC 9421), as “Accept-Signature” says.".into()),
        })
    }

    fn way(&self, _: &CredentialKind) -> String {
        "a signature of the request (RFC 9421)".to_owned()
    }

    fn challenge(&self, _: &CredentialKind, facade: &CompiledFacade) -> String {
        format!("Signature realm=\"{}\"", facade.name)
    }
}

/// Why a signature is not taken.
pub(super) enum Unproven {
    NotGood(NotGood),
    /// Whether it was used before cannot be known now.
    Away(Away),
}

impl From<NotGood> for Unproven {
    fn from(not_good: NotGood) -> Self {
        Self::NotGood(not_good)
    }
}

/// A request as its signature takes it apart.
struct Seen<'p> {
    parts: &'p Parts,
    secure: bool,
}

impl Message for Seen<'_> {
    fn method(&self) -> &str {
        self.parts.method.as_str()
    }

    fn scheme(&self) -> &str {
        if self.secure { "https" } else { "http" }
    }

    fn authority(&self) -> &str {
        let host = self.parts.headers.get(header::HOST);
        host.and_then(|h| h.to_str().ok()).unwrap_or_default()
    }

    fn path(&self) -> &str {
        self.parts.uri.path()
    }

    fn query(&self) -> Option<&str> {
        self.parts.uri.query()
    }

    fn field(&self, name: &str) -> Vec<&[u8]> {
        let all = self.parts.headers.get_all(name).into_iter();
        all.map(http::HeaderValue::as_bytes).collect()
    }
}

/// Whose signature a request has, and the digest that its body must have.
pub(super) async fn prove(
    x: &Exchange<'_>,
    rule: &SignatureRule,
    parts: &Parts,
    has_body: bool,
) -> Result<(Grant, Option<Box<str>>), Unproven> {
    let input = joined(&parts.headers, INPUT);
    let signature = joined(&parts.headers, SIGNATURE);
    let (Some(input), Some(signature)) = (input, signature) else {
        let why = "one of the fields of the signature is not there, or no text";
        return Err(NotGood::shown(why).into());
    };
    let all = Signed::read(&input, &signature).map_err(NotGood::shown)?;
    let meant = |s: &&Signed| rule.tag.is_none() || s.tag == rule.tag;
    let mut meant = all.iter().filter(meant);
    // Several may have signed on the way; the first that is the caller's own counts.
    let Some(signed) = meant.next() else {
        let tag = rule.tag.as_deref().unwrap_or_default();
        return Err(NotGood::shown(format!("no signature has the tag “{tag}”")).into());
    };
    let digest = covered(rule, signed, parts, has_body)?;
    in_time(rule, signed, x.now / 1000)?;
    let grant = {
        let grants = x.worker.shared.grants.load();
        let what = format!("the key “{}”", signed.keyid);
        let found = grants.check_name("signature", &signed.keyid, x.now / 1000);
        found.map_err(|e| NotGood::refused(&what, e))?.clone()
    };
    let Some(Proof::Signing(key)) = grant.proof.as_deref() else {
        return Err(NotGood::shown("its key signs nothing").into());
    };
    // Which algorithm it is, the key and the document say; what the signature says of itself can only be the same.
    let mut taken = rule.algorithms.iter().filter(|a| key.key.fits(**a));
    let by = match signed.by {
        Some(by) => taken.find(|a| **a == by),
        None => taken.next(),
    };
    let Some(by) = by else {
        let why = "its algorithm is not one that is taken with its key";
        return Err(NotGood::shown(why).into());
    };
    let seen = Seen {
        parts,
        secure: x.origin.is_secure(),
    };
    let base = signed.base(&seen).map_err(NotGood::shown)?;
    if !signed.is_of(&key.key, *by, &base) {
        let why = format!("it is not signed with the key “{}”", signed.keyid);
        return Err(NotGood::shown(why).into());
    }
    once(x, rule, signed).await?;
    Ok((grant, digest))
}

/// Whether all that must be signed is; the digest that the body must have.
fn covered(
    rule: &SignatureRule,
    signed: &Signed,
    parts: &Parts,
    has_body: bool,
) -> Result<Option<Box<str>>, NotGood> {
    if let Some(missing) = rule.covers.iter().find(|c| !signed.covers(c)) {
        return Err(NotGood::shown(format!("“{missing}” is not signed")));
    }
    let told = joined(&parts.headers, DIGEST);
    if !signed.covers(DIGEST) {
        return match rule.digest && has_body {
            true => Err(NotGood::shown("its body is not signed (`content-digest`)")),
            false => Ok(None),
        };
    }
    // What is signed is compared, whether or not the document demands it.
    match told {
        Some(told) => Ok(Some(told.into())),
        None => Err(NotGood::shown(
            "the field “Content-Digest” is signed, and not there",
        )),
    }
}

fn in_time(rule: &SignatureRule, signed: &Signed, now: i64) -> Result<(), NotGood> {
    let wrong = |why: String| Err(NotGood::shown(why));
    let Some(created) = signed.created else {
        return wrong("it does not say when it was made (`created`)".to_owned());
    };
    if created > now.saturating_add(rule.skew) {
        return wrong(format!("it was made in {} seconds from now", created - now));
    }
    let age = now.saturating_sub(created);
    if age > rule.within.saturating_add(rule.skew) {
        return wrong(format!("it was made {age} seconds ago"));
    }
    match signed.expires {
        Some(expires) if expires.saturating_add(rule.skew) <= now => {
            wrong(format!("it ended {} seconds ago", now - expires))
        }
        _ => Ok(()),
    }
}

/// Whether its nonce was not used before, here or on another node; from now on it was.
async fn once(x: &Exchange<'_>, rule: &SignatureRule, signed: &Signed) -> Result<(), Unproven> {
    let Some(nonce) = &signed.nonce else {
        return match rule.nonce {
            true => Err(NotGood::shown("it has no `nonce`").into()),
            false => Ok(()),
        };
    };
    let seconds = rule.within.saturating_add(rule.skew.saturating_mul(2));
    let seconds = u64::try_from(seconds).unwrap_or(1).max(1);
    let ask = Ask {
        limit: stable_id("nonces of signatures"),
        subject: stable_id(&format!("{}\0{nonce}", signed.keyid)),
        rule: Limit::of(1, Duration::from_secs(seconds)),
        weight: 1,
    };
    match x.worker.shared.is_first(ask).await {
        Ok(true) => Ok(()),
        Ok(false) => Err(NotGood::shown("its `nonce` was used before").into()),
        Err(away) => Err(Unproven::Away(away)),
    }
}

/// What must be signed, as callers are told it (RFC 9421 §5.1).
pub(super) fn accepted(rule: &SignatureRule) -> String {
    let mut names: Vec<String> = rule.covers.iter().map(|c| format!("\"{c}\"")).collect();
    if rule.digest {
        names.push(format!("\"{DIGEST}\""));
    }
    let tag = match &rule.tag {
        Some(tag) => format!(";tag=\"{tag}\""),
        None => String::new(),
    };
    format!("sig=({});created{tag}", names.join(" "))
}
