//! Compiling where calls go in place of a backend.

mod shadow;

use std::sync::Arc;

use porch_contract::{Finding, Operation as ContractOperation, Severity, Step, suggest};
use porch_rules::expr::Template;

use super::refusals::Seen;
use super::{FacadeCompiler, Wired};
use crate::compiled::{Choice, Routing, RulePlace, Share, Spare, Way};
use crate::documents::{CallDoc, ChoiceDoc, OperationDoc, RoutingDoc};
use crate::kind::Compiled;
use crate::wiring::{Among, AnswerShape, CallCompiler, uses};

/// A call may go to at most so many backends.
const MOST: usize = 16;

/// A call whose routing is compiled.
#[derive(Clone, Copy)]
pub(super) struct Routed<'r, 'a> {
    pub(super) id: &'a str,
    /// The operation.
    pub(super) doc: &'a OperationDoc,
    pub(super) contract_op: &'a ContractOperation,
    /// The wiring of the call.
    pub(super) wiring: &'r OperationDoc,
    /// What it may name of others, where it is one of several.
    pub(super) among: Option<&'r Among<'r>>,
    /// Its backend.
    pub(super) wired: &'r Wired,
    /// What is known of its answer.
    pub(super) shape: Option<&'r AnswerShape>,
    /// Whether it sends or gets several messages.
    pub(super) streams: bool,
}

impl<'r, 'a> Routed<'r, 'a> {
    /// The only call of an operation.
    pub(super) fn one(
        id: &'a str,
        doc: &'a OperationDoc,
        contract_op: &'a ContractOperation,
        (wired, compiled): (&'r Wired, &'r Compiled),
    ) -> Self
    where
        'a: 'r,
    {
        Self {
            shape: compiled.shape.as_ref(),
            streams: compiled.call.takes_messages() || compiled.call.gives_messages(),
            id,
            doc,
            contract_op,
            wiring: doc,
            among: None,
            wired,
        }
    }
}

/// Where a routing stands, and how far it reaches.
struct Stands<'a> {
    doc: &'a RoutingDoc,
    steps: Vec<Step>,
    reach: String,
}

impl<'a> FacadeCompiler<'a> {
    /// Where a call goes in place of its backend: as its operation says, else as the facade does.
    pub(super) fn routing(&mut self, of: Routed<'_, 'a>) -> Option<Box<Routing>> {
        let from = of.wired.backend.name.clone();
        let stands = self.routing_doc(of, &from)?;
        let (number, most) = (stands.doc.backends().count(), MOST);
        if number > most {
            let message = format!("calls go to {number} backends, and {most} are the most");
            self.tell_once(Severity::Error, &stands.steps, message, "");
            return None;
        }
        let mut routing = Routing::default();
        // So many of a hundred callers are left that no share before took.
        let mut left = 100.0;
        for (i, doc) in stands.doc.choose.iter().enumerate() {
            let steps = below(&stands.steps, &[key("choose"), Step::Index(i)]);
            routing
                .choices
                .extend(self.choice(of, &stands, (&steps, doc), &mut left));
            if doc.when.is_none() && doc.share.is_none() && i + 1 < stands.doc.choose.len() {
                let message = format!(
                    "all calls go to “{}”: what stands behind it takes none",
                    doc.backend
                );
                let help = "add `when:` or `share:`, or let it stand last";
                self.tell_once(Severity::Warning, &steps, message, help);
            }
        }
        for (i, name) in stands.doc.spares.iter().enumerate() {
            let steps = below(&stands.steps, &[key("spares"), Step::Index(i)]);
            let Some(way) = self.way(of, name, &steps) else {
                continue;
            };
            let rule = format!("where {from} gives no answer, {name} is called");
            let place = self.place_of_routing(&stands, &steps, rule);
            routing.spares.push(Spare { way, place });
        }
        if let Some(doc) = &stands.doc.shadow {
            routing.shadow = self.shadow(of, &stands, doc);
        }
        let leads = !routing.choices.is_empty() || !routing.spares.is_empty();
        Some(Box::new(routing)).filter(|r| leads || r.shadow.is_some())
    }

