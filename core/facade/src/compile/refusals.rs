//! Refusals in the facade's own words.

use std::sync::Arc;

use http::StatusCode;
use porch_contract::{Finding, Operation as ContractOperation, Position, Severity, Step};
use porch_rules::expr::Template;
use serde_json::Value;

use super::FacadeCompiler;
use super::levels::{Level, Scope};
use crate::compiled::{ANSWER, Refusal, Reply, RulePlace};
use crate::documents::RefusalDoc;
use crate::kind::Compiled;
use crate::wiring::{Among, AnswerShape, Shapes, Spot, Templates, Use, looks_into, uses};

/// What refusals of an operation may look at.
#[derive(Clone, Copy)]
pub(super) enum Seen<'s> {
    /// The request alone.
    Request,
    /// The answer of the only call.
    Answer(Option<&'s AnswerShape>),
    /// The answers of several.
    Several(&'s Among<'s>),
}

impl<'s> Seen<'s> {
    fn among(self) -> Option<&'s Among<'s>> {
        match self {
            Seen::Several(among) => Some(among),
            _ => None,
        }
    }

    /// The answers that a structure names, by the numbers of their steps.
    fn needs(self, template: &Template) -> Vec<usize> {
        match self {
            Seen::Request => Vec::new(),
            Seen::Answer(_) if uses(template, ANSWER) => vec![0],
            Seen::Answer(_) => Vec::new(),
            Seen::Several(among) => {
                let all = among.names.iter().enumerate();
                all.filter(|(_, name)| uses(template, name))
                    .map(|(i, _)| i)
                    .collect()
            }
        }
    }
}

/// Where a refusal stands.
#[derive(Clone, Copy)]
struct Stands<'l, 'a> {
    /// The operation.
    id: &'l str,
    level: &'l Level<'a>,
    /// The level's number, and its own among the level's.
    number: usize,
    i: usize,
}

impl Stands<'_, '_> {
    fn steps(self) -> Vec<Step> {
        let mut steps = self.level.below(&["refuse"]);
        steps.push(Step::Index(self.i));
        steps
    }
}

/// Members of a problem that RFC 9457 §3.1 has itself.
pub(super) const OWN: [&str; 5] = ["type", "title", "status", "detail", "instance"];

impl Refusal {
    fn templates(&self) -> impl Iterator<Item = &Template> {
        let members = self.members.iter().map(|(_, t)| t);
        [&self.when].into_iter().chain(&self.detail).chain(members)
    }

    /// Whether it names a root.
    pub(super) fn names(&self, root: &str) -> bool {
        self.templates().any(|t| uses(t, root))
    }

    /// Whether it names more of the only answer than its status and fields.
    fn looks_into_answer(&self) -> bool {
        self.templates().any(looks_into)
    }
}

impl<'a> FacadeCompiler<'a> {
    /// A structure of an operation, compiled and checked, wherever it stands.
    pub(super) fn structure(
        &mut self,
        place: (&[Step], &Value),
        contract_op: &'a ContractOperation,
        seen: Seen<'_>,
    ) -> Option<Template> {
        self.structure_in(Use::Here, place, contract_op, seen, false)
    }

    /// The same where an item of a list may be named.
    pub(super) fn structure_of_item(
        &mut self,
        values_are: Use,
        place: (&[Step], &Value),
        contract_op: &'a ContractOperation,
        seen: Seen<'_>,
    ) -> Option<Template> {
        let Seen::Several(among) = seen else {
            return self.structure_in(values_are, place, contract_op, seen, true);
        };
        let among = Among {
            spot: Spot::Call { each: true },
            ..among.clone()
        };
        let seen = Seen::Several(&among);
        self.structure_in(values_are, place, contract_op, seen, true)
    }

