//! What of a request is held against the contract's schemas.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use porch_contract::{FORM, Finding, Operation as ContractOperation, Place, Severity};
use porch_valid::{Added, From, Schemas, Validator};
use serde_json::Value;

use super::FacadeCompiler;
use super::admission::Behind;
use super::levels::{Asked, decided};
use crate::compiled::{BodyPlan, BodyType, FormPlan};
use crate::documents::{Kept as Keeps, OperationDoc, ReadOnly, Relaxed, UnknownQuery};

/// Validators by the schemas that they are of; those of one contract share their parts.
#[derive(Default)]
pub(super) struct Kept(HashMap<*const Value, Validator>);

impl Kept {
    pub(super) fn get(&self, schema: &Value) -> Option<&Validator> {
        self.0.get(&std::ptr::from_ref(schema))
    }
}

/// Keywords of a parameter that are looked at without a validator.
const LOOKED_AT: [&str; 9] = [
    "type",
    "enum",
    "items",
    "description",
    "title",
    "default",
    "example",
    "examples",
    "deprecated",
];

/// How what is said of requests compares.
const HELD: Asked<Keeps> = Asked {
    key: Relaxed::Contract,
    keys: &["admit", "contract"],
    holds: |a, b| a == b || *a == Keeps::Check,
    words: |kept| {
        let text = match kept {
            Keeps::Check => "requests are held against the contract's schemas",
            Keeps::Pass => "bodies pass as they come, whether they fit the contract or not",
        };
        text.to_owned()
    },
};
const UNKNOWN: Asked<UnknownQuery> = Asked {
    key: Relaxed::UnknownQuery,
    keys: &["admit", "unknown-query"],
    holds: |a, b| *a as u8 <= *b as u8,
    words: |unknown| {
        let becomes = match unknown {
            UnknownQuery::Refuse => "are refused",
            UnknownQuery::Drop => "are taken out",
            UnknownQuery::Pass => "pass",
        };
        format!("query parameters that the contract has not {becomes}")
    },
};
const READ_ONLY: Asked<ReadOnly> = Asked {
    key: Relaxed::ReadOnly,
    keys: &["admit", "read-only"],
    holds: |a, b| *a as u8 <= *b as u8,
    words: |read_only| {
        let becomes = match read_only {
            ReadOnly::Refuse => "are refused",
            ReadOnly::Drop => "are taken out of bodies",
        };
        format!("members that only the service sets {becomes}")
    },
};

/// Whether a schema says more than what is looked at anyhow.
fn says_more(schema: &Value) -> bool {
    let more = |s: &Value| {
        let members = s.as_object().into_iter().flatten();
        let mut names = members.map(|(name, _)| name.as_str());
        names.any(|n| !LOOKED_AT.contains(&n) && !n.starts_with("x-"))
    };
    more(schema) || schema.get("items").is_some_and(more)
}

impl<'a> FacadeCompiler<'a> {
    /// Compiles the schemas that are needed, together: they have much in common.
    pub(super) fn keeping(&mut self) {
        let (contract, facade) = (self.from.contract, self.from.facade);
        let mut schemas = Schemas::of(&contract.document, From::Callers);
        let (mut keys, mut added): (Vec<*const Value>, Vec<Added>) = (Vec::new(), Vec::new());
        let mut others: BTreeMap<&str, Vec<&str>> = BTreeMap::new();
        for (id, doc) in &facade.doc.operations {
            let Some(op) = contract
                .operations
                .get(id)
                .filter(|_| self.checks_of(id, doc))
            else {
                continue;
            };
            let backend = doc.backend();
            let backend = backend.and_then(|b| self.from.documents.backends.get(b));
            let kind = backend.and_then(|b| self.kinds().get(&b.doc.kind));
            // Of several calls none gets the body as it comes.
            let passes = doc.call.is_none() || kind.is_some_and(|k| k.passes_bodies());
            for (name, schema) in op.bodies.iter().filter(|_| passes) {
                if !may_be_json(name) && name != FORM && schema.as_ref().is_some_and(says_more) {
                    others.entry(name).or_default().push(id);
                }
            }
            let bodies = op.bodies.iter();
            let has_members = |name: &str| may_be_json(name) || name == FORM;
            let bodies = bodies.filter(|(name, _)| passes && has_members(name));
            let bodies = bodies.filter_map(|(_, schema)| schema.as_ref());
            let own = kind.is_some_and(|k| k.has_own_query());
            let parameters = op.parameters.iter().chain(&op.cookies).filter(|_| !own);
            let parameters = parameters.filter(|p| p.shape.is_some() || says_more(&p.schema));
            let parameters = parameters.map(|p| &p.schema);
            for schema in bodies.chain(parameters) {
                keys.push(schema);
                added.push(schemas.add(schema));
            }
        }
        self.not_looked_at(&schemas);
        self.other_bodies(&others);
        let ready = schemas.ready(&added);
        self.kept = Kept(keys.into_iter().zip(ready).collect());
    }

