//! `operationId`s for descriptions that have none, or one twice (OpenAPI 3.1 §4.8.10).

use std::collections::HashSet;

use serde_json::Value;

use crate::openapi::METHODS;
use crate::{Finding, Node, NodeKind, Severity};

/// So many names are told one by one.
const TOLD: usize = 5;

/// Gives each operation an id of its own; those that have one keep it. Says which were given.
pub(crate) fn give_ids(file: &str, document: &mut Node, findings: &mut Vec<Finding>) {
    let mut taken = HashSet::new();
    let mut without: Vec<(&mut Node, String)> = Vec::new();
    let at = document.at;
    for (path, _, item) in members(document, "paths") {
        let path = path.clone();
        let NodeKind::Map(operations) = &mut item.kind else {
            continue;
        };
        for (method, _, operation) in operations {
            if !METHODS.contains(&method.as_str()) || !matches!(operation.kind, NodeKind::Map(_)) {
                continue;
            }
            let own = operation.get("operationId").and_then(Node::text);
            let fits = own.is_some_and(|id| !id.trim().is_empty() && !taken.contains(id));
            match own.filter(|_| fits) {
                Some(id) => drop(taken.insert(id.to_owned())),
                None => without.push((operation, made_of(method, &path))),
            }
        }
    }
    let mut given = Vec::new();
    for (operation, wanted) in without {
        let (mut id, mut n) = (wanted.clone(), 1);
        while !taken.insert(id.clone()) {
            n += 1;
            id = format!("{wanted}{n}");
        }
        let at = operation.at;
        if let NodeKind::Map(entries) = &mut operation.kind {
            entries.retain(|(name, ..)| name != "operationId");
            let value = Node {
                at,
                kind: NodeKind::Scalar(Value::String(id.clone())),
            };
            entries.insert(0, ("operationId".into(), at, value));
        }
        given.push(id);
    }
    if !given.is_empty() {
        let message = match given.len() {
            1 => "an operation has no operationId of its own and gets one".to_owned(),
            n => format!("{n} operations have no operationId of their own and get one"),
        };
        let shown = given[..given.len().min(TOLD)].join(", ");
        let more = match given.len().saturating_sub(TOLD) {
            0 => String::new(),
            n => format!(" and {n} more"),
        };
        let help = format!("made of method and path: {shown}{more}");
        findings.push(Finding::new(Severity::Note, file, at, message).help(help));
    }
}

fn members<'n>(node: &'n mut Node, name: &str) -> &'n mut [(String, crate::Position, Node)] {
    let NodeKind::Map(entries) = &mut node.kind else {
        return &mut [];
    };
    match entries.iter_mut().find(|(key, ..)| key == name) {
        Some((.., child)) => match &mut child.kind {
            NodeKind::Map(entries) => entries,
            _ => &mut [],
        },
        None => &mut [],
    }
}

/// `get /berths/{id}` makes `getBerthsById`.
fn made_of(method: &str, path: &str) -> String {
    let mut id = method.to_ascii_lowercase();
    for segment in path.split(['/', ':']).filter(|s| !s.is_empty()) {
        if segment.starts_with('{') {
            id.push_str("By");
        }
        for word in segment.split(|c: char| !c.is_ascii_alphanumeric()) {
            let mut chars = word.chars();
            id.extend(chars.next().map(|c| c.to_ascii_uppercase()));
            id.push_str(chars.as_str());
        }
    }
    if id.len() == method.len() {
        id.push_str("Root");
    }
    id.truncate(100);
    id
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_operation_has_an_id_of_its_own_and_those_that_had_one_keep_it() {
        let text = "openapi: 3.1.0\ninfo: { title: T, version: '1' }\npaths:\n  /:\n    get: { responses: {} }\n  /berths:\n    get: { responses: {} }\n    post: { operationId: getRoot, responses: {} }\n  /berths/{berth-id}:\n    get: { operationId: getRoot, responses: {} }\n    delete: { operationId: ' ', responses: {} }\n";
        let (contract, findings) = crate::parse_source("t.yaml", text);
        let contract = contract.unwrap();
        let ids: Vec<String> = contract
            .operations
            .values()
            .map(|o| format!("{} {} {}", o.id, o.method, o.path))
            .collect();
        assert_eq!(
            ids,
            [
                "getRoot2 GET /",
                "getBerths GET /berths",
                "getRoot POST /berths",
                "getBerthsByBerthId GET /berths/{berth-id}",
                "deleteBerthsByBerthId DELETE /berths/{berth-id}",
            ]
        );
        assert_eq!(
            contract.document["paths"]["/"]["get"]["operationId"],
            "getRoot2"
        );
        let notes: Vec<&str> = findings
            .iter()
            .filter(|f| f.severity == Severity::Note)
            .map(|f| f.message.as_str())
            .collect();
        assert_eq!(
            notes,
            ["4 operations have no operationId of their own and get one"]
        );
    }
}
