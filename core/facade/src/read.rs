//! Reading a set of files into documents.

use std::collections::BTreeMap;

use indexmap::IndexMap;
use porch_contract::{Finding, Node, Position, Step, suggest};
pub(crate) use porch_soap::wsdl::beside;
use serde::de::DeserializeOwned;

use crate::documents::{BackendDoc, EnvironmentDoc, FacadeDoc, OfferDoc, PortalDoc, RulesHead};

/// Files by path, with `/` between folders.
pub type Files = BTreeMap<String, String>;

/// A document with the file it came from.
#[derive(Debug)]
pub struct Document<T> {
    /// Path of the file.
    pub file: String,
    /// The text as a tree with places.
    pub node: Node,
    /// What it says.
    pub doc: T,
}

/// All documents of a set of files.
#[derive(Debug, Default)]
pub struct Documents {
    /// Backends by name.
    pub backends: IndexMap<String, Document<BackendDoc>>,
    /// Facades by name.
    pub facades: IndexMap<String, Document<FacadeDoc>>,
    /// Shared rules by name, as far as they are read before they are used.
    pub rules: IndexMap<String, Document<RulesHead>>,
    /// Environments by name.
    pub environments: IndexMap<String, Document<EnvironmentDoc>>,
    /// Offers by name.
    pub offers: IndexMap<String, Document<OfferDoc>>,
    /// The portal, by its name.
    pub portals: IndexMap<String, Document<PortalDoc>>,
    /// What is wrong with the documents themselves.
    pub findings: Vec<Finding>,
    /// What could not be read as a document, for whatever follows from its absence is no mistake of its own.
    pub unread: Vec<Unread>,
    /// Files that do not say `elm-porch` in so many letters, and were not looked into yet.
    pub(crate) aside: Vec<String>,
}

/// A file that holds a document, or may hold one, and is not among those read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Unread {
    /// Nobody knows what it was.
    Anything,
    /// One of this kind, with this name if it says one.
    Of(String, Option<String>),
}

const KINDS: [&str; 6] = [
    "backend/1",
    "facade/1",
    "rules/1",
    "environment/1",
    "offer/1",
    "portal/1",
];

impl Documents {
    /// Reads every YAML or JSON file that says `elm-porch:` at its top.
    pub fn read(files: &Files) -> Self {
        let mut all = Self::named(files);
        for file in std::mem::take(&mut all.aside) {
            all.look_into(files, &file);
        }
        all
    }

    /// Reads the files that say `elm-porch` somewhere, and lays the others aside: contracts and definitions are long, and
    /// whoever uses them reads them.
    pub(crate) fn named(files: &Files) -> Self {
        let mut all = Self::default();
        let kinds = [".yaml", ".yml", ".json"];
        for (file, text) in files {
            if !kinds.iter().any(|end| file.ends_with(end)) {
                continue;
            }
            if text.contains("elm-porch") {
                all.look_into(files, file);
            } else {
                all.aside.push(file.clone());
            }
        }
        all
    }

    /// Reads one of the files. Gives whether it is well-formed and no document.
    pub(crate) fn look_into(&mut self, files: &Files, file: &str) -> bool {
        let text = files.get(file).map_or("", |t| t);
        match Node::parse(text) {
            Ok(node) if node.get("elm-porch").is_none() => return true,
            Ok(node) => self.take_in(file, node),
            Err(e) => {
                self.findings.push(Finding::error(file, e.at, e.message));
                self.unread.push(Unread::Anything);
            }
        }
        false
    }

    fn take_in(&mut self, file: &str, node: Node) {
        let Some(kind) = node.get("elm-porch") else {
            return;
        };
        let at = kind.at;
        let (before, kind) = (
            self.findings.len(),
            kind.text().unwrap_or_default().to_owned(),
        );
        let name = node.get("name").and_then(Node::text).map(str::to_owned);
        match kind.as_str() {
            "backend/1" => add(
                &mut self.backends,
                &mut self.findings,
                file,
                node,
                |d: &BackendDoc| &d.name,
            ),
            "facade/1" => add(
                &mut self.facades,
                &mut self.findings,
                file,
                node,
                |d: &FacadeDoc| &d.name,
            ),
            "rules/1" => add(
                &mut self.rules,
                &mut self.findings,
                file,
                node,
                |d: &RulesHead| &d.name,
            ),
            "environment/1" => add(
                &mut self.environments,
                &mut self.findings,
                file,
                node,
                |d: &EnvironmentDoc| &d.name,
            ),
            "offer/1" => add(
                &mut self.offers,
                &mut self.findings,
                file,
                node,
                |d: &OfferDoc| &d.name,
            ),
            "portal/1" => add(
                &mut self.portals,
                &mut self.findings,
                file,
                node,
                |d: &PortalDoc| &d.name,
            ),
            other => self.findings.push(no_kind(file, at, other)),
        }
        if self.findings.len() > before {
            self.unread.push(Unread::Of(kind, name));
        }
    }

    /// Whether a document of this kind and name may be among what could not be read.
    pub(crate) fn may_hold(&self, kind: &str, name: Option<&str>) -> bool {
        self.unread.iter().any(|unread| match unread {
            Unread::Anything => true,
            Unread::Of(its, called) => {
                its == kind && (name.is_none() || called.is_none() || called.as_deref() == name)
            }
        })
    }
}

fn no_kind(file: &str, at: Position, found: &str) -> Finding {
    let near = suggest(found, KINDS).map_or_else(
        || format!("known are {}", KINDS.join(", ")),
        |n| format!("did you mean “{n}”?"),
    );
    Finding::error(file, at, format!("“{found}” is no kind of document")).help(near)
}