    pub(super) fn structure_in(
        &mut self,
        values_are: Use,
        (steps, value): (&[Step], &Value),
        contract_op: &'a ContractOperation,
        seen: Seen<'_>,
        of_item: bool,
    ) -> Option<Template> {
        let here = self.here;
        let shape = match seen {
            Seen::Answer(shape) => shape,
            _ => None,
        };
        let shapes = Shapes {
            answer: shape.and_then(AnswerShape::of_body),
            soap_header: shape.and_then(AnswerShape::of_soap_header),
        };
        let templates = Templates {
            file: here.file,
            text: here.text,
            node: here.node,
            contract: self.from.contract,
            operation: contract_op,
            among: seen.among(),
            of_item,
            values_are,
            lent: &self.lent,
            used: &self.used,
        };
        let has_answer = matches!(seen, Seen::Answer(_));
        let (template, found) = templates.compile(value, steps, has_answer, &shapes, None);
        let sound = !porch_contract::has_errors(&found);
        self.findings.extend(found);
        template.filter(|_| sound)
    }

    /// What must be an expression.
    pub(super) fn expression(
        &mut self,
        (steps, text, what): (&[Step], &str, &str),
        contract_op: &'a ContractOperation,
        seen: Seen<'_>,
    ) -> Option<Template> {
        if !text.starts_with('=') || text.starts_with("==") {
            let at = self.here.node.locate(steps, false);
            let message = format!("“{text}” is a text, and no {what}");
            let help = format!("an expression begins with “=”: `={text}`");
            let file = self.here.file;
            self.findings
                .push(Finding::error(file, at, message).help(help));
            return None;
        }
        self.structure((steps, &Value::String(text.into())), contract_op, seen)
    }

    /// The refusals of an operation, those of the widest reach first.
    pub(super) fn refusals(
        &mut self,
        id: &str,
        contract_op: &'a ContractOperation,
        seen: Seen<'_>,
    ) -> Box<[Refusal]> {
        let mut all = Vec::new();
        for (number, level) in self.levels.clone().iter().enumerate() {
            self.within(level, |c| {
                for (i, doc) in level.refuse.iter().enumerate() {
                    let of = Stands {
                        id,
                        level,
                        number,
                        i,
                    };
                    all.extend(c.refusal(of, doc, contract_op, seen));
                }
            });
        }
        all.into()
    }

    fn refusal(
        &mut self,
        of: Stands<'_, 'a>,
        doc: &RefusalDoc,
        contract_op: &'a ContractOperation,
        seen: Seen<'_>,
    ) -> Option<Refusal> {
        let key = |k: &str| Step::Key(k.into());
        let own = of.steps();
        let below = |k: &str| [own.as_slice(), &[key(k)]].concat();
        let here = self.here;
        let status_at = here.node.locate(&below("status"), false);
        if !(400..600).contains(&doc.status) {
            let message = format!("{} is no status of an error", doc.status);
            let help = "requests are refused with 400 to 599";
            self.findings
                .push(Finding::error(here.file, status_at, message).help(help));
        }
        self.known_to_callers(of, doc, status_at);
        let when = self.expression((&below("when"), &doc.when, "condition"), contract_op, seen);
        let detail = match &doc.detail {
            Some(text) => Some(self.structure(
                (&below("detail"), &Value::String(text.clone())),
                contract_op,
                seen,
            )?),
            None => None,
        };
        let members = self.members(&below("members"), doc, contract_op, seen);
        let when = when?;
        let mut needs = seen.needs(&when);
        let said = detail.iter().chain(members.iter().map(|(_, t)| t));
        needs.extend(said.flat_map(|t| seen.needs(t)));
        needs.sort_unstable();
        needs.dedup();
        let at = here.node.locate(&own, false);
        let rule = format!("refuses with {}: {}", doc.status, doc.title);
        Some(Refusal {
            level: of.number,
            needs,
            when,
            status: doc.status,
            kind: doc.kind.clone(),
            title: doc.title.clone(),
            detail,
            members,
            place: Arc::new(RulePlace {
                rule: rule.into(),
                reach: of.level.reach.clone(),
                file: self.shared.text(here.file),
                line: at.line,
            }),
        })
    }

