//! Compiling limits and quotas.

use std::sync::Arc;
use std::time::Duration;

use http::HeaderValue;
use porch_contract::{Finding, Operation as ContractOperation, Severity, Step};
use porch_rules::limit::{Form, Limit, stable_id};
use porch_rules::period::{Lately, Length, Periods, zone};
use serde_json::Value;

use super::FacadeCompiler;
use super::levels::{Level, Scope};
use super::refusals::Seen;
use crate::compiled::{AtOncePlan, LimitPlan, Limits, Number, PeriodStart, RulePlace, Time, Who};
use crate::documents::{Amount, Each, LimitDoc, Per, PeriodsFrom, QuotaDoc, QuotaEnd, Relaxed};
use crate::wiring::{Use, uses};

/// The limits of one document.
pub(super) type Known = (Vec<Arc<LimitPlan>>, Vec<Arc<AtOncePlan>>);

/// How long a request waits for another one to end unless something is said.
const WAITS: Duration = Duration::from_secs(1);
/// Requests that may wait at most.
const MOST_WAITING: u32 = 10_000;
/// Limits, or quotas, of one list at most.
const MOST: usize = 50;

/// A limit or a quota of a level.
#[derive(Clone, Copy)]
struct Stands<'l, 'a> {
    level: &'l Level<'a>,
    key: &'static str,
    i: usize,
    contract_op: &'a ContractOperation,
}

impl Stands<'_, '_> {
    fn steps(self, member: Option<&str>) -> Vec<Step> {
        let mut steps = self.level.below(&["admit", self.key]);
        steps.push(Step::Index(self.i));
        steps.extend(member.map(|m| Step::Key(m.into())));
        steps
    }
}

impl<'a> FacadeCompiler<'a> {
    /// The limits that hold: those of every level, but for defaults that a narrower one relaxes. What reaches several
    /// operations, and asks nothing of a request, is compiled once.
    pub(super) fn all_limits(&mut self, known: bool, contract_op: &'a ContractOperation) -> Limits {
        let mut made = Limits::default();
        let mut add = |plans: &[Arc<LimitPlan>], at_once: &[Arc<AtOncePlan>]| {
            for plan in plans {
                made.counts_bytes |= plan.bytes;
                match plan.plain {
                    Some(_) => made.plain.push(plan.clone()),
                    None => made.asked.push(plan.clone()),
                }
            }
            made.at_once.extend(at_once.iter().cloned());
        };
        for level in self.levels_of_limits() {
            let docs = level.admit.limits.iter().flatten();
            let is_fixed = docs.clone().all(LimitDoc::is_fixed);
            let key = (level.reach.clone(), level.site.file.to_owned());
            let shares = level.scope != Scope::Operation && is_fixed;
            if let Some((plans, at_once)) = self.shared.limits.get(&key).filter(|_| shares) {
                add(plans, at_once);
                continue;
            }
            let (plans, at_once) = self.within(&level, |c| c.limits(&level, known, contract_op));
            add(&plans, &at_once);
            if shares {
                self.shared.limits.insert(key, (plans, at_once));
            }
        }
        for level in self.levels_of_quotas() {
            let plans = self.within(&level, |c| c.quotas(&level, known, contract_op));
            add(&plans, &[]);
        }
        made
    }

