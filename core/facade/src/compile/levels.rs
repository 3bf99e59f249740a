//! From wide to narrow: the documents that say something of one operation, and which of them holds.
//!
//! All rules that reach an operation act. A narrower reach can tighten what a wider one says, and relaxes it only where that
//! marks it as a default; what a facade says itself are defaults for its own operations, but for credentials, limits and the
//! size of bodies.

use std::sync::Arc;

use indexmap::IndexMap;
use porch_contract::{Finding, Node, Position, Severity, Step};

use super::{FacadeCompiler, Sources};
use crate::compiled::{Overridden, RulePlace};
use crate::documents::{
    AdmitDoc, AnswersKept, CacheDoc, ChangesDoc, CorsDoc, OperationDoc, ProblemDoc, RefusalDoc,
    Relaxed, SensitiveDoc,
};
use crate::shared::Ruling;
use crate::units::Day;

/// A document, and where its keys are found.
#[derive(Clone, Copy)]
pub(super) struct Site<'a> {
    pub(super) file: &'a str,
    pub(super) text: &'a str,
    pub(super) node: &'a Node,
}

impl<'a> Site<'a> {
    /// The facade's own document.
    pub(super) fn own(from: &Sources<'a>) -> Self {
        let facade = from.facade;
        Self {
            file: &facade.file,
            text: from.files.get(&facade.file).map_or("", String::as_str),
            node: &facade.node,
        }
    }
}

/// How wide the reach of a level is.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(super) enum Scope {
    Shared,
    Facade,
    Operation,
}

/// What one document says of an operation.
#[derive(Clone)]
pub(super) struct Level<'a> {
    pub(super) site: Site<'a>,
    /// The steps to what it says.
    pub(super) steps: Vec<Step>,
    pub(super) reach: Arc<str>,
    pub(super) scope: Scope,
    pub(super) admit: &'a AdmitDoc,
    pub(super) cors: Option<&'a CorsDoc>,
    pub(super) cache: Option<&'a CacheDoc>,
    pub(super) refuse: &'a [RefusalDoc],
    pub(super) compress: Option<bool>,
    pub(super) sensitive: Option<&'a SensitiveDoc>,
    pub(super) problems: &'a IndexMap<String, ProblemDoc>,
    pub(super) changes: &'a ChangesDoc,
    pub(super) answers: Option<AnswersKept>,
    pub(super) deprecation: Option<Day>,
    pub(super) sunset: Option<Day>,
    defaults: &'a [Relaxed],
    /// What limits are called and counted by.
    pub(super) name: &'a str,
    pub(super) counted: Arc<str>,
    /// Where values were given for it.
    given_at: Option<&'a (String, usize)>,
}

impl<'a> Level<'a> {
    fn shared(ruling: &'a Ruling<'a>, reach: String, counted: String) -> Self {
        let doc = &ruling.doc;
        Self {
            site: Site {
                file: ruling.file,
                text: ruling.text,
                node: ruling.node,
            },
            steps: Vec::new(),
            reach: reach.into(),
            scope: Scope::Shared,
            admit: &doc.admit,
            cors: doc.cors.as_ref(),
            cache: doc.cache.as_ref(),
            refuse: &doc.refuse,
            compress: doc.compress,
            sensitive: doc.sensitive.as_ref(),
            problems: &doc.problems,
            changes: &doc.changes,
            answers: doc.answers,
            deprecation: None,
            sunset: None,
            defaults: &doc.defaults,
            name: &doc.name,
            counted: format!("{counted} rules {}", doc.name).into(),
            given_at: ruling.given_at.as_ref(),
        }
    }

    /// The steps to something below it.
    pub(super) fn below(&self, keys: &[&str]) -> Vec<Step> {
        let more = keys.iter().map(|k| Step::Key((*k).into()));
        self.steps.iter().cloned().chain(more).collect()
    }

    /// Where the value of a key stands.
    pub(super) fn at(&self, keys: &[&str]) -> Position {
        self.site.node.locate(&self.below(keys), false)
    }

