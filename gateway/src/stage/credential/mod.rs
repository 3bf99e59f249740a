//! Credentials: one trait for the kinds, tried in the order in which the documents name them.

mod basic;
mod bound;
mod certificate;
mod key;
mod signature;
mod token;

use std::borrow::Cow;
use std::net::IpAddr;

use http::Uri;
use http::request::Parts;
use porch_facade::{
    CompiledFacade, CompiledOperation, CredentialKind, CredentialRule, Demanded, percent_decode,
};
use porch_rules::grant::{Grant, Grants, Opened, Refused};

use self::basic::Basic;
use self::certificate::Certificate;
use self::key::Key;
use self::signature::{Signature, Unproven};
use self::token::{Proven, Token};
use crate::caller::Caller;
use crate::exchange::ShownCertificate;
use crate::exchange::state::Exchange;
use crate::problem::{self, Problem};

/// What a credential is looked for in.
#[derive(Clone, Copy)]
struct Asked<'a> {
    kind: &'a CredentialKind,
    parts: &'a Parts,
    /// What stood in the query in place of a credential, and was taken out of it.
    taken: Option<&'a str>,
    /// What was shown by TLS.
    certificate: Option<&'a ShownCertificate>,
    grants: &'a Grants,
    /// Seconds since 1970.
    now: i64,
}

impl<'a> Asked<'a> {
    fn of(
        x: &'a Exchange<'_>,
        kind: &'a CredentialKind,
        parts: &'a Parts,
        grants: &'a Grants,
    ) -> Self {
        Self {
            kind,
            parts,
            taken: x.rare.as_ref().and_then(|r| r.taken.as_deref()),
            certificate: x.origin.certificate.as_deref(),
            grants,
            now: x.now / 1000,
        }
    }

    fn for_kind(self, kind: &'a CredentialKind) -> Self {
        Self { kind, ..self }
    }
}

/// Why a credential does not open the door: for the publisher. Callers are told the same of all that are not good.
struct NotGood {
    why: String,
    /// What to do, where nothing was shown.
    hint: Option<String>,
}

impl NotGood {
    fn shown(why: impl Into<String>) -> Self {
        Self {
            why: why.into(),
            hint: None,
        }
    }

    fn refused(what: &str, refused: Refused) -> Self {
        Self::shown(match refused {
            Refused::Unknown => format!("nobody has {what}"),
            Refused::Ended => format!("{what} has ended"),
            Refused::Paused => format!("{what} or its consumer is paused"),
        })
    }
}

/// A kind of credential.
trait Credential {
    /// Whether a request shows one of this kind.
    fn is_shown(&self, asked: Asked<'_>) -> bool;

    /// Who calls, where the table of grants is enough to know it; or why what is shown, or that nothing is, does not let the
    /// caller pass.
    fn check<'a>(&self, asked: Asked<'a>) -> Result<&'a Grant, NotGood>;

    /// How one is shown, for people.
    fn way(&self, kind: &CredentialKind) -> String;

    /// How one is shown (RFC 9110 §11.6.1).
    fn challenge(&self, kind: &CredentialKind, facade: &CompiledFacade) -> String;
}

fn kind_of(kind: &CredentialKind) -> &'static dyn Credential {
    match kind {
        CredentialKind::Key(_) => &Key,
        CredentialKind::Basic => &Basic,
        CredentialKind::Token(_) => &Token,
        CredentialKind::Signature(_) => &Signature,
        CredentialKind::Certificate(_) => &Certificate,
    }
}

