//! Places in files whose lines are too long to find a column in: by JSON Pointer (RFC 6901) as well.

use std::collections::{BTreeMap, HashSet};

use porch_contract::{Finding, Node, Position};

use crate::Files;

/// From so long a line on, a column is no help.
const LONG: usize = 300;

/// A file that has long lines.
struct Long {
    lines: HashSet<usize>,
    node: Option<Node>,
}

impl Long {
    /// Each file is gone through once, however many findings it has.
    fn of(text: &str) -> Option<Self> {
        let lines = text.lines().enumerate();
        let lines: HashSet<usize> = lines
            .filter(|(_, line)| line.len() > LONG)
            .map(|(i, _)| i + 1)
            .collect();
        (!lines.is_empty()).then(|| Self {
            lines,
            node: Node::parse(text).ok(),
        })
    }
}

/// Adds a pointer to findings that stand in such lines.
pub(crate) fn add(files: &Files, findings: &mut [Finding]) {
    let mut seen: BTreeMap<String, Option<Long>> = BTreeMap::new();
    for finding in findings {
        let text = || files.get(&finding.file);
        let file = seen.entry(finding.file.clone());
        let file = file.or_insert_with(|| Long::of(text()?));
        let Some(file) = file.as_ref().filter(|f| f.lines.contains(&finding.line)) else {
            continue;
        };
        let at = Position {
            line: finding.line,
            column: finding.column,
        };
        if let Some(pointer) = file.node.as_ref().and_then(|n| n.pointer_to(at)) {
            finding.pointer = pointer;
        }
    }
}
