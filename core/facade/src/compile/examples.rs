//! Operations that call nothing: examples of the contract, ready to be answered (OpenAPI 3.1 §4.8.12.4, §4.8.17, §4.8.19).

mod answers;

use std::collections::HashMap;
use std::sync::Arc;

use bytes::Bytes;
use porch_contract::{
    Finding, Operation as ContractOperation, Place, SchemaView, Severity, Step, Written,
};
use porch_valid::{From, Schemas, Validator};
use serde_json::{Map, Value};

use super::admission::Behind;
use super::refusals::Seen;
use super::{FacadeCompiler, route};
use crate::compiled::{CompiledOperation, Example, Examples, Given, Reply, RulePlace};
use crate::documents::OperationDoc;
use answers::{Answers, Asked};

/// All examples of a facade have at most so many bytes together.
const MAX_BYTES: usize = 64 << 20;
/// Of one operation at most so many are read.
const MAX_EXAMPLES: usize = 500;

/// What says how a call is made, or what becomes of its answer.
const OF_CALLS: [&str; 8] = [
    "cache",
    "changes",
    "send",
    "soap-headers",
    "body",
    "response-body",
    "reply",
    "faults",
];

/// What the examples of one facade share.
#[derive(Default)]
pub(super) struct Made {
    /// Schemas of answers, ready; none before somebody asks.
    validators: Option<HashMap<*const Value, Validator>>,
    /// Bodies by the values that they were written of, and whether they are JSON.
    bodies: HashMap<(*const Value, bool), Bytes>,
    bytes: usize,
    /// Whether it was told that they are too many.
    too_many: bool,
    /// Values that requests must have, each once.
    values: HashMap<*const Value, Arc<Value>>,
    /// What was made of schemas.
    samples: HashMap<*const Value, Arc<Value>>,
    /// The first mistake of a value, by the schema and the value.
    checked: HashMap<(*const Value, *const Value), Option<String>>,
}

impl Made {
    fn sample(&mut self, root: &Value, schema: Option<&Value>) -> Arc<Value> {
        let view = schema.map(|s| SchemaView::new(root, s));
        let key = view.map_or(std::ptr::null(), |v| std::ptr::from_ref(v.value()));
        let made = || view.map_or_else(|| Value::Object(Map::new()), |v| v.sample());
        let made = || Arc::new(made());
        self.samples.entry(key).or_insert_with(made).clone()
    }

    /// The first mistake of a value, in words.
    fn misfit(
        &mut self,
        schema: Option<&Value>,
        validator: Option<&Validator>,
        value: &Value,
    ) -> Option<String> {
        let key = (std::ptr::from_ref(schema?), std::ptr::from_ref(value));
        let look = || {
            let first = validator?.misfits(value).into_iter().next()?;
            Some(format!("{} {}", first.pointer, first.told))
        };
        self.checked.entry(key).or_insert_with(look).clone()
    }
}

impl<'a> FacadeCompiler<'a> {
    /// An operation that calls nothing.
    pub(super) fn of_examples(
        &mut self,
        id: &'a str,
        doc: &'a OperationDoc,
        contract_op: &'a ContractOperation,
    ) -> CompiledOperation {
        let facade = self.from.facade;
        let at = self.at_operation(id);
        self.says_only_what_calls_nothing(id);
        let message = format!("“{id}” calls nothing: it answers with examples of the contract");
        let help = "say which backend it calls, when there is one: `call: { backend: NAME }`";
        let told = Finding::new(Severity::Warning, &facade.file, at, message).help(help);
        self.findings.push(told);
        let admission = self.admission(doc, contract_op, &Behind::nothing());
        let examples = self.examples(id, contract_op);
        let refusals = self.refusals(id, contract_op, Seen::Request);
        let place = RulePlace {
            rule: self
                .shared
                .text("calls nothing and answers with examples of the contract"),
            reach: format!("operation {id}").into(),
            file: self.shared.text(&facade.file),
            line: at.line,
        };
        CompiledOperation {
            examples: Some(Arc::new(examples)),
            reply: Reply {
                reads_body: refusals.iter().any(|r| r.names("body")),
                ..Reply::default()
            },
            refusals,
            ..self.around(id, (route(contract_op), admission), (place, at))
        }
    }

