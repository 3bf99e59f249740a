//! The files of a description, and what a reference in them leads to.

use std::cell::Cell;
use std::collections::{BTreeMap, HashMap, HashSet};

use porch_contract::{Finding, Node, NodeKind, Position, Severity, from_fragment};
use url::Url;

use crate::text;

/// Lines are counted through all files: each begins at a multiple of this, so that every place knows its file.
const STRIDE: usize = 1 << 28;
/// A description has at most so many files.
const MAX_FILES: usize = 2_000;
/// So many references may lead to one another before something is there.
const MAX_HOPS: usize = 100;
/// So many anchors are looked for.
const MAX_SEARCHES: usize = 200;
/// Of one kind so many findings are told one by one.
const TOLD: usize = 10;

/// The files, read.
pub(crate) struct Sources {
    files: Vec<(String, Node)>,
    index: HashMap<String, usize>,
    /// How many anchors may still be looked for: each takes going through a file.
    searches: Cell<usize>,
}

impl Sources {
    /// Reads the main file, and those that it and they refer to.
    ///
    /// # Errors
    /// When the main file cannot be read.
    pub(crate) fn read(
        texts: &BTreeMap<String, String>,
        main: &str,
        found: &mut Findings,
    ) -> Result<Self, Box<Finding>> {
        let mut sources = Self {
            files: Vec::new(),
            index: HashMap::new(),
            searches: Cell::new(MAX_SEARCHES),
        };
        let by_name: HashMap<&str, &str> = texts.keys().map(|n| (plain(n), n.as_str())).collect();
        let (mut open, mut known) = (vec![main.to_owned()], HashSet::new());
        known.insert(main.to_owned());
        while let Some(name) = open.pop() {
            let number = sources.files.len();
            let text = texts.get(&name).map_or("", String::as_str);
            let read = match text::read(text) {
                Ok(read) => read,
                Err(e) if number == 0 => {
                    return Err(Box::new(Finding::error(&name, e.at, e.message)));
                }
                Err(e) => {
                    let finding = Finding::new(Severity::Warning, &name, e.at, e.message);
                    found.push(finding.help("what refers to this file is left out"));
                    continue;
                }
            };
            found.names.push(name.clone());
            let mut node = read.node;
            shift(&mut node, number * STRIDE);
            for (at, told) in read.borne {
                found.push(Finding::new(Severity::Warning, &name, at, told));
            }
            for reference in references(&node) {
                let wanted = file_of(reference).and_then(|f| resolve(&name, f));
                let Some(file) = wanted.and_then(|w| by_name.get(plain(&w)).copied()) else {
                    continue;
                };
                if known.len() < MAX_FILES && known.insert(file.to_owned()) {
                    open.push(file.to_owned());
                }
            }
            sources.index.insert(plain(&name).to_owned(), number);
            sources.files.push((name, node));
        }
        Ok(sources)
    }

    /// The main file.
    pub(crate) fn main(&self) -> &Node {
        &self.files[0].1
    }

    /// What a reference at a place leads to, those that lead to others followed.
    ///
    /// # Errors
    /// Why it leads nowhere.
    pub(crate) fn follow_from(&self, reference: &str, at: Position) -> Result<&Node, String> {
        let mut node = self.step(reference, at)?;
        for _ in 0..MAX_HOPS {
            let Some(next) = self::reference(node) else {
                return Ok(node);
            };
            node = self.step(next, node.at)?;
        }
        Err("it leads to itself, or through too many others".into())
    }

    /// Where a reference leads, one step.
    fn step(&self, reference: &str, at: Position) -> Result<&Node, String> {
        let (from, _) = &self.files[at.line / STRIDE];
        let root = match file_of(reference) {
            None => &self.files[at.line / STRIDE].1,
            Some(file) => {
                let found = resolve(from, file).and_then(|wanted| self.index.get(plain(&wanted)));
                let found = found.ok_or_else(|| match elsewhere(file) {
                    true => format!("“{file}” was not fetched"),
                    false => format!("there is no file “{file}”"),
                })?;
                &self.files[*found].1
            }
        };
        let pointer = reference.split_once('#').map_or("", |(_, p)| p);
        if pointer.is_empty() || pointer == "/" {
            return Ok(root);
        }
        let Some(steps) = pointer.strip_prefix('/') else {
            let left = self.searches.get().checked_sub(1);
            self.searches
                .set(left.ok_or("there are too many anchors to look for")?);
            return anchored(root, pointer)
                .ok_or_else(|| format!("there is no anchor “{pointer}”"));
        };
        let mut node = root;
        for raw in steps.split('/') {
            // RFC 6901 §6 and §4: percent-encoded as a fragment, then the escapes of pointers.
            let step = from_fragment(raw).replace("~1", "/").replace("~0", "~");
            let next = match &node.kind {
                NodeKind::List(items) => step.parse().ok().and_then(|i: usize| items.get(i)),
                _ => node.get(&step).or_else(|| node.get(raw)),
            };
            node = next.ok_or_else(|| format!("there is no “{step}” in it"))?;
        }
        Ok(node)
    }
}

