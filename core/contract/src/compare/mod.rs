//! Comparing two contracts: what changes for callers, ranked by harm.

mod unchanged;

use std::collections::{HashMap, HashSet};

use serde::Serialize;
use serde_json::Value;

use self::unchanged::Unchanged;
use crate::{Contract, Operation, PathTemplate, SchemaView};

/// What a change does to a caller who does nothing about it.
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Harm {
    /// Calls that worked will fail, or answers lack what they had.
    Breaks,
    /// Something new that callers may use.
    Adds,
    /// Words only.
    Tells,
}

/// One difference between two contracts.
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Change {
    /// What it does to callers.
    pub harm: Harm,
    /// The operation it is about, or an empty text.
    pub operation: String,
    /// The change in words.
    pub what: String,
}

/// What changes for callers from `old` to `new`, the most harmful first.
pub fn compare(old: &Contract, new: &Contract) -> Vec<Change> {
    let mut changes = Vec::new();
    let mut add = |harm, operation: &str, what: String| {
        changes.push(Change {
            harm,
            operation: operation.to_owned(),
            what,
        })
    };
    if old.version != new.version {
        add(
            Harm::Tells,
            "",
            format!("the version goes from {} to {}", old.version, new.version),
        );
    }
    let (was, now) = (Routes::of(old), Routes::of(new));
    let both = Both {
        old,
        new,
        unchanged: Unchanged::of(&old.document, &new.document),
    };
    for (id, before) in &old.operations {
        let renamed = || now.other(before, old);
        match new.operations.get(id).or_else(renamed) {
            Some(after) if after.id != *id => {
                let same = "callers see no difference, but what is named by it does";
                add(
                    Harm::Tells,
                    id,
                    format!("its operationId is “{}” now: {same}", after.id),
                );
                both.operation(before, after, &mut |harm, what| add(harm, id, what));
            }
            None => add(
                Harm::Breaks,
                id,
                format!("{} {} is gone", before.method, before.path),
            ),
            Some(after) => both.operation(before, after, &mut |harm, what| add(harm, id, what)),
        }
    }
    deprecated(old, new, &mut |id, what| {
        add(Harm::Tells, id, what.to_owned())
    });
    for (id, after) in &new.operations {
        if !old.operations.contains_key(id) && was.other(after, new).is_none() {
            add(
                Harm::Adds,
                id,
                format!("{} {} is new", after.method, after.path),
            );
        }
    }
    changes.sort_by_key(|c| c.harm);
    changes
}

/// Operations that are deprecated now, and those that are not any more (OpenAPI 3.1 §4.8.10).
fn deprecated(old: &Contract, new: &Contract, add: &mut dyn FnMut(&str, &str)) {
    let (was, is) = (old.written(), new.written());
    for id in new.operations.keys() {
        let Some((was, is)) = was.get(id.as_str()).zip(is.get(id.as_str())) else {
            continue;
        };
        let said = |w: &Value| w["deprecated"].as_bool() == Some(true);
        match (said(was.operation), said(is.operation)) {
            (false, true) => add(id, "is deprecated"),
            (true, false) => add(id, "is not deprecated any more"),
            _ => {}
        }
    }
}

/// The operations of a contract by their routes.
struct Routes<'a>(HashMap<(&'a str, &'a PathTemplate), &'a Operation>);

impl<'a> Routes<'a> {
    fn of(contract: &'a Contract) -> Self {
        let all = contract.operations.values();
        Self(all.map(|o| ((o.method.as_str(), &o.path), o)).collect())
    }

    /// The operation that has the route of another contract's under an `operationId` which that one does not have.
    fn other(&self, op: &Operation, its: &Contract) -> Option<&'a Operation> {
        let found = self.0.get(&(op.method.as_str(), &op.path)).copied();
        found.filter(|o| !its.operations.contains_key(&o.id))
    }
}

/// Two contracts of one facade.
struct Both<'a> {
    old: &'a Contract,
    new: &'a Contract,
    unchanged: Unchanged,
}

