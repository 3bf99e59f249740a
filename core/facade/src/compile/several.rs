//! Operations of several calls: whose answers each of them waits for, and all of them compiled in that order.

mod order;
mod pages;

use std::sync::Arc;

use porch_contract::{Finding, Operation as ContractOperation, Severity, Step};
use porch_rules::expr::Template;
use serde_json::Value;

use self::order::Order;
use self::pages::plan_reads_body;
use super::admission::Behind;
use super::changes::Changed;
use super::refusals::Seen;
use super::routing::Routed;
use super::{FacadeCompiler, Wired, route};
use crate::compiled::{CompiledOperation, REQUEST_ROOTS, Reply, RulePlace, Step as Call, StepPlan};
use crate::documents::{NamedCallDoc, OperationDoc};
use crate::kind::Compiled;
use crate::wiring::{Among, CallCompiler, NamedAnswer, Shapes, Spot, Target, Templates, Use, uses};

/// An operation has at most so many calls.
const MAX_CALLS: usize = 32;
/// Keys of an operation that say something of its only call.
const OF_ONE_CALL: [&str; 5] = ["send", "soap-headers", "body", "response-body", "faults"];

/// An operation whose calls are compiled.
#[derive(Clone, Copy)]
struct Of<'a> {
    id: &'a str,
    doc: &'a OperationDoc,
    contract_op: &'a ContractOperation,
}

impl<'a> Of<'a> {
    /// One of its calls, which may go elsewhere.
    fn routed<'r>(
        self,
        wiring: &'r OperationDoc,
        among: &'r Among<'r>,
        wired: &'r Wired,
    ) -> Routed<'r, 'a> {
        Routed {
            id: self.id,
            doc: self.doc,
            contract_op: self.contract_op,
            wiring,
            among: Some(among),
            wired,
            shape: None,
            streams: false,
        }
    }
}

impl<'a> FacadeCompiler<'a> {
    /// An operation of several calls.
    pub(super) fn several(
        &mut self,
        id: &'a str,
        doc: &'a OperationDoc,
        contract_op: &'a ContractOperation,
    ) -> Option<CompiledOperation> {
        let of = Of {
            id,
            doc,
            contract_op,
        };
        if !self.only_of_several(of) {
            return None;
        }
        let names: Vec<&str> = doc.calls.keys().map(String::as_str).collect();
        let order = self.order(of, &names)?;
        let mut steps: Vec<Option<Call>> = names.iter().map(|_| None).collect();
        let mut answers: Vec<NamedAnswer> = Vec::new();
        let mut reads_body = false;
        for i in &order.sequence {
            let (step, answer) = self.one_of_several(of, &names, &answers, *i, &order);
            reads_body |= step.as_ref().is_some_and(plan_reads_body);
            steps[*i] = step;
            answers.push(answer);
        }
        let among = Among::behind(&names, &answers);
        let refusals = self.refusals(id, contract_op, Seen::Several(&among));
        let reply = self.reply_of_several(of, &among);
        self.not_refused(of, &names);
        reads_body |= reply.as_ref().is_some_and(|t| uses(t, "body"));
        reads_body |= refusals.iter().any(|r| r.names("body"));
        let changed = Changed {
            seen: Seen::Several(&among),
            reply: None,
            is_http: false,
            one_call: false,
            of_messages: false,
        };
        let changes = self.changes(contract_op, changed);
        reads_body |= changes.as_ref().is_some_and(|c| c.reads_body);
        let steps: Option<Vec<Call>> = steps.into_iter().collect();
        let behind = Behind::several();
        let admission = self.admission(doc, contract_op, &behind);
        let answers_kept = self.answers(id, contract_op);
        let at = self.at_operation(id);
        let place = self.place_of_several(of, &names);
        Some(CompiledOperation {
            steps: steps?,
            within: doc.timeout.map(|t| t.0),
            refusals,
            reply: Reply {
                body: reply,
                status: self.success(id),
                reads_body,
                ..Reply::default()
            },
            answers: answers_kept,
            changes,
            cache: self.cache(id, contract_op, false),
            ..self.around(id, (route(contract_op), admission), (place, at))
        })
    }

