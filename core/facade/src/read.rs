//! Reading a set of files into documents.

use std::collections::BTreeMap;

use indexmap::IndexMap;
use porch_contract::{Contract, Finding, Node, Position, Step, suggest};
use porch_soap::Definition;
pub(crate) use porch_soap::wsdl::beside;
use serde::de::DeserializeOwned;

use crate::documents::{BackendDoc, EnvironmentDoc, FacadeDoc};

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
    /// Environments by name.
    pub environments: IndexMap<String, Document<EnvironmentDoc>>,
    /// What is wrong with the documents themselves.
    pub findings: Vec<Finding>,
}

const KINDS: [&str; 3] = ["backend/1", "facade/1", "environment/1"];

impl Documents {
    /// Reads every YAML or JSON file that says `elm-porch:` at its top.
    pub fn read(files: &Files) -> Self {
        let mut all = Self::default();
        for (file, text) in files {
            let yaml = [".yaml", ".yml", ".json"]
                .iter()
                .any(|end| file.ends_with(end));
            if !yaml {
                continue;
            }
            match Node::parse(text) {
                Ok(node) => all.take_in(file, node),
                Err(e) => all.findings.push(Finding::error(file, e.at, e.message)),
            }
        }
        all
    }

    fn take_in(&mut self, file: &str, node: Node) {
        let Some(kind) = node.get("elm-porch") else {
            return;
        };
        let at = kind.at;
        match kind.text().unwrap_or_default() {
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
            "environment/1" => add(
                &mut self.environments,
                &mut self.findings,
                file,
                node,
                |d: &EnvironmentDoc| &d.name,
            ),
            other => {
                let near = suggest(other, KINDS).map_or_else(
                    || format!("known are {}", KINDS.join(", ")),
                    |n| format!("did you mean “{n}”?"),
                );
                self.findings.push(
                    Finding::error(file, at, format!("“{other}” is no kind of document"))
                        .help(near),
                );
            }
        }
    }
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

fn shape_error(
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
    Finding::error(file, node.locate(&path, false), message)
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

/// The contract of a facade, when both can be read.
pub fn contract(files: &Files, documents: &Documents, facade: &str) -> Option<Contract> {
    contract_of(files, documents.facades.get(facade)?).1
}

/// A contract named by a facade.
pub(crate) fn contract_of(
    files: &Files,
    facade: &Document<FacadeDoc>,
) -> (String, Option<Contract>, Vec<Finding>) {
    let path = beside(&facade.file, &facade.doc.contract);
    match files.get(&path) {
        Some(text) => {
            let (contract, findings) = porch_contract::parse_contract(&path, text);
            (path, contract, findings)
        }
        None => {
            let at = facade.node.locate(&[Step::Key("contract".into())], false);
            let near = suggest(&path, files.keys().map(String::as_str))
                .map_or_else(String::new, |n| format!("did you mean “{n}”?"));
            (
                path.clone(),
                None,
                vec![
                    Finding::error(&facade.file, at, format!("there is no file “{path}”"))
                        .help(near),
                ],
            )
        }
    }
}

/// The SOAP definition named by a backend; `Err` holds why there is none.
pub(crate) fn definition_of(
    files: &Files,
    backend: &Document<BackendDoc>,
) -> Result<Definition, Box<Finding>> {
    let at = |key: &str| backend.node.locate(&[Step::Key(key.into())], false);
    let Some(name) = &backend.doc.definition else {
        return Err(Box::new(
            Finding::error(
                &backend.file,
                at("kind"),
                "a SOAP backend needs its definition",
            )
            .help("add `definition: FILE` with its WSDL"),
        ));
    };
    let path = beside(&backend.file, name);
    if !files.contains_key(&path) {
        let near = suggest(&path, files.keys().map(String::as_str))
            .map_or_else(String::new, |n| format!("did you mean “{n}”?"));
        return Err(Box::new(
            Finding::error(
                &backend.file,
                at("definition"),
                format!("there is no file “{path}”"),
            )
            .help(near),
        ));
    }
    let folder = path
        .rsplit_once('/')
        .map(|(f, _)| format!("{f}/"))
        .unwrap_or_default();
    let is_xml = |name: &str, text: &str| {
        name == path
            || [".wsdl", ".xsd", ".xml"]
                .iter()
                .any(|end| name.to_lowercase().ends_with(end))
            || text
                .trim_start_matches('\u{feff}')
                .trim_start()
                .starts_with('<')
    };
    let near = files
        .iter()
        .filter(|(n, t)| n.starts_with(&folder) && is_xml(n, t))
        .map(|(n, t)| (n.clone(), t.clone()))
        .collect();
    match porch_soap::read_port(&near, &path, backend.doc.port.as_deref()) {
        // It is the document that names a port, not the definition.
        Err(finding) if backend.doc.port.is_some() && finding.message.contains("has no port") => {
            Err(Box::new(
                Finding::error(&backend.file, at("port"), finding.message.clone())
                    .help(finding.help.clone()),
            ))
        }
        other => other,
    }
}

/// The files of a gRPC definition: those below a folder, or one file with those around it; by their paths below that.
pub(crate) fn grpc_files(files: &Files, path: &str) -> Files {
    let path = path.trim_end_matches('/');
    let folder = if files.contains_key(path) {
        path.rsplit_once('/')
            .map_or(String::new(), |(f, _)| format!("{f}/"))
    } else {
        format!("{path}/")
    };
    let single = files
        .get(path)
        .is_some_and(|t| porch_grpc::read::descriptor_set(t).is_some());
    let near = files.iter().filter(|(n, _)| {
        if single {
            n.as_str() == path
        } else {
            n.starts_with(&folder)
        }
    });
    let is_part = |text: &str| {
        porch_grpc::read::is_definition(text) || porch_grpc::read::is_service_config(text)
    };
    near.filter(|(_, t)| is_part(t))
        .map(|(n, t)| (n[folder.len()..].to_owned(), t.clone()))
        .collect()
}

/// The gRPC definition named by a backend; `Err` holds why there is none.
pub(crate) fn grpc_definition_of(
    files: &Files,
    backend: &Document<BackendDoc>,
) -> Result<porch_grpc::Definition, Box<Finding>> {
    let at = |key: &str| backend.node.locate(&[Step::Key(key.into())], false);
    let Some(name) = &backend.doc.definition else {
        return Err(Box::new(
            Finding::error(
                &backend.file,
                at("kind"),
                "a gRPC backend needs its definition",
            )
            .help("add `definition: FOLDER` with its .proto files, or a descriptor set"),
        ));
    };
    let path = beside(&backend.file, name.trim_end_matches('/'));
    let found = grpc_files(files, &path);
    if found.is_empty() {
        let near = suggest(&path, files.keys().map(String::as_str))
            .map_or_else(String::new, |n| format!("did you mean “{n}”?"));
        return Err(Box::new(
            Finding::error(
                &backend.file,
                at("definition"),
                format!("there is no .proto file and no descriptor set at “{path}”"),
            )
            .help(near),
        ));
    }
    let below = if files.contains_key(&path) {
        path.rsplit_once('/')
            .map_or(String::new(), |(f, _)| format!("{f}/"))
    } else {
        format!("{path}/")
    };
    porch_grpc::read(&found, &|_, _| ()).map_err(|mut finding| {
        finding.file = format!("{below}{}", finding.file);
        finding
    })
}
