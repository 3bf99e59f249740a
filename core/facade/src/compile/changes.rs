//! Compiling changes of messages.

mod fields;
mod paths;

use std::sync::Arc;

use indexmap::IndexMap;
use porch_contract::{Finding, Operation as ContractOperation, Position, Step};
use porch_rules::expr::Template;
use porch_rules::patch::{Action, Change, Patch};
use serde_json::Value;

use self::fields::Place;
use super::FacadeCompiler;
use super::levels::{Level, Scope};
use super::refusals::Seen;
use crate::compiled::{BodyChanges, Changes, FieldChange, ITEM, Reply, RulePlace, StatusChange};
use crate::documents::{ChangeDoc, ChangesDoc, FieldChangeDoc};
use crate::wiring::{AnswerShape, Use, looks_into, uses};

/// A list of changes has at most so many.
const MOST: usize = 200;

/// Header fields that say how a message travels, or that are set behind all changes.
const NOT_OF_REQUESTS: [&str; 14] = [
    "host",
    "content-length",
    "transfer-encoding",
    "connection",
    "keep-alive",
    "te",
    "trailer",
    "upgrade",
    "expect",
    "via",
    "forwarded",
    "traceparent",
    "proxy-connection",
    "proxy-authorization",
];
const NOT_OF_REPLIES: [&str; 10] = [
    "content-length",
    "transfer-encoding",
    "connection",
    "keep-alive",
    "trailer",
    "upgrade",
    "traceparent",
    "ratelimit",
    "ratelimit-policy",
    "proxy-connection",
];

/// What of an operation changes are for.
#[derive(Clone, Copy)]
pub(super) struct Changed<'c> {
    /// What its expressions see of answers.
    pub(super) seen: Seen<'c>,
    /// What is known of the JSON that is changed on its way back.
    pub(super) reply: Option<&'c AnswerShape>,
    /// Whether requests go on as HTTP, with the caller's query and body.
    pub(super) is_http: bool,
    /// Whether there is one call whose request can be changed.
    pub(super) one_call: bool,
    /// Whether replies are of several messages, or may go to native callers.
    pub(super) of_messages: bool,
}

/// Where a list of changes stands.
struct Where<'w> {
    /// The steps to `changes`.
    steps: Vec<Step>,
    reach: &'w str,
}

impl<'w> Where<'w> {
    fn of(level: &'w Level<'_>) -> Self {
        Self {
            steps: level.below(&["changes"]),
            reach: &level.reach,
        }
    }
}

impl<'a> FacadeCompiler<'a> {
    /// The changes of an operation, those of the widest reach first.
    pub(super) fn changes(
        &mut self,
        contract_op: &'a ContractOperation,
        of: Changed<'_>,
    ) -> Option<Box<Changes>> {
        let mut changes = Changes::default();
        for level in &*self.levels.clone() {
            self.within(level, |c| c.add(level, contract_op, of, &mut changes));
        }
        self.dates(&mut changes);
        let any = !changes.query.is_empty()
            || !changes.request.is_empty()
            || !changes.request_body.is_empty()
            || !changes.status.is_empty()
            || !changes.reply.is_empty()
            || !changes.reply_body.is_empty();
        any.then(|| Box::new(changes))
    }

    fn add(
        &mut self,
        level: &Level<'a>,
        contract_op: &'a ContractOperation,
        of: Changed<'_>,
        into: &mut Changes,
    ) {
        let doc = level.changes;
        let request = &doc.request;
        let at = Where::of(level);
        self.fit(doc, level, of);
        let before = Seen::Request;
        let mut cx = Context {
            at: &at,
            contract_op,
            seen: before,
            values_are: Use::Sent,
            into,
        };
        if of.one_call {
            let names = Some(&NOT_OF_REQUESTS[..]);
            let headers = self.fields(&["request", "headers"], &request.headers, names, &mut cx);
            cx.into.request.extend(headers);
        }
        if of.one_call && of.is_http {
            cx.values_are = Use::Target;
            let query = self.fields(&["request", "query"], &request.query, None, &mut cx);
            cx.values_are = Use::Sent;
            cx.into.query.extend(query);
            let body = self.body_changes(&["request", "body"], &request.body, &mut cx, None);
            cx.into.request_body.extend(body);
        }
        (cx.seen, cx.values_are) = (of.seen, Use::Here);
        let reply = &doc.reply;
        let names = Some(&NOT_OF_REPLIES[..]);
        let headers = self.fields(&["reply", "headers"], &reply.headers, names, &mut cx);
        cx.into.reply.extend(headers);
        if !of.of_messages {
            let body = self.body_changes(&["reply", "body"], &reply.body, &mut cx, of.reply);
            cx.into.reply_body.extend(body);
        }
        let statuses = self.statuses(&reply.status, &at);
        cx.into.status.extend(statuses);
    }

