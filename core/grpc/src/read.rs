//! Reading a definition: `.proto` files, descriptor sets, and HTTP rules from a service configuration.

mod compile;
mod configuration;
mod services;
mod sets;
mod shipped;
mod syntax;
mod texts;
mod tree;

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::sync::{Arc, LazyLock};

use porch_contract::{Finding, Node, Position, Severity};

use crate::build::build;
use crate::descriptor::File;
use crate::rule::Rule;
use crate::types::{MessageId, Types};
pub use sets::{as_text, descriptor_set, is_descriptor_set, only};
use shipped::SHIPPED;
use texts::{imports, without_comments};

/// Files by path, with `/` between folders. A descriptor set is a text in base64.
pub type Files = BTreeMap<String, String>;

/// A definition, read.
#[derive(Clone, Debug)]
pub struct Definition {
    /// All types.
    pub types: Arc<Types>,
    /// Services with their methods.
    pub services: Vec<Service>,
    /// What was found on the way.
    pub findings: Vec<Finding>,
    /// The files by the names that others import them by, and the text that each was read from.
    pub used: BTreeMap<String, BTreeSet<String>>,
}

/// A service.
#[derive(Clone, Debug)]
pub struct Service {
    /// Full name.
    pub name: String,
    /// Its comment.
    pub documentation: String,
    /// The file that it stands in, by the name that others import it by.
    pub file: String,
    /// Its methods.
    pub methods: Vec<Method>,
}

/// A method.
#[derive(Clone, Debug)]
pub struct Method {
    /// Its name.
    pub name: String,
    /// Full name: `package.Service/Method`.
    pub full: String,
    /// What it takes.
    pub input: MessageId,
    /// What it gives.
    pub output: MessageId,
    /// Whether callers send several messages.
    pub client_streaming: bool,
    /// Whether the service sends several.
    pub server_streaming: bool,
    /// Whether it is deprecated.
    pub deprecated: bool,
    /// Its comment.
    pub documentation: String,
    /// Its HTTP rules, additional bindings last.
    pub rules: Vec<Rule>,
}

impl Definition {
    /// A method by its full name, `package.Service/Method`; a dot may stand for the slash.
    pub fn method(&self, name: &str) -> Option<&Method> {
        let name = name.trim_start_matches('/');
        let all = || self.services.iter().flat_map(|s| &s.methods);
        all()
            .find(|m| m.full == name)
            .or_else(|| all().find(|m| m.full.replace('/', ".") == name))
    }

    /// All methods.
    pub fn methods(&self) -> impl Iterator<Item = &Method> {
        self.services.iter().flat_map(|s| &s.methods)
    }
}

/// Whether a text is a `.proto` file.
pub fn is_proto(text: &str) -> bool {
    let clean = without_comments(text);
    let mut words = clean
        .split(|c: char| c.is_whitespace() || c == '=' || c == ';' || c == '{')
        .filter(|w| !w.is_empty());
    let first = words.next().unwrap_or_default();
    matches!(
        first,
        "syntax"
            | "edition"
            | "package"
            | "import"
            | "option"
            | "message"
            | "service"
            | "enum"
            | "extend"
    ) && (clean.contains(';') || clean.contains('{'))
        && !clean.contains("openapi:")
}

/// Whether a text is a service configuration (`google.api.Service`).
pub fn is_service_config(text: &str) -> bool {
    text.contains("google.api.Service")
        && Node::parse(text)
            .is_ok_and(|n| n.get("type").and_then(Node::text) == Some("google.api.Service"))
}

/// Whether a text is any part of a gRPC definition.
pub fn is_definition(text: &str) -> bool {
    is_proto(text) || descriptor_set(text).is_some()
}

/// The files that a `.proto` file imports and that are not built in.
pub fn missing_imports(text: &str) -> Vec<String> {
    imports(&without_comments(text))
        .into_iter()
        .filter(|name| !is_built_in(name))
        .collect()
}

