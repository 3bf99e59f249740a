//! Compiling which pages may call.

use std::sync::Arc;

use http::{HeaderName, HeaderValue, Uri};
use porch_contract::{Finding, Position, Step};

use super::FacadeCompiler;
use crate::compiled::{Cors, RulePlace};
use crate::documents::{CorsDoc, OperationDoc};

/// Fields that replies of the porch may have, and that a page needs to behave well.
const EXPOSED: [&str; 8] = [
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

impl FacadeCompiler<'_> {
    /// Which pages may call an operation: as it says, else as the facade does.
    pub(super) fn cors(&mut self, id: &str, doc: &OperationDoc) -> Option<Arc<Cors>> {
        let key = |k: &str| Step::Key(k.into());
        let facade = self.from.facade;
        if let Some(own) = &doc.cors {
            let steps = [key("operations"), key(id), key("cors")];
            return self.cors_of(own, &steps, &format!("operation {id}"));
        }
        let common = facade.doc.cors.as_ref()?;
        if self.facade_cors.is_none() {
            let reach = format!("facade {}", facade.doc.name);
            self.facade_cors = Some(self.cors_of(common, &[key("cors")], &reach));
        }
        self.facade_cors.clone().flatten()
    }

    fn cors_of(&mut self, doc: &CorsDoc, steps: &[Step], reach: &str) -> Option<Arc<Cors>> {
        let node = &self.from.facade.node;
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
        let shown = doc.origins.join(", ");
        let at = node.locate(steps, true);
        Some(Arc::new(Cors {
            any,
            origins,
            below,
            credentials: doc.credentials,
            expose: HeaderValue::from_str(&names.join(", ")).ok()?,
            max_age: HeaderValue::from(seconds),
            place: RulePlace {
                rule: format!("pages of {shown} may call").into(),
                reach: reach.into(),
                file: self.shared.text(&self.from.facade.file),
                line: at.line,
            },
        }))
    }

    fn no_cors(&mut self, at: Position, message: String, help: &str) {
        let file = &self.from.facade.file;
        self.findings
            .push(Finding::error(file, at, message).help(help));
    }
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
