//! Compiling which replies are kept and given again.

use std::sync::Arc;
use std::time::Duration;

use http::HeaderName;
use porch_contract::{Finding, Operation as ContractOperation, Severity, Step, suggest};

use super::FacadeCompiler;
use super::levels::{Level, Scope};
use crate::compiled::{Apart, CachePlan, Keeping, RulePlace};
use crate::documents::{CacheDoc, FacadeDoc};
use crate::units::{Span, duration_text};

/// Greatest size of a body that is kept, where nothing is said, and where something is.
const DEFAULT_MOST: u64 = 1 << 20;
const MOST: u64 = 16 << 20;

const LETS_GO: &str = "replies that are kept of what it changes are let go";

/// Whether any operation of a facade keeps replies.
pub(super) fn keeps_any(doc: &FacadeDoc) -> bool {
    doc.cache.is_some() || doc.operations.values().any(|o| o.cache.is_some())
}

impl<'a> FacadeCompiler<'a> {
    /// Whether an operation's replies are kept: as it says, else as the facade does. To be asked behind all its expressions.
    pub(super) fn cache(
        &mut self,
        id: &str,
        contract_op: &ContractOperation,
        streams: bool,
    ) -> Option<Arc<CachePlan>> {
        let levels = self.levels.clone();
        let own = levels.iter().rev().find(|l| l.cache.is_some());
        match own {
            Some(level) => self.within(level, |c| c.cache_of(id, level, contract_op, streams)),
            None if self.keeps_any && contract_op.method != "GET" => {
                let rule = LETS_GO.to_owned();
                Some(Arc::new(CachePlan {
                    keeps: None,
                    clears: Vec::new(),
                    place: Arc::new(RulePlace::built_in(rule)),
                }))
            }
            None => None,
        }
    }

    fn cache_of(
        &mut self,
        id: &str,
        level: &Level<'a>,
        contract_op: &ContractOperation,
        streams: bool,
    ) -> Option<Arc<CachePlan>> {
        let said = level.cache?;
        let steps = level.below(&["cache"]);
        let is_read = contract_op.method == "GET";
        let is_own = level.scope == Scope::Operation;
        if is_own {
            self.fits_the_method(&steps, said, &contract_op.method);
        }
        if streams && is_own && said.keep != Some(false) {
            let message = format!("“{id}” gives a stream, which is not kept");
            self.tell_of_cache(Severity::Error, &steps, message, "");
        }
        let keeps = match is_read && !streams && said.keep.unwrap_or(true) {
            true => Some(self.keeping_of(id, &steps, said)?),
            false => None,
        };
        if keeps.is_none() && is_read {
            return None;
        }
        let rule = keeps.as_ref().map_or_else(|| LETS_GO.to_owned(), in_words);
        let place = RulePlace {
            rule: rule.into(),
            reach: level.reach.clone(),
            file: self.shared.text(level.site.file),
            line: level.site.node.locate(&steps, true).line,
        };
        let clears = match is_own {
            true => self.known_tags(said, &steps),
            false => Vec::new(),
        };
        Some(Arc::new(CachePlan {
            keeps,
            clears,
            place: Arc::new(place),
        }))
    }

    fn tell_of_cache(&mut self, severity: Severity, steps: &[Step], message: String, help: &str) {
        let at = self.here.node.locate(steps, false);
        let told = Finding::new(severity, self.here.file, at, message);
        self.findings.push(told.help(help));
    }

    /// Only replies to GET are kept; only what is not safe lets others go.
    fn fits_the_method(&mut self, steps: &[Step], doc: &CacheDoc, method: &str) {
        let key = |k: &str| [steps, &[Step::Key(k.into())]].concat();
        if method == "GET" {
            if !doc.clears.is_empty() {
                let message = "GET changes nothing, so nothing is let go behind it".to_owned();
                self.tell_of_cache(Severity::Error, &key("clears"), message, "");
            }
        } else if doc.fresh.is_some() || doc.keep == Some(true) || doc.absent.is_some() {
            let message = format!("replies to {method} are not kept (RFC 9111 §3)");
            let help = "`clears` says which replies it makes untrue";
            self.tell_of_cache(Severity::Error, steps, message, help);
        }
    }

