//! Compiling who may call: credentials and roles.

use std::sync::Arc;

use http::HeaderName;
use porch_contract::{Finding, Severity, Step};

use super::FacadeCompiler;
use super::levels::{Level, Scope};
use crate::compiled::{CredentialKind, CredentialRule, Demanded, KeyPlace, RoleRule};
use crate::documents::{CredentialDoc, KeyIn, QUERY_NAME, Relaxed};

/// Kinds of credentials, or roles, that one list has at most.
const MOST: usize = 50;

impl<'a> FacadeCompiler<'a> {
    /// The credentials that are demanded: those of every level, each once, but for defaults that a narrower one relaxes.
    pub(super) fn credentials(&mut self) -> Arc<Demanded> {
        let levels = self.levels.clone();
        let keys = ["admit", "credentials"];
        let said = |l: &Level<'_>| l.admit.credentials.clone();
        let words = |l: &Level<'_>| match said(l).unwrap_or_default().as_slice() {
            [] => "no credentials are demanded".to_owned(),
            some => {
                let all: Vec<String> = some.iter().map(CredentialDoc::in_words).collect();
                all.join(", ")
            }
        };
        let mut kept: Vec<&Level<'a>> = Vec::new();
        for level in levels.iter().filter(|l| l.admit.credentials.is_some()) {
            self.relax(&mut kept, level, Relaxed::Credentials, &keys, &words);
            let none = level.admit.credentials.as_ref().is_some_and(Vec::is_empty);
            let demands = |l: &Level<'_>| said(l).is_some_and(|all| !all.is_empty());
            self.none_in_vain((none, level), &kept, &demands, &keys, &words);
            kept.push(level);
        }
        let mut rules: Vec<(&CredentialDoc, usize, &Level<'a>)> = Vec::new();
        for level in kept {
            let all = level.admit.credentials.iter().flatten();
            for (i, doc) in all.enumerate().take(MOST) {
                if rules.iter().all(|(known, ..)| *known != doc) {
                    rules.push((doc, i, level));
                }
            }
        }
        // Operations that are asked for the same by the same documents share it.
        let mut key = String::new();
        for (doc, _, level) in &rules {
            key.push_str(&format!("{doc:?} {} {}\n", level.site.file, level.reach));
        }
        if let Some(known) = self.shared.credentials.get(&key) {
            return known.clone();
        }
        let made = rules.into_iter().filter_map(|(doc, i, level)| {
            Some(CredentialRule {
                kind: self.within(level, |c| c.credential(level, i, doc))?,
                place: self.said_at(level, &keys, doc.in_words()),
            })
        });
        let made = Arc::new(Demanded::new(made.collect()));
        self.shared.credentials.insert(key, made.clone());
        made
    }

    fn credential(
        &mut self,
        level: &Level<'a>,
        i: usize,
        doc: &CredentialDoc,
    ) -> Option<CredentialKind> {
        Some(match doc {
            CredentialDoc::Basic => CredentialKind::Basic,
            CredentialDoc::Signature(doc) => {
                CredentialKind::Signature(self.signature(level, i, doc)?)
            }
            CredentialDoc::Token(doc) => CredentialKind::Token(self.token(level, i, doc)?),
            CredentialDoc::Certificate(doc) => {
                CredentialKind::Certificate(self.certificate(level, i, doc)?)
            }
            CredentialDoc::Key(doc) => {
                let mut steps = level.below(&["admit", "credentials"]);
                steps.extend([Step::Index(i), Step::Key("key".into())]);
                let place = self.key_place(level, &steps, doc.place, doc.name.as_deref());
                CredentialKind::Key(place)
            }
        })
    }

