//! Refusals in the facade's own words.

use std::sync::Arc;

use http::StatusCode;
use porch_contract::{Finding, Operation as ContractOperation, Severity, Step};
use porch_rules::expr::Template;
use serde_json::Value;

use super::FacadeCompiler;
use crate::compiled::{ANSWER, Refusal, Reply, RulePlace};
use crate::documents::{OperationDoc, RefusalDoc};
use crate::kind::Compiled;
use crate::wiring::{Among, AnswerShape, Shapes, Spot, Templates, looks_into, uses};

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

/// Members of a problem that RFC 9457 §3.1 has itself.
const OWN: [&str; 5] = ["type", "title", "status", "detail", "instance"];

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
        self.structure_in(place, contract_op, seen, false)
    }

    /// The same where an item of a list may be named.
    pub(super) fn structure_of_item(
        &mut self,
        place: (&[Step], &Value),
        contract_op: &'a ContractOperation,
        seen: Seen<'_>,
    ) -> Option<Template> {
        let Seen::Several(among) = seen else {
            return self.structure_in(place, contract_op, seen, true);
        };
        let among = Among {
            spot: Spot::Call { each: true },
            ..among.clone()
        };
        self.structure_in(place, contract_op, Seen::Several(&among), true)
    }

    fn structure_in(
        &mut self,
        (steps, value): (&[Step], &Value),
        contract_op: &'a ContractOperation,
        seen: Seen<'_>,
        of_item: bool,
    ) -> Option<Template> {
        let facade = self.from.facade;
        let shape = match seen {
            Seen::Answer(shape) => shape,
            _ => None,
        };
        let shapes = Shapes {
            answer: shape.and_then(AnswerShape::of_body),
            soap_header: shape.and_then(AnswerShape::of_soap_header),
        };
        let templates = Templates {
            file: &facade.file,
            text: self.from.files.get(&facade.file).map_or("", String::as_str),
            node: &facade.node,
            contract: self.from.contract,
            operation: contract_op,
            among: seen.among(),
            of_item,
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
            let at = self.from.facade.node.locate(steps, false);
            let message = format!("“{text}” is a text, and no {what}");
            let help = format!("an expression begins with “=”: `={text}`");
            let file = &self.from.facade.file;
            self.findings
                .push(Finding::error(file, at, message).help(help));
            return None;
        }
        self.structure((steps, &Value::String(text.into())), contract_op, seen)
    }

    /// The refusals of an operation.
    pub(super) fn refusals(
        &mut self,
        id: &str,
        doc: &OperationDoc,
        contract_op: &'a ContractOperation,
        seen: Seen<'_>,
    ) -> Box<[Refusal]> {
        let all = doc.refuse.iter().enumerate();
        all.filter_map(|(i, refusal)| self.refusal((id, i), refusal, contract_op, seen))
            .collect()
    }

    fn refusal(
        &mut self,
        (id, i): (&str, usize),
        doc: &RefusalDoc,
        contract_op: &'a ContractOperation,
        seen: Seen<'_>,
    ) -> Option<Refusal> {
        let key = |k: &str| Step::Key(k.into());
        let own = [key("operations"), key(id), key("refuse"), Step::Index(i)];
        let below = |k: &str| [own.as_slice(), &[key(k)]].concat();
        let facade = self.from.facade;
        let status_at = facade.node.locate(&below("status"), false);
        if !(400..600).contains(&doc.status) {
            let message = format!("{} is no status of an error", doc.status);
            let help = "requests are refused with 400 to 599";
            self.findings
                .push(Finding::error(&facade.file, status_at, message).help(help));
        }
        if !self.has_response(id, doc.status) {
            let message = format!("the contract's “{id}” has no response {}", doc.status);
            let help = "add it to the contract, so that callers know of it";
            let told = Finding::new(Severity::Warning, &facade.file, status_at, message);
            self.findings.push(told.help(help));
        }
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
        let at = facade.node.locate(&own, false);
        let rule = format!("refuses with {}: {}", doc.status, doc.title);
        Some(Refusal {
            needs,
            when,
            status: doc.status,
            kind: doc.kind.clone(),
            title: doc.title.clone(),
            detail,
            members,
            place: Arc::new(RulePlace {
                rule: rule.into(),
                reach: format!("operation {id}").into(),
                file: self.shared.text(&facade.file),
                line: at.line,
            }),
        })
    }

    /// What refusals want of the messages of an operation's only call; native callers and streams are not looked into.
    pub(super) fn with_refusals(
        &mut self,
        id: &str,
        compiled: &Compiled,
        refusals: &[Refusal],
    ) -> Reply {
        let reads_body = refusals.iter().any(|r| r.names("body"));
        let answer = refusals.iter().any(|r| !r.needs.is_empty());
        let native = compiled.native.is_some();
        let call = &compiled.call;
        let (what, told) = match () {
            () if native && reads_body => ("the body", "native callers"),
            () if native && answer => ("the answer", "native callers"),
            () if reads_body && call.takes_messages() => ("the body", "a stream"),
            () if answer && call.gives_messages() => ("the answer", "a stream"),
            () => ("", ""),
        };
        if !what.is_empty() {
            let facade = self.from.facade;
            let steps = ["operations", id, "refuse"].map(|k| Step::Key(k.into()));
            let at = facade.node.locate(&steps, true);
            let message =
                format!("{what} of {told} is not looked into: nothing can be refused by it");
            self.findings
                .push(Finding::error(&facade.file, at, message));
        }
        Reply {
            reads_body,
            looks_into: refusals.iter().any(Refusal::looks_into_answer),
            ..Reply::default()
        }
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
                let facade = self.from.facade;
                let at = facade.node.locate(&below, true);
                let message = format!("“{name}” is a problem's own member");
                let help = "say it beside `members:`, or call yours another name";
                self.findings
                    .push(Finding::error(&facade.file, at, message).help(help));
                continue;
            }
            let made = self.structure((&below, value), contract_op, seen);
            members.extend(made.map(|made| (name.clone(), made)));
        }
        members
    }
}