impl Both<'_> {
    fn parameters(&self, before: &Operation, after: &Operation, add: &mut dyn FnMut(Harm, String)) {
        for p in &before.parameters {
            match after
                .parameters
                .iter()
                .find(|q| q.name == p.name && q.place == p.place)
            {
                None => add(Harm::Breaks, format!("the parameter “{}” is gone", p.name)),
                Some(q) => {
                    if q.required && !p.required {
                        add(
                            Harm::Breaks,
                            format!("the parameter “{}” must now be sent", p.name),
                        );
                    }
                    let (was, is) = (
                        self.old.view(&p.schema).kind(),
                        self.new.view(&q.schema).kind(),
                    );
                    if was != is {
                        add(
                            Harm::Breaks,
                            format!("the parameter “{}” goes from {was} to {is}", p.name),
                        );
                    }
                }
            }
        }
        for q in &after.parameters {
            if !before
                .parameters
                .iter()
                .any(|p| p.name == q.name && p.place == q.place)
            {
                let harm = if q.required { Harm::Breaks } else { Harm::Adds };
                add(
                    harm,
                    format!(
                        "the parameter “{}” is new{}",
                        q.name,
                        if q.required { " and must be sent" } else { "" }
                    ),
                );
            }
        }
    }

    fn operation(&self, before: &Operation, after: &Operation, add: &mut dyn FnMut(Harm, String)) {
        if (&before.method, &before.path) != (&after.method, &after.path) {
            add(
                Harm::Breaks,
                format!(
                    "{} {} becomes {} {}",
                    before.method, before.path, after.method, after.path
                ),
            );
        }
        self.parameters(before, after, add);
        let nothing = Value::Object(Default::default());
        let body = |o: &Operation| {
            o.body
                .as_ref()
                .map(|(s, _)| s.clone())
                .unwrap_or_else(|| nothing.clone())
        };
        let reply = |o: &Operation| o.reply.clone().unwrap_or_else(|| nothing.clone());
        let (old_body, new_body) = (body(before), body(after));
        Members::of(Side::Request, &self.unchanged, add).compare(
            self.old.view(&old_body),
            self.new.view(&new_body),
            "the request's",
            0,
        );
        let (old_reply, new_reply) = (reply(before), reply(after));
        Members::of(Side::Reply, &self.unchanged, add).compare(
            self.old.view(&old_reply),
            self.new.view(&new_reply),
            "the reply's",
            0,
        );
    }
}

#[derive(Clone, Copy, PartialEq)]
enum Side {
    Request,
    Reply,
}

/// Members within members are compared to this depth, and at most so many pairs of schemas for one body.
const MAX_DEPTH: usize = 12;
const MAX_PAIRS: usize = 5_000;

/// The comparison of the members of two bodies; each pair of schemas is compared once.
struct Members<'a> {
    side: Side,
    unchanged: &'a Unchanged,
    add: &'a mut dyn FnMut(Harm, String),
    seen: HashSet<(*const Value, *const Value)>,
}

impl<'a> Members<'a> {
    fn of(side: Side, unchanged: &'a Unchanged, add: &'a mut dyn FnMut(Harm, String)) -> Self {
        Self {
            side,
            unchanged,
            add,
            seen: HashSet::new(),
        }
    }

    fn compare(&mut self, old: SchemaView<'_>, new: SchemaView<'_>, whose: &str, depth: usize) {
        let pair = (
            std::ptr::from_ref(old.value()),
            std::ptr::from_ref(new.value()),
        );
        if self.unchanged.has(old.value(), new.value()) {
            return;
        }
        if depth > MAX_DEPTH || self.seen.len() >= MAX_PAIRS || !self.seen.insert(pair) {
            return;
        }
        let (before, after) = (old.members(), new.members());
        for (name, was) in &before {
            match after.get(name) {
                None if self.side == Side::Reply || !new.allows_other_members() => {
                    (self.add)(Harm::Breaks, format!("{whose} “{name}” is gone"));
                }
                None => {}
                Some(is) => {
                    let required = (old.requires(name), new.requires(name));
                    if !self.differs(name, (*was, *is), required, whose) {
                        let (b, a) = (was.items().unwrap_or(*was), is.items().unwrap_or(*is));
                        self.compare(b, a, &format!("{whose} {name} /"), depth + 1);
                    }
                }
            }
        }
        for name in after.keys().filter(|n| !before.contains_key(*n)) {
            let must = self.side == Side::Request && new.requires(name);
            let (harm, end) = if must {
                (Harm::Breaks, " and must be sent")
            } else {
                (Harm::Adds, "")
            };
            (self.add)(harm, format!("{whose} “{name}” is new{end}"));
        }
    }