    fn key_place(
        &mut self,
        level: &Level<'a>,
        steps: &[Step],
        place: KeyIn,
        name: Option<&str>,
    ) -> KeyPlace {
        let mut tell = |severity, key: &str, message: String, help: &str| {
            let steps = [steps, &[Step::Key(key.into())]].concat();
            let at = level.site.node.locate(&steps, false);
            let finding = Finding::new(severity, level.site.file, at, message).help(help);
            self.findings.push(finding);
        };
        match place {
            KeyIn::Bearer => {
                if name.is_some() {
                    let message = "a bearer token has no name of its own".to_owned();
                    let help = "it stands in `Authorization` (RFC 6750 §2.1)";
                    tell(Severity::Error, "name", message, help);
                }
                KeyPlace::Bearer
            }
            KeyIn::Query => {
                let message = "keys in the query are seen in logs, histories and links".to_owned();
                let help = "callers who can should send it in a header field";
                tell(Severity::Warning, "in", message, help);
                let name = name.unwrap_or(QUERY_NAME);
                if name.is_empty() || name.len() > 100 {
                    let message = "a query parameter has a name of 1 to 100 bytes".to_owned();
                    tell(Severity::Error, "name", message, "");
                }
                KeyPlace::Query(name.into())
            }
            KeyIn::Header => {
                let own = self.from.contract.key_header.as_deref();
                let shown = name.or(own).unwrap_or("API-Key");
                let parsed = shown.parse::<HeaderName>();
                let is_taken = parsed.as_ref().is_ok_and(is_taken);
                if parsed.is_err() && name.is_some() {
                    let message = format!("“{shown}” is no name of a header field");
                    tell(Severity::Error, "name", message, "RFC 9110 §5.1");
                }
                if is_taken && name.is_some() {
                    let message = format!("“{shown}” has a meaning of its own");
                    let help = "give a field of its own, or `in: bearer` for `Authorization`";
                    tell(Severity::Error, "name", message, help);
                }
                let name = parsed.unwrap_or(HeaderName::from_static("api-key"));
                KeyPlace::Header(name, shown.into())
            }
        }
    }

    /// The roles that callers must have: those of every level. What reaches several operations is compiled once.
    pub(super) fn roles(&mut self, known: bool) -> Vec<Arc<RoleRule>> {
        let mut all = Vec::new();
        for level in self.levels.clone().iter() {
            let Some(roles) = &level.admit.roles else {
                continue;
            };
            if !known {
                self.within(level, |c| c.roles_of_nobody(level));
            }
            if level.scope == Scope::Operation {
                all.extend(self.within(level, |c| c.roles_of(level, roles)));
                continue;
            }
            let key = (level.reach.clone(), level.site.file.to_owned());
            let made = match self.shared.roles.get(&key) {
                Some(made) => made.clone(),
                None => {
                    let made = self.within(level, |c| c.roles_of(level, roles));
                    self.shared.roles.insert(key, made.clone());
                    made
                }
            };
            all.extend(made);
        }
        all
    }

    fn roles_of_nobody(&mut self, level: &Level<'a>) {
        let at = level.at(&["admit", "roles"]);
        let message = "roles need callers that are known";
        let help = "add `credentials: [key]`";
        let finding = Finding::error(level.site.file, at, message).help(help);
        self.findings.push(finding);
    }

    fn roles_of(&mut self, level: &Level<'a>, roles: &[String]) -> Option<Arc<RoleRule>> {
        let keys = ["admit", "roles"];
        let mut wrong = |i: Option<usize>, message: String, help: &str| {
            let mut steps = level.below(&keys);
            steps.extend(i.map(Step::Index));
            let at = level.site.node.locate(&steps, false);
            let finding = Finding::error(level.site.file, at, message).help(help);
            self.findings.push(finding);
        };
        if roles.is_empty() || roles.len() > MOST {
            let message = format!("{} roles, and 1 to {MOST} can stand here", roles.len());
            wrong(
                None,
                message,
                "leave `roles` out where every caller may call",
            );
            return None;
        }
        for (i, role) in roles.iter().enumerate().filter(|(_, r)| !is_role(r)) {
            let message = format!("“{role}” is no name of a role");
            let help = "roles have 1 to 64 letters, digits, dots, colons, hyphens and underscores";
            wrong(Some(i), message, help);
        }
        let listed = roles.join(" or ");
        let words = format!("only callers with the role {listed}");
        Some(Arc::new(RoleRule {
            any: roles.iter().cloned().collect(),
            place: self.said_at(level, &keys, words),
        }))
    }
}

/// Whether a text can name a role.
pub fn is_role(text: &str) -> bool {
    let fits = |c: char| c.is_alphanumeric() || matches!(c, '.' | ':' | '-' | '_');
    (1..=64).contains(&text.chars().count()) && text.chars().all(fits)
}

/// Whether a header field means something else already.
fn is_taken(name: &HeaderName) -> bool {
    const TAKEN: [&str; 9] = [
        "authorization",
        "host",
        "cookie",
        "content-type",
        "content-length",
        "accept",
        "connection",
        "transfer-encoding",
        "te",
    ];
    TAKEN.contains(&name.as_str())
}
