//! Credentials: one trait for the kinds, tried in the order in which the documents name them.

use http::{HeaderMap, header};
use porch_facade::{CompiledFacade, CompiledOperation, CredentialKind, CredentialRule};
use porch_rules::grant::{Grants, Refused};
use porch_rules::key::prefix;

use crate::caller::Caller;
use crate::problem::{self, Problem};

/// A kind of credential.
trait Credential {
    /// Whether a request shows one of this kind.
    fn is_shown(&self, facade: &CompiledFacade, headers: &HeaderMap) -> bool;

    /// Who calls; or why what is shown, or that nothing is, does not let the caller pass.
    fn check(
        &self,
        rule: &CredentialRule,
        facade: &CompiledFacade,
        headers: &HeaderMap,
        grants: &Grants,
        now: i64,
    ) -> Result<Caller, Box<Problem>>;
}

fn kind_of(kind: CredentialKind) -> &'static dyn Credential {
    match kind {
        CredentialKind::Key => &Key,
    }
}

/// Who calls, by the first kind of credential that is shown; `now` in seconds since 1970.
pub(super) fn caller(
    facade: &CompiledFacade,
    op: &CompiledOperation,
    headers: &HeaderMap,
    grants: &Grants,
    now: i64,
) -> Result<Caller, Box<Problem>> {
    let rules = &op.admission.credentials;
    let Some(first) = rules.first() else {
        return Ok(Caller::default());
    };
    let shown = rules
        .iter()
        .find(|r| kind_of(r.kind).is_shown(facade, headers));
    let rule = shown.unwrap_or(first);
    kind_of(rule.kind).check(rule, facade, headers, grants, now)
}

/// A consumer's key, in a header field.
struct Key;

impl Credential for Key {
    fn is_shown(&self, facade: &CompiledFacade, headers: &HeaderMap) -> bool {
        headers.contains_key(&facade.key_header)
    }

    fn check(
        &self,
        rule: &CredentialRule,
        facade: &CompiledFacade,
        headers: &HeaderMap,
        grants: &Grants,
        now: i64,
    ) -> Result<Caller, Box<Problem>> {
        let refuse = |detail: String, why: String| {
            let challenge = problem::key_challenge(facade);
            Err(problem::no_credential(detail, why, &rule.place, &challenge))
        };
        let name = &facade.key_header_shown;
        let Some(value) = headers.get(&facade.key_header) else {
            let hint = elsewhere(facade, headers);
            return refuse(
                format!("Send your key in the header “{name}”{hint}."),
                format!("no key in the header “{name}”{hint}"),
            );
        };
        let shown = value.to_str().unwrap_or_default().trim();
        match grants.check(shown, now) {
            Ok(grant) if grant.opens(&facade.name) => Ok(Caller::of(grant)),
            Ok(grant) => Err(problem::not_granted(facade, grant, &rule.place)),
            Err(refused) => {
                let (detail, why) = not_good(refused, shown);
                refuse(detail.into(), why)
            }
        }
    }
}

/// Where a key may have been put by mistake.
fn elsewhere(facade: &CompiledFacade, headers: &HeaderMap) -> String {
    [header::AUTHORIZATION.as_str(), "api-key", "x-api-key"]
        .into_iter()
        .find(|n| *n != facade.key_header.as_str() && headers.contains_key(*n))
        .map_or_else(String::new, |n| {
            format!("; what came in the header “{n}” is not looked at")
        })
}

fn not_good(refused: Refused, shown: &str) -> (&'static str, String) {
    let known = prefix(shown).map_or_else(String::new, |p| format!(" “{p}…”"));
    let not_now = "The key is not valid now.";
    match refused {
        Refused::Unknown if known.is_empty() => (
            "The key is not known.",
            "what was sent does not have the form of a key".into(),
        ),
        Refused::Unknown => (
            "The key is not known.",
            format!("nobody has the key{known}"),
        ),
        Refused::Ended => (not_now, format!("the key{known} has ended")),
        Refused::Paused => (not_now, format!("the key{known} or its consumer is paused")),
    }
}