    /// Whether a member itself differs, without what is inside it.
    fn differs(
        &mut self,
        name: &str,
        (was, is): (SchemaView<'_>, SchemaView<'_>),
        (did, does): (bool, bool),
        whose: &str,
    ) -> bool {
        let nulls = (was.takes_null(), is.takes_null());
        let (was, is) = (was.kind(), is.kind());
        let what = match self.side {
            _ if was != is => format!("{whose} “{name}” goes from {was} to {is}"),
            Side::Request if does && !did => format!("{whose} “{name}” must now be sent"),
            Side::Reply if did && !does => format!("{whose} “{name}” may now be absent"),
            Side::Request if nulls == (true, false) => {
                format!("{whose} “{name}” may no longer be null")
            }
            Side::Reply if nulls == (false, true) => format!("{whose} “{name}” may now be null"),
            _ => return false,
        };
        (self.add)(Harm::Breaks, what);
        true
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn contract(reply: &str, params: &str) -> Contract {
        let text = format!(
            "openapi: 3.1.0\ninfo: {{title: T, version: '1'}}\npaths:\n  /a:\n    get:\n      operationId: a\n      parameters: [{params}]\n      responses:\n        '200': {{content: {{application/json: {{schema: {reply}}}}}}}\n"
        );
        crate::parse_contract("c", &text).0.unwrap()
    }

    #[test]
    fn harm_comes_first_and_additions_after() {
        let old = contract(
            "{type: object, properties: {fare: {type: number}, note: {type: string}}}",
            "",
        );
        let new = contract(
            "{type: object, properties: {fare: {type: string}, tax: {type: number}}}",
            "{name: q, in: query, required: true}",
        );
        let what: Vec<_> = compare(&old, &new)
            .into_iter()
            .map(|c| (c.harm, c.what))
            .collect();
        assert_eq!(what.iter().filter(|(h, _)| *h == Harm::Breaks).count(), 3);
        assert_eq!(
            what.last().unwrap(),
            &(Harm::Adds, "the reply's “tax” is new".to_owned())
        );
        assert_eq!(compare(&old, &old), []);
    }

    #[test]
    fn an_operation_with_another_id_and_the_same_route_is_told_and_breaks_nobody() {
        let old = contract("{type: object, properties: {fare: {type: number}}}", "");
        let mut new = contract("{type: object, properties: {fare: {type: string}}}", "");
        let mut op = new.operations.shift_remove("a").unwrap();
        op.id = "readA".into();
        new.operations.insert("readA".into(), op);
        let said: Vec<_> = compare(&old, &new)
            .into_iter()
            .map(|c| (c.harm, c.operation, c.what))
            .collect();
        assert_eq!(said.len(), 2, "{said:?}");
        assert_eq!(said[0].0, Harm::Breaks);
        assert!(said[0].2.contains("“fare” goes from number to string"));
        assert_eq!((said[1].0, said[1].1.as_str()), (Harm::Tells, "a"));
        assert!(said[1].2.contains("its operationId is “readA” now"));
        // With another path it is another operation.
        let mut moved = new.clone();
        let op = moved.operations.get_mut("readA").unwrap();
        op.path = crate::PathTemplate::parse("/b").unwrap();
        let said: Vec<_> = compare(&old, &moved)
            .into_iter()
            .map(|c| (c.harm, c.what))
            .collect();
        assert_eq!(said[0], (Harm::Breaks, "GET /a is gone".into()));
        assert_eq!(said[1], (Harm::Adds, "GET /b is new".into()));
    }

    #[test]
    fn contracts_whose_schemas_refer_to_one_another_are_compared_in_bounded_time() {
        let members: String = (0..10)
            .map(|i| format!("m{i}: {{ $ref: '#/components/schemas/S{i}' }}, "))
            .collect();
        let schemas: String = (0..10)
            .map(|i| format!("    S{i}: {{ type: object, properties: {{ {members} own{i}: {{ type: string }} }} }}\n"))
            .collect();
        let text = format!(
            "openapi: 3.1.0\ninfo: {{ title: T, version: 1.0.0 }}\npaths:\n  /a:\n    get:\n      operationId: a\n      responses: {{ '200': {{ description: ok, content: {{ application/json: {{ schema: {{ $ref: '#/components/schemas/S0' }} }} }} }} }}\ncomponents:\n  schemas:\n{schemas}"
        );
        let old = crate::parse_contract("c.yaml", &text).0.unwrap();
        let new = crate::parse_contract("c.yaml", &text.replace("own7", "other"));
        let changes = compare(&old, &new.0.unwrap());
        let told: Vec<&str> = changes.iter().map(|c| c.what.as_str()).collect();
        assert!(
            told.iter().any(|t| t.contains("“own7” is gone")),
            "{told:?}"
        );
        assert!(changes.len() < 100, "{}", changes.len());
    }
}