/// Who calls, by the first kind of credential that is shown.
pub(super) fn caller(
    x: &Exchange<'_>,
    facade: &CompiledFacade,
    op: &CompiledOperation,
    parts: &Parts,
) -> Result<Caller, Box<Problem>> {
    let rules = &op.admission.credentials.rules;
    let Some(first) = rules.first() else {
        return Ok(Caller::default());
    };
    let grants = x.worker.shared.grants.load();
    let asked = Asked::of(x, &first.kind, parts, &grants);
    let is_shown = |r: &&CredentialRule| kind_of(&r.kind).is_shown(asked.for_kind(&r.kind));
    // Where there is one kind only, it says itself what it looked for.
    let rule = match rules.len() {
        1 => first,
        _ => rules.iter().find(is_shown).unwrap_or(first),
    };
    let grant = match kind_of(&rule.kind).check(asked.for_kind(&rule.kind)) {
        Ok(grant) => grant,
        Err(not_good) => return Err(refuse(x, facade, op, not_good)),
    };
    granted(x, (facade, op), rule, grant)
}

/// The caller of a credential that is good, where it opens the facade.
fn granted(
    x: &Exchange<'_>,
    (facade, op): (&CompiledFacade, &CompiledOperation),
    rule: &CredentialRule,
    grant: &Grant,
) -> Result<Caller, Box<Problem>> {
    let now = x.now / 1000;
    match grant.opens((&facade.name, &op.id), now) {
        Opened::Yes(agreement) => {
            let minute = u32::try_from(now / 60).unwrap_or(u32::MAX);
            if grant.shown.is_first_use(minute) {
                let kind = grant.kind().name();
                x.worker.shared.used(kind, &grant.shown.label, minute);
            }
            Ok(Caller::of(grant, agreement))
        }
        Opened::OtherFacades => Err(problem::not_granted(facade, grant, &rule.place)),
        Opened::NoAgreement => Err(problem::no_agreement((facade, op), grant, now, &rule.place)),
    }
}

/// The refusal of what is not good, or not there. Who sends what is not good again and again is slowed down.
#[cold]
fn refuse(
    x: &Exchange<'_>,
    facade: &CompiledFacade,
    op: &CompiledOperation,
    not_good: NotGood,
) -> Box<Problem> {
    let demanded = &op.admission.credentials;
    let shared = &x.worker.shared;
    if not_good.hint.is_none()
        && let Err(wait) = shared.guesses.failed(x.origin.address, shared.now_ms())
    {
        let place = &demanded.rules[0].place;
        return problem::guessing(wait, x.origin.address, &not_good.why, place);
    }
    told(facade, demanded, not_good)
}

/// How the caller is told.
fn told(facade: &CompiledFacade, demanded: &Demanded, not_good: NotGood) -> Box<Problem> {
    let not_good = match not_good.hint {
        // Where nothing was shown, everything that could be is told.
        Some(_) if demanded.rules.len() > 1 => {
            let rules = demanded.rules.iter();
            let ways: Vec<String> = rules.map(|r| kind_of(&r.kind).way(&r.kind)).collect();
            NotGood {
                hint: Some(format!("Send {}.", ways.join(", or "))),
                ..not_good
            }
        }
        _ => not_good,
    };
    let rules = demanded.rules.iter();
    let challenges = rules.map(|r| kind_of(&r.kind).challenge(&r.kind, facade));
    let problem = problem::no_credential(demanded, not_good.hint, not_good.why, challenges);
    let mut rules = demanded.rules.iter();
    let signed = rules.find_map(|r| match &r.kind {
        CredentialKind::Signature(rule) => Some(signature::accepted(rule)),
        _ => None,
    });
    match signed {
        Some(accepted) => problem.accepting(&accepted),
        None => problem,
    }
}