/// The text of a node that is a reference.
pub(crate) fn reference(node: &Node) -> Option<&str> {
    node.get("$ref").and_then(Node::text)
}

/// The file that a reference names; `None` where it stays in its own.
fn file_of(reference: &str) -> Option<&str> {
    let file = reference.split('#').next().unwrap_or_default().trim();
    (!file.is_empty()).then_some(file)
}

/// Whether a reference names an address.
fn elsewhere(file: &str) -> bool {
    file.contains("://")
}

/// The name or address of a file that is named in another.
pub fn resolve(from: &str, file: &str) -> Option<String> {
    if elsewhere(file) {
        return Url::parse(file).ok().map(String::from);
    }
    if elsewhere(from) {
        return Url::parse(from).ok()?.join(file).ok().map(String::from);
    }
    let file = from_fragment(file);
    let mut parts: Vec<&str> = match file.starts_with('/') {
        true => Vec::new(),
        false => from.split('/').collect(),
    };
    parts.pop();
    for part in file.split('/') {
        match part {
            "" | "." => {}
            ".." => drop(parts.pop()),
            part => parts.push(part),
        }
    }
    Some(parts.join("/"))
}

/// A name without what says nothing.
fn plain(name: &str) -> &str {
    name.trim_start_matches("./")
}

/// Files that a text refers to, as they would be named or addressed; for whoever fetches them.
pub fn files_beside(name: &str, text: &str) -> Vec<String> {
    let Ok(read) = text::read(text) else {
        return Vec::new();
    };
    let mut files: Vec<String> = references(&read.node)
        .into_iter()
        .filter_map(|r| resolve(name, file_of(r)?))
        .collect();
    files.sort_unstable();
    files.dedup();
    files
}

/// Every reference of a tree.
fn references(node: &Node) -> Vec<&str> {
    let (mut found, mut open) = (Vec::new(), vec![node]);
    while let Some(node) = open.pop() {
        found.extend(reference(node));
        match &node.kind {
            NodeKind::Scalar(_) => {}
            NodeKind::List(items) => open.extend(items),
            NodeKind::Map(entries) => open.extend(entries.iter().map(|(.., value)| value)),
        }
    }
    found
}

/// A schema that is known by an anchor (JSON Schema 2020-12 §8.2.2).
fn anchored<'a>(root: &'a Node, name: &str) -> Option<&'a Node> {
    let mut open = vec![root];
    while let Some(node) = open.pop() {
        let anchors = ["$anchor", "$dynamicAnchor"].map(|key| node.get(key).and_then(Node::text));
        if anchors.contains(&Some(name)) {
            return Some(node);
        }
        match &node.kind {
            NodeKind::Scalar(_) => {}
            NodeKind::List(items) => open.extend(items),
            NodeKind::Map(entries) => open.extend(entries.iter().map(|(.., value)| value)),
        }
    }
    None
}

fn shift(node: &mut Node, by: usize) {
    node.at.line += by;
    match &mut node.kind {
        NodeKind::Scalar(_) => {}
        NodeKind::List(items) => items.iter_mut().for_each(|item| shift(item, by)),
        NodeKind::Map(entries) => {
            for (_, at, value) in entries.iter_mut() {
                at.line += by;
                shift(value, by);
            }
        }
    }
}

/// What is found on the way: of one kind a few are told, and how many more there are.
#[derive(Default)]
pub(crate) struct Findings {
    names: Vec<String>,
    list: Vec<Finding>,
    kinds: HashMap<String, usize>,
}

impl Findings {
    pub(crate) fn push(&mut self, finding: Finding) {
        self.list.push(finding);
    }

    /// The file of a place, and the place in it.
    fn place(&self, at: Position) -> (&str, Position) {
        let name = self.names.get(at.line / STRIDE).map_or("", String::as_str);
        let line = at.line % STRIDE;
        (
            name,
            Position {
                line,
                column: at.column,
            },
        )
    }

    /// Notes something down; `kind` is what it has in common with others.
    pub(crate) fn tell(
        &mut self,
        severity: Severity,
        at: Position,
        kind: &str,
        told: String,
        help: &str,
    ) {
        let count = self.kinds.entry(kind.to_owned()).or_default();
        *count += 1;
        if *count > TOLD {
            return;
        }
        let (name, at) = self.place(at);
        let finding = Finding::new(severity, name, at, told).help(help);
        self.list.push(finding);
    }

    /// A finding whose line is counted through all files.
    pub(crate) fn placed(&mut self, mut finding: Finding) {
        let at = Position {
            line: finding.line,
            column: finding.column,
        };
        let (name, at) = self.place(at);
        finding.file = name.to_owned();
        (finding.line, finding.column) = (at.line, at.column);
        self.list.push(finding);
    }

    /// All of them.
    pub(crate) fn all(mut self, main: &str) -> Vec<Finding> {
        let mut more: Vec<(String, usize)> = self.kinds.drain().collect();
        more.sort();
        for (kind, count) in more {
            if let Some(n) = count.checked_sub(TOLD).filter(|n| *n > 0) {
                let message = format!("{kind}: {n} more");
                let at = Position::default();
                self.list
                    .push(Finding::new(Severity::Note, main, at, message));
            }
        }
        self.list
    }
}