    /// Tells of changes that have no meaning for what an operation calls. Those of a wider reach are for those that they fit.
    fn fit(&mut self, doc: &ChangesDoc, level: &Level<'a>, of: Changed<'_>) {
        if level.scope != Scope::Operation {
            return;
        }
        let request = &doc.request;
        let any = !request.query.is_empty() || !request.headers.is_empty();
        let any = any || !request.body.is_empty();
        let (keys, message, help) = match () {
            () if any && !of.one_call => (
                vec!["request"],
                "there is no one call whose request could be changed",
                "each of several calls says itself what is sent: `send:`",
            ),
            () if !request.query.is_empty() && !of.is_http => (
                vec!["request", "query"],
                "only requests to HTTP backends have a query",
                "",
            ),
            () if !request.body.is_empty() && !of.is_http => (
                vec!["request", "body"],
                "what is sent to SOAP and gRPC backends is made, and not changed",
                "say it below `send:`",
            ),
            () if !doc.reply.body.is_empty() && of.of_messages => (
                vec!["reply", "body"],
                "what streams, or goes to native callers, is not changed in place",
                "say it below `reply:`, which shapes each message",
            ),
            () => return,
        };
        let keys: Vec<&str> = [&["changes"], keys.as_slice()].concat();
        let found = self.here.node.locate(&level.below(&keys), true);
        self.wrong(found, message.into(), help);
    }

    pub(super) fn wrong(&mut self, at: Position, message: String, help: &str) {
        let file = self.here.file;
        self.findings
            .push(Finding::error(file, at, message).help(help));
    }

    fn fields(
        &mut self,
        keys: &[&str],
        docs: &[FieldChangeDoc],
        fixed: Option<&[&str]>,
        cx: &mut Context<'_, 'a>,
    ) -> Vec<FieldChange> {
        let docs = self.so_many(keys, docs, cx);
        let all = docs.iter().enumerate();
        all.filter_map(|(i, doc)| {
            let steps = cx.steps(keys, i);
            let place = Place {
                steps: &steps,
                fixed,
            };
            self.field(&place, doc, cx)
        })
        .collect()
    }

    /// A list has an end.
    fn so_many<'d, T>(&mut self, keys: &[&str], docs: &'d [T], cx: &Context<'_, 'a>) -> &'d [T] {
        if docs.len() > MOST {
            let steps: Vec<Step> = keys.iter().map(|k| Step::Key((*k).into())).collect();
            let steps = [cx.at.steps.as_slice(), &steps].concat();
            let at = self.here.node.locate(&steps, true);
            let message = format!("{} changes, and {MOST} are the most", docs.len());
            self.wrong(at, message, "");
        }
        &docs[..docs.len().min(MOST)]
    }

    pub(super) fn change_place(
        &mut self,
        rule: String,
        reach: &str,
        line: usize,
    ) -> Arc<RulePlace> {
        Arc::new(RulePlace {
            rule: rule.into(),
            reach: self.shared.text(reach),
            file: self.shared.text(self.here.file),
            line,
        })
    }

    fn statuses(&mut self, docs: &IndexMap<String, u16>, at: &Where<'_>) -> Vec<StatusChange> {
        let mut all = Vec::new();
        for (of, to) in docs {
            let more = ["reply", "status", of].map(|k| Step::Key(k.into()));
            let steps = [at.steps.as_slice(), &more].concat();
            let node = &self.here.node;
            let (key, value) = (node.locate(&steps, true), node.locate(&steps, false));
            let range = match of.as_bytes() {
                [d @ b'2'..=b'5', b'X' | b'x', b'X' | b'x'] => {
                    let first = u16::from(d - b'0') * 100;
                    Some((first, first + 99))
                }
                _ => of.parse().ok().map(|one: u16| (one, one)),
            };
            let range = range.filter(|(first, last)| *first >= 200 && *last < 600);
            let Some(range) = range else {
                let help = "statuses are 200 to 599, or many of them as in 5XX";
                self.wrong(key, format!("“{of}” is no status of a reply"), help);
                continue;
            };
            // What has no body stays what it is (RFC 9110 §15.3.5, §15.4.5).
            if !(200..600).contains(to) || [204, 205, 304].contains(to) {
                let message = format!("{to} is no status that a reply could be given here");
                self.wrong(value, message, "replies with 204, 205 and 304 have no body");
                continue;
            }
            let rule = format!("answers {of} as {to}");
            all.push(StatusChange {
                of: range,
                to: *to,
                place: self.change_place(rule, at.reach, key.line),
            });
        }
        all
    }

    fn body_changes(
        &mut self,
        keys: &[&str],
        docs: &[ChangeDoc],
        cx: &mut Context<'_, 'a>,
        shape: Option<&AnswerShape>,
    ) -> Option<BodyChanges> {
        let docs = self.so_many(keys, docs, cx);
        if docs.is_empty() {
            return None;
        }
        let is_request = keys[0] == "request";
        let mut changes: Vec<Change> = Vec::new();
        for (i, doc) in docs.iter().enumerate() {
            let steps = cx.steps(keys, i);
            let below = |k: &str| [steps.as_slice(), &[Step::Key(k.into())]].concat();
            let mut ready = |key: &'static str, value: &Value| match (key, value) {
                ("when", Value::String(text)) => cx.condition(self, &below(key), text),
                _ => cx.item_template(self, &below(key), value),
            };
            match doc.ready(&mut ready) {
                Ok(change) => {
                    let change = change?;
                    if is_request && matches!(change.action, Action::Link) {
                        let at = self.here.node.locate(&below("op"), false);
                        let message = "links are of replies, which a backend gives".to_owned();
                        self.wrong(at, message, "");
                    }
                    self.items_of_lists(&below("value"), &change);
                    changes.push(change);
                }
                Err((key, why)) => {
                    let at = self.here.node.locate(&below(key), false);
                    self.wrong(at, why, "");
                    return None;
                }
            }
        }
        let first = self.here.node.locate(&cx.steps(keys, 0), false);
        let known = match is_request {
            true => self.of_request(cx.contract_op),
            false => shape.and_then(AnswerShape::of_body),
        };
        if let Some((root, schema)) = known {
            let wrong = paths::check(&changes, root, schema);
            for (i, key, message, help) in wrong {
                let steps = [cx.steps(keys, i).as_slice(), &[Step::Key(key.into())]].concat();
                let at = self.here.node.locate(&steps, false);
                self.wrong(at, message, &help);
            }
        }
        let names: Vec<&str> = changes.iter().map(|c| c.action.name()).collect();
        let what = if is_request { "request" } else { "reply" };
        let rule = format!("changes the {what}'s JSON in place: {}", names.join(", "));
        let patch = match Patch::new(changes) {
            Ok(patch) => patch,
            Err((i, why)) => {
                let at = self.here.node.locate(&cx.steps(keys, i), false);
                self.wrong(at, why, "");
                return None;
            }
        };
        Some(BodyChanges {
            patch,
            place: self.change_place(rule, cx.at.reach, first.line),
        })
    }

    /// There is an item only where a path goes through a list.
    fn items_of_lists(&mut self, steps: &[Step], change: &Change) {
        let names_it = change.action.value().is_some_and(|v| uses(v, ITEM));
        if names_it && !change.path.tokens().iter().any(|t| t == "*") {
            let at = self.here.node.locate(steps, false);
            let message = "there is an “item” only where the path has “*”".to_owned();
            self.wrong(at, message, "");
        }
    }

    /// What the contract says of the body that callers send.
    fn of_request(&self, op: &'a ContractOperation) -> Option<(&'a Value, &'a Value)> {
        let (schema, _) = op.body.as_ref()?;
        Some((&self.from.contract.document, schema))
    }
}

