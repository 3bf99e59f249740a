//! Compiling what a request must be to pass.

use std::collections::HashMap;
use std::sync::Arc;

use http::HeaderValue;
use porch_contract::{
    Finding, Operation as ContractOperation, ParamType, Parameter, Place, Position, Step,
};
use porch_rules::limit::{Limit, stable_id};
use serde_json::Value;

use super::{FacadeCompiler, Wired};
use crate::compiled::{Admission, CredentialRule, LimitPlan, Media, ParamPlan, RulePlace};
use crate::documents::{
    AdmitDoc, CredentialKind, LimitDoc, MediaType, OperationDoc, Per, UnknownQuery,
};
use crate::kind::Compiled;
use crate::units::duration_text;
use porch_soap::generic::Mapping;

/// Greatest size of a request body where nothing is said.
const DEFAULT_BODY: u64 = 1 << 20;

/// What operations of one facade share.
#[derive(Default)]
pub(super) struct Shared {
    texts: HashMap<String, Arc<str>>,
    default_body: Option<Arc<RulePlace>>,
    /// The facade's own limits and body size, and whether they were looked at.
    limits: Option<Vec<Arc<LimitPlan>>>,
    max_body: Option<Arc<RulePlace>>,
    media: Vec<Arc<Media>>,
    credentials: Option<Arc<[CredentialRule]>>,
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

impl FacadeCompiler<'_> {
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
        id: &str,
        doc: &OperationDoc,
        contract_op: &ContractOperation,
        behind: &Behind<'_>,
    ) -> Admission {
        let own = ["operations", id, "admit"].map(|k| Step::Key(k.into()));
        let credentials = self.credentials(id, doc, &own);
        let limits = self.all_limits(id, doc, &own, !credentials.is_empty());
        let (max_body, max_body_place) = self.max_body(id, doc, &own);
        // What has a meaning of its own is not described by a parameter (OpenAPI 3.1 §4.8.12.1).
        let own = |p: &&Parameter| {
            let fields = ["accept", "content-type", "authorization"];
            p.place == Place::Header && fields.iter().any(|n| p.name.eq_ignore_ascii_case(n))
        };
        let described = contract_op.parameters.iter().filter(|p| !own(p));
        let checks = self.checks(doc);
        let parameters = described.map(|p| self.parameter(p, behind, checks));
        let parameters: Box<[_]> = parameters.collect();
        let unknown = self.unknown_query(doc, contract_op, behind);
        let more = |p: &ParamPlan| p.place == Place::Query && p.schema.is_some();
        Admission {
            credentials,
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
            body: self.body(doc, contract_op, behind),
            media: self.media(doc, behind),
        }
    }

    fn place(&mut self, rule: String, reach: String, at: Position) -> RulePlace {
        let file = self.from.facade.file.clone();
        RulePlace {
            rule: rule.into(),
            reach: reach.into(),
            file: self.shared.text(&file),
            line: at.line,
        }
    }

    fn facade_reach(&self) -> String {
        format!("facade {}", self.from.facade.doc.name)
    }

    fn locate(&self, path: &[Step], key: &str) -> Position {
        let steps: Vec<Step> = path
            .iter()
            .cloned()
            .chain([Step::Key(key.into())])
            .collect();
        self.from.facade.node.locate(&steps, false)
    }

    fn credentials(&mut self, id: &str, doc: &OperationDoc, own: &[Step]) -> Arc<[CredentialRule]> {
        let all = &self.from.facade.doc.admit.credentials;
        if !all.is_empty() {
            if self.shared.credentials.is_none() {
                let at = self.locate(&[Step::Key("admit".into())], "credentials");
                let reach = self.facade_reach();
                self.shared.credentials = Some(self.credential_rules(all, &reach, at));
            }
            return self.shared.credentials.clone().unwrap_or_default();
        }
        let at = self.locate(own, "credentials");
        self.credential_rules(&doc.admit.credentials, &format!("operation {id}"), at)
    }

    fn credential_rules(
        &mut self,
        kinds: &[CredentialKind],
        reach: &str,
        at: Position,
    ) -> Arc<[CredentialRule]> {
        kinds
            .iter()
            .map(|kind| CredentialRule {
                kind: *kind,
                place: self.place(
                    format!("a {} is demanded", kind.label()),
                    reach.to_owned(),
                    at,
                ),
            })
            .collect()
    }

    /// The limits that hold: the facade's, compiled once, and the operation's own.
    fn all_limits(
        &mut self,
        id: &str,
        doc: &OperationDoc,
        own: &[Step],
        known: bool,
    ) -> Vec<Arc<LimitPlan>> {
        let all = &self.from.facade.doc.admit;
        if self.shared.limits.is_none() || !known {
            let reach = self.facade_reach();
            let plans = self.limits(all, &reach, "", known, &[Step::Key("admit".into())]);
            self.shared.limits = Some(plans);
        }
        let mut limits = self.shared.limits.clone().unwrap_or_default();
        limits.extend(self.limits(&doc.admit, &format!("operation {id}"), id, known, own));
        limits
    }

    fn limits(
        &mut self,
        admit: &AdmitDoc,
        reach: &str,
        id: &str,
        known: bool,
        path: &[Step],
    ) -> Vec<Arc<LimitPlan>> {
        let mut plans = Vec::new();
        for (i, doc) in admit.limits.iter().enumerate() {
            let steps = [Step::Key("limits".into()), Step::Index(i)];
            let here: Vec<Step> = path.iter().cloned().chain(steps).collect();
            let at = self.from.facade.node.locate(&here, false);
            self.limit_makes_sense(doc, known, at);
            // A limit is the same one when only its number changes: what was counted goes on counting.
            let same = |other: &&LimitDoc| other.per == doc.per && other.window == doc.window;
            let before = admit.limits[..i].iter().filter(same).count();
            let key = format!("{}/{before}", doc.per.label());
            plans.push(Arc::new(self.limit(doc, reach, id, &key, at)));
        }
        plans
    }

    fn limit_makes_sense(&mut self, doc: &LimitDoc, known: bool, at: Position) {
        let mut error = |message: &str, help: &str| {
            let finding = Finding::error(&self.from.facade.file, at, message).help(help);
            if !self.findings.contains(&finding) {
                self.findings.push(finding);
            }
        };
        if doc.per == Per::Consumer && !known {
            error(
                "a limit per consumer needs callers that are known",
                "add `credentials: [key]`, or count `per: address` or `per: everyone`",
            );
        }
        if doc.requests == 0 {
            error(
                "a limit of 0 lets nobody pass",
                "pause the operation instead",
            );
        }
    }

    fn limit(
        &mut self,
        doc: &LimitDoc,
        reach: &str,
        id: &str,
        key: &str,
        at: Position,
    ) -> LimitPlan {
        let facade = &self.from.facade.doc.name;
        let window = duration_text(doc.window.0);
        let name = if id.is_empty() { facade } else { id };
        let seconds = doc.window.0.as_millis().div_ceil(1000);
        let policy = format!("\"{name}\";q={};w={seconds}", doc.requests);
        let rule = format!("limit {} in {window} per {}", doc.requests, doc.per.label());
        LimitPlan {
            id: stable_id(&format!("{facade}/{id}/{window}/{key}")),
            limit: Limit {
                requests: doc.requests,
                window: doc.window.0,
            },
            per: doc.per,
            policy: HeaderValue::from_str(&policy).unwrap_or(HeaderValue::from_static("")),
            name: name.into(),
            place: self.place(rule, reach.to_owned(), at),
        }
    }

    fn max_body(&mut self, id: &str, doc: &OperationDoc, own: &[Step]) -> (u64, Arc<RulePlace>) {
        let rule = |size: u64| format!("body at most {size} bytes");
        let (all, here) = (self.from.facade.doc.admit.max_body, doc.admit.max_body);
        if let Some(size) = here.filter(|h| all.is_none_or(|f| h.0 <= f.0)) {
            let at = self.locate(own, "max-body");
            let place = self.place(rule(size.0), format!("operation {id}"), at);
            return (size.0, Arc::new(place));
        }
        if let Some(size) = all {
            if self.shared.max_body.is_none() {
                let at = self.locate(&[Step::Key("admit".into())], "max-body");
                let reach = self.facade_reach();
                self.shared.max_body = Some(Arc::new(self.place(rule(size.0), reach, at)));
            }
            if let Some(place) = &self.shared.max_body {
                return (size.0, place.clone());
            }
        }
        let built_in = || Arc::new(RulePlace::built_in(rule(DEFAULT_BODY)));
        let place = self.shared.default_body.get_or_insert_with(built_in);
        (DEFAULT_BODY, place.clone())
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