    /// Whether a narrower reach may relax what it says.
    pub(super) fn may_be_relaxed(&self, key: Relaxed) -> bool {
        let own = [
            Relaxed::Credentials,
            Relaxed::Limits,
            Relaxed::Quotas,
            Relaxed::MaxBody,
        ];
        match self.scope {
            Scope::Shared => self.defaults.contains(&key),
            Scope::Facade => !own.contains(&key),
            Scope::Operation => true,
        }
    }
}

/// What of a level is asked for, and how it compares.
pub(super) struct Asked<T> {
    pub(super) key: Relaxed,
    /// The keys to it, for its place.
    pub(super) keys: &'static [&'static str],
    /// Whether the first is at least as strict as the second.
    pub(super) holds: fn(&T, &T) -> bool,
    /// What it says, in words.
    pub(super) words: fn(&T) -> String,
}

impl<'a> FacadeCompiler<'a> {
    /// The documents that say something of an operation, the widest first.
    pub(super) fn levels_of(&self, id: &'a str, doc: &'a OperationDoc) -> Vec<Level<'a>> {
        let facade = self.from.facade;
        let over = self.from.ruled.over(&facade.doc, id, doc);
        let (own, on_all): (Vec<_>, Vec<_>) = over.into_iter().partition(|o| o.is_own);
        let shared = |o: crate::shared::Over<'a, 'a>| Level::shared(o.list, o.reach, o.counted);
        let mut levels: Vec<Level<'a>> = on_all.into_iter().map(shared).collect();
        levels.push(self.facade_level());
        levels.extend(own.into_iter().map(shared));
        levels.push(Level {
            steps: vec![Step::Key("operations".into()), Step::Key(id.into())],
            reach: format!("operation {id}").into(),
            scope: Scope::Operation,
            admit: &doc.admit,
            cors: doc.cors.as_ref(),
            cache: doc.cache.as_ref(),
            refuse: &doc.refuse,
            compress: doc.compress,
            sensitive: doc.sensitive.as_ref(),
            problems: &doc.problems,
            changes: &doc.changes,
            answers: doc.answers,
            deprecation: doc.deprecation,
            sunset: doc.sunset,
            name: id,
            counted: format!("{}/{id}", facade.doc.name).into(),
            ..self.facade_level()
        });
        levels
    }

    fn facade_level(&self) -> Level<'a> {
        let facade = self.from.facade;
        let doc = &facade.doc;
        Level {
            site: Site::own(self.from),
            steps: Vec::new(),
            reach: self.facade_words.clone(),
            scope: Scope::Facade,
            admit: &doc.admit,
            cors: doc.cors.as_ref(),
            cache: doc.cache.as_ref(),
            refuse: &doc.refuse,
            compress: doc.compress,
            sensitive: doc.sensitive.as_ref(),
            problems: &doc.problems,
            changes: &doc.changes,
            answers: doc.answers,
            deprecation: doc.deprecation,
            sunset: doc.sunset,
            defaults: &[],
            name: &doc.name,
            counted: self.facade_counted.clone(),
            given_at: None,
        }
    }

    /// Does something with what a level says: mistakes are told of its document.
    pub(super) fn within<T>(&mut self, level: &Level<'a>, f: impl FnOnce(&mut Self) -> T) -> T {
        let before = (self.here, self.findings.len());
        self.here = level.site;
        let made = f(self);
        self.here = before.0;
        if level.scope != Scope::Operation {
            self.once(before.1, level);
        }
        made
    }

    /// What is wrong with something that reaches several operations is told once, and where it was given its values.
    fn once(&mut self, from: usize, level: &Level<'a>) {
        for mut finding in self.findings.split_off(from) {
            if let Some((file, line)) = level.given_at {
                let used = format!("with the values of {file}:{line}");
                finding.help = match finding.help.is_empty() {
                    true => used,
                    false => format!("{}; {used}", finding.help),
                };
            }
            let key = (finding.file.clone(), finding.line, finding.column);
            if self.told.insert((key, finding.message.clone())) {
                self.findings.push(finding);
            }
        }
    }

    /// What holds of something that each level may say, with the level: the narrowest, unless a wider one is stricter and no
    /// default. What does not hold is noted down, and told where it stands.
    pub(super) fn decide<T: PartialEq>(
        &mut self,
        get: impl Fn(&Level<'a>) -> Option<T>,
        asked: &Asked<T>,
    ) -> Option<(T, usize)> {
        let levels = self.levels.clone();
        let (holds, overridden) = decided(&levels, &get, asked.key, asked.holds);
        for (loser, winner) in overridden {
            let said =
                |level: &Level<'a>| get(level).map_or_else(String::new, |v| (asked.words)(&v));
            let (lost, won) = (&levels[loser], &levels[winner]);
            let place = self.said_at(lost, asked.keys, said(lost));
            let by = self.said_at(won, asked.keys, said(won));
            if winner < loser {
                self.does_not_hold((lost, won), asked.keys, &by);
            }
            self.overridden.push(Overridden { place, by });
        }
        if let Some((value, level)) = &holds
            && levels[*level].scope == Scope::Shared
        {
            let place = self.said_at(&levels[*level], asked.keys, (asked.words)(value));
            self.said.push((asked.key, place));
        }
        holds
    }

    /// Notes down that what a level says of something is another one's to say.
    pub(super) fn relaxed(
        &mut self,
        lost: &Level<'a>,
        won: &Level<'a>,
        keys: &[&str],
        words: (String, String),
    ) {
        let place = self.said_at(lost, keys, words.0);
        let by = self.said_at(won, keys, words.1);
        self.overridden.push(Overridden { place, by });
    }

    /// Whether replies of the operation at hand are compressed: as the narrowest reach says.
    pub(super) fn compresses(&self) -> bool {
        let said = self.levels.iter().rev().find_map(|l| l.compress);
        said.unwrap_or(false)
    }

    /// A rule of a level, with its place.
    pub(super) fn said_at(&mut self, level: &Level<'a>, keys: &[&str], rule: String) -> RulePlace {
        RulePlace {
            rule: rule.into(),
            reach: level.reach.clone(),
            file: self.shared.text(level.site.file),
            line: level.at(keys).line,
        }
    }

    /// Tells that what a level says does not hold beside a wider one.
    pub(super) fn does_not_hold(
        &mut self,
        (lost, won): (&Level<'a>, &Level<'a>),
        keys: &[&str],
        by: &RulePlace,
    ) {
        let message = format!("this relaxes what {} fixes, and does not hold", by.file);
        let why = match won.scope {
            Scope::Shared => "only what is named below `defaults:` may be relaxed",
            _ => "an operation can tighten this, and not relax it",
        };
        let help = format!("{}:{} ({}): {}; {why}", by.file, by.line, by.reach, by.rule);
        let told = Finding::new(Severity::Warning, lost.site.file, lost.at(keys), message);
        let told = told.help(help);
        if !self.findings.contains(&told) {
            self.findings.push(told);
        }
    }
}

