//! Compiling which tokens are taken, and what follows from them.

use std::sync::Arc;
use std::time::Duration;

use http::HeaderValue;
use porch_contract::{Finding, Severity, Step, suggest};
use porch_proof::{Algorithm, Expected};
use porch_rules::expr::Template;
use serde_json::Value;

use super::FacadeCompiler;
use super::addresses::address;
use super::backend::{DEFAULT_TIMEOUT, identity, of_addresses};
use super::levels::Level;
use crate::compiled::{
    Address, CLAIMS, CompiledBackend, Credentials, Introspection, TokenRule, Transport, Trust,
};
use crate::documents::{IntrospectDoc, TokenDoc};
use crate::read::inside;

/// Where an issuer says where its keys are (OpenID Connect Discovery 1.0 §4.1).
const DISCOVERY: &str = "/.well-known/openid-configuration";
/// By how many seconds clocks may differ.
const SKEW: i64 = 30;
const MOST_SKEW: i64 = 600;
/// What is taken unless something is said.
const USUAL: [Algorithm; 4] = [
    Algorithm::Es256,
    Algorithm::Rs256,
    Algorithm::Ps256,
    Algorithm::EdDsa,
];
/// How long what an issuer says of a token is remembered.
const REMEMBERED: Duration = Duration::from_secs(30);
const MOST_REMEMBERED: Duration = Duration::from_secs(600);
/// What a client is found by.
const CLIENT: &str = "=claims.client_id";

/// A token's document, and where it stands.
struct Stands<'l, 'a> {
    level: &'l Level<'a>,
    steps: Vec<Step>,
}

impl<'a> FacadeCompiler<'a> {
    pub(super) fn token(
        &mut self,
        level: &Level<'a>,
        i: usize,
        doc: &TokenDoc,
    ) -> Option<Arc<TokenRule>> {
        let mut steps = level.below(&["admit", "credentials"]);
        steps.extend([Step::Index(i), Step::Key("token".into())]);
        let of = Stands { level, steps };
        let expected = self.expected(&of, doc);
        let introspection = match &doc.introspect {
            Some(introspect) => Some(self.introspection(&of, doc, introspect)?),
            None => None,
        };
        let (text, discovers) = match (&doc.introspect, &doc.keys) {
            (Some(introspect), _) => (introspect.at.trim().to_owned(), false),
            (None, Some(keys)) => (keys.trim().to_owned(), false),
            (None, None) => {
                let issuer = doc.issuer.trim().trim_end_matches('/');
                (format!("{issuer}{DISCOVERY}"), true)
            }
        };
        let at = match (&doc.introspect, discovers) {
            (Some(_), _) => "introspect",
            (None, true) => "issuer",
            (None, false) => "keys",
        };
        let (address, target) = self.key_address(&of, at, &text)?;
        let trust = self.trusted_of_issuer(&of, doc)?;
        let consumer = doc.consumer.as_deref().unwrap_or(CLIENT);
        let consumer = self.of_claims(&of, "consumer", consumer)?;
        let roles = match &doc.roles {
            None => None,
            Some(text) => Some(self.of_claims(&of, "roles", text)?),
        };
        let bound = doc.bound.clone().unwrap_or_default();
        if doc.bound.as_ref().is_some_and(Vec::is_empty) {
            let message = "tokens that must be bound are so in some way".to_owned();
            let help = "write `bound: [dpop]`, or leave it out";
            self.wrong_token(&of, &[Step::Key("bound".into())], message, help);
        }
        Some(Arc::new(TokenRule {
            introspection,
            bound: bound.into(),
            expected: expected?,
            server: server(address, &target, trust),
            target,
            discovers,
            consumer,
            roles,
        }))
    }

