//! Certificates that callers show by TLS (RFC 8446 §4.4.2), or to a proxy that says so (RFC 9440).

use porch_facade::{CertificateRule, CompiledFacade, CredentialKind};
use porch_rules::grant::{Grant, Refused};

use super::{Asked, Credential, NotGood};
use crate::exchange::ShownCertificate;
use crate::exchange::state::Exchange;

/// A consumer's certificate.
pub(super) struct Certificate;

/// So long what was found out of a certificate is good, in seconds.
const GOOD: i64 = 60;

impl Credential for Certificate {
    fn is_shown(&self, asked: Asked<'_>) -> bool {
        asked.certificate.is_some()
    }

    fn check<'a>(&self, _: Asked<'a>) -> Result<&'a Grant, NotGood> {
        // What is shown is proven before; nothing is, where it comes to this.
        Err(NotGood {
            why: "no certificate was shown by TLS".into(),
            hint: Some("Show your certificate by TLS.".into()),
        })
    }

    fn way(&self, _: &CredentialKind) -> String {
        "a certificate by TLS".to_owned()
    }

    fn challenge(&self, _: &CredentialKind, facade: &CompiledFacade) -> String {
        // There is no scheme for what TLS asks for; RFC 9110 §11.6.1 demands one in a 401.
        format!("Certificate realm=\"{}\"", facade.name)
    }
}

/// Whose certificate was shown.
pub(super) fn prove(x: &Exchange<'_>, rule: &CertificateRule) -> Result<Grant, NotGood> {
    let Some(shown) = &x.origin.certificate else {
        return Err(NotGood::shown("no certificate was shown by TLS"));
    };
    let now = x.now / 1000;
    let of = shown.read.as_ref().map_err(|why| NotGood::shown(*why))?;
    let about = |why: &str| NotGood::shown(format!("the certificate of “{}”: {why}", of.subject));
    of.holds_at(now).map_err(about)?;
    found_out(shown, rule, now).map_err(|why| about(&why))?;
    let grants = x.worker.shared.grants.load();
    let mut last = Refused::Unknown;
    for name in of.known_by(rule.authorities.is_some()) {
        match grants.check_name("certificate", &name, now) {
            Ok(grant) => return Ok(grant.clone()),
            Err(Refused::Unknown) => {}
            Err(other) => last = other,
        }
    }
    let what = format!("the certificate of “{}” ({})", of.subject, of.fingerprint);
    Err(NotGood::refused(&what, last))
}

/// Whether somebody who may has signed it; looked at again after a while, since lists end.
fn found_out(shown: &ShownCertificate, rule: &CertificateRule, now: i64) -> Result<(), String> {
    let (Some(authorities), Ok(of)) = (&rule.authorities, &shown.read) else {
        return Ok(());
    };
    if let Some((id, at, found)) = &*shown.found.borrow()
        && *id == rule.id
        && now.abs_diff(*at) < GOOD.unsigned_abs()
    {
        return found.clone();
    }
    let found = authorities.check(of, now);
    *shown.found.borrow_mut() = Some((rule.id, now, found.clone()));
    found
}
