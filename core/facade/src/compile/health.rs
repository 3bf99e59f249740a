//! Compiling how addresses are asked whether they are well.

use std::ops::RangeInclusive;
use std::sync::Arc;
use std::time::Duration;

use http::uri::PathAndQuery;
use porch_contract::{Finding, Step};

use super::FacadeCompiler;
use super::backend::named;
use crate::compiled::{HealthCheck, Transport};
use crate::documents::{BackendDoc, HealthDoc};
use crate::read::Document;

const EVERY: Duration = Duration::from_secs(10);
const WITHIN: Duration = Duration::from_secs(2);
/// How often an address may be asked.
const BETWEEN: RangeInclusive<Duration> =
    Duration::from_millis(100)..=Duration::from_secs(24 * 3600);
const IN_A_ROW: RangeInclusive<u32> = 1..=100;
const TWICE: u32 = 2;

impl FacadeCompiler<'_> {
    /// How its addresses are asked, where they are.
    pub(super) fn health(
        &mut self,
        backend: &Document<BackendDoc>,
        (identity, transport): (u64, Transport),
    ) -> Option<Arc<HealthCheck>> {
        let doc = backend.doc.health.as_ref()?;
        let mut wrong = |key: &str, message: String, help: &str| {
            let steps: Vec<Step> = ["health", key].map(|k| Step::Key(k.into())).to_vec();
            let steps = match key {
                "" => &steps[..1],
                _ => &steps[..],
            };
            let at = backend.node.locate(steps, key.is_empty());
            self.findings
                .push(Finding::error(&backend.file, at, message).help(help));
        };
        let only_http = |key: &str| format!("“{key}” has no meaning for a gRPC backend");
        match transport {
            Transport::Inside => {
                let message = "a facade of this porch is not asked whether it is well".to_owned();
                wrong("", message, "it is as well as the backends that it calls");
            }
            Transport::Http2 => {
                let help = "it is asked by grpc.health.v1.Health/Check";
                if doc.path.is_some() {
                    wrong("path", only_http("path"), help);
                }
                if doc.statuses.is_some() {
                    wrong("statuses", only_http("statuses"), help);
                }
            }
            Transport::Http1 => {}
        }
        if let Some(path) = &doc.path
            && (!path.starts_with('/') || path.parse::<PathAndQuery>().is_err())
        {
            let message = format!("“{path}” is no path");
            wrong("path", message, "a path begins with “/”, as in /health");
        }
        for (key, n) in [("fails", doc.fails), ("passes", doc.passes)] {
            if n.is_some_and(|n| !IN_A_ROW.contains(&n)) {
                wrong(key, "so many in a row are 1 to 100".into(), "");
            }
        }
        let all = doc.statuses.iter().flatten();
        if let Some(strange) = all.clone().find(|s| !(200..600).contains(*s)) {
            wrong(
                "statuses",
                format!("{strange} is no status of an answer"),
                "",
            );
        }
        let every = doc.every.map_or(EVERY, |s| s.0);
        if !BETWEEN.contains(&every) {
            wrong(
                "every",
                "an address is asked every 100ms to every day".into(),
                "",
            );
        }
        let mut check = compiled(doc, every);
        check.identity = identity ^ named(Some(&format!("{check:?}")));
        Some(Arc::new(check))
    }
}

fn compiled(doc: &HealthDoc, every: Duration) -> HealthCheck {
    let statuses = match (&doc.statuses, &doc.path) {
        (Some(these), _) => these.iter().map(|s| *s..=*s).collect(),
        (None, Some(_)) => vec![200..=399],
        (None, None) => vec![200..=499],
    };
    HealthCheck {
        identity: 0,
        path: doc.path.clone(),
        every,
        within: doc.within.map_or(WITHIN, |s| s.0).min(every),
        fails: doc.fails.unwrap_or(TWICE),
        passes: doc.passes.unwrap_or(TWICE),
        statuses,
    }
}