    fn keeping_of(&mut self, id: &str, steps: &[Step], doc: &CacheDoc) -> Option<Keeping> {
        let apart = self.apart(id, steps, doc)?;
        let most = doc.most.map_or(DEFAULT_MOST, |size| size.0);
        if most > MOST {
            let at = [steps, &[Step::Key("most".into())]].concat();
            let message = "no reply of more than 16MiB is kept".to_owned();
            self.tell_of_cache(Severity::Error, &at, message, "");
        }
        let of = |span: Option<Span>| span.map(|s| s.0);
        Some(Keeping {
            fresh: of(doc.fresh),
            absent: of(doc.absent),
            while_revalidate: of(doc.stale_while_revalidate),
            if_error: of(doc.stale_if_error),
            apart,
            tags: doc.tags.iter().map(|t| self.shared.text(t)).collect(),
            heeds_callers: doc.heeds_callers.unwrap_or(true),
            most: most.min(MOST) as usize,
        })
    }

    /// What replies hang on: what the document says, what the operation's expressions read, and what is shown to backends.
    fn apart(&mut self, id: &str, steps: &[Step], doc: &CacheDoc) -> Option<Apart> {
        let used = self.used.take();
        let mut apart = Apart::default();
        if used.all {
            let message = format!(
                "“{id}” reads all header fields of a request, so that no two replies are known to be the same"
            );
            let help = "name the fields that it reads, or let it be: `cache: { keep: false }`";
            self.tell_of_cache(Severity::Error, steps, message, help);
            return None;
        }
        for name in &used.caller {
            known_part(&mut apart, name);
        }
        let metadata = &self.from.facade.doc.metadata.request;
        let fields = used.fields.iter().chain(metadata);
        apart
            .fields
            .extend(fields.filter_map(|f| f.parse::<HeaderName>().ok()));
        apart.key |= self.backends.iter().any(|b| b.credentials.callers_key);
        for (i, name) in doc.apart.iter().enumerate() {
            if known_part(&mut apart, name) {
                continue;
            }
            match name.parse::<HeaderName>() {
                Ok(field) => apart.fields.push(field),
                Err(_) => {
                    let at = [steps, &[Step::Key("apart".into()), Step::Index(i)]].concat();
                    let message = format!("“{name}” is no name of a header field");
                    let help = "or it is consumer, key or address";
                    self.tell_of_cache(Severity::Error, &at, message, help);
                }
            }
        }
        apart
            .fields
            .sort_unstable_by(|a, b| a.as_str().cmp(b.as_str()));
        apart.fields.dedup();
        Some(apart)
    }

    /// The tags that are cleared, all of which some operation of the facade has.
    fn known_tags(&mut self, said: &CacheDoc, steps: &[Step]) -> Vec<Arc<str>> {
        if said.clears.is_empty() {
            return Vec::new();
        }
        let levels = self.levels.clone();
        let operations = self.from.facade.doc.operations.values();
        let all = operations.filter_map(|o| o.cache.as_ref());
        let wide = levels.iter().filter(|l| l.scope != Scope::Operation);
        let all = all.chain(wide.filter_map(|l| l.cache));
        let all = all.flat_map(|c| &c.tags);
        let known: Vec<&str> = all.map(String::as_str).collect();
        for (i, tag) in said.clears.iter().enumerate() {
            if known.contains(&tag.as_str()) {
                continue;
            }
            let at = [steps, &[Step::Key("clears".into()), Step::Index(i)]].concat();
            let message = format!("no operation of the facade has the tag “{tag}”");
            let near = suggest(tag, known.iter().copied());
            let help = near.map_or_else(String::new, |n| format!("did you mean “{n}”?"));
            self.tell_of_cache(Severity::Error, &at, message, &help);
        }
        said.clears.iter().map(|t| self.shared.text(t)).collect()
    }
}

fn known_part(apart: &mut Apart, name: &str) -> bool {
    match name {
        "consumer" => apart.consumer = true,
        "key" => apart.key = true,
        "address" => apart.address = true,
        _ => return false,
    }
    true
}

fn in_words(keeping: &Keeping) -> String {
    let mut text = "replies are kept as they say".to_owned();
    let span = |text: &mut String, what: &str, span: Option<Duration>| {
        if let Some(span) = span {
            text.push_str(&format!(", {what} for {}", duration_text(span)));
        }
    };
    span(&mut text, "else", keeping.fresh);
    span(&mut text, "404 and 410", keeping.absent);
    span(
        &mut text,
        "stale while another one is asked for",
        keeping.while_revalidate,
    );
    span(&mut text, "stale where none can be had", keeping.if_error);
    let mut parts: Vec<&str> = Vec::new();
    let apart = &keeping.apart;
    for (is, name) in [
        (apart.consumer, "consumer"),
        (apart.key, "key"),
        (apart.address, "address"),
    ] {
        parts.extend(is.then_some(name));
    }
    parts.extend(apart.fields.iter().map(HeaderName::as_str));
    if !parts.is_empty() {
        text.push_str(&format!("; apart by {}", parts.join(", ")));
    }
    text
}
