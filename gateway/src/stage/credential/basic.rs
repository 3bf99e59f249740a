//! Names and passwords (RFC 7617).

use std::time::Duration;

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use http::request::Parts;
use http::{HeaderValue, header};
use porch_facade::{CompiledFacade, CredentialKind};
use porch_rules::grant::{Grant, Proof};

use super::{Asked, Credential, NotGood};
use crate::exchange::state::Exchange;

/// A consumer's name and password.
pub(super) struct Basic;

/// Bytes of a name and password at most: to look at more is work for nothing.
const MOST: usize = 1024;

/// What stands behind the name of a scheme, in whatever case (RFC 9110 §11.1).
pub(super) fn behind<'h>(value: &'h HeaderValue, scheme: &str) -> Option<&'h str> {
    let text = value.to_str().ok()?.trim();
    let (own, rest) = text.split_at_checked(scheme.len())?;
    let rest = rest.strip_prefix([' ', '\t'])?;
    own.eq_ignore_ascii_case(scheme).then(|| rest.trim())
}

/// Name and password of a request: the first pair, where others are the same.
pub(super) fn given(parts: &Parts) -> Option<(String, String)> {
    let all = parts.headers.get_all(header::AUTHORIZATION).into_iter();
    let mut all = all.filter_map(|v| behind(v, "basic"));
    let first = all.next()?;
    if all.any(|other| other != first) || first.len() > MOST * 2 {
        return None;
    }
    let bytes = STANDARD.decode(first).ok()?;
    let text = String::from_utf8(bytes).ok()?;
    let (name, password) = text.split_once(':')?;
    // Pasted white space is no part of a name or password; control characters are none of either (RFC 7617 §2).
    let (name, password) = (name.trim(), password.trim());
    let sound = |t: &str| !t.is_empty() && t.len() <= MOST && !t.chars().any(char::is_control);
    (sound(name) && sound(password)).then(|| (name.to_owned(), password.to_owned()))
}

impl Credential for Basic {
    fn is_shown(&self, asked: Asked<'_>) -> bool {
        let mut all = asked.parts.headers.get_all(header::AUTHORIZATION).iter();
        all.any(|v| behind(v, "basic").is_some())
    }

    fn check<'a>(&self, _: Asked<'a>) -> Result<&'a Grant, NotGood> {
        // What is shown is proven before; nothing is, where it comes to this.
        Err(NotGood {
            why: "no name and password in the header “Authorization”".into(),
            hint: Some("Send name and password as “Authorization: Basic” (RFC 7617).".into()),
        })
    }

    fn way(&self, _: &CredentialKind) -> String {
        "name and password as “Authorization: Basic”".to_owned()
    }

    fn challenge(&self, _: &CredentialKind, facade: &CompiledFacade) -> String {
        format!("Basic realm=\"{}\", charset=\"UTF-8\"", facade.name)
    }
}

/// The grant of a name, where the password is its own. An unknown name takes as long as a wrong password.
///
/// # Errors
/// How long to wait, where there were too many attempts.
pub(super) async fn prove(
    x: &Exchange<'_>,
    name: &str,
    password: &str,
) -> Result<Result<Grant, NotGood>, Duration> {
    let shared = &x.worker.shared;
    let found = {
        let grants = shared.grants.load();
        grants.check_name("password", name, x.now / 1000).cloned()
    };
    let proof = found.as_ref().ok().and_then(|g| g.proof.clone());
    let known = || match (&found, &proof) {
        (Ok(grant), Some(proof)) if shared.passwords.knows(proof, password, shared.now_ms()) => {
            Some(grant.clone())
        }
        _ => None,
    };
    if let Some(grant) = known() {
        return Ok(Ok(grant));
    }
    let _turn = shared.passwords.alone(name, password).await;
    // Whoever had the turn before may have shown the same.
    if let Some(grant) = known() {
        return Ok(Ok(grant));
    }
    let guess = super::guess(x, name, x.origin.address)?;
    if !guess.wait.is_zero() {
        tokio::time::sleep(guess.wait).await;
    }
    let hash = match proof.as_deref() {
        Some(Proof::Password(hash)) => Some(hash.clone()),
        _ => None,
    };
    let fits = shared.passwords.check(hash, password).await;
    let what = format!("the name “{name}”");
    let grant = match found {
        Ok(grant) if fits => grant,
        Ok(_) => {
            return Ok(Err(NotGood::shown(format!(
                "the password of {what} is another"
            ))));
        }
        Err(refused) => return Ok(Err(NotGood::refused(&what, refused))),
    };
    shared.guesses.succeeded(&guess);
    if let Some(proof) = &proof {
        shared.passwords.keep(proof, password, shared.now_ms());
    }
    Ok(Ok(grant))
}