    /// Tells which bodies have a schema that nobody is held to: only those of JSON are read.
    fn other_bodies(&mut self, others: &BTreeMap<&str, Vec<&str>>) {
        const SHOWN: usize = 3;
        for (media, ids) in others {
            let shown = ids.iter().take(SHOWN).map(|id| format!("“{id}”"));
            let shown = shown.collect::<Vec<_>>().join(", ");
            let more = match ids.len().saturating_sub(SHOWN) {
                0 => String::new(),
                n => format!(" and {n} more"),
            };
            let message = format!(
                "bodies of {media} are held to their media type and size, and not to a schema: {shown}{more}"
            );
            let first = ids
                .first()
                .and_then(|id| self.from.contract.operations.get(*id));
            let at = first.map_or_else(porch_contract::Position::default, |op| op.at);
            let note = Finding::new(Severity::Note, self.from.contract_file, at, message);
            self.findings.push(note);
        }
    }

    /// Tells what is not enforced.
    pub(super) fn not_looked_at(&mut self, schemas: &Schemas<'_>) {
        for told in schemas.left_out() {
            let message = format!("not held against the contract: {told}");
            let (file, at) = (self.from.contract_file, porch_contract::Position::default());
            self.findings
                .push(Finding::new(Severity::Warning, file, at, message));
        }
    }

    /// Whether the requests of any operation are held against the contract.
    fn checks_of(&self, id: &'a str, doc: &'a OperationDoc) -> bool {
        let levels = self.levels_of(id, doc);
        let (kept, _) = decided(&levels, &|l| l.admit.contract, HELD.key, HELD.holds);
        !matches!(kept, Some((Keeps::Pass, _)))
    }

    /// Whether those of the operation at hand are.
    pub(super) fn checks(&mut self) -> bool {
        let kept = self.decide(|l| l.admit.contract, &HELD);
        !matches!(kept, Some((Keeps::Pass, _)))
    }

    /// What becomes of query parameters that the contract has not. Where one of those that it has takes any names, all are
    /// known (OpenAPI 3.1 §4.8.12.2, objects in the styles `form` and `deepObject`).
    pub(super) fn unknown_query(
        &mut self,
        op: &ContractOperation,
        behind: &Behind<'_>,
        checks: bool,
    ) -> UnknownQuery {
        let any = op
            .parameters
            .iter()
            .any(|p| p.place == Place::Query && p.other && (p.takes_any_name() || !checks));
        let said = self.decide(|l| l.admit.unknown_query, &UNKNOWN);
        match any || behind.own_query {
            true => UnknownQuery::Pass,
            false => said.map_or(UnknownQuery::Refuse, |(said, _)| said),
        }
    }

    /// How forms are read, where the contract has some.
    pub(super) fn form(&self, op: &ContractOperation, checks: bool) -> Option<Arc<FormPlan>> {
        let (_, schema) = op.bodies.iter().find(|(name, _)| name == FORM)?;
        let view = schema.as_ref().map(|s| self.from.contract.view(s));
        let names = view.map_or_else(Vec::new, |v| v.property_names());
        let member = |name: &str| {
            let of = view?.property(name)?;
            let many = of.types() == ["array"];
            let one = of.items().filter(|_| many).unwrap_or(of);
            Some((name.into(), (many, one.param_type())))
        };
        let schema = schema.as_ref().filter(|_| checks);
        Some(Arc::new(FormPlan {
            members: names.into_iter().filter_map(member).collect(),
            schema: schema.and_then(|s| self.kept.get(s)).cloned(),
        }))
    }

    pub(super) fn body(
        &mut self,
        op: &ContractOperation,
        behind: &Behind<'_>,
        checks: bool,
    ) -> Option<Arc<BodyPlan>> {
        let read_only = self.decide(|l| l.admit.read_only, &READ_ONLY);
        let described = !op.bodies.is_empty() && behind.passes_bodies;
        if !described || !checks {
            return None;
        }
        let types = op.bodies.iter().map(|(name, schema)| BodyType {
            name: name.clone(),
            json: schema.as_ref().and_then(|s| self.kept.get(s)).cloned(),
        });
        Some(Arc::new(BodyPlan {
            types: types.collect(),
            required: op.needs_body,
            drops_read_only: matches!(read_only, Some((ReadOnly::Drop, _))),
        }))
    }
}

/// Whether bodies of a media type, or of one in a range, may be JSON (RFC 6839 §3.1).
pub(super) fn may_be_json(name: &str) -> bool {
    name == "application/json" || name.ends_with("+json") || matches!(name, "*/*" | "application/*")
}