    /// How the issuer is asked, with the secret that it is shown.
    fn introspection(
        &mut self,
        of: &Stands<'_, 'a>,
        doc: &TokenDoc,
        introspect: &IntrospectDoc,
    ) -> Option<Introspection> {
        let key = |k: &str| Step::Key(k.into());
        let others = [
            ("keys", doc.keys.is_some()),
            ("algorithms", doc.algorithms.is_some()),
            ("types", doc.types.is_some()),
        ];
        for (name, _) in others.iter().filter(|(_, said)| *said) {
            let message =
                format!("“{name}” has no meaning where the issuer is asked of each token");
            self.wrong_token(of, &[key(name)], message, "leave it out, or `introspect`");
        }
        let remember = introspect.remember.map_or(REMEMBERED, |span| span.0);
        if remember > MOST_REMEMBERED {
            let message = "what an issuer says is remembered for ten minutes at most".to_owned();
            let help = "a token that it takes back is good here for as long";
            self.wrong_token(of, &[key("introspect"), key("remember")], message, help);
        }
        let name = introspect.secret.secret.trim();
        let Some(secret) = self.lent.value(name) else {
            let message = format!("the environment has no secret “{name}”");
            let help = format!("set it with `porch secret set {name}`");
            self.wrong_token(of, &[key("introspect"), key("secret")], message, &help);
            return None;
        };
        // RFC 6749 §2.3.1: both are encoded as in forms before they are put together.
        let pair = [introspect.client.trim(), secret.trim()].map(|text| {
            let mut encoded = String::new();
            crate::percent_encode_segment(&mut encoded, text);
            encoded
        });
        let encoded = porch_soap::to_base64(pair.join(":").as_bytes());
        let mut authorization = HeaderValue::from_str(&format!("Basic {encoded}")).ok()?;
        authorization.set_sensitive(true);
        Some(Introspection {
            authorization,
            remember,
        })
    }

    fn wrong_token(&mut self, of: &Stands<'_, 'a>, keys: &[Step], message: String, help: &str) {
        self.told_of_token(Severity::Error, of, keys, message, help);
    }

    fn told_of_token(
        &mut self,
        severity: Severity,
        of: &Stands<'_, 'a>,
        keys: &[Step],
        message: String,
        help: &str,
    ) {
        let steps = [of.steps.as_slice(), keys].concat();
        let at = of.level.site.node.locate(&steps, false);
        let finding = Finding::new(severity, of.level.site.file, at, message).help(help);
        self.findings.push(finding);
    }

    fn expected(&mut self, of: &Stands<'_, 'a>, doc: &TokenDoc) -> Option<Expected> {
        let before = self.findings.len();
        let key = |k: &str| Step::Key(k.into());
        if doc.issuer.trim().is_empty() {
            self.wrong_token(of, &[key("issuer")], "an issuer has a name".into(), "");
        }
        let audience = doc.audience.all();
        if audience.is_empty() || audience.iter().any(String::is_empty) {
            let message = "tokens are for somebody: a name of this API".to_owned();
            let help = "what others are shown is not taken here (RFC 9068 §4)";
            self.wrong_token(of, &[key("audience")], message, help);
        }
        let mut algorithms = Vec::new();
        for (i, name) in doc.algorithms.iter().flatten().enumerate() {
            match Algorithm::of(name) {
                Some(algorithm) => algorithms.push(algorithm),
                None => {
                    let known = Algorithm::ALL.map(Algorithm::name);
                    let near = suggest(name, known.iter().copied());
                    let help = match near {
                        Some(near) => format!("did you mean “{near}”?"),
                        None => format!("known are {}", known.join(", ")),
                    };
                    let steps = [key("algorithms"), Step::Index(i)];
                    self.wrong_token(
                        of,
                        &steps,
                        format!("“{name}” is no algorithm of signatures with public keys"),
                        &help,
                    );
                }
            }
        }
        if doc.algorithms.is_none() {
            algorithms = USUAL.to_vec();
        }
        let skew = doc.skew.map_or(SKEW, |s| s.0.as_secs() as i64);
        if skew > MOST_SKEW {
            let message =
                format!("clocks that differ by {skew} seconds are wrong: {MOST_SKEW} are the most");
            self.wrong_token(of, &[key("skew")], message, "");
        }
        let types = match &doc.types {
            None => vec!["at+jwt".to_owned()],
            Some(all) => all.iter().map(|t| t.trim().to_ascii_lowercase()).collect(),
        };
        (self.findings.len() == before).then(|| Expected {
            issuer: doc.issuer.trim().to_owned(),
            audience: audience.to_vec(),
            algorithms,
            types,
            skew,
        })
    }

