//! Descriptions of HTTP backends, as others wrote them: OpenAPI 2.0, 3.0, 3.1 and 3.2, in one file or many, sound or not.
//!
//! What comes of it is an OpenAPI 3.1 document in one piece, and for each of its operations what its backend calls it. A
//! description that does not keep to the standard is read as far as it makes sense; what cannot be published is a finding with
//! file, line and column, and the rest goes on. Nothing is fetched here: references lead to the files that were handed over.

#![forbid(unsafe_code)]

mod build;
mod example;
mod ids;
mod names;
mod operations;
mod path;
mod pattern;
mod schema;
mod servers;
mod shape;
mod sound;
mod sources;
mod text;
mod two;
mod walk;

use std::collections::{BTreeMap, HashSet};

use indexmap::IndexMap;
use porch_contract::{Contract, Finding, Node};

use crate::build::{Entries, list, map, put, text as text_node};
use crate::operations::Paths;
use crate::shape::{INFO, TAG};
use crate::sources::{Findings, Sources};
use crate::walk::Walk;

pub use sources::{files_beside, resolve};

/// Which words a document is written in.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Version {
    /// OpenAPI 2.0.
    Two,
    /// OpenAPI 3.0.
    Three,
    /// OpenAPI 3.1 and later, whose schemas are those of JSON Schema 2020-12.
    New,
}

/// A description, read.
#[derive(Debug)]
pub struct Described {
    /// What is published of it: OpenAPI 3.1, without servers and without what callers must show.
    pub contract: Contract,
    /// Its operations at the backend, by `operationId`.
    pub operations: IndexMap<String, Upstream>,
    /// Addresses of the backend.
    pub servers: Vec<String>,
    /// What the backend demands of its callers, in words.
    pub demanded: Vec<String>,
    /// The standard that it keeps to, as in `OpenAPI 2.0`.
    pub standard: String,
}

/// An operation at its backend.
#[derive(Clone, Debug, Default)]
pub struct Upstream {
    /// Its `operationId`.
    pub id: String,
    /// Its path there, with the part of the query that never changes, where it is another than the contract's.
    pub path: Option<String>,
    /// Its own address, where it has another than the rest.
    pub server: Option<String>,
}

/// Whether a text begins like a description: cheaply, and without reading it.
pub fn is_description(text: &str) -> bool {
    // What stands before a key in its line: looked at from the key back, and not further than keys are indented.
    const BEFORE: usize = 80;
    let begins = |word: &str| {
        text.match_indices(word).any(|(at, _)| {
            let from = text.floor_char_boundary(at.saturating_sub(BEFORE));
            let before = text[from..at].trim_end_matches(['"', '\'']);
            let after = text[at + word.len()..].trim_start_matches(['"', '\'']);
            let line = before.rsplit('\n').next().unwrap_or_default().trim();
            let opens = line.is_empty() || line.ends_with(['{', ',']) || line == "\u{feff}";
            opens && after.trim_start().starts_with(':')
        })
    };
    begins("openapi") || begins("swagger")
}

/// Reads a description; `address` is where the document came from, when it was fetched.
pub fn describe(
    files: &BTreeMap<String, String>,
    main: &str,
    address: &str,
) -> (Option<Described>, Vec<Finding>) {
    let mut found = Findings::default();
    let sources = match Sources::read(files, main, &mut found) {
        Ok(sources) => sources,
        Err(finding) => return (None, vec![*finding]),
    };
    let root = sources.main();
    let (version, standard) = match version(main, root) {
        Ok(known) => known,
        Err(finding) => return (None, vec![*finding]),
    };
    let mut walk = Walk::new(&sources, version, found);
    let info = info(&mut walk, root);
    let mut paths = walk.paths(root);
    ids::give(&mut walk.found, root.at, &mut paths);
    let demanded = servers::demanded(root, &operation_nodes(root));
    let from = if address.contains("://") {
        address
    } else {
        main
    };
    let servers = addresses(root, version, from);
    let (operations, document) = document(&mut walk, root, info, paths, from, &servers);
    let (contract, more) = porch_contract::contract_of(main, &document);
    for finding in more {
        walk.found.placed(finding);
    }
    let findings = walk.found.all(main);
    let described = contract.map(|contract| Described {
        contract,
        operations,
        servers,
        demanded,
        standard,
    });
    (described, findings)
}