    /// What refusals want of the messages of an operation's only call; native callers and streams are not looked into.
    pub(super) fn with_refusals(&mut self, compiled: &Compiled, refusals: &[Refusal]) -> Reply {
        let native = compiled.native.is_some();
        let call = &compiled.call;
        for refusal in refusals {
            let reads_body = refusal.names("body");
            let answer = !refusal.needs.is_empty();
            let (what, told) = match () {
                () if native && reads_body => ("the body", "native callers"),
                () if native && answer => ("the answer", "native callers"),
                () if reads_body && call.takes_messages() => ("the body", "a stream"),
                () if answer && call.gives_messages() => ("the answer", "a stream"),
                () => continue,
            };
            let levels = self.levels.clone();
            let level = &levels[refusal.level];
            let message =
                format!("{what} of {told} is not looked into: nothing can be refused by it");
            let at = level.site.node.locate(&level.below(&["refuse"]), true);
            let file = level.site.file;
            self.within(level, |c| {
                c.findings.push(Finding::error(file, at, message))
            });
        }
        Reply {
            reads_body: refusals.iter().any(|r| r.names("body")),
            looks_into: refusals.iter().any(Refusal::looks_into_answer),
            ..Reply::default()
        }
    }

    /// Whether the contract tells callers of a refusal; one that reaches several operations is told of once.
    fn known_to_callers(&mut self, of: Stands<'_, 'a>, doc: &RefusalDoc, at: Position) {
        let Stands { id, level, .. } = of;
        if self.has_response(id, doc.status) {
            return;
        }
        let (file, status) = (self.here.file, doc.status);
        let (message, help) = match level.scope {
            Scope::Operation => (
                format!("the contract's “{id}” has no response {status}"),
                "add it to the contract, so that callers know of it",
            ),
            _ => (
                format!(
                    "{} does not say of all its operations that they answer {status}",
                    self.from.contract_file
                ),
                "add the response to the contract, so that callers know of it",
            ),
        };
        let told = Finding::new(Severity::Warning, file, at, message).help(help);
        self.findings.push(told);
    }

    /// The statuses of an operation's responses, as the contract writes them.
    fn responses(&self, id: &str) -> impl Iterator<Item = &'a str> {
        let responses = self.written(id).and_then(|w| w.operation.get("responses"));
        let responses = responses.and_then(Value::as_object).into_iter().flatten();
        responses.map(|(status, _)| status.as_str())
    }

    /// Whether the contract has a response for a status (OpenAPI 3.1 §4.8.16).
    fn has_response(&self, id: &str, status: u16) -> bool {
        let (own, range) = (status.to_string(), format!("{}XX", status / 100));
        let has = |s: &str| s == own || s == "default" || s.eq_ignore_ascii_case(&range);
        self.responses(id).any(has)
    }

    /// The first status of success that the contract has.
    pub(super) fn success(&self, id: &str) -> StatusCode {
        let mut all = self.responses(id).filter(|s| s.starts_with('2'));
        let first = all.next().and_then(|s| s.parse().ok());
        first.unwrap_or_default()
    }

    fn members(
        &mut self,
        steps: &[Step],
        doc: &RefusalDoc,
        contract_op: &'a ContractOperation,
        seen: Seen<'_>,
    ) -> Vec<(String, Template)> {
        let mut members = Vec::new();
        for (name, value) in &doc.members {
            let below = [steps, &[Step::Key(name.clone())]].concat();
            if OWN.contains(&name.as_str()) {
                let at = self.here.node.locate(&below, true);
                let message = format!("“{name}” is a problem's own member");
                let help = "say it beside `members:`, or call yours another name";
                let told = Finding::error(self.here.file, at, message);
                self.findings.push(told.help(help));
                continue;
            }
            let made = self.structure((&below, value), contract_op, seen);
            members.extend(made.map(|made| (name.clone(), made)));
        }
        members
    }
}