/// Whether a file ships with the product.
fn is_built_in(name: &str) -> bool {
    name.starts_with("google/protobuf/") || SHIPPED.iter().any(|(n, _)| *n == name)
}

/// What a reading tells while it goes on: files done, and files in all.
pub type Progress<'a> = &'a (dyn Fn(usize, usize) + Sync);

/// Reads a definition.
///
/// # Errors
/// When nothing in it is a definition, or none of its services can be read.
pub fn read(files: &Files, progress: Progress<'_>) -> Result<Definition, Box<Finding>> {
    let mut gathered = Gathered::default();
    for (path, text) in files.iter().filter(|(_, t)| !is_proto(t)) {
        for file in sets::files_of(text) {
            gathered.add(file, [path.clone()]);
        }
    }
    let mut findings = Vec::new();
    compile::compile(files, &mut gathered, &mut findings, progress)?;
    let configurations: Vec<(&String, &String)> =
        files.iter().filter(|(_, t)| is_service_config(t)).collect();
    for paths in gathered.used.values_mut() {
        paths.extend(configurations.iter().map(|(p, _)| (*p).clone()));
    }
    let (types, found) = build(&gathered.files);
    findings.extend(found);
    let own_rules = configuration::rules_of(&configurations, &mut findings);
    let texts = services::Texts::new(files, &gathered.paths);
    let services = services::services(&gathered.files, &types, own_rules, texts, &mut findings);
    if services.is_empty() {
        return Err(Box::new(no_service(files, findings)));
    }
    Ok(Definition {
        types: Arc::new(types),
        services,
        findings,
        used: gathered.used,
    })
}

/// Why there is no service: what was found wrong, or that there never was one.
fn no_service(files: &Files, findings: Vec<Finding>) -> Finding {
    let others = findings.len().saturating_sub(1);
    if let Some(mut first) = findings.into_iter().next() {
        first.severity = Severity::Error;
        first.message = format!("no gRPC service is left: {}", first.message);
        if others > 0 {
            first.message = format!("{}; and {others} more like it", first.message);
        }
        return first;
    }
    let file = files.keys().next().map_or("", String::as_str);
    Finding::error(
        file,
        Position::default(),
        "no gRPC service is defined in it",
    )
    .help("give the .proto file that has `service …`, its folder, or a descriptor set")
}

/// Descriptors of files, each name once: the first wins.
#[derive(Default)]
struct Gathered {
    files: Vec<File>,
    names: HashSet<String>,
    /// The texts that each was read from.
    used: BTreeMap<String, BTreeSet<String>>,
    /// The path of each that is a text.
    paths: HashMap<String, String>,
}

impl Gathered {
    fn add(&mut self, file: File, from: impl IntoIterator<Item = String>) {
        self.used.entry(file.name.clone()).or_default().extend(from);
        if self.names.insert(file.name.clone()) {
            self.files.push(file);
        }
    }
}

/// The types of `google.rpc.Status` and its usual details: known whether or not a definition imports them.
pub fn status_types() -> &'static Types {
    static TYPES: LazyLock<Types> = LazyLock::new(|| {
        let files = Files::from([("all.proto".to_owned(), ALL_STATUS_TYPES.to_owned())]);
        read(&files, &|_, _| ()).map_or_else(|_| Types::default(), |d| (*d.types).clone())
    });
    &TYPES
}

const ALL_STATUS_TYPES: &str = r#"
syntax = "proto3";
import "google/rpc/status.proto";
import "google/rpc/error_details.proto";
import "google/api/httpbody.proto";
import "google/protobuf/struct.proto";
import "google/protobuf/wrappers.proto";
import "google/protobuf/timestamp.proto";
import "google/protobuf/empty.proto";
import "google/protobuf/field_mask.proto";
message X {}
service All { rpc A(X) returns (X); }
"#;