fn version(main: &str, root: &Node) -> Result<(Version, String), Box<Finding>> {
    let text = |name: &str| {
        let node = root.get(name)?;
        let text = node.text().map(str::to_owned);
        Some(text.unwrap_or_else(|| node.to_value().to_string()))
    };
    let refused = |message: String, help: &str| {
        Err(Box::new(Finding::error(main, root.at, message).help(help)))
    };
    let standard = |v: &str| format!("OpenAPI {v}");
    match (text("openapi"), text("swagger")) {
        (Some(v), _) if v.starts_with("3.0") || v == "3" => Ok((Version::Three, standard(&v))),
        (Some(v), _) if v.starts_with("3.") => Ok((Version::New, standard(&v))),
        (None, Some(v)) if v.starts_with('2') => Ok((Version::Two, "OpenAPI 2.0".into())),
        (None, Some(v)) => refused(
            format!("version “{v}” of this description is not read"),
            "OpenAPI 2.0, 3.0, 3.1 and 3.2 are",
        ),
        (Some(v), _) => refused(
            format!("OpenAPI “{v}” is not read"),
            "2.0, 3.0, 3.1 and 3.2 are",
        ),
        (None, None) => refused(
            "this is no OpenAPI document".into(),
            "it begins with `openapi: 3.1.0`, `info` and `paths`",
        ),
    }
}

/// The title and what else is said of the whole, with what a contract must have.
fn info(walk: &mut Walk<'_>, root: &Node) -> Node {
    let given = root.get("info").and_then(|info| walk.object(&INFO, info));
    let mut info = given.unwrap_or_else(|| map(root.at, Vec::new()));
    for (name, default) in [("title", "Untitled"), ("version", "1.0.0")] {
        if info.get(name).is_none() {
            let value = text_node(info.at, default);
            put(&mut info, name, value);
        }
    }
    info
}

/// Every operation as it was written.
fn operation_nodes(root: &Node) -> Vec<&Node> {
    let items = root.get("paths").map(Node::entries).unwrap_or_default();
    let operations = items.iter().flat_map(|(_, _, item)| item.entries());
    operations.map(|(_, _, operation)| operation).collect()
}

fn addresses(root: &Node, version: Version, from: &str) -> Vec<String> {
    let given = match version {
        Version::Two => vec![two::server(root)],
        _ => servers::of(root),
    };
    // Without any it is where the document came from (OpenAPI 3.1 §4.8.1, `servers`).
    let given = if given.is_empty() {
        vec!["/".into()]
    } else {
        given
    };
    let mut all: Vec<String> = Vec::new();
    for url in given.iter().filter_map(|url| servers::resolved(url, from)) {
        if !all.contains(&url) {
            all.push(url);
        }
    }
    all
}

fn document(
    walk: &mut Walk<'_>,
    root: &Node,
    info: Node,
    paths: Paths,
    from: &str,
    servers: &[String],
) -> (IndexMap<String, Upstream>, Node) {
    let at = root.at;
    let mut operations = IndexMap::new();
    let (mut items, mut used): (Entries, HashSet<String>) = (Vec::new(), HashSet::new());
    for (path, all) in paths {
        let (mut item, mut others): (Entries, Entries) = (Vec::new(), Vec::new());
        for found in all {
            let tags = found.node.get("tags").map(Node::items).unwrap_or_default();
            used.extend(tags.iter().filter_map(|t| t.text().map(str::to_owned)));
            let mut upstream = found.upstream;
            let own = upstream.server.take();
            let own = own.and_then(|url| servers::resolved(&url, from));
            upstream.server = own.filter(|url| Some(url) != servers.first());
            let known = found.method.to_ascii_lowercase();
            let node_at = found.node.at;
            match porch_contract::is_method(&known) {
                true => item.push((known, node_at, found.node)),
                false => others.push((found.method, node_at, found.node)),
            }
            operations.insert(upstream.id.clone(), upstream);
        }
        if !others.is_empty() {
            item.push(("x-additionalOperations".into(), at, map(at, others)));
        }
        items.push((path, at, map(at, item)));
    }
    let tags = tags(walk, root, &used);
    let mut document: Entries = vec![
        ("openapi".into(), at, text_node(at, "3.1.0")),
        ("info".into(), at, info),
    ];
    if !tags.is_empty() {
        document.push(("tags".into(), at, list(at, tags)));
    }
    document.push(("paths".into(), at, map(at, items)));
    document.push(("components".into(), at, walk.components(at)));
    (operations, map(at, document))
}

/// What is said of the tags that some operation has.
fn tags(walk: &mut Walk<'_>, root: &Node, used: &HashSet<String>) -> Vec<Node> {
    let mut known: HashSet<&str> = HashSet::new();
    let given = root.get("tags").map(Node::items).unwrap_or_default();
    let mut tags = Vec::new();
    for tag in given {
        let Some(name) = tag.get("name").and_then(Node::text) else {
            continue;
        };
        if used.contains(name) && known.insert(name) {
            tags.extend(walk.object(&TAG, &without_news(tag)));
        }
    }
    tags
}

/// A tag without what 3.2 adds to it, which 3.1 has no place for.
fn without_news(tag: &Node) -> Node {
    let mut tag = tag.clone();
    for name in ["summary", "parent", "kind"] {
        build::take(&mut tag, name);
    }
    tag
}
