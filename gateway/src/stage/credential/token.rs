//! Tokens that issuers sign (RFC 7519, RFC 9068), shown as bearer tokens (RFC 6750 §2.1).

use std::sync::Arc;

use http::header;
use http::request::Parts;
use porch_facade::{Bound, CompiledFacade, CredentialKind, Introspection, TokenRule};
use porch_proof::{Algorithm, NotGood as NoToken, Token as Read};
use porch_rules::expr::{NoXml, Scope, Template, Val};
use porch_rules::grant::{Grant, Refused, Says, Shown};
use serde_json::Value;

use super::basic::behind;
use super::bound::held;
use super::key::bearer;
use super::{Asked, Credential, NotGood};
use crate::count::Away;
use crate::exchange::state::Exchange;

/// A token of an issuer.
pub(super) struct Token;

/// How a token turned out.
pub(super) enum Proven {
    Good(Grant),
    /// It is not good, or nobody has it.
    NotGood(NotGood),
    /// It is good, and no consumer's.
    Nobodys(String),
    /// Its issuer gives no keys.
    Unknown(String),
    /// Whether its proof was used before cannot be known now.
    Away(Away),
}

/// The token of a request, as a bearer's or with a proof (RFC 9449 §7.1).
fn shown(parts: &Parts) -> Option<Result<(&str, bool), NotGood>> {
    let all = parts.headers.get_all(header::AUTHORIZATION).into_iter();
    let read = |v| {
        let proven = || behind(v, "dpop").map(|token| (token, true));
        bearer(v).map(|token| (token, false)).or_else(proven)
    };
    let mut all = all.filter_map(read);
    let first = all.next()?;
    if all.any(|other| other != first) {
        return Some(Err(NotGood::shown(
            "several tokens were sent that are not the same",
        )));
    }
    Some(Ok(first))
}

impl Credential for Token {
    fn is_shown(&self, asked: Asked<'_>) -> bool {
        // A key may be a bearer token too, and has no dots; of what an issuer is asked, nothing is known.
        let opaque = match asked.kind {
            CredentialKind::Token(rule) => rule.introspection.is_some(),
            _ => false,
        };
        let is_one = |(token, _): (&str, bool)| opaque || token.contains('.');
        shown(asked.parts).is_some_and(|t| t.map_or(true, is_one))
    }

    fn check<'a>(&self, _: Asked<'a>) -> Result<&'a Grant, NotGood> {
        Err(NotGood {
            why: "no token in the header “Authorization”".into(),
            hint: Some("Send a token as “Authorization: Bearer”.".into()),
        })
    }

    fn way(&self, kind: &CredentialKind) -> String {
        match kind {
            CredentialKind::Token(rule) => format!(
                "a token of {} as “Authorization: Bearer”",
                rule.expected.issuer
            ),
            _ => String::new(),
        }
    }

    fn challenge(&self, kind: &CredentialKind, facade: &CompiledFacade) -> String {
        match kind {
            // RFC 9449 §7.1.
            CredentialKind::Token(rule) if rule.bound.contains(&Bound::Dpop) => {
                let algorithms = Algorithm::ALL.map(Algorithm::name).join(" ");
                format!("DPoP realm=\"{}\", algs=\"{algorithms}\"", facade.name)
            }
            _ => format!("Bearer realm=\"{}\"", facade.name),
        }
    }
}

/// What a token's claims say to expressions.
struct Claims<'a>(&'a Value);

impl Scope for Claims<'_> {
    fn open_xml(&self, _: &str) -> Result<Value, NoXml> {
        Err(NoXml("claims are no XML".into()))
    }

    fn member<'s>(&'s self, root: usize, name: &str) -> Option<Val<'s>> {
        self.0.get(name).filter(|_| root == 0).map(Val::of)
    }

    fn whole(&self, _: usize) -> Val<'_> {
        Val::of(self.0)
    }
}

/// Whose a token is, where it is good.
pub(super) async fn prove(x: &Exchange<'_>, rule: &Arc<TokenRule>, parts: &Parts) -> Proven {
    let (text, proven) = match shown(parts) {
        Some(Ok(shown)) => shown,
        Some(Err(not_good)) => return Proven::NotGood(not_good),
        None => return Proven::NotGood(NotGood::shown("no token")),
    };
    let now = x.now / 1000;
    let claims = match &rule.introspection {
        Some(how) => told(x, (rule, how), (text, now)).await,
        None => verified(x, rule, (text, now)).await,
    };
    let claims = match claims {
        Ok(claims) => claims,
        Err(not) => return not,
    };
    match held(x, rule, (&claims, text), proven, parts).await {
        Ok(()) => of_claims(x, rule, claims),
        Err(not) => not,
    }
}