    fn routing_doc(&self, of: Routed<'_, 'a>, from: &str) -> Option<Stands<'a>> {
        let facade = self.from.facade;
        if let Some(doc) = of.doc.routing.get(from) {
            let steps = vec![key("operations"), key(of.id), key("routing"), key(from)];
            let reach = format!("operation {}", of.id);
            return Some(Stands { doc, steps, reach });
        }
        let doc = facade.doc.routing.get(from)?;
        let steps = vec![key("routing"), key(from)];
        let reach = format!("facade {}", facade.doc.name);
        Some(Stands { doc, steps, reach })
    }

    /// Tells what was not told yet: what stands at the facade is read for each of its operations.
    fn tell_once(&mut self, severity: Severity, steps: &[Step], message: String, help: &str) {
        let facade = self.from.facade;
        let at = facade.node.locate(steps, false);
        let finding = Finding::new(severity, &facade.file, at, message).help(help);
        if !self.findings.contains(&finding) {
            self.findings.push(finding);
        }
    }

    fn place_of_routing(
        &mut self,
        stands: &Stands<'_>,
        steps: &[Step],
        rule: String,
    ) -> Arc<RulePlace> {
        let facade = self.from.facade;
        Arc::new(RulePlace {
            rule: self.shared.text(&rule),
            reach: self.shared.text(&stands.reach),
            file: self.shared.text(&facade.file),
            line: facade.node.locate(steps, false).line,
        })
    }

    fn choice(
        &mut self,
        of: Routed<'_, 'a>,
        stands: &Stands<'a>,
        (steps, doc): (&[Step], &'a ChoiceDoc),
        left: &mut f64,
    ) -> Option<Choice> {
        // Whoever stays is taken by nothing behind that.
        let stays = doc.backend == of.wired.backend.name;
        let way = match stays {
            true => None,
            false => Some(self.way(of, &doc.backend, &below(steps, &[key("backend")]))),
        };
        let when = match &doc.when {
            None => None,
            Some(text) => {
                Some(self.of_the_request(of, (&below(steps, &[key("when")]), text, "condition"))?)
            }
        };
        let by = match &doc.by {
            None => None,
            Some(text) => {
                Some(self.of_the_request(of, (&below(steps, &[key("by")]), text, "value"))?)
            }
        };
        if doc.share.is_none() && doc.by.is_some() {
            let message = "`by` says which callers a share takes, and there is none".to_owned();
            self.tell_once(
                Severity::Error,
                &below(steps, &[key("by")]),
                message,
                "add `share:`",
            );
        }
        if doc.share.is_some() && doc.by.is_none() {
            self.used.borrow_mut().by_caller();
        }
        let from = &of.wired.backend.name;
        let share = match doc.share {
            None => None,
            Some(percent) => {
                let at = below(steps, &[key("share")]);
                Some(self.share(&at, (from, doc), percent, left)?.by(by))
            }
        };
        let rule = said(from, doc);
        let place = self.place_of_routing(stands, steps, rule);
        Some(Choice {
            way: match way {
                None => None,
                Some(way) => Some(way?),
            },
            when,
            share,
            place,
        })
    }

    /// A part of the callers whom no share before took, so that it is the part of all that is said.
    fn share(
        &mut self,
        steps: &[Step],
        (from, doc): (&str, &ChoiceDoc),
        percent: f64,
        left: &mut f64,
    ) -> Option<Share> {
        if !(0.0..=100.0).contains(&percent) {
            let message = format!("{percent} is no share of a hundred callers");
            self.tell_once(Severity::Error, steps, message, "shares are from 0 to 100");
            return None;
        }
        // Callers whom a condition takes are not counted: they may be any.
        let part = match doc.when {
            Some(_) => percent / 100.0,
            None if percent > *left + 1e-9 => {
                let message =
                    format!("the shares are more than all callers: {left} of a hundred are left");
                self.tell_once(Severity::Error, steps, message, "");
                return None;
            }
            None => {
                let part = if *left > 0.0 { percent / *left } else { 0.0 };
                *left -= percent;
                part
            }
        };
        let below = (part.min(1.0) * f64::from(Share::ALL)).round() as u32;
        let salt = blake3::hash(format!("{from}\0{}", doc.backend).as_bytes());
        Some(Share {
            below,
            salt: *salt.as_bytes(),
            by: None,
        })
    }

    /// An expression that is asked for before anything is read.
    fn of_the_request(
        &mut self,
        of: Routed<'_, 'a>,
        (steps, text, what): (&[Step], &str, &str),
    ) -> Option<Template> {
        let before = std::mem::take(&mut self.findings);
        let made = self.expression((steps, text, what), of.contract_op, Seen::Request);
        let found = std::mem::replace(&mut self.findings, before);
        let told = match steps.first() {
            Some(first) if *first == key("routing") => format!(" (for the operation “{}”)", of.id),
            _ => String::new(),
        };
        self.new_ones(found, &told);
        let made = made?;
        if uses(&made, "body") {
            let message = "where a call goes is known before the body is read".to_owned();
            let help = "use path, query, header fields and caller";
            self.tell_once(Severity::Error, steps, message, help);
            return None;
        }
        Some(made)
    }

    /// Adds those findings that are not there yet.
    fn new_ones(&mut self, found: Vec<Finding>, told: &str) {
        for mut finding in found {
            let same = |f: &Finding| {
                (f.line, f.column, &f.file) == (finding.line, finding.column, &finding.file)
                    && f.message.starts_with(&finding.message)
            };
            if !self.findings.iter().any(same) {
                finding.message.push_str(told);
                self.findings.push(finding);
            }
        }
    }

    /// The same call of another backend.
    fn way(&mut self, of: Routed<'_, 'a>, name: &'a str, steps: &[Step]) -> Option<Way> {
        let documents = self.from.documents;
        let own = &of.wired.backend.name;
        let Some(document) = documents.backends.get(name) else {
            let known = documents.backends.keys().map(String::as_str);
            let near =
                suggest(name, known).map_or_else(String::new, |n| format!("did you mean “{n}”?"));
            self.tell_once(Severity::Error, steps, super::no_backend(name), &near);
            return None;
        };
        if name == own {
            let message = format!("calls of “{name}” go there by themselves");
            self.tell_once(Severity::Warning, steps, message, "leave it out");
            return None;
        }
        let kind = of.wired.kind.name();
        if document.doc.kind != kind {
            let message = format!(
                "“{name}” is of the kind {}, and “{own}” is {kind}: they are not called alike",
                document.doc.kind
            );
            self.tell_once(Severity::Error, steps, message, "");
            return None;
        }
        let wired = self.wired_as(name, of.id, &[])?;
        let compiled = self.called_instead(of, &wired)?;
        if of.among.is_none() {
            self.read_by_others(of, &compiled, &wired);
        }
        Some(Way {
            backend: wired.index,
            call: compiled.call,
        })
    }

    /// The call as the other backend's definition has it.
    fn called_instead(&mut self, of: Routed<'_, 'a>, wired: &Wired) -> Option<Compiled> {
        let call = of.wiring.call.as_ref()?;
        let doc = OperationDoc {
            call: Some(CallDoc {
                backend: wired.backend.name.clone(),
                ..call.clone()
            }),
            ..of.wiring.clone()
        };
        let facade = self.from.facade;
        let mut found = Vec::new();
        let mut compiler = CallCompiler {
            facade,
            text: self.from.files.get(&facade.file).map_or("", String::as_str),
            contract: self.from.contract,
            contract_op: of.contract_op,
            id: of.id,
            doc: &doc,
            call: doc.call.as_ref()?,
            backend: &wired.backend,
            definition: wired.definition.clone(),
            sides: wired.sides.clone(),
            lent: &self.lent,
            among: of.among,
            used: &self.used,
            findings: &mut found,
        };
        let compiled = wired.kind.call(&mut compiler);
        let told = format!(" (where the call goes to {})", wired.backend.name);
        self.new_ones(found, &told);
        compiled
    }

    /// What refusals and changes read of the answer must be there whoever gave it.
    fn read_by_others(&mut self, of: Routed<'_, 'a>, compiled: &Compiled, wired: &Wired) {
        let before = std::mem::take(&mut self.findings);
        let seen = Seen::Answer(compiled.shape.as_ref());
        let _ = self.refusals(of.id, of.contract_op, seen);
        let _ = self.changes_of_one(of.contract_op, wired, compiled);
        let found = std::mem::replace(&mut self.findings, before);
        let told = format!(" (where the call goes to {})", wired.backend.name);
        self.new_ones(found, &told);
    }

    /// Routing of backends that are not called.
    pub(super) fn unrouted(&mut self) {
        let facade = self.from.facade;
        let all = facade.doc.operations.values();
        let called: std::collections::HashSet<&str> =
            all.flat_map(OperationDoc::calls_of).collect();
        for name in facade.doc.routing.keys() {
            self.not_called(&called, vec![key("routing"), key(name)], name);
        }
        for (id, doc) in &facade.doc.operations {
            let called = doc.calls_of().collect();
            for name in doc.routing.keys() {
                let steps = vec![key("operations"), key(id), key("routing"), key(name)];
                self.not_called(&called, steps, name);
            }
        }
    }

    fn not_called(
        &mut self,
        called: &std::collections::HashSet<&str>,
        steps: Vec<Step>,
        name: &str,
    ) {
        if called.contains(name) {
            return;
        }
        self.strangers += 1;
        let asked = self.strangers <= super::MAX_SUGGESTIONS;
        let near = asked.then(|| suggest(name, called.iter().copied()));
        let help = near.flatten().map_or_else(
            || "a routing stands below the name of a backend that is called".to_owned(),
            |n| format!("did you mean “{n}”?"),
        );
        let facade = self.from.facade;
        let at = facade.node.locate(&steps, true);
        let message = format!("“{name}” is not called here: nothing goes elsewhere in its place");
        let told = Finding::error(&facade.file, at, message);
        self.findings.push(told.help(help));
    }
}

impl Share {
    fn by(self, by: Option<Template>) -> Self {
        Self { by, ..self }
    }
}

/// A choice in words.
fn said(from: &str, doc: &ChoiceDoc) -> String {
    let to = &doc.backend;
    let mut text = match from == to {
        true => format!("calls of {from} stay there"),
        false => format!("calls of {from} go to {to}"),
    };
    if let Some(percent) = doc.share {
        let by = doc.by.as_deref().unwrap_or("=caller.consumer");
        text.push_str(&format!(" for {percent} of a hundred by {by}"));
    }
    if let Some(when) = &doc.when {
        text.push_str(&format!(" when {when}"));
    }
    text
}

fn key(name: &str) -> Step {
    Step::Key(name.to_owned())
}

fn below(steps: &[Step], more: &[Step]) -> Vec<Step> {
    [steps, more].concat()
}
