//! Compiling what a request must be to pass.

use std::collections::HashMap;
use std::sync::Arc;

use porch_contract::{Operation as ContractOperation, ParamType, Parameter, Place};
use serde_json::Value;

use super::levels::{Asked, Level, Scope};
use super::{FacadeCompiler, Wired};
use crate::compiled::{Admission, Demanded, Media, Networks, ParamPlan, RoleRule, RulePlace};
use crate::documents::{MediaType, OperationDoc, Relaxed, UnknownQuery};
use crate::kind::Compiled;
use porch_soap::generic::Mapping;

/// Greatest size of a request body where nothing is said.
const DEFAULT_BODY: u64 = 1 << 20;

/// A reach, and the file that says what holds there.
type Reached = (Arc<str>, String);

/// What operations of one facade share.
#[derive(Default)]
pub(super) struct Shared {
    texts: HashMap<String, Arc<str>>,
    default_body: Option<Arc<RulePlace>>,
    /// Limits and sizes of bodies that reach several operations, by their reach and file.
    pub(super) limits: HashMap<Reached, super::limits::Known>,
    max_body: HashMap<Reached, Arc<RulePlace>>,
    pub(super) networks: HashMap<Reached, Option<Arc<Networks>>>,
    media: Vec<Arc<Media>>,
    /// By what demands them.
    pub(super) credentials: HashMap<String, Arc<Demanded>>,
    pub(super) roles: HashMap<Reached, Option<Arc<RoleRule>>>,
}

impl Shared {
    pub(super) fn text(&mut self, text: &str) -> Arc<str> {
        match self.texts.get(text) {
            Some(known) => known.clone(),
            None => {
                let made: Arc<str> = text.into();
                self.texts.insert(text.to_owned(), made.clone());
                made
            }
        }
    }
}

/// What a request must know of that which stands behind the porch.
#[derive(Default)]
pub(super) struct Behind<'w> {
    /// Whether nothing does, and examples are answered.
    pub(super) is_example: bool,
    /// Whether bodies pass as they come.
    pub(super) passes_bodies: bool,
    /// Whether it reads query parameters that the contract has not.
    pub(super) own_query: bool,
    /// How its XML and JSON stand for each other.
    xml: Option<&'w Mapping>,
    used_query: Option<&'w Vec<String>>,
    spellings: Option<&'w HashMap<String, String>>,
}

impl<'w> Behind<'w> {
    pub(super) fn of(wired: &'w Wired, compiled: &'w Compiled) -> Self {
        Self {
            is_example: false,
            passes_bodies: wired.kind.passes_bodies(),
            own_query: wired.kind.has_own_query(),
            xml: wired.backend.xml.as_ref(),
            used_query: compiled.used_query.as_ref(),
            spellings: Some(&compiled.spellings),
        }
    }

    /// Several calls, of which none gets the request as it is.
    pub(super) fn several() -> Self {
        Self {
            passes_bodies: true,
            ..Self::default()
        }
    }

    /// Nothing: the contract says all there is to know.
    pub(super) fn nothing() -> Self {
        Self {
            is_example: true,
            passes_bodies: true,
            ..Self::default()
        }
    }
}

impl<'a> FacadeCompiler<'a> {
    /// One parameter, compiled.
    fn parameter(&self, p: &Parameter, behind: &Behind<'_>, checks: bool) -> ParamPlan {
        let view = self.from.contract.view(&p.schema);
        // What is looked at besides is a text to expressions.
        let plain = p.shape.is_none();
        let many = plain && p.place != Place::Path && view.types() == ["array"];
        let view = view.items().filter(|_| many).unwrap_or(view);
        let texts = view.value().get("enum").and_then(Value::as_array);
        let texts = texts.into_iter().flatten().filter(|_| plain);
        let known = self
            .kept
            .get(&p.schema)
            .filter(|_| checks && p.shape.is_none());
        ParamPlan {
            between: p.between.filter(|_| p.place != Place::Path && many),
            schema: known.cloned(),
            name: p.name.as_str().into(),
            place: p.place,
            kind: if plain {
                view.param_type()
            } else {
                ParamType::Text
            },
            many,
            required: p.required && p.shape.is_none(),
            may_be_empty: p.may_be_empty,
            of_call: p.place == Place::Query
                && behind
                    .used_query
                    .is_some_and(|used| !used.contains(&p.name)),
            other: (behind.spellings)
                .and_then(|all| all.get(&p.name))
                .filter(|_| p.place == Place::Query)
                .map(|other| other.as_str().into()),
            enumeration: texts
                .map(|v| v.as_str().map_or_else(|| v.to_string(), str::to_owned))
                .collect(),
        }
    }