/// The same for credentials that take more than a look at a table. `None`: another kind was shown.
pub(crate) async fn prove(
    x: &Exchange<'_>,
    facade: &CompiledFacade,
    op: &CompiledOperation,
    parts: &Parts,
    has_body: bool,
) -> Result<Option<(Caller, Option<Box<str>>)>, Box<Problem>> {
    super::admit::networks_let(x, op)?;
    let rules = &op.admission.credentials.rules;
    let rule = {
        let grants = x.worker.shared.grants.load();
        let is_shown = |r: &&CredentialRule| {
            let asked = Asked::of(x, &r.kind, parts, &grants);
            kind_of(&r.kind).is_shown(asked)
        };
        let shown = rules.iter().find(is_shown);
        match shown {
            Some(rule) if rule.kind.is_proven() => rule,
            _ => return Ok(None),
        }
    };
    if let CredentialKind::Signature(of) = &rule.kind {
        return match signature::prove(x, of, parts, has_body).await {
            Ok((grant, digest)) => {
                let caller = granted(x, (facade, op), rule, &grant)?;
                Ok(Some((caller, digest)))
            }
            Err(Unproven::NotGood(not_good)) => Err(refuse(x, facade, op, not_good)),
            Err(Unproven::Away(away)) => Err(problem::nonces_away(&away.0, &rule.place)),
        };
    }
    let alone = |caller| Some((caller, None));
    if let CredentialKind::Certificate(of) = &rule.kind {
        return match certificate::prove(x, of) {
            Ok(grant) => granted(x, (facade, op), rule, &grant).map(alone),
            Err(not_good) => Err(refuse(x, facade, op, not_good)),
        };
    }
    if let CredentialKind::Token(of) = &rule.kind {
        return match token::prove(x, of, parts).await {
            Proven::Good(grant) => granted(x, (facade, op), rule, &grant).map(alone),
            Proven::NotGood(not_good) => Err(refuse(x, facade, op, not_good)),
            Proven::Nobodys(why) => Err(problem::nobodys(why, &rule.place)),
            Proven::Away(away) => Err(problem::nonces_away(&away.0, &rule.place)),
            Proven::Unknown(why) => Err(problem::no_issuer(&why, &rule.place)),
        };
    }
    let Some((name, password)) = basic::given(parts) else {
        let why = "what stands in `Authorization: Basic` is no name and password (RFC 7617 §2)";
        return Err(refuse(x, facade, op, NotGood::shown(why)));
    };
    match basic::prove(x, &name, &password).await {
        Ok(Ok(grant)) => granted(x, (facade, op), rule, &grant).map(alone),
        // It was counted as an attempt already.
        Ok(Err(not_good)) => Err(told(facade, &op.admission.credentials, not_good)),
        Err(wait) => {
            let why = format!("the name “{name}” was tried too often");
            Err(problem::guessing(wait, x.origin.address, &why, &rule.place))
        }
    }
}

/// A request without the credentials that stand in its query: these, a line for each, and the rest.
pub(crate) fn without_credentials(
    parts: &Parts,
    demanded: &Demanded,
) -> Option<(Box<str>, Box<Parts>)> {
    let query = parts.uri.query()?;
    let of_key = |pair: &str| {
        let (name, value) = pair.split_once('=').unwrap_or((pair, ""));
        let name = percent_decode(name, true)?;
        let is_one = demanded.in_query.iter().any(|own| **own == *name);
        is_one.then(|| percent_decode(value, true).map_or(value.to_owned(), Cow::into_owned))
    };
    let (mut taken, mut rest) = (String::new(), String::new());
    for pair in query.split('&') {
        match of_key(pair) {
            Some(value) => {
                taken.push_str(value.lines().next().unwrap_or_default());
                taken.push('\n');
            }
            None => {
                rest.push(if rest.is_empty() { '?' } else { '&' });
                rest.push_str(pair);
            }
        }
    }
    if taken.is_empty() {
        return None;
    }
    let mut uri = parts.uri.clone().into_parts();
    let target = format!("{}{rest}", parts.uri.path());
    uri.path_and_query = Some(target.parse().ok()?);
    let mut parts = Box::new(parts.clone());
    parts.uri = Uri::from_parts(uri).ok()?;
    Some((taken.trim_end().into(), parts))
}

/// Where somebody guesses at a name, from an address.
fn guess(
    x: &Exchange<'_>,
    name: &str,
    address: IpAddr,
) -> Result<porch_rules::guess::Guess, std::time::Duration> {
    let shared = &x.worker.shared;
    shared.guesses.begin(name, address, shared.now_ms())
}