    fn place_of_several(&mut self, of: Of<'_>, names: &[&str]) -> RulePlace {
        let facade = self.from.facade;
        let steps = ["operations", of.id, "calls"].map(|k| Step::Key(k.into()));
        RulePlace {
            rule: self.shared.text(&format!("calls {}", names.join(", "))),
            reach: format!("operation {}", of.id).into(),
            file: self.shared.text(&facade.file),
            line: facade.node.locate(&steps, true).line,
        }
    }

    fn place_of_call(&mut self, of: Of<'_>, name: &str) -> Arc<RulePlace> {
        let facade = self.from.facade;
        let steps = ["operations", of.id, "calls", name].map(|k| Step::Key(k.into()));
        Arc::new(RulePlace {
            rule: format!("calls {name}").into(),
            reach: self.shared.text(&format!("operation {}", of.id)),
            file: self.shared.text(&facade.file),
            line: facade.node.locate(&steps, true).line,
        })
    }

    pub(super) fn tell_at(
        &mut self,
        severity: Severity,
        steps: &[&str],
        message: String,
        help: &str,
    ) {
        let facade = self.from.facade;
        let steps: Vec<Step> = steps.iter().map(|k| Step::Key((*k).into())).collect();
        let at = facade.node.locate(&steps, true);
        self.findings
            .push(Finding::new(severity, &facade.file, at, message).help(help));
    }

    /// Keys that have no meaning beside several calls, and those that are missing.
    fn only_of_several(&mut self, of: Of<'_>) -> bool {
        let own = self.from.facade.node.get("operations");
        let own = own.and_then(|o| o.get(of.id));
        let there = |key: &str| own.and_then(|o| o.get(key)).is_some();
        if of.doc.call.is_some() {
            let message = "an operation has one `call` or several `calls`".to_owned();
            let help = "give the call a name below `calls:`";
            self.tell_at(
                Severity::Error,
                &["operations", of.id, "call"],
                message,
                help,
            );
        }
        for key in OF_ONE_CALL.into_iter().filter(|k| there(k)) {
            let message = format!("of several calls each has its own “{key}”");
            let help = "write it below the name of the call";
            self.tell_at(Severity::Error, &["operations", of.id, key], message, help);
        }
        if of.doc.reply.is_none() {
            let message = format!("what is made of the answers of “{}” is not said", of.id);
            let help = "add `reply:`, whose values name the answers, as in `=tide.body.level`";
            self.tell_at(
                Severity::Error,
                &["operations", of.id, "calls"],
                message,
                help,
            );
        }
        let (number, most) = (of.doc.calls.len(), MAX_CALLS);
        if number > most {
            let message = format!("“{}” has {number} calls, and {most} are the most", of.id);
            let key = ["operations", of.id, "calls"];
            self.tell_at(Severity::Error, &key, message, "");
        }
        number <= most
    }