/// What a token claims that its issuer has signed.
async fn verified(
    x: &Exchange<'_>,
    rule: &Arc<TokenRule>,
    (text, now): (&str, i64),
) -> Result<Value, Proven> {
    let wrong = |why: String| Err(Proven::NotGood(NotGood::shown(why)));
    let issuers = &x.worker.shared.issuers;
    let read = || Read::read(text);
    let token = match read() {
        Ok(token) => token,
        Err(why) => return wrong(why.to_string()),
    };
    let mut keys = match issuers.keys(x.worker, rule, None).await {
        Ok(keys) => keys,
        Err(why) => return Err(Proven::Unknown(why)),
    };
    let mut verified = token.verify(&keys, &rule.expected, now);
    if let Err(NoToken::UnknownKey(Some(_))) = &verified {
        // The issuer may have another key since.
        let newer = issuers.keys(x.worker, rule, Some(&keys)).await;
        if let (Ok(newer), Ok(token)) = (newer, read())
            && !Arc::ptr_eq(&newer, &keys)
        {
            keys = newer;
            verified = token.verify(&keys, &rule.expected, now);
        }
    }
    match verified {
        Ok(claims) => Ok(Value::Object(claims)),
        Err(why) => wrong(why.to_string()),
    }
}

/// What its issuer says of a token.
async fn told(
    x: &Exchange<'_>,
    (rule, how): (&TokenRule, &Introspection),
    (text, now): (&str, i64),
) -> Result<Value, Proven> {
    let introspected = &x.worker.shared.introspected;
    let told = introspected.told(x.worker, (rule, how), (text, now)).await;
    let said = match told {
        Ok(Some(said)) => said,
        Ok(None) => {
            let why = format!("{} says that the token is not active", rule.expected.issuer);
            return Err(Proven::NotGood(NotGood::shown(why)));
        }
        Err(why) => return Err(Proven::Unknown(why)),
    };
    match rule.expected.hold_told(&said, now) {
        Ok(()) => Ok(Value::Object((*said).clone())),
        Err(why) => Err(Proven::NotGood(NotGood::shown(why.to_string()))),
    }
}

/// The consumer that a token is for, with the roles that it gives.
fn of_claims(x: &Exchange<'_>, rule: &TokenRule, claims: Value) -> Proven {
    let client = match text_of(&rule.consumer, &claims) {
        Ok(client) => client,
        Err(why) => return Proven::Nobodys(format!("whose the token is cannot be told: {why}")),
    };
    let issuer = &rule.expected.issuer;
    let name = format!("{client} of {issuer}");
    let grants = x.worker.shared.grants.load();
    let grant = match grants.check_name("token", &name, x.now / 1000) {
        Ok(grant) => grant,
        Err(Refused::Unknown) => {
            return Proven::Nobodys(format!(
                "no consumer has tokens of the client “{client}” of {issuer}"
            ));
        }
        Err(refused) => {
            return Proven::NotGood(NotGood::refused(&format!("the client “{client}”"), refused));
        }
    };
    let roles = match rule.roles.as_ref().map(|t| t.render(&Claims(&claims))) {
        None | Some(Ok(None)) => Vec::new(),
        Some(Ok(Some(value))) => roles_of(&value),
        Some(Err((_, e))) => {
            return Proven::NotGood(NotGood::shown(format!("its roles cannot be told: {e}")));
        }
    };
    let minute = u32::try_from(x.now / 60_000).unwrap_or(u32::MAX);
    if grant.shown.is_first_use(minute) {
        x.worker.shared.used("token", &grant.shown.label, minute);
    }
    let says = Says {
        claims,
        roles: roles.into(),
    };
    let shown = Shown::saying(grant.shown.label.clone(), says);
    // It was counted as used already.
    shown.is_first_use(minute);
    Proven::Good(Grant {
        shown,
        ..grant.clone()
    })
}

fn text_of(template: &Template, claims: &Value) -> Result<String, String> {
    match template.render(&Claims(claims)) {
        Ok(Some(Value::String(text))) if !text.is_empty() && text.len() <= 500 => Ok(text),
        Ok(Some(other)) => {
            let shown: String = other.to_string().chars().take(100).collect();
            Err(format!("{shown} is no name"))
        }
        Ok(None) => Err("it says nothing".to_owned()),
        Err((_, e)) => Err(e.to_string()),
    }
}

/// Roles of a token that are looked at.
const MOST_ROLES: usize = 200;

/// A list of texts, or texts with blanks between them (RFC 6749 §3.3).
fn roles_of(value: &Value) -> Vec<Box<str>> {
    let texts: Vec<&str> = match value {
        Value::String(text) => text.split_ascii_whitespace().collect(),
        Value::Array(all) => all.iter().filter_map(Value::as_str).collect(),
        _ => Vec::new(),
    };
    texts.into_iter().take(MOST_ROLES).map(Into::into).collect()
}