/// What holds, with its level; and each level that does not, with the one that does.
type Decided<T> = (Option<(T, usize)>, Vec<(usize, usize)>);

/// What holds of something, and the level that says it; and which levels do not hold, each with the one that does.
pub(super) fn decided<'a, T: PartialEq>(
    levels: &[Level<'a>],
    get: &impl Fn(&Level<'a>) -> Option<T>,
    key: Relaxed,
    holds: fn(&T, &T) -> bool,
) -> Decided<T> {
    let mut overridden = Vec::new();
    let mut now: Option<(T, usize)> = None;
    // The level whose word narrower ones may only tighten.
    let mut fixed: Option<usize> = None;
    for (i, level) in levels.iter().enumerate() {
        let Some(value) = get(level) else { continue };
        let fixes = fixed.and_then(|f| Some((get(&levels[f])?, f)));
        if let Some((_, by)) = fixes.filter(|(word, _)| !holds(&value, word)) {
            overridden.push((i, by));
            continue;
        }
        if let Some((before, lost)) = now.take() {
            if before == value {
                // It says the same again: whoever said it first is asked why.
                now = Some((before, lost));
                fixed = if level.may_be_relaxed(key) {
                    fixed
                } else {
                    Some(i)
                };
                continue;
            }
            overridden.push((lost, i));
        }
        now = Some((value, i));
        fixed = if level.may_be_relaxed(key) {
            fixed
        } else {
            Some(i)
        };
    }
    (now, overridden)
}
