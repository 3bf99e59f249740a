//! Compiling which signed requests are taken.

use std::sync::Arc;

use porch_contract::{Finding, Step, suggest};
use porch_proof::SignedBy;

use super::FacadeCompiler;
use super::levels::Level;
use crate::compiled::SignatureRule;
use crate::documents::SignatureDoc;

/// What is demanded to be signed unless something is said: all that says what is called.
const COVERS: [&str; 4] = ["@method", "@authority", "@path", "@query"];
/// How old a signature may be, in seconds.
const WITHIN: i64 = 300;
const MOST_WITHIN: i64 = 86_400;
const SKEW: i64 = 30;
/// Components that one list has at most.
const MOST: usize = 30;
/// Those that stand for parts of the message (RFC 9421 §2.2), and can be demanded without saying more.
const DERIVED: [&str; 7] = [
    "@method",
    "@target-uri",
    "@authority",
    "@scheme",
    "@request-target",
    "@path",
    "@query",
];

impl<'a> FacadeCompiler<'a> {
    pub(super) fn signature(
        &mut self,
        level: &Level<'a>,
        i: usize,
        doc: &SignatureDoc,
    ) -> Option<Arc<SignatureRule>> {
        let before = self.findings.len();
        let mut steps = level.below(&["admit", "credentials"]);
        steps.extend([Step::Index(i), Step::Key("signature".into())]);
        let of = (level, steps.as_slice());
        let covers = self.components(of, doc);
        let algorithms = self.signed_by(of, doc);
        let within = doc.within.map_or(WITHIN, |s| s.0.as_secs() as i64);
        if !(1..=MOST_WITHIN).contains(&within) {
            let message = "a signature is good for a second to a day".to_owned();
            self.wrong_signature(of, ("within", None), message, "as in `within: 5m`");
        }
        let skew = doc.skew.map_or(SKEW, |s| s.0.as_secs() as i64);
        if skew > 600 {
            let message =
                format!("clocks that differ by {skew} seconds are wrong: 600 are the most");
            self.wrong_signature(of, ("skew", None), message, "");
        }
        (self.findings.len() == before).then(|| {
            Arc::new(SignatureRule {
                covers: covers.into(),
                digest: doc.digest,
                within,
                skew,
                nonce: doc.nonce,
                algorithms: algorithms.into(),
                tag: doc.tag.clone(),
            })
        })
    }

    fn wrong_signature(
        &mut self,
        (level, steps): (&Level<'a>, &[Step]),
        (key, i): (&str, Option<usize>),
        message: String,
        help: &str,
    ) {
        let mut steps = steps.to_vec();
        steps.push(Step::Key(key.into()));
        steps.extend(i.map(Step::Index));
        let at = level.site.node.locate(&steps, false);
        let finding = Finding::error(level.site.file, at, message).help(help);
        self.findings.push(finding);
    }

    /// What must be signed.
    fn components(&mut self, of: (&Level<'a>, &[Step]), doc: &SignatureDoc) -> Vec<String> {
        let covers = match &doc.covers {
            None => COVERS.map(str::to_owned).to_vec(),
            Some(all) => all.clone(),
        };
        if covers.is_empty() || covers.len() > MOST {
            let message = format!(
                "{} components, and 1 to {MOST} can be demanded",
                covers.len()
            );
            let help = "what is not signed can be changed on the way";
            self.wrong_signature(of, ("covers", None), message, help);
        }
        for (n, name) in covers.iter().enumerate() {
            let at = ("covers", Some(n));
            if name.starts_with('@') && !DERIVED.contains(&name.as_str()) {
                let message = format!("“{name}” is no component (RFC 9421 §2.2)");
                self.wrong_signature(of, at, message, &known(name, &DERIVED));
            } else if !name.starts_with('@') && !is_field(name) {
                let message = format!("“{name}” is no name of a field in lower case");
                self.wrong_signature(of, at, message, "RFC 9421 §2.1");
            }
        }
        covers
    }

    /// By what it may be signed.
    fn signed_by(&mut self, of: (&Level<'a>, &[Step]), doc: &SignatureDoc) -> Vec<SignedBy> {
        let Some(names) = &doc.algorithms else {
            return SignedBy::ALL.to_vec();
        };
        let mut algorithms = Vec::new();
        for (n, name) in names.iter().enumerate() {
            match SignedBy::of(name) {
                Some(by) => algorithms.push(by),
                None => {
                    let message = format!("“{name}” is no algorithm of signatures");
                    let help = known(name, &SignedBy::ALL.map(SignedBy::name));
                    self.wrong_signature(of, ("algorithms", Some(n)), message, &help);
                }
            }
        }
        algorithms
    }
}

/// Which was meant, or which there are.
fn known(name: &str, all: &[&str]) -> String {
    match suggest(name, all.iter().copied()) {
        Some(near) => format!("did you mean “{near}”?"),
        None => format!("known are {}", all.join(", ")),
    }
}

fn is_field(name: &str) -> bool {
    let fits =
        |b: u8| b.is_ascii_lowercase() || b.is_ascii_digit() || b"!#$%&'*+-.^_`|~".contains(&b);
    !name.is_empty() && name.bytes().all(fits)
}