    fn levels_of_limits(&mut self) -> Vec<Level<'a>> {
        let levels = self.levels.clone();
        let keys = ["admit", "limits"];
        let words = |l: &Level<'_>| match l.admit.limits.as_deref().unwrap_or_default() {
            [] => "no limit of its own".to_owned(),
            some => some
                .iter()
                .map(LimitDoc::in_words)
                .collect::<Vec<_>>()
                .join(", "),
        };
        let mut kept: Vec<&Level<'a>> = Vec::new();
        for level in levels.iter().filter(|l| l.admit.limits.is_some()) {
            self.relax(&mut kept, level, Relaxed::Limits, &keys, &words);
            let none = level.admit.limits.as_ref().is_some_and(Vec::is_empty);
            let limits = |l: &Level<'_>| l.admit.limits.as_ref().is_some_and(|l| !l.is_empty());
            self.none_in_vain((none, level), &kept, &limits, &keys, &words);
            kept.push(level);
        }
        kept.into_iter().cloned().collect()
    }

    fn levels_of_quotas(&mut self) -> Vec<Level<'a>> {
        let levels = self.levels.clone();
        let keys = ["admit", "quotas"];
        let words = |l: &Level<'_>| match l.admit.quotas.as_deref().unwrap_or_default() {
            [] => "no quota of its own".to_owned(),
            some => some
                .iter()
                .map(QuotaDoc::in_words)
                .collect::<Vec<_>>()
                .join(", "),
        };
        let mut kept: Vec<&Level<'a>> = Vec::new();
        for level in levels.iter().filter(|l| l.admit.quotas.is_some()) {
            self.relax(&mut kept, level, Relaxed::Quotas, &keys, &words);
            let none = level.admit.quotas.as_ref().is_some_and(Vec::is_empty);
            let quotas = |l: &Level<'_>| l.admit.quotas.as_ref().is_some_and(|l| !l.is_empty());
            self.none_in_vain((none, level), &kept, &quotas, &keys, &words);
            kept.push(level);
        }
        kept.into_iter().cloned().collect()
    }

    fn limits(
        &mut self,
        level: &Level<'a>,
        known: bool,
        contract_op: &'a ContractOperation,
    ) -> Known {
        let all = level.admit.limits.as_deref().unwrap_or_default();
        let (mut plans, mut at_once) = (Vec::new(), Vec::new());
        for (i, doc) in all.iter().enumerate().take(MOST) {
            let of = Stands {
                level,
                key: "limits",
                i,
                contract_op,
            };
            // A limit is the same one when only its number changes: what was counted goes on counting.
            let before = all[..i].iter().filter(|o| o.identity() == doc.identity());
            let key = format!("{}/{}", doc.identity(), before.count());
            let id = stable_id(&format!("{}/{key}", level.counted));
            self.needs_callers(of, &doc.per, known, "a limit");
            if let Some(most) = &doc.at_once {
                at_once.extend(self.at_once(of, doc, most, id).map(Arc::new));
            } else {
                plans.extend(self.limit(of, doc, id).map(Arc::new));
            }
        }
        if all.len() > MOST {
            let at = level.at(&["admit", "limits"]);
            let message = format!("{} limits, and {MOST} are the most", all.len());
            self.findings
                .push(Finding::error(level.site.file, at, message));
        }
        (plans, at_once)
    }

    /// Says that a member of a limit is wrong.
    fn wrong_limit(&mut self, of: Stands<'_, 'a>, member: Option<&str>, message: &str, help: &str) {
        let at = of.level.site.node.locate(&of.steps(member), false);
        let finding = Finding::error(of.level.site.file, at, message).help(help);
        self.findings.push(finding);
    }

    fn needs_callers(&mut self, of: Stands<'_, 'a>, per: &Per, known: bool, what: &str) {
        if !per.needs_consumer() || known {
            return;
        }
        let message = format!("{what} per {} needs callers that are known", per.label());
        let help = "add `credentials: [key]`, or count `per: address` or `per: everyone`";
        self.wrong_limit(of, None, &message, help);
    }

    fn limit(&mut self, of: Stands<'_, 'a>, doc: &LimitDoc, id: u64) -> Option<LimitPlan> {
        let (most, bytes) = match (&doc.requests, &doc.bytes) {
            (Some(requests), None) => (requests, false),
            (None, Some(size)) => (&size.0, true),
            _ => {
                let message = "a limit says one of `requests`, `bytes` and `at-once`";
                self.wrong_limit(of, None, message, "write { requests: 60, window: 1m }");
                return None;
            }
        };
        let Some(window) = doc.window else {
            self.wrong_limit(of, None, "“window” is missing", "as in `window: 1m`");
            return None;
        };
        self.beside_others(of, doc);
        let most = self.most(of, most, if bytes { "bytes" } else { "requests" })?;
        let weight = self.weight(of, doc.weight.as_ref(), most.fixed())?;
        let per = self.who(of, &doc.per)?;
        let form = form_of(doc, most.fixed());
        let plain = match (&most, &weight) {
            (Number::Fixed(most), Number::Fixed(1)) if !per.is_asked() && !bytes => Some(Limit {
                most: *most,
                window: window.0,
                form,
            }),
            _ => None,
        };
        let name = of.level.name;
        let policy = most.fixed().map(|q| policy(name, q, bytes, window.0));
        Some(LimitPlan {
            lately: Lately::default(),
            id,
            plain,
            most,
            time: Time::Window(window.0, form),
            per,
            weight,
            bytes,
            warn_at: Box::default(),
            only_tells: false,
            apart: doc.apart.unwrap_or_default(),
            name: name.into(),
            policy: policy.flatten(),
            place: self.limit_place(of, doc.in_words()),
        })
    }

    /// Members that have a meaning beside others, where these are not.
    fn beside_others(&mut self, of: Stands<'_, 'a>, doc: &LimitDoc) {
        let waits = [
            ("waiting", doc.waiting.is_some()),
            ("within", doc.within.is_some()),
        ];
        self.only_of(of, &waits, "at-once");
        let burst = [("burst", doc.burst.is_some() && !doc.smooth)];
        self.only_of(of, &burst, "smooth");
        if doc.bytes.is_some() {
            let weighs = [("weight", doc.weight.is_some()), ("smooth", doc.smooth)];
            self.only_of(of, &weighs, "requests");
        }
    }

    fn at_once(
        &mut self,
        of: Stands<'_, 'a>,
        doc: &LimitDoc,
        most: &Amount,
        id: u64,
    ) -> Option<AtOncePlan> {
        let others = [
            ("requests", doc.requests.is_some()),
            ("bytes", doc.bytes.is_some()),
            ("window", doc.window.is_some()),
            ("weight", doc.weight.is_some()),
            ("smooth", doc.smooth),
            ("burst", doc.burst.is_some()),
        ];
        self.only_of(of, &others, "requests");
        let waiting = doc.waiting.unwrap_or(0);
        if waiting > MOST_WAITING {
            let message = format!("{waiting} that wait are too many: {MOST_WAITING} are the most");
            self.wrong_limit(of, Some("waiting"), &message, "");
        }
        Some(AtOncePlan {
            id,
            most: self.most(of, most, "at-once")?,
            per: self.who(of, &doc.per)?,
            waiting,
            within: doc.within.map_or(WAITS, |span| span.0),
            apart: doc.apart.unwrap_or_default(),
            name: of.level.name.into(),
            place: self.limit_place(of, doc.in_words()),
        })
    }

    /// Members that have a meaning beside another one only.
    fn only_of(&mut self, of: Stands<'_, 'a>, members: &[(&str, bool)], with: &str) {
        for (member, _) in members.iter().filter(|(_, said)| *said) {
            let message = format!("“{member}” has no meaning here");
            self.wrong_limit(
                of,
                Some(member),
                &message,
                &format!("it is for limits with `{with}`"),
            );
        }
    }

    fn quotas(
        &mut self,
        level: &Level<'a>,
        known: bool,
        contract_op: &'a ContractOperation,
    ) -> Vec<Arc<LimitPlan>> {
        let all = level.admit.quotas.as_deref().unwrap_or_default();
        let mut plans = Vec::new();
        for (i, doc) in all.iter().enumerate().take(MOST) {
            let of = Stands {
                level,
                key: "quotas",
                i,
                contract_op,
            };
            let before = all[..i].iter().filter(|o| o.identity() == doc.identity());
            let key = format!("{}/{}", doc.identity(), before.count());
            let id = stable_id(&format!("{}/{key}", level.counted));
            self.needs_callers(of, &doc.per, known, "a quota");
            plans.extend(self.quota(of, doc, id).map(Arc::new));
        }
        plans
    }

    fn quota(&mut self, of: Stands<'_, 'a>, doc: &QuotaDoc, id: u64) -> Option<LimitPlan> {
        let (most, bytes) = match (&doc.requests, &doc.bytes) {
            (Some(requests), None) => (requests, false),
            (None, Some(size)) => (&size.0, true),
            _ => {
                let message = "a quota says one of `requests` and `bytes`";
                let help = "write { requests: 10000, each: month }";
                self.wrong_limit(of, None, message, help);
                return None;
            }
        };
        if bytes {
            self.only_of(of, &[("weight", doc.weight.is_some())], "requests");
        }
        let named = doc.zone.as_deref().unwrap_or("UTC");
        let Some(zone) = zone(named) else {
            let message = format!("“{named}” is no time zone");
            let help = "zones have the names of the IANA database, as in Europe/Oslo";
            self.wrong_limit(of, Some("zone"), &message, help);
            return None;
        };
        let mut warn_at = doc.warn_at.clone().unwrap_or_else(|| vec![80, 100]);
        warn_at.sort_unstable();
        warn_at.dedup();
        if warn_at.iter().any(|share| !(1..=100).contains(share)) {
            let message = "shares are from 1 to 100 per cent";
            self.wrong_limit(of, Some("warn-at"), message, "as in `warn-at: [80, 100]`");
        }
        let most = self.most(of, most, if bytes { "bytes" } else { "requests" })?;
        Some(LimitPlan {
            lately: Lately::default(),
            id,
            plain: None,
            weight: self.weight(of, doc.weight.as_ref(), most.fixed())?,
            most,
            time: Time::Period(
                Periods {
                    length: length(doc.each),
                    zone,
                },
                match doc.from {
                    PeriodsFrom::Calendar => PeriodStart::Calendar,
                    PeriodsFrom::Agreement => PeriodStart::Agreement,
                },
            ),
            per: self.who(of, &doc.per)?,
            bytes,
            warn_at: warn_at.into(),
            only_tells: doc.end == QuotaEnd::Tell,
            apart: doc.apart.unwrap_or_default(),
            name: of.level.name.into(),
            policy: None,
            place: self.limit_place(of, doc.in_words()),
        })
    }

    fn limit_place(&mut self, of: Stands<'_, 'a>, words: String) -> RulePlace {
        let at = of.level.site.node.locate(&of.steps(None), false);
        RulePlace {
            line: at.line,
            ..self.said_at(of.level, &[], words)
        }
    }

    fn most(&mut self, of: Stands<'_, 'a>, amount: &Amount, member: &str) -> Option<Number> {
        if *amount == Amount::Fixed(0) {
            let what = if of.key == "quotas" { "quota" } else { "limit" };
            let message = format!("a {what} of 0 lets nobody pass");
            self.wrong_limit(of, None, &message, "pause the operation instead");
        }
        self.number(of, amount, member)
    }

    fn weight(
        &mut self,
        of: Stands<'_, 'a>,
        amount: Option<&Amount>,
        most: Option<u64>,
    ) -> Option<Number> {
        let Some(amount) = amount else {
            return Some(Number::Fixed(1));
        };
        if let (Amount::Fixed(weight), Some(most)) = (amount, most)
            && *weight > most
        {
            let message = format!("a request that counts {weight} never fits into {most}");
            self.wrong_limit(of, Some("weight"), &message, "");
        }
        self.number(of, amount, "weight")
    }

    fn number(&mut self, of: Stands<'_, 'a>, amount: &Amount, member: &str) -> Option<Number> {
        match amount {
            Amount::Fixed(number) => Some(Number::Fixed(*number)),
            Amount::Asked(text) => {
                let template = self.asked(of, member, text)?;
                Some(Number::Asked(template, text[1..].into()))
            }
        }
    }

    fn who(&mut self, of: Stands<'_, 'a>, per: &Per) -> Option<Who> {
        Some(match per {
            Per::Consumer => Who::Consumer,
            Per::Agreement => Who::Agreement,
            Per::Key => Who::Key,
            Per::Account => Who::Account,
            Per::Address => Who::Address,
            Per::Facade => Who::Facade,
            Per::Everyone => Who::Everyone,
            Per::Value(text) => {
                let template = self.asked(of, "per", text)?;
                let mut absent = false;
                template.each_expr(&mut Vec::new(), &mut |_, e| absent |= e.may_be_absent());
                if absent {
                    let at = of.level.site.node.locate(&of.steps(Some("per")), false);
                    let message = "callers for whom this has no value share one count";
                    let help = "say what stands in its place with `.orValue(…)`";
                    let file = of.level.site.file;
                    let finding = Finding::new(Severity::Note, file, at, message).help(help);
                    self.findings.push(finding);
                }
                Who::Value(template)
            }
        })
    }

    /// An expression of a limit: over the request without its body, who calls, and what was agreed to.
    fn asked(
        &mut self,
        of: Stands<'_, 'a>,
        member: &str,
        text: &str,
    ) -> Option<porch_rules::expr::Template> {
        let steps = of.steps(Some(member));
        let value = Value::String(text.into());
        // What is counted by makes no reply another one.
        let used = self.used.take();
        let made = self.structure_in(
            Use::Counted,
            (&steps, &value),
            of.contract_op,
            Seen::Request,
            false,
        );
        self.used.replace(used);
        let made = made?;
        if ["body", "secret"].iter().any(|root| uses(&made, root)) {
            let message = "limits look at no bodies and no secrets";
            let help = "use path, query, header fields, caller and terms";
            self.wrong_limit(of, Some(member), message, help);
            return None;
        }
        Some(made)
    }
}

fn form_of(doc: &LimitDoc, most: Option<u64>) -> Form {
    let tenth = || most.map_or(1, |most| (most / 10).max(1));
    match doc.smooth {
        false => Form::Sliding,
        true => Form::Smooth {
            burst: doc.burst.map_or_else(tenth, u64::from),
        },
    }
}

fn length(each: Each) -> Length {
    match each {
        Each::Hour => Length::Hour,
        Each::Day => Length::Day,
        Each::Week => Length::Week,
        Each::Month => Length::Month,
    }
}

/// `RateLimit-Policy` (draft-ietf-httpapi-ratelimit-headers-10 §3): quota, quota unit and window.
pub fn policy(name: &str, most: u64, bytes: bool, window: Duration) -> Option<HeaderValue> {
    let seconds = window.as_millis().div_ceil(1000);
    let unit = if bytes { ";qu=\"content-bytes\"" } else { "" };
    HeaderValue::from_str(&format!("\"{name}\";q={most}{unit};w={seconds}")).ok()
}
