//! Compiling which pages may call.

use std::sync::Arc;

use http::{HeaderName, HeaderValue, Uri};
use porch_contract::{Finding, Position, Step};

use super::FacadeCompiler;
use super::levels::{Asked, Level, Scope};
use crate::compiled::{Cors, RulePlace};
use crate::documents::{CorsDoc, Relaxed};

/// Fields that replies of the porch may have, and that a page needs to behave well.
pub(crate) const EXPOSED: [&str; 8] = [
    "RateLimit",
    "RateLimit-Policy",
    "Retry-After",
    "ETag",
    "Location",
    "Link",
    "Content-Language",
    "traceparent",
];
/// Seconds, where nothing is said.
const MAX_AGE: u64 = 600;

impl<'a> FacadeCompiler<'a> {
    /// Which pages may call the operation at hand: as the narrowest reach says, and no others than a wider one fixes.
    pub(super) fn cors(&mut self) -> Option<Arc<Cors>> {
        let asked: Asked<&'a CorsDoc> = Asked {
            key: Relaxed::Cors,
            keys: &["cors"],
            holds: |a, b| is_within(a, b),
            words: |doc| in_words(doc),
        };
        let (doc, level) = self.decide(|l| l.cors, &asked)?;
        let level = self.levels[level].clone();
        if level.scope == Scope::Operation {
            return self.within(&level, |c| c.cors_of(doc, &level));
        }
        let key = (level.reach.clone(), level.site.file);
        if let Some(known) = self.cors.get(&key) {
            return known.clone();
        }
        let made = self.within(&level, |c| c.cors_of(doc, &level));
        self.cors.insert(key, made.clone());
        made
    }

    fn cors_of(&mut self, doc: &CorsDoc, level: &Level<'a>) -> Option<Arc<Cors>> {
        let node = self.here.node;
        let steps = level.below(&["cors"]);
        let steps = steps.as_slice();
        let locate = |more: &[Step]| node.locate(&[steps, more].concat(), false);
        let before = self.findings.len();
        let (mut any, mut origins, mut below) = (false, Vec::new(), Vec::new());
        for (i, origin) in doc.origins.iter().enumerate() {
            let at = locate(&[Step::Key("origins".into()), Step::Index(i)]);
            match read(origin) {
                Ok(Origin::Any) => any = true,
                Ok(Origin::One(one)) => origins.push(one),
                Ok(Origin::Below(scheme, domain)) => below.push((scheme, domain)),
                Err(help) => self.no_cors(at, format!("“{origin}” is no origin"), help),
            }
        }
        if any && doc.credentials {
            let at = locate(&[Step::Key("credentials".into())]);
            let message = "credentials are only for origins by name".to_owned();
            let help = "name the origins, or leave `credentials` out (Fetch §3.3.5)";
            self.no_cors(at, message, help);
        }
        for (i, name) in doc.expose.iter().enumerate() {
            if name.parse::<HeaderName>().is_err() {
                let at = locate(&[Step::Key("expose".into()), Step::Index(i)]);
                self.no_cors(at, format!("“{name}” is no name of a header field"), "");
            }
        }
        if self.findings.len() > before {
            return None;
        }
        let names = EXPOSED
            .into_iter()
            .chain(doc.expose.iter().map(String::as_str));
        let names: Vec<&str> = names.collect();
        let seconds = doc.max_age.map_or(MAX_AGE, |span| span.0.as_secs());
        let at = node.locate(steps, true);
        Some(Arc::new(Cors {
            any,
            origins,
            below,
            credentials: doc.credentials,
            expose: HeaderValue::from_str(&names.join(", ")).ok()?,
            max_age: HeaderValue::from(seconds),
            place: RulePlace {
                rule: in_words(doc).into(),
                reach: level.reach.clone(),
                file: self.shared.text(self.here.file),
                line: at.line,
            },
        }))
    }

    fn no_cors(&mut self, at: Position, message: String, help: &str) {
        let file = self.here.file;
        self.findings
            .push(Finding::error(file, at, message).help(help));
    }
}

fn in_words(doc: &CorsDoc) -> String {
    format!("pages of {} may call", doc.origins.join(", "))
}

/// Whether whatever one rule lets in, another one does too. Lists that are too long to be held against each other do not.
fn is_within(narrow: &CorsDoc, wide: &CorsDoc) -> bool {
    const MOST: usize = 10_000;
    let all: Vec<Origin> = wide.origins.iter().filter_map(|o| read(o).ok()).collect();
    let any = all.iter().any(|o| matches!(o, Origin::Any));
    let few = narrow.origins.len().saturating_mul(all.len()) <= MOST;
    let covers = |text: &String| match read(text) {
        Ok(Origin::One(one)) => all.iter().any(|wide| match wide {
            Origin::One(other) => *other == one,
            Origin::Below(scheme, domain) => one
                .strip_prefix(scheme.as_str())
                .is_some_and(|host| host.ends_with(domain.as_str())),
            Origin::Any => true,
        }),
        Ok(Origin::Below(scheme, domain)) => all.iter().any(|wide| match wide {
            Origin::Below(s, other) => *s == scheme && domain.ends_with(other.as_str()),
            _ => false,
        }),
        _ => false,
    };
    let origins = any || (few && narrow.origins.iter().all(covers));
    origins && (wide.credentials || !narrow.credentials)
}

enum Origin {
    Any,
    One(String),
    Below(String, String),
}

/// Reads an origin as browsers write it (RFC 6454 §6.2).
fn read(text: &str) -> Result<Origin, &'static str> {
    const HELP: &str =
        "an origin is a scheme and a host, as in https://harbour.example, without a path";
    if text == "*" {
        return Ok(Origin::Any);
    }
    let lower = text.to_ascii_lowercase();
    let (scheme, host) = lower.split_once("://").ok_or(HELP)?;
    if !matches!(scheme, "http" | "https") {
        return Err("browsers call from pages of http:// and https://");
    }
    let usual = if scheme == "https" { ":443" } else { ":80" };
    if host.ends_with(usual) {
        return Err("browsers leave a scheme's usual port out of an origin");
    }
    let (whole, name) = match host.strip_prefix("*.") {
        Some(domain) => (false, domain),
        None => (true, host),
    };
    let uri: Uri = format!("{scheme}://{name}").parse().map_err(|_| HELP)?;
    let is_authority = uri.authority().is_some_and(|a| a.as_str() == name);
    if !is_authority || name.contains(['@', '*']) || name.is_empty() {
        return Err(HELP);
    }
    Ok(match whole {
        true => Origin::One(format!("{scheme}://{name}")),
        false => Origin::Below(format!("{scheme}://"), format!(".{name}")),
    })
}
