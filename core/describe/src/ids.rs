//! `operationId`s for operations that have none, or one that another has (OpenAPI 3.1 §4.8.10): the same every time.

use porch_contract::{Position, Severity};

use crate::build::{put, text};
use crate::names::Names;
use crate::operations::Paths;
use crate::sources::Findings;

/// So many names are told one by one.
const TOLD: usize = 5;

/// Gives each operation an id of its own; those that have one keep it. Says which were given.
pub(crate) fn give(found: &mut Findings, at: Position, paths: &mut Paths) {
    let mut taken = Names::default();
    let mut without = Vec::new();
    for (path, all) in paths.iter_mut() {
        for one in all {
            let own = one.upstream.id.clone();
            if own.is_empty() || !taken.take(&own) {
                without.push((path.clone(), one));
            }
        }
    }
    let mut given = Vec::new();
    for (path, one) in without {
        let wanted = made_of(&one.method, &path);
        let id = taken.give(&wanted, "");
        one.upstream.id.clone_from(&id);
        given.push(id);
    }
    for one in paths.values_mut().flatten() {
        let id = text(one.node.at, &one.upstream.id);
        put(&mut one.node, "operationId", id);
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
        found.tell(
            Severity::Note,
            at,
            "operation without an id",
            message,
            &help,
        );
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
    id.truncate(id.floor_char_boundary(100));
    id
}
