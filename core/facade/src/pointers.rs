//! Places in files whose lines are too long to find a column in: by JSON Pointer (RFC 6901) as well.

use std::collections::BTreeMap;

use porch_contract::{Finding, Node, Position};

use crate::Files;

/// From so long a line on, a column is no help.
const LONG: usize = 300;

/// Adds a pointer to findings that stand in such lines.
pub(crate) fn add(files: &Files, findings: &mut [Finding]) {
    let mut read: BTreeMap<String, Option<Node>> = BTreeMap::new();
    for finding in findings {
        let line = |text: &String| {
            let line = text.lines().nth(finding.line.saturating_sub(1));
            line.is_some_and(|l| l.len() > LONG)
        };
        let Some(text) = files.get(&finding.file).filter(|t| line(t)) else {
            continue;
        };
        let node = read.entry(finding.file.clone());
        let node = node.or_insert_with(|| Node::parse(text).ok());
        let at = Position {
            line: finding.line,
            column: finding.column,
        };
        if let Some(pointer) = node.as_ref().and_then(|n| n.pointer_to(at)) {
            finding.pointer = pointer;
        }
    }
}