    fn says_only_what_calls_nothing(&mut self, id: &str) {
        let facade = self.from.facade;
        for key in OF_CALLS {
            let there = facade.node.get("operations").and_then(|o| o.get(id));
            if there.and_then(|o| o.get(key)).is_none() {
                continue;
            }
            let steps = ["operations", id, key].map(|k| Step::Key(k.into()));
            let at = facade.node.locate(&steps, true);
            let message = format!("“{key}” has no meaning without a `call`");
            let help = "say which backend is called: `call: { backend: NAME }`";
            self.findings
                .push(Finding::error(&facade.file, at, message).help(help));
        }
    }

    pub(super) fn written(&self, id: &str) -> Option<Written<'a>> {
        let contract = self.from.contract;
        let all = self.written.get_or_init(|| contract.written());
        all.get(id).copied()
    }

    fn examples(&mut self, id: &str, contract_op: &'a ContractOperation) -> Examples {
        let Some(written) = self.written(id) else {
            return Examples::default();
        };
        let root = &self.from.contract.document;
        let asked = Asked::of(root, written, &mut self.made.values);
        let mut all = Vec::new();
        for answer in Answers::of(root, written).take(MAX_EXAMPLES) {
            let validator = answer.schema.and_then(|s| self.validator(s));
            let value = match answer.value {
                Some(value) => value,
                None => &Value::Null,
            };
            let told = || {
                format!(
                    "the example {}of {}",
                    answer.shown(),
                    answer.status.as_u16()
                )
            };
            if answer.is_json()
                && let Some(misfit) = self.made.misfit(answer.schema, validator.as_ref(), value)
            {
                let message = format!("“{id}”: {} does not fit its schema: {misfit}", told());
                self.tell(contract_op, message);
            }
            let Some(body) = self.body_of(contract_op, id, &answer.media, value) else {
                continue;
            };
            all.push(Example {
                given: answer.name.map_or_else(Vec::new, |n| asked.of_name(n)),
                ..example(&answer, body)
            });
        }
        self.add_made(id, contract_op, written, &mut all);
        Examples { all }
    }

    /// Adds examples of the usual answer that are made of its schemas, for the media types that have none of their own.
    fn add_made(
        &mut self,
        id: &str,
        contract_op: &'a ContractOperation,
        written: Written<'a>,
        all: &mut Vec<Example>,
    ) {
        let root = &self.from.contract.document;
        let has = |all: &[Example], media: &str| {
            let media = Some(media);
            let mut usual = all.iter().filter(|e| e.usual);
            usual.any(|e| e.media.as_ref().map(|m| m.to_str().unwrap_or_default()) == media)
        };
        for answer in Answers::to_make(root, written).take(MAX_EXAMPLES) {
            let Some(media) = &answer.media else {
                all.push(example(&answer, Bytes::new()));
                continue;
            };
            if has(all, media) {
                continue;
            }
            let made = self.made.sample(root, answer.schema);
            let is_text = media.starts_with("text/") && made.is_string();
            if !answer.is_json() && !is_text {
                let message = format!(
                    "“{id}”: no example of {media} can be made: callers who ask for it are told so"
                );
                self.tell(contract_op, message);
                continue;
            }
            let validator = answer.schema.and_then(|s| self.validator(s));
            let misfit = (self.made).misfit(answer.schema, validator.as_ref(), &made);
            if let Some(misfit) = misfit.filter(|_| answer.is_json()) {
                let message = format!(
                    "“{id}”: what is made of the schema of its answer does not fit it ({misfit}): write an example"
                );
                self.tell(contract_op, message);
            }
            let Some(body) = self.body_of(contract_op, id, &answer.media, &made) else {
                return;
            };
            let echoed = echoed(contract_op, &made);
            let may = !echoed.is_empty() || (contract_op.body.is_some() && made.is_object());
            let is_echo = answer.is_json() && may;
            all.push(Example {
                made: true,
                echoed,
                json: is_echo.then_some((made, validator)),
                ..example(&answer, body)
            });
        }
    }

    fn tell(&mut self, contract_op: &ContractOperation, message: String) {
        let (file, at) = (self.from.contract_file, contract_op.at);
        self.findings
            .push(Finding::new(Severity::Warning, file, at, message));
    }

    /// The bytes of a value, each once; `None` where there are too many, or a media type cannot be written.
    fn body_of(
        &mut self,
        contract_op: &ContractOperation,
        id: &str,
        media: &Option<String>,
        value: &Value,
    ) -> Option<Bytes> {
        let is_json = media.as_deref().is_none_or(answers::is_json);
        let key = (std::ptr::from_ref(value), is_json);
        if let Some(known) = self.made.bodies.get(&key) {
            return Some(known.clone());
        }
        let text = match value {
            Value::String(text) if !is_json => text.clone(),
            value if !is_json && !matches!(value, Value::Number(_) | Value::Bool(_)) => {
                let media = media.as_deref().unwrap_or_default();
                let message = format!("“{id}”: an example of {media} is a text, as it is sent");
                self.tell(contract_op, message);
                return None;
            }
            value => value.to_string(),
        };
        let body = self.room_for(contract_op, id, text.into())?;
        self.made.bodies.insert(key, body.clone());
        Some(body)
    }

    fn room_for(
        &mut self,
        contract_op: &ContractOperation,
        id: &str,
        body: Bytes,
    ) -> Option<Bytes> {
        self.made.bytes = self.made.bytes.saturating_add(body.len());
        if self.made.bytes <= MAX_BYTES {
            return Some(body);
        }
        if !std::mem::replace(&mut self.made.too_many, true) {
            let most = MAX_BYTES >> 20;
            let message = format!("“{id}”: the examples of the facade have more than {most} MiB");
            let told = Finding::error(self.from.contract_file, contract_op.at, message);
            self.findings.push(told.help("make them smaller"));
        }
        None
    }

    /// The schema of an answer, ready; all of a facade are made ready together, for they have much in common.
    fn validator(&mut self, schema: &'a Value) -> Option<Validator> {
        if self.made.validators.is_none() {
            let (contract, facade) = (self.from.contract, self.from.facade);
            let all = facade.doc.operations.iter();
            let all = all.filter(|(_, doc)| doc.calls_nothing());
            let all: Vec<Written<'a>> = all.filter_map(|(id, _)| self.written(id)).collect();
            let mut schemas = Schemas::of(&contract.document, From::Backends);
            let (mut keys, mut added) = (Vec::new(), Vec::new());
            for written in all {
                for schema in answers::schemas(&contract.document, written) {
                    keys.push(std::ptr::from_ref(schema));
                    added.push(schemas.add(schema));
                }
            }
            let ready = schemas.ready(&added);
            self.made.validators = Some(keys.into_iter().zip(ready).collect());
        }
        let all = self.made.validators.as_ref()?;
        all.get(&std::ptr::from_ref(schema)).cloned()
    }
}

fn example(answer: &answers::Answer<'_>, body: Bytes) -> Example {
    Example {
        name: answer.name.map(Into::into),
        made: false,
        usual: answer.usual,
        status: answer.status,
        fields: answer.fields.clone(),
        media: answer.media.as_ref().and_then(|m| m.parse().ok()),
        body,
        given: Vec::new(),
        echoed: Vec::new(),
        json: None,
    }
}

/// The members of a made answer that a request says: those that are called as a parameter is.
fn echoed(op: &ContractOperation, made: &Value) -> Vec<Given> {
    let Value::Object(members) = made else {
        return Vec::new();
    };
    let said = op.parameters.iter();
    let said = said.filter(|p| p.place != Place::Header && !p.other);
    said.filter(|p| members.contains_key(&p.name))
        .map(|p| Given {
            place: Some(p.place),
            name: p.name.as_str().into(),
            value: Arc::default(),
        })
        .collect()
}