    pub(super) fn admission(
        &mut self,
        doc: &OperationDoc,
        contract_op: &'a ContractOperation,
        behind: &Behind<'_>,
    ) -> Admission {
        let credentials = self.credentials();
        let roles = self.roles(!credentials.is_empty());
        let limits = self.all_limits(!credentials.is_empty(), contract_op);
        let (max_body, max_body_place) = self.max_body();
        // What has a meaning of its own is not described by a parameter (OpenAPI 3.1 §4.8.12.1).
        let own = |p: &&Parameter| {
            let fields = ["accept", "content-type", "authorization"];
            p.place == Place::Header && fields.iter().any(|n| p.name.eq_ignore_ascii_case(n))
        };
        let described = contract_op.parameters.iter().filter(|p| !own(p));
        let checks = self.checks();
        let parameters = described.map(|p| self.parameter(p, behind, checks));
        let parameters: Box<[_]> = parameters.collect();
        let unknown = self.unknown_query(contract_op, behind, checks);
        let more = |p: &ParamPlan| p.place == Place::Query && p.schema.is_some();
        Admission {
            networks: self.networks(),
            credentials,
            roles,
            limits,
            max_body,
            max_body_place,
            body_required: contract_op
                .body
                .as_ref()
                .is_some_and(|(_, required)| *required),
            shaped: self.shaped(contract_op, checks && !behind.own_query),
            query_schemas: parameters.iter().any(more),
            parameters,
            only_known_query: unknown == UnknownQuery::Refuse,
            drops_unknown_query: unknown == UnknownQuery::Drop,
            body: self.body(contract_op, behind, checks),
            form: self.form(contract_op, checks),
            media: self.media(doc, behind),
        }
    }

    /// Takes out wider levels whose word is a default, for a narrower one that says something itself.
    pub(super) fn relax<'l>(
        &mut self,
        kept: &mut Vec<&'l Level<'a>>,
        level: &Level<'a>,
        key: Relaxed,
        keys: &[&str],
        words: &dyn Fn(&Level<'_>) -> String,
    ) {
        kept.retain(|wider| {
            let relaxed = wider.may_be_relaxed(key);
            if relaxed {
                self.relaxed(wider, level, keys, (words(wider), words(level)));
            }
            !relaxed
        });
    }

    /// Tells of a level that says that there is nothing where a wider one goes on saying something.
    pub(super) fn none_in_vain(
        &mut self,
        (none, level): (bool, &Level<'a>),
        kept: &[&Level<'a>],
        says: &dyn Fn(&Level<'_>) -> bool,
        keys: &[&str],
        words: &dyn Fn(&Level<'_>) -> String,
    ) {
        let Some(wider) = kept.iter().find(|l| none && says(l)) else {
            return;
        };
        let by = self.said_at(wider, keys, words(wider));
        self.does_not_hold((level, wider), keys, &by);
        self.relaxed(level, wider, keys, (words(level), words(wider)));
    }

    fn max_body(&mut self) -> (u64, Arc<RulePlace>) {
        let asked = Asked {
            key: Relaxed::MaxBody,
            keys: &["admit", "max-body"],
            holds: |a: &u64, b| a <= b,
            words: |size| format!("body at most {size} bytes"),
        };
        let said = self.decide(|l| l.admit.max_body.map(|s| s.0), &asked);
        let Some((size, level)) = said else {
            let built_in = || Arc::new(RulePlace::built_in((asked.words)(&DEFAULT_BODY)));
            let place = self.shared.default_body.get_or_insert_with(built_in);
            return (DEFAULT_BODY, place.clone());
        };
        let level = self.levels[level].clone();
        let key = (level.reach.clone(), level.site.file.to_owned());
        if let Some(place) = self.shared.max_body.get(&key) {
            return (size, place.clone());
        }
        let place = Arc::new(self.said_at(&level, asked.keys, (asked.words)(&size)));
        if level.scope == Scope::Operation {
            return (size, place);
        }
        self.shared.max_body.insert(key, place.clone());
        (size, place)
    }

    /// What callers may send and ask for: what the operation says, else the facade, else JSON where the backend speaks XML.
    fn media(&mut self, doc: &OperationDoc, behind: &Behind<'_>) -> Option<Arc<Media>> {
        if behind.is_example {
            return None; // The contract's own types are answered.
        }
        let facade = &self.from.facade.doc;
        let own = if doc.media_types.is_empty() {
            &facade.media_types
        } else {
            &doc.media_types
        };
        let offered = match own.as_slice() {
            [] if behind.xml.is_some() => vec![MediaType::Json],
            [] => return None,
            some => some.to_vec(),
        };
        // The caller's XML looks like the backend's unless the facade says otherwise.
        let mapping = facade
            .xml
            .as_ref()
            .map(|x| x.mapping())
            .or_else(|| behind.xml.cloned())
            .unwrap_or_default();
        let media = Media { offered, mapping };
        if let Some(known) = self.shared.media.iter().find(|m| ***m == media) {
            return Some(known.clone());
        }
        let made = Arc::new(media);
        self.shared.media.push(made.clone());
        Some(made)
    }
}
