//! What of an answer is held against the contract.

use std::collections::HashMap;
use std::sync::Arc;

use porch_contract::{Operation as ContractOperation, SchemaView, Written};
use porch_valid::{From, Schemas, Validator};
use serde_json::Value;

use super::FacadeCompiler;
use super::levels::{Asked, decided};
use crate::compiled::{AnswersPlan, BodyType, ResponsePlan, Statuses};
use crate::documents::{AnswersKept, OperationDoc, Relaxed};

/// How what is said of answers compares.
const KEPT: Asked<AnswersKept> = Asked {
    key: Relaxed::Answers,
    keys: &["answers"],
    holds: |a, b| *a as u8 >= *b as u8,
    words: |kept| {
        let text = match kept {
            AnswersKept::Pass => "replies pass, whether they fit the contract or not",
            AnswersKept::Report => {
                "replies that do not fit the contract are counted and told in traces"
            }
            AnswersKept::Refuse => "replies that do not fit the contract are refused with 502",
        };
        text.to_owned()
    },
};

/// Schemas of answers, ready, by the schemas that they are of; those of one contract share their parts.
#[derive(Default)]
pub(super) struct Answered(Option<HashMap<*const Value, Validator>>);

impl<'a> FacadeCompiler<'a> {
    /// What an operation's replies are held against.
    pub(super) fn answers(
        &mut self,
        id: &'a str,
        op: &ContractOperation,
    ) -> Option<Arc<AnswersPlan>> {
        let kept = self.decide(|l| l.answers, &KEPT);
        let refuse = match kept.map_or(AnswersKept::Pass, |(kept, _)| kept) {
            AnswersKept::Pass => return None,
            AnswersKept::Report => false,
            AnswersKept::Refuse => true,
        };
        self.make_ready();
        let root = &self.from.contract.document;
        let written = self.written(id)?;
        let ready = self.answered.0.as_ref()?;
        let responses = responses(root, written).map(|(status, response)| {
            let types = contents(root, response).map(|(name, schema)| BodyType {
                json: schema
                    .and_then(|s| ready.get(&std::ptr::from_ref(s)))
                    .cloned(),
                name,
            });
            let types = types.collect();
            ResponsePlan { status, types }
        });
        Some(Arc::new(AnswersPlan {
            refuse,
            responses: responses.collect(),
            at: op.at,
        }))
    }

    fn kept_answers(&self, id: &'a str, doc: &'a OperationDoc) -> AnswersKept {
        let levels = self.levels_of(id, doc);
        let (kept, _) = decided(&levels, &|l| l.answers, KEPT.key, KEPT.holds);
        kept.map_or(AnswersKept::Pass, |(kept, _)| kept)
    }

    /// Makes the schemas of all answers ready that are held against them.
    fn make_ready(&mut self) {
        if self.answered.0.is_some() {
            return;
        }
        let (contract, facade) = (self.from.contract, self.from.facade);
        let all = facade.doc.operations.iter();
        let all = all.filter(|(id, doc)| self.kept_answers(id, doc) != AnswersKept::Pass);
        let all: Vec<Written<'a>> = all.filter_map(|(id, _)| self.written(id)).collect();
        let mut schemas = Schemas::of(&contract.document, From::Backends);
        let (mut keys, mut added) = (Vec::new(), Vec::new());
        for (_, response) in all.iter().flat_map(|w| responses(&contract.document, *w)) {
            for (_, schema) in contents(&contract.document, response) {
                if let Some(schema) = schema {
                    keys.push(std::ptr::from_ref(schema));
                    added.push(schemas.add(schema));
                }
            }
        }
        self.not_looked_at(&schemas);
        let ready = schemas.ready(&added);
        self.answered.0 = Some(keys.into_iter().zip(ready).collect());
    }
}

/// The responses of an operation, each with its statuses.
fn responses<'a>(
    root: &'a Value,
    written: Written<'a>,
) -> impl Iterator<Item = (Statuses, &'a Value)> {
    let all = written
        .operation
        .get("responses")
        .and_then(Value::as_object);
    all.into_iter().flatten().filter_map(|(code, response)| {
        let status = match code.as_str() {
            "default" => Statuses::Others,
            code => match code.strip_suffix("XX").or(code.strip_suffix("xx")) {
                Some(class) => Statuses::Class(class.parse().ok()?),
                None => Statuses::One(code.parse().ok()?),
            },
        };
        Some((status, SchemaView::new(root, response).value()))
    })
}

/// The media types of a response, without parameters, each with its schema where it may be JSON.
fn contents<'a>(
    root: &'a Value,
    response: &'a Value,
) -> impl Iterator<Item = (String, Option<&'a Value>)> {
    let all = response.get("content").and_then(Value::as_object);
    all.into_iter().flatten().map(|(name, content)| {
        let essence = name.split(';').next().unwrap_or_default().trim();
        let content = SchemaView::new(root, content).value();
        let schema = content.get("schema");
        let json = super::keeping::may_be_json(essence);
        (essence.to_ascii_lowercase(), schema.filter(|_| json))
    })
}