    /// Whose certificates the issuer may show.
    fn trusted_of_issuer(&mut self, of: &Stands<'_, 'a>, doc: &TokenDoc) -> Option<Trust> {
        let Some(file) = &doc.trust else {
            return Some(Trust::Machine);
        };
        let message = match self.from.trust(of.level.site.file, file) {
            Ok(trust) => return Some(trust),
            Err(message) => message,
        };
        self.wrong_token(of, &[Step::Key("trust".into())], message, "");
        None
    }

    fn key_address(
        &mut self,
        of: &Stands<'_, 'a>,
        key: &str,
        text: &str,
    ) -> Option<(Address, String)> {
        let keys = [Step::Key(key.into())];
        let (place, query) = match text.split_once('?') {
            Some((place, query)) => (place, format!("?{query}")),
            None => (text, String::new()),
        };
        let made = match address(place) {
            Ok(address) => address,
            Err(why) => {
                let help = match key {
                    "issuer" => {
                        "its keys are asked for at its address; say where they are with `keys:` where it is none"
                    }
                    _ => "",
                };
                self.wrong_token(of, &keys, why.to_string(), help);
                return None;
            }
        };
        let behind = place.split_once("://").map_or("", |(_, rest)| rest);
        let path = behind.find('/').map_or("/", |at| &behind[at..]);
        let target = format!("{path}{query}");
        if target.parse::<http::Uri>().is_err() {
            let message = format!("“{target}” is no path that can be asked");
            self.wrong_token(of, &keys, message, "");
            return None;
        }
        let local = ["127.0.0.1", "localhost", "[::1]"];
        let host = made.authority.as_str();
        if made.scheme() == "http" && !local.iter().any(|l| host.starts_with(l)) {
            let message =
                "whoever is on the way could put keys of their own in their place".to_owned();
            let help = "ask for them by https";
            self.told_of_token(Severity::Warning, of, &keys, message, help);
        }
        Some((made, target))
    }

    /// An expression over the claims of a token.
    fn of_claims(&mut self, of: &Stands<'_, 'a>, key: &str, text: &str) -> Option<Template> {
        let keys = [Step::Key(key.into())];
        if !text.starts_with('=') {
            let help = format!("write `={text}`, or `=claims.{text}`");
            self.wrong_token(of, &keys, format!("“{text}” is no expression"), &help);
            return None;
        }
        match Template::compile(&Value::String(text.into()), &[CLAIMS]) {
            Ok(template) => Some(template),
            Err(errors) => {
                for (_, e) in errors {
                    let steps = [of.steps.as_slice(), &keys].concat();
                    let site = of.level.site;
                    let at = inside(site.text, site.node.locate(&steps, false), e.offset);
                    self.findings.push(Finding::error(site.file, at, e.message));
                }
                None
            }
        }
    }
}

/// Who has the keys of an issuer.
fn server(address: Address, target: &str, trust: Trust) -> CompiledBackend {
    let addresses = vec![address];
    let shown = Credentials {
        query: vec![(String::new(), target.to_owned())],
        ..Credentials::default()
    };
    let identity = identity(&addresses, Transport::Http1, &trust, &shown);
    of_addresses(addresses, trust, identity, DEFAULT_TIMEOUT)
}