    /// One of the calls, with what the others may know of its answer.
    fn one_of_several(
        &mut self,
        of: Of<'a>,
        names: &[&'a str],
        known: &[NamedAnswer],
        i: usize,
        order: &Order,
    ) -> (Option<Call>, NamedAnswer) {
        let name = names[i];
        let doc = &of.doc.calls[i];
        let outside = Among {
            place: ["calls", name].map(str::to_owned).to_vec(),
            ..Among::behind(names, known)
        };
        let of_key = |me: &mut Self, key: &str, text: &Option<String>, what: &str| {
            let steps = ["operations", of.id, "calls", name, key];
            let steps = steps.map(|k| Step::Key(k.to_owned()));
            let place = (&steps[..], text.as_deref()?, what);
            me.expression(place, of.contract_op, Seen::Several(&outside))
        };
        let when = of_key(self, "when", &doc.when, "condition");
        let list = of_key(self, "each", &doc.each, "list");
        let among = Among {
            spot: doc.spot(),
            list: list.as_ref(),
            pages: doc.pages.is_some(),
            messages: doc.messages.is_some(),
            ..outside.clone()
        };
        let wiring = doc.as_operation();
        let compiled = self.call_of(of, &wiring, &among, name);
        let made = compiled.as_ref().map(|(made, _)| made);
        let (messages, shape) = self.messages((of, name, doc), made);
        let answer = self.shaped_answer((of, name, doc), &among, shape.as_ref());
        let (pages, shape) = self.listed((of, name, doc), &among, (shape, answer.as_ref()));
        let seen_by_others = NamedAnswer {
            name: name.to_owned(),
            may_be_absent: doc.may_be_absent(),
            shape,
        };
        let otherwise = self.otherwise((of, name, doc), &among, &seen_by_others);
        let undo = self.undo((of, name, doc), (names, known), &seen_by_others);
        let wired = compiled
            .as_ref()
            .map(|(_, w)| of.routed(&wiring, &among, w));
        let routing = wired.and_then(|routed| self.routing(routed));
        let step = compiled.map(|(compiled, wired)| Call {
            name: self.shared.text(name),
            call: compiled.call,
            backend: wired.index,
            routing,
            needs: order.needs[i].clone(),
            faults: doc.faults.iter().map(|(k, v)| (k.clone(), *v)).collect(),
            plan: Some(Box::new(StepPlan {
                place: self.place_of_call(of, name),
                when,
                each: list.map(|list| self.each(of.id, name, list, doc)),
                pages,
                messages,
                answer,
                statuses: doc.statuses.clone(),
                otherwise,
                writes: order.writes[i],
                behind: order.behind[i].clone(),
                undo,
            })),
        });
        (step, seen_by_others)
    }

    /// Compiles one call by its backend's kind.
    fn call_of(
        &mut self,
        of: Of<'a>,
        wiring: &OperationDoc,
        among: &Among<'_>,
        name: &str,
    ) -> Option<(Compiled, Wired)> {
        let call = wiring.call.as_ref()?;
        let wired = self.wired_as(&of.doc.calls[name].backend, of.id, &["calls", name])?;
        let facade = self.from.facade;
        self.step_keys((of.id, name), wired.kind.keys().operation);
        self.fault_statuses_of(&["operations", of.id, "calls", name], &wiring.faults);
        let mut compiler = CallCompiler {
            facade,
            text: self.from.files.get(&facade.file).map_or("", String::as_str),
            contract: self.from.contract,
            contract_op: of.contract_op,
            id: of.id,
            doc: wiring,
            call,
            backend: &wired.backend,
            definition: wired.definition.clone(),
            sides: wired.sides.clone(),
            lent: &self.lent,
            among: Some(among),
            used: &self.used,
            findings: &mut self.findings,
        };
        let compiled = wired.kind.call(&mut compiler)?;
        Some((compiled, wired))
    }

    /// What is made of the answer of one call.
    fn shaped_answer(
        &mut self,
        (of, name, doc): (Of<'a>, &str, &NamedCallDoc),
        among: &Among<'_>,
        shape: Option<&crate::wiring::AnswerShape>,
    ) -> Option<Template> {
        let value = doc.answer.as_ref()?;
        let among = Among {
            spot: Spot::Answer {
                each: doc.each.is_some(),
            },
            ..among.clone()
        };
        let shapes = Shapes {
            answer: shape.and_then(|s| s.of_body()),
            soap_header: shape.and_then(|s| s.of_soap_header()),
        };
        let steps = ["operations", of.id, "calls", name, "answer"];
        let steps = steps.map(|k| Step::Key(k.to_owned()));
        self.template_of(of, (&steps, value), &among, &shapes, None)
    }

    /// What stands for an answer, which must be what the others take it for.
    fn otherwise(
        &mut self,
        (of, name, doc): (Of<'a>, &str, &NamedCallDoc),
        among: &Among<'_>,
        answer: &NamedAnswer,
    ) -> Option<Template> {
        let value = doc.otherwise.as_ref()?;
        // What stands for a list stands for all of its pages.
        let among = &Among {
            pages: false,
            ..among.clone()
        };
        let target = answer.shape.as_ref().and_then(|s| s.of_body());
        // Of a list it stands for one item.
        let target = match doc.each {
            Some(_) => target.and_then(|(root, list)| Some((root, list.get("items")?))),
            None => target,
        };
        let target = target.map(|(root, schema)| Target {
            what: format!("the body of {name}"),
            root,
            schema,
        });
        let steps = ["operations", of.id, "calls", name, "otherwise"];
        let steps = steps.map(|k| Step::Key(k.to_owned()));
        self.template_of(
            of,
            (&steps, value),
            among,
            &Shapes::default(),
            target.as_ref(),
        )
    }

    /// The call that takes one back; it sees that one's answer too.
    fn undo(
        &mut self,
        (of, name, doc): (Of<'a>, &str, &NamedCallDoc),
        (names, known): (&[&str], &[NamedAnswer]),
        own: &NamedAnswer,
    ) -> Option<Call> {
        let wiring = doc.undo_as_operation()?;
        let key = ["operations", of.id, "calls", name, "undo"];
        if doc.each.is_some() {
            let message = "what was called for each of a list is not undone".to_owned();
            self.tell_at(Severity::Error, &key, message, "");
            return None;
        }
        if !doc.changes_something(&of.contract_op.method) {
            let message = format!("“{name}” changes nothing, so there is nothing to undo");
            let help = "say `writes: true` where it does";
            self.tell_at(Severity::Error, &key, message, help);
        }
        let mut known = known.to_vec();
        known.push(own.clone());
        let among = Among {
            place: ["calls", name, "undo"].map(str::to_owned).to_vec(),
            spot: Spot::Call { each: false },
            ..Among::behind(names, &known)
        };
        let (compiled, wired) = self.call_of(of, &wiring, &among, name)?;
        let routing = self.routing(of.routed(&wiring, &among, &wired));
        Some(Call {
            name: self.shared.text(&format!("{name} undone")),
            call: compiled.call,
            backend: wired.index,
            routing,
            needs: Vec::new(),
            faults: Default::default(),
            plan: None,
        })
    }

    fn template_of(
        &mut self,
        of: Of<'a>,
        (steps, value): (&[Step], &Value),
        among: &Among<'_>,
        shapes: &Shapes<'_>,
        target: Option<&Target<'_>>,
    ) -> Option<Template> {
        let facade = self.from.facade;
        let templates = Templates {
            file: &facade.file,
            text: self.from.files.get(&facade.file).map_or("", String::as_str),
            node: &facade.node,
            contract: self.from.contract,
            operation: of.contract_op,
            among: Some(among),
            of_item: false,
            values_are: Use::Here,
            lent: &self.lent,
            used: &self.used,
        };
        let (template, found) = templates.compile(value, steps, true, shapes, target);
        self.findings.extend(found);
        template
    }

    fn reply_of_several(&mut self, of: Of<'a>, among: &Among<'_>) -> Option<Template> {
        let value = of.doc.reply.as_ref()?;
        let contract: &'a porch_contract::Contract = self.from.contract;
        let target = of.contract_op.reply.as_ref().map(|schema| Target {
            what: "the contract's reply".into(),
            root: &contract.document,
            schema,
        });
        let steps = ["operations", of.id, "reply"].map(|k| Step::Key(k.to_owned()));
        let shapes = Shapes::default();
        self.template_of(of, (&steps, value), among, &shapes, target.as_ref())
    }

    /// Statuses that are answers too, of which nothing says what they mean: what is named of such an answer may not be there.
    fn not_refused(&mut self, of: Of<'_>, names: &[&str]) {
        for (i, (name, doc)) in of.doc.calls.iter().enumerate() {
            // What is made of the answers of a list sees their statuses.
            let is_said = doc.otherwise.is_some() || (doc.each.is_some() && doc.answer.is_some());
            if doc.statuses.is_empty() || is_said {
                continue;
            }
            let conditions = of.doc.refuse.iter().map(|r| Value::String(r.when.clone()));
            let mut conditions = conditions.map(|when| self.named(&when, names));
            if conditions.any(|named| named.contains(&i)) {
                continue;
            }
            let all: Vec<String> = doc.statuses.iter().map(u16::to_string).collect();
            let message = format!(
                "“{name}” may answer {}, and nothing says what that means",
                all.join(", ")
            );
            let help = format!(
                "add `refuse: [{{ when: \"={name}.status == {}\", status: …, title: … }}]`",
                all[0]
            );
            let key = ["operations", of.id, "calls", name, "statuses"];
            self.tell_at(Severity::Warning, &key, message, &help);
        }
    }

    /// The names of answers that a structure uses, by their numbers; none where it does not compile.
    fn named(&self, value: &Value, names: &[&str]) -> Vec<usize> {
        let mut roots = REQUEST_ROOTS.to_vec();
        roots.extend(names);
        roots.extend(crate::compiled::OF_CALLS);
        let Ok(template) = Template::compile(value, &roots) else {
            return Vec::new();
        };
        let all = names.iter().enumerate();
        all.filter(|(_, name)| uses(&template, name))
            .map(|(i, _)| i)
            .collect()
    }
}
