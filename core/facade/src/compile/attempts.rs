//! Compiling how often a call is made, and when a backend is left alone.

use std::time::Duration;

use http::HeaderName;
use porch_contract::{Finding, Step};

use super::FacadeCompiler;
use crate::compiled::{Attempts, Circuit};
use crate::documents::BackendDoc;
use crate::read::Document;

/// Attempts, the first among them.
const MOST: std::ops::RangeInclusive<u32> = 2..=5;
/// Where nothing is said.
const SPACED: Duration = Duration::from_millis(100);
/// When a backend is left alone, where nothing is said.
const SHARE: u32 = 50;
const CALLS: u32 = 20;
const WITHIN: Duration = Duration::from_secs(10);
const REST: Duration = Duration::from_secs(30);
/// No backend is left alone for longer than a day, or looked back at for longer.
const LONGEST: Duration = Duration::from_secs(24 * 3600);
const BACK: Duration = Duration::from_secs(10);
const STATUSES: [u16; 3] = [502, 503, 504];

impl FacadeCompiler<'_> {
    pub(super) fn attempts(&mut self, backend: &Document<BackendDoc>) -> Option<Attempts> {
        let doc = backend.doc.attempts.as_ref()?;
        let mut wrong = |key: &str, message: String, help: &str| {
            let steps = ["attempts", key].map(|k| Step::Key(k.into()));
            let at = backend.node.locate(&steps, false);
            self.findings
                .push(Finding::error(&backend.file, at, message).help(help));
        };
        if !MOST.contains(&doc.most) {
            let message = format!("{} attempts are not between 2 and 5", doc.most);
            wrong(
                "most",
                message,
                "one attempt is made where `attempts` is left out",
            );
        }
        let statuses = doc.statuses.clone().unwrap_or_else(|| STATUSES.to_vec());
        if let Some(strange) = statuses.iter().find(|s| !(400..600).contains(*s)) {
            let message = format!("{strange} is no status of a failure");
            wrong("statuses", message, "failures have 400 to 599");
        }
        let key = match &doc.idempotency_key {
            None => None,
            Some(name) => match name.parse::<HeaderName>() {
                Ok(name) => Some(name),
                Err(_) => {
                    let message = format!("“{name}” is no name of a header field");
                    wrong("idempotency-key", message, "");
                    None
                }
            },
        };
        Some(Attempts {
            most: doc.most,
            spaced: doc.spaced.map_or(SPACED, |s| s.0),
            statuses,
            idempotency_key: key,
        })
    }

    /// When a backend is left alone for a while.
    pub(super) fn circuit(&mut self, backend: &Document<BackendDoc>) -> Option<Circuit> {
        let doc = backend.doc.circuit.as_ref()?;
        let mut wrong = |key: &str, message: String, help: &str| {
            let steps = ["circuit", key].map(|k| Step::Key(k.into()));
            let at = backend.node.locate(&steps, false);
            self.findings
                .push(Finding::error(&backend.file, at, message).help(help));
        };
        let (share, calls) = (doc.share.unwrap_or(SHARE), doc.calls.unwrap_or(CALLS));
        if !(1..=100).contains(&share) {
            let message = format!("{share} of a hundred calls cannot fail");
            wrong("share", message, "shares are from 1 to 100");
        }
        if calls == 0 {
            wrong("calls", "it takes a call to fail".into(), "");
        }
        let statuses = doc.statuses.clone().unwrap_or_else(|| STATUSES.to_vec());
        if let Some(strange) = statuses.iter().find(|s| !(400..600).contains(*s)) {
            let message = format!("{strange} is no status of a failure");
            wrong("statuses", message, "failures have 400 to 599");
        }
        let spans = [
            ("within", doc.within.map_or(WITHIN, |s| s.0)),
            ("rest", doc.rest.map_or(REST, |s| s.0)),
            ("back", doc.back.map_or(BACK, |s| s.0)),
        ];
        for (key, span) in spans {
            if span > LONGEST {
                wrong(key, "a day is the longest".into(), "");
            }
        }
        let [within, rest, back] = spans.map(|(_, span)| span.min(LONGEST));
        Some(Circuit {
            share,
            calls,
            within,
            rest,
            back,
            statuses,
        })
    }
}
