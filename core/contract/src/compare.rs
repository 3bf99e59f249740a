//! Comparing two contracts: what changes for callers, ranked by harm.

use serde::Serialize;
use serde_json::Value;

use crate::{Contract, Operation, SchemaView};

/// What a change does to a caller who does nothing about it.
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
    for (id, before) in &old.operations {
        match new.operations.get(id) {
            None => add(
                Harm::Breaks,
                id,
                format!("{} {} is gone", before.method, before.path),
            ),
            Some(after) => compare_operation(old, new, before, after, &mut |harm, what| {
                add(harm, id, what)
            }),
        }
    }
    for (id, after) in &new.operations {
        if !old.operations.contains_key(id) {
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

fn compare_operation(
    old: &Contract,
    new: &Contract,
    before: &Operation,
    after: &Operation,
    add: &mut dyn FnMut(Harm, String),
) {
    if (&before.method, &before.path) != (&after.method, &after.path) {
        add(
            Harm::Breaks,
            format!(
                "{} {} becomes {} {}",
                before.method, before.path, after.method, after.path
            ),
        );
    }
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
                let (was, is) = (old.view(&p.schema).kind(), new.view(&q.schema).kind());
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
    let nothing = Value::Object(Default::default());
    let body = |o: &Operation| {
        o.body
            .as_ref()
            .map(|(s, _)| s.clone())
            .unwrap_or_else(|| nothing.clone())
    };
    let reply = |o: &Operation| o.reply.clone().unwrap_or_else(|| nothing.clone());
    compare_members(
        old.view(&body(before)),
        new.view(&body(after)),
        "the request's",
        Side::Request,
        0,
        add,
    );
    compare_members(
        old.view(&reply(before)),
        new.view(&reply(after)),
        "the reply's",
        Side::Reply,
        0,
        add,
    );
}

#[derive(Clone, Copy, PartialEq)]
enum Side {
    Request,
    Reply,
}

fn compare_members(
    old: SchemaView<'_>,
    new: SchemaView<'_>,
    whose: &str,
    side: Side,
    depth: usize,
    add: &mut dyn FnMut(Harm, String),
) {
    if depth > 12 {
        return;
    }
    for name in old.property_names() {
        let Some(before) = old.property(name) else {
            continue;
        };
        match new.property(name) {
            None if side == Side::Reply || !new.allows_other_members() => {
                add(Harm::Breaks, format!("{whose} “{name}” is gone"))
            }
            None => {}
            Some(after) => {
                let (was, is) = (before.kind(), after.kind());
                if was != is {
                    add(
                        Harm::Breaks,
                        format!("{whose} “{name}” goes from {was} to {is}"),
                    );
                } else if side == Side::Request && new.requires(name) && !old.requires(name) {
                    add(Harm::Breaks, format!("{whose} “{name}” must now be sent"));
                } else if side == Side::Reply && old.requires(name) && !new.requires(name) {
                    add(Harm::Breaks, format!("{whose} “{name}” may now be absent"));
                } else {
                    let (b, a) = (
                        before.items().unwrap_or(before),
                        after.items().unwrap_or(after),
                    );
                    compare_members(b, a, &format!("{whose} {name} /"), side, depth + 1, add);
                }
            }
        }
    }
    for name in new.property_names() {
        if old.property(name).is_none() {
            let must = side == Side::Request && new.requires(name);
            add(
                if must { Harm::Breaks } else { Harm::Adds },
                format!(
                    "{whose} “{name}” is new{}",
                    if must { " and must be sent" } else { "" }
                ),
            );
        }
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
}