fn add<T: DeserializeOwned>(
    into: &mut IndexMap<String, Document<T>>,
    findings: &mut Vec<Finding>,
    file: &str,
    node: Node,
    name: fn(&T) -> &String,
) {
    let doc: T = match serde_path_to_error::deserialize(node.to_value()) {
        Ok(doc) => doc,
        Err(e) => return findings.push(shape_error(file, &node, &e)),
    };
    let key = name(&doc).clone();
    let name_at = node.locate(&[Step::Key("name".into())], false);
    if !is_name(&key) {
        findings.push(
            Finding::error(file, name_at, format!("“{key}” is no name"))
                .help("names have lower-case letters, digits and hyphens, and begin with a letter"),
        );
        return;
    }
    if let Some(other) = into.get(&key) {
        findings.push(
            Finding::error(
                file,
                name_at,
                format!("“{key}” stands in {} too", other.file),
            )
            .help("each name stands for one document"),
        );
        return;
    }
    into.insert(
        key,
        Document {
            file: file.to_owned(),
            node,
            doc,
        },
    );
}

/// Whether a text can name a document.
pub(crate) fn is_name(text: &str) -> bool {
    text.len() <= 64
        && text.starts_with(|c: char| c.is_ascii_lowercase())
        && text
            .bytes()
            .all(|b| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'-')
}

pub(crate) fn shape_error(
    file: &str,
    node: &Node,
    error: &serde_path_to_error::Error<serde_json::Error>,
) -> Finding {
    use serde_path_to_error::Segment;
    let mut path: Vec<Step> = error
        .path()
        .iter()
        .filter_map(|s| match s {
            Segment::Map { key } => Some(Step::Key(key.clone())),
            Segment::Seq { index } => Some(Step::Index(*index)),
            _ => None,
        })
        .collect();
    let message = error.inner().to_string();
    let quoted: Vec<&str> = message.split('`').skip(1).step_by(2).collect();
    if message.starts_with("unknown field")
        && let Some((unknown, known)) = quoted.split_first()
    {
        path.retain(|s| *s != Step::Key((*unknown).to_owned()));
        path.push(Step::Key((*unknown).to_owned()));
        let at = node.locate(&path, true);
        let help = match suggest(unknown, known.iter().copied()) {
            Some(near) => format!("did you mean “{near}”?"),
            None => format!("known here: {}", known.join(", ")),
        };
        return Finding::error(file, at, format!("“{unknown}” is not known here")).help(help);
    }
    if message.starts_with("missing field") {
        let at = node.locate(&path, true);
        return Finding::error(
            file,
            at,
            format!("“{}” is missing", quoted.first().unwrap_or(&"")),
        )
        .help("");
    }
    if message.starts_with("unknown variant")
        && let Some((unknown, known)) = quoted.split_first()
    {
        return Finding::error(
            file,
            node.locate(&path, false),
            format!("“{unknown}” is not known here"),
        )
        .help(format!("known are {}", known.join(", ")));
    }
    let at = node.locate(&path, false);
    if path.contains(&Step::Key("limits".into())) && message.contains("expected struct") {
        return Finding::error(file, at, in_words(&message)).help(limit_help(&message));
    }
    Finding::error(file, at, in_words(&message))
}

/// The reader's message about a value of another kind, without the names of this program's types.
fn in_words(message: &str) -> String {
    // A number with a sign, a fraction or too many digits.
    if message == "invalid number" {
        return "a whole number is expected here, from 0 and not too large".to_owned();
    }
    let Some((found, expected)) = message
        .strip_prefix("invalid type: ")
        .and_then(|m| m.split_once(", expected "))
    else {
        return message.to_owned();
    };
    let (kind, value) = found.split_once(' ').unwrap_or((found, ""));
    let value = value.trim_matches(['"', '`']);
    let found = match kind {
        "string" => format!("“{value}” is a text"),
        "integer" | "floating" => {
            format!("{} is a number", value.trim_start_matches("point `"))
        }
        "boolean" => format!("{value} is a truth value"),
        "map" => "this is an object".to_owned(),
        "sequence" => "this is a list".to_owned(),
        _ => "nothing stands here".to_owned(),
    };
    let expected = match expected {
        e if e.starts_with("struct ") || e.contains("map") => "an object",
        e if e.contains("sequence") => "a list",
        e if e.contains("string") => "a text",
        e if e.contains("boolean") => "true or false",
        e if e.starts_with(['u', 'i']) => "a whole number",
        _ => "something else",
    };
    format!("{found}; {expected} is expected here")
}

/// How a limit is written, with the numbers of one that was written as `3/minute`.
fn limit_help(message: &str) -> String {
    let text = message.split('"').nth(1).unwrap_or_default();
    let parts = text.split_once(['/', ' ']).and_then(|(number, unit)| {
        let number: u32 = number.trim().parse().ok().filter(|n| *n > 0)?;
        let unit = unit.trim().trim_start_matches("per ").trim_end_matches('s');
        let unit = match unit {
            "second" | "sec" | "s" => "1s",
            "minute" | "min" | "m" => "1m",
            "hour" | "h" => "1h",
            "day" | "d" => "1d",
            _ => return None,
        };
        Some((number, unit))
    });
    let (number, unit) = parts.unwrap_or((60, "1m"));
    format!("write {{ requests: {number}, window: {unit} }}")
}

/// Where an expression's character stands: the expression begins `offset` characters behind the value's first one.
pub(crate) fn inside(text: &str, at: Position, offset: usize) -> Position {
    let quoted = text
        .lines()
        .nth(at.line.saturating_sub(1))
        .and_then(|l| l.chars().nth(at.column.saturating_sub(1)))
        .is_some_and(|c| matches!(c, '"' | '\''));
    Position {
        line: at.line,
        column: at.column + offset + usize::from(quoted),
    }
}
