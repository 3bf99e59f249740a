//! Tokens that are bound to whoever shows them: to a certificate (RFC 8705 §3), or to a key (RFC 9449 §7).

use std::time::Duration;

use http::request::Parts;
use http::{HeaderName, header};
use porch_facade::{Bound, TokenRule};
use porch_proof::Possession;
use porch_rules::limit::{Limit, stable_id};
use serde_json::Value;

use super::NotGood;
use super::token::Proven;
use crate::count::Ask;
use crate::exchange::state::Exchange;

/// So many seconds old, or ahead, a proof may be.
const PROOF: i64 = 60;

fn wrong<T>(why: impl Into<String>) -> Result<T, Proven> {
    Err(Proven::NotGood(NotGood::shown(why)))
}

/// Whether whoever shows a token is who it is bound to; whether it came with a proof is said with it.
pub(super) async fn held(
    x: &Exchange<'_>,
    rule: &TokenRule,
    (claims, token): (&Value, &str),
    proven: bool,
    parts: &Parts,
) -> Result<(), Proven> {
    let to = |name: &str| claims.get("cnf").and_then(|c| c.get(name));
    let (certificate, key) = (to("x5t#S256"), to("jkt"));
    let is_bound = |way: &Bound| match way {
        Bound::Certificate => certificate.is_some(),
        Bound::Dpop => key.is_some(),
    };
    if !rule.bound.is_empty() && !rule.bound.iter().any(is_bound) {
        return wrong("the token is bound to nobody (`cnf`), and must be");
    }
    let known = |name: &String| name == "x5t#S256" || name == "jkt";
    let all_known = |c: &Value| c.as_object().is_some_and(|c| c.keys().all(known));
    if claims.get("cnf").is_some_and(|c| !all_known(c)) {
        return wrong("the token is bound in a way that is not known (`cnf`)");
    }
    if let Some(wanted) = certificate {
        of_certificate(x, wanted)?;
    }
    match (key, proven) {
        (None, false) => Ok(()),
        (None, true) => wrong("the token is bound to no key, and was shown as one that is"),
        (Some(_), false) => wrong("the token is bound to a key, and was shown as a bearer's"),
        (Some(key), true) => of_key(x, key, token, parts).await,
    }
}

fn of_certificate(x: &Exchange<'_>, wanted: &Value) -> Result<(), Proven> {
    let shown = x.origin.certificate.as_ref();
    let Some(shown) = shown.and_then(|c| c.read.as_ref().ok()) else {
        return wrong("the token is bound to a certificate, and none was shown");
    };
    match wanted.as_str() == Some(&shown.thumbprint()) {
        true => Ok(()),
        false => wrong("the token is bound to another certificate"),
    }
}

async fn of_key(x: &Exchange<'_>, key: &Value, token: &str, parts: &Parts) -> Result<(), Proven> {
    if parts.headers.get_all(DPOP).iter().count() != 1 {
        return wrong("there is not one field “DPoP” with a proof");
    }
    let possession = possessed(x, token, parts);
    let possession = match possession {
        Ok(possession) => possession,
        Err(why) => return wrong(format!("the proof in “DPoP”: {why}")),
    };
    if key.as_str() != Some(&possession.thumbprint) {
        return wrong("the token is bound to another key than its proof");
    }
    let ask = Ask {
        limit: stable_id("proofs of possession"),
        subject: stable_id(&format!("{}\0{}", possession.thumbprint, possession.jti)),
        rule: Limit::of(1, Duration::from_secs(2 * PROOF.unsigned_abs() + 1)),
        weight: 1,
    };
    match x.worker.shared.is_first(ask).await {
        Ok(true) => Ok(()),
        Ok(false) => wrong("the proof in “DPoP” was used before"),
        Err(away) => Err(Proven::Away(away)),
    }
}

const DPOP: HeaderName = HeaderName::from_static("dpop");

fn possessed(x: &Exchange<'_>, token: &str, parts: &Parts) -> Result<Possession, String> {
    let text = |name: &HeaderName| parts.headers.get(name).and_then(|v| v.to_str().ok());
    let scheme = if x.origin.is_secure() {
        "https"
    } else {
        "http"
    };
    let host = text(&header::HOST).unwrap_or_default();
    let shown = porch_proof::Shown {
        method: parts.method.as_str(),
        origin: &format!("{scheme}://{host}"),
        path: parts.uri.path(),
        token,
        now: x.now / 1000,
        within: PROOF,
    };
    let proof = text(&DPOP).unwrap_or_default().trim();
    porch_proof::possession(proof, &shown).map_err(|why| why.to_string())
}