/// What the changes of one list have in common.
struct Context<'c, 'a> {
    at: &'c Where<'c>,
    contract_op: &'a ContractOperation,
    seen: Seen<'c>,
    /// What becomes of the values of its expressions.
    values_are: Use,
    into: &'c mut Changes,
}

impl<'a> Context<'_, 'a> {
    /// The steps to a change of a list.
    fn steps(&self, keys: &[&str], i: usize) -> Vec<Step> {
        let keys = keys.iter().map(|k| Step::Key((*k).into()));
        let own = self.at.steps.iter().cloned().chain(keys);
        own.chain([Step::Index(i)]).collect()
    }

    fn noted(&mut self, template: Option<Template>) -> Option<Template> {
        let template = template?;
        self.into.reads_body |= uses(&template, "body");
        self.into.looks_into |= looks_into(&template);
        Some(template)
    }

    fn template(
        &mut self,
        compiler: &mut FacadeCompiler<'a>,
        steps: &[Step],
        value: &Value,
    ) -> Option<Template> {
        let place = (steps, value);
        let (op, seen) = (self.contract_op, self.seen);
        let made = compiler.structure_in(self.values_are, place, op, seen, false);
        self.noted(made)
    }

    /// The same where an item of a list may be named.
    fn item_template(
        &mut self,
        compiler: &mut FacadeCompiler<'a>,
        steps: &[Step],
        value: &Value,
    ) -> Option<Template> {
        let place = (steps, value);
        let (op, seen) = (self.contract_op, self.seen);
        let made = compiler.structure_of_item(self.values_are, place, op, seen);
        self.noted(made)
    }

    fn condition(
        &mut self,
        compiler: &mut FacadeCompiler<'a>,
        steps: &[Step],
        text: &str,
    ) -> Option<Template> {
        let made = compiler.expression((steps, text, "condition"), self.contract_op, self.seen);
        self.noted(made)
    }
}

/// What a reply must be read for, where messages are changed.
pub(super) fn with_changes(mut reply: Reply, changes: Option<&Changes>) -> Reply {
    if let Some(changes) = changes {
        reply.reads_body |= changes.reads_body || !changes.request_body.is_empty();
        reply.looks_into |= changes.looks_into;
        reply.is_changed = !changes.reply_body.is_empty();
    }
    reply
}
