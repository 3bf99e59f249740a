//! Reading a definition: `.proto` files, descriptor sets, and HTTP rules from a service configuration.

mod texts;

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::{Arc, LazyLock};

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use miette::Diagnostic;
use porch_contract::{Finding, Node, Position, Severity};
use prost::Message;
use protox::file::{ChainFileResolver, FileResolver, GoogleFileResolver};

use crate::build::{Builder, Comments};
use crate::descriptor::{CustomPattern, File, HttpRule, RawSet};
use crate::rule::{Rule, rules};
use crate::types::{MessageId, Types};
use texts::{MAX_BRACES, edition, imports, too_deep, without_comments};

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

/// Files that ship with the product, so that nobody has to bring them along.
const SHIPPED: [(&str, &str); 12] = [
    (
        "google/api/annotations.proto",
        include_str!("../standard/google/api/annotations.proto"),
    ),
    (
        "google/api/client.proto",
        include_str!("../standard/google/api/client.proto"),
    ),
    (
        "google/api/field_behavior.proto",
        include_str!("../standard/google/api/field_behavior.proto"),
    ),
    (
        "google/api/http.proto",
        include_str!("../standard/google/api/http.proto"),
    ),
    (
        "google/api/httpbody.proto",
        include_str!("../standard/google/api/httpbody.proto"),
    ),
    (
        "google/api/launch_stage.proto",
        include_str!("../standard/google/api/launch_stage.proto"),
    ),
    (
        "google/api/resource.proto",
        include_str!("../standard/google/api/resource.proto"),
    ),
    (
        "google/api/visibility.proto",
        include_str!("../standard/google/api/visibility.proto"),
    ),
    (
        "google/rpc/code.proto",
        include_str!("../standard/google/rpc/code.proto"),
    ),
    (
        "google/rpc/error_details.proto",
        include_str!("../standard/google/rpc/error_details.proto"),
    ),
    (
        "google/rpc/status.proto",
        include_str!("../standard/google/rpc/status.proto"),
    ),
    (
        "google/api/label.proto",
        include_str!("../standard/google/api/label.proto"),
    ),
];

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

/// The bytes of a descriptor set that is a text in base64.
pub fn descriptor_set(text: &str) -> Option<Vec<u8>> {
    let compact: String = text.split_whitespace().collect();
    if compact.len() < 16
        || !compact
            .bytes()
            .all(|b| b.is_ascii_alphanumeric() || b"+/=-_".contains(&b))
    {
        return None;
    }
    let bytes = STANDARD
        .decode(compact.replace('-', "+").replace('_', "/"))
        .ok()?;
    is_descriptor_set(&bytes).then_some(bytes)
}

/// Whether bytes are a `FileDescriptorSet`: each of its files has a name.
pub fn is_descriptor_set(bytes: &[u8]) -> bool {
    bytes.first() == Some(&0x0a)
        && RawSet::decode(bytes).is_ok_and(|set| {
            !set.file.is_empty()
                && set
                    .file
                    .iter()
                    .all(|f| File::decode(f.as_slice()).is_ok_and(|f| !f.name.is_empty()))
        })
}

/// A descriptor set as the text that documents keep: base64 in lines (RFC 2045 §6.8).
pub fn as_text(set: &[u8]) -> String {
    let text = STANDARD.encode(set);
    text.as_bytes()
        .chunks(76)
        .map(|line| format!("{}\n", String::from_utf8_lossy(line)))
        .collect()
}

/// A descriptor set, as a text, with only some of its files and what those import.
pub fn only(text: &str, wanted: &[&str]) -> String {
    let Some(set) = descriptor_set(text) else {
        return text.to_owned();
    };
    let raw = RawSet::decode(set.as_slice()).unwrap_or_default();
    let parsed: Vec<File> = raw
        .file
        .iter()
        .filter_map(|f| File::decode(f.as_slice()).ok())
        .collect();
    let by_name: HashMap<&str, &File> = parsed.iter().map(|f| (f.name.as_str(), f)).collect();
    let mut kept: BTreeSet<&str> = BTreeSet::new();
    let mut open: Vec<&str> = wanted.to_vec();
    while let Some(name) = open.pop() {
        if let Some(file) = by_name.get(name)
            && kept.insert(&file.name)
        {
            open.extend(file.dependency.iter().map(String::as_str));
        }
    }
    let file = raw
        .file
        .iter()
        .zip(&parsed)
        .filter(|(_, f)| kept.contains(f.name.as_str()))
        .map(|(bytes, _)| bytes.clone());
    as_text(
        &RawSet {
            file: file.collect(),
        }
        .encode_to_vec(),
    )
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
    let built_in = |name: &str| {
        name.starts_with("google/protobuf/") || SHIPPED.iter().any(|(n, _)| *n == name)
    };
    imports(&without_comments(text))
        .into_iter()
        .filter(|name| !built_in(name))
        .collect()
}

/// Finds files by the names that others import them by.
struct Tree {
    /// Text by import name.
    texts: HashMap<String, String>,
    /// Where each stands.
    paths: HashMap<String, String>,
    editions: HashMap<String, i32>,
    imports: HashMap<String, Vec<String>>,
    with_services: Vec<String>,
    findings: Vec<Finding>,
}

impl Tree {
    fn of(files: &Files) -> Self {
        let protos: Vec<(&String, &String, String)> = files
            .iter()
            .filter(|(_, t)| is_proto(t))
            .map(|(p, t)| (p, t, without_comments(t)))
            .collect();
        // An import that matches the end of a path tells what the beginning is: a root.
        let mut by_last: HashMap<&str, Vec<&str>> = HashMap::new();
        for (path, ..) in &protos {
            by_last
                .entry(path.rsplit('/').next().unwrap_or(path))
                .or_default()
                .push(path);
        }
        let mut roots: BTreeSet<String> = BTreeSet::new();
        for import in protos.iter().flat_map(|(_, _, clean)| imports(clean)) {
            if files.contains_key(&import) {
                continue;
            }
            let last = import.rsplit('/').next().unwrap_or(&import);
            let ends = format!("/{import}");
            let mut found: Vec<&str> = by_last
                .get(last)
                .into_iter()
                .flatten()
                .copied()
                .filter(|p| p.ends_with(&ends))
                .collect();
            found.sort_by_key(|p| p.len());
            if let Some(path) = found.first() {
                roots.insert(path[..path.len() - import.len()].to_owned());
            }
        }
        let mut tree = Self {
            texts: HashMap::new(),
            paths: HashMap::new(),
            editions: HashMap::new(),
            imports: HashMap::new(),
            with_services: Vec::new(),
            findings: Vec::new(),
        };
        for (path, text, clean) in &protos {
            let root = roots
                .iter()
                .filter(|r| path.starts_with(r.as_str()))
                .max_by_key(|r| r.len());
            let name = root.map_or(path.as_str(), |r| &path[r.len()..]).to_owned();
            let mut text = (*text).clone();
            if let Some((number, range)) = edition(clean) {
                // The compiler knows no editions: it reads the statement as proto3, and what that means is set right behind.
                let stands_for = "syntax=\"proto3\";";
                if number == 0 || range.len() < stands_for.len() {
                    tree.findings.push(
                        Finding::new(
                            Severity::Warning,
                            path,
                            Position { line: 1, column: 1 },
                            "this edition is not known, so the file is not read",
                        )
                        .help("editions 2023 and 2024 are"),
                    );
                    continue;
                }
                text.replace_range(
                    range.clone(),
                    &format!("{stands_for}{}", " ".repeat(range.len() - stands_for.len())),
                );
                tree.editions.insert(name.clone(), number);
            }
            if too_deep(clean) {
                tree.findings.push(Finding::new(
                    Severity::Warning,
                    path,
                    Position::default(),
                    format!("braces lie in more than {MAX_BRACES} others, so the file is not read"),
                ));
                continue;
            }
            let mut words = clean.split_whitespace();
            if words.any(|w| w == "service" || w.ends_with(";service") || w.ends_with("}service")) {
                tree.with_services.push(name.clone());
            }
            tree.imports.insert(name.clone(), imports(clean));
            tree.paths.insert(name.clone(), (*path).clone());
            tree.texts.insert(name, text);
        }
        tree
    }

    /// A file with all that it imports.
    fn reach(&self, from: &str) -> BTreeSet<String> {
        let mut all = BTreeSet::new();
        let mut open = vec![from.to_owned()];
        while let Some(name) = open.pop() {
            if let Some(path) = self.paths.get(&name)
                && all.insert(path.clone())
            {
                open.extend(self.imports.get(&name).into_iter().flatten().cloned());
            }
        }
        all
    }
}

struct Shared(Arc<Tree>);

impl FileResolver for Shared {
    fn open_file(&self, name: &str) -> Result<protox::file::File, protox::Error> {
        let shipped = || SHIPPED.iter().find(|(n, _)| *n == name).map(|(_, t)| *t);
        match self.0.texts.get(name).map(String::as_str).or_else(shipped) {
            Some(text) => protox::file::File::from_source(name, text),
            None => Err(protox::Error::file_not_found(name)),
        }
    }
}

/// An error of the compiler, with its place.
fn compile_finding(tree: &Tree, name: &str, error: &protox::Error) -> Finding {
    let file = error.file().unwrap_or(name);
    let path = tree.paths.get(file).map_or(file, String::as_str);
    let offset = error
        .labels()
        .and_then(|mut l| l.next())
        .map(|l| l.offset());
    let text = tree.texts.get(file).map_or("", String::as_str);
    let at = offset
        .filter(|o| *o <= text.len() && text.is_char_boundary(*o))
        .map_or_else(Position::default, |o| {
            let before = &text[..o];
            Position {
                line: before.matches('\n').count() + 1,
                column: before.rsplit('\n').next().unwrap_or("").chars().count() + 1,
            }
        });
    let help = error.help().map(|h| h.to_string()).unwrap_or_default();
    let help = if error.to_string().contains("not found") && help.is_empty() {
        "give the folder or ZIP that holds it too; google/protobuf, google/api and google/rpc are built in".into()
    } else {
        help
    };
    Finding::error(path, at, error.to_string()).help(help)
}

/// What a reading tells while it goes on: files done, and files in all.
pub type Progress<'a> = &'a (dyn Fn(usize, usize) + Sync);

/// Reads a definition.
///
/// # Errors
/// When nothing in it is a definition, or none of its services can be read.
pub fn read(files: &Files, progress: Progress<'_>) -> Result<Definition, Box<Finding>> {
    let mut all: Vec<File> = Vec::new();
    let mut findings = Vec::new();
    let mut used: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
    let configs: Vec<(&String, &String)> =
        files.iter().filter(|(_, t)| is_service_config(t)).collect();
    for (path, text) in files.iter().filter(|(_, t)| !is_proto(t)) {
        let Some(set) = descriptor_set(text) else {
            continue;
        };
        let raw = RawSet::decode(set.as_slice()).unwrap_or_default();
        for file in raw
            .file
            .iter()
            .filter_map(|f| File::decode(f.as_slice()).ok())
        {
            used.entry(file.name.clone())
                .or_default()
                .insert(path.clone());
            if !all.iter().any(|f| f.name == file.name) {
                all.push(file);
            }
        }
    }
    compile(files, &mut all, &mut findings, &mut used, progress)?;
    for paths in used.values_mut() {
        paths.extend(configs.iter().map(|(p, _)| (*p).clone()));
    }
    let (types, found) = Builder::build(&all);
    findings.extend(found);
    let own_rules = config_rules(&configs, &mut findings);
    let services = services(&all, &types, own_rules, &mut findings);
    if services.is_empty() {
        let file = files.keys().next().map_or("", String::as_str);
        return Err(Box::new(
            Finding::error(
                file,
                Position::default(),
                "no gRPC service is defined in it",
            )
            .help("give the .proto file that has `service …`, its folder, or a descriptor set"),
        ));
    }
    Ok(Definition {
        types: Arc::new(types),
        services,
        findings,
        used,
    })
}

/// Compiles the `.proto` files that define services, with all that they import.
fn compile(
    files: &Files,
    all: &mut Vec<File>,
    findings: &mut Vec<Finding>,
    used: &mut BTreeMap<String, BTreeSet<String>>,
    progress: Progress<'_>,
) -> Result<(), Box<Finding>> {
    let mut tree = Tree::of(files);
    findings.append(&mut tree.findings);
    if tree.texts.is_empty() {
        return Ok(());
    }
    let mut wanted = tree.with_services.clone();
    if wanted.is_empty() && all.is_empty() {
        wanted = tree.texts.keys().cloned().collect();
        wanted.sort();
    }
    let tree = Arc::new(tree);
    // The compiler calls itself for imports and nested messages: it gets room for that.
    let compiled = std::thread::scope(|scope| {
        let work = || {
            let mut resolver = ChainFileResolver::new();
            resolver.add(Shared(tree.clone()));
            resolver.add(GoogleFileResolver::new());
            let mut compiler = protox::Compiler::with_file_resolver(resolver);
            compiler.include_imports(true).include_source_info(true);
            let mut failed = Vec::new();
            for (i, name) in wanted.iter().enumerate() {
                progress(i, wanted.len());
                if let Err(e) = compiler.open_file(name) {
                    failed.push(compile_finding(&tree, name, &e));
                }
            }
            progress(wanted.len(), wanted.len());
            (compiler.encode_file_descriptor_set(), failed)
        };
        std::thread::Builder::new()
            .stack_size(256 << 20)
            .spawn_scoped(scope, work)
            .map(|t| t.join())
    });
    let (set, failed) = match compiled {
        Ok(Ok(done)) => done,
        _ => {
            return Err(Box::new(
                Finding::error(
                    "",
                    Position::default(),
                    "the compiler of .proto files gave up",
                )
                .help("check the files with another compiler"),
            ));
        }
    };
    let raw = RawSet::decode(set.as_slice()).unwrap_or_default();
    let none = raw.file.is_empty();
    for mut file in raw
        .file
        .iter()
        .filter_map(|f| File::decode(f.as_slice()).ok())
    {
        if let Some(edition) = tree.editions.get(&file.name) {
            (file.syntax, file.edition) = ("editions".into(), Some(*edition));
        }
        used.entry(file.name.clone())
            .or_default()
            .extend(tree.reach(&file.name));
        if !all.iter().any(|f| f.name == file.name) {
            all.push(file);
        }
    }
    // One broken file of many is worth a word; when nothing is left, it is why.
    if none && all.is_empty() {
        return Err(Box::new(failed.into_iter().next().unwrap_or_else(|| {
            Finding::error("", Position::default(), "no .proto file could be read")
        })));
    }
    findings.extend(failed.into_iter().map(|f| Finding {
        severity: Severity::Warning,
        ..f
    }));
    Ok(())
}

fn services(
    all: &[File],
    types: &Types,
    mut own_rules: HashMap<String, HttpRule>,
    findings: &mut Vec<Finding>,
) -> Vec<Service> {
    let mut services = Vec::new();
    for file in all {
        let comments = Comments::of(file.source_code_info.as_ref());
        for (i, service) in file.service.iter().enumerate() {
            let name = if file.package.is_empty() {
                service.name.clone()
            } else {
                format!("{}.{}", file.package, service.name)
            };
            // Reflection is how a server tells its definition, not something to publish.
            if name.starts_with("grpc.reflection.") {
                continue;
            }
            let mut methods = Vec::new();
            for (j, method) in service.method.iter().enumerate() {
                let full = format!("{name}/{}", method.name);
                let (Some(input), Some(output)) = (
                    types.find(method.input_type.trim_start_matches('.')),
                    types.find(method.output_type.trim_start_matches('.')),
                ) else {
                    findings.push(Finding::new(
                        Severity::Warning,
                        &file.name,
                        Position::default(),
                        format!("{full}: its messages are nowhere to be found, so it is left out"),
                    ));
                    continue;
                };
                let own = own_rules.remove(&full.replace('/', "."));
                let http = own
                    .as_ref()
                    .or_else(|| method.options.as_ref().and_then(|o| o.http.as_ref()));
                let (rules, wrong) = http.map(rules).unwrap_or_default();
                findings.extend(wrong.into_iter().map(|w| {
                    Finding::new(
                        Severity::Warning,
                        &file.name,
                        Position::default(),
                        format!("{full}: its HTTP rule: {w}"),
                    )
                }));
                methods.push(Method {
                    name: method.name.clone(),
                    full,
                    input,
                    output,
                    client_streaming: method.client_streaming,
                    server_streaming: method.server_streaming,
                    deprecated: method.options.as_ref().is_some_and(|o| o.deprecated),
                    documentation: comments.at(&[6, i as i32, 2, j as i32]).into(),
                    rules,
                });
            }
            services.push(Service {
                name,
                documentation: comments.at(&[6, i as i32]).into(),
                file: file.name.clone(),
                methods,
            });
        }
    }
    for selector in own_rules.keys() {
        findings.push(Finding::new(
            Severity::Warning,
            "",
            Position::default(),
            format!(
                "the service configuration has a rule for “{selector}”, which is no method here"
            ),
        ));
    }
    services
}

/// The rules of service configurations by selector; they win over those in the files (`google/api/service.proto`).
fn config_rules(
    configs: &[(&String, &String)],
    findings: &mut Vec<Finding>,
) -> HashMap<String, HttpRule> {
    let mut all = HashMap::new();
    for (path, text) in configs {
        let Ok(node) = Node::parse(text) else {
            continue;
        };
        let Some(rules) = node.get("http").and_then(|h| h.get("rules")) else {
            continue;
        };
        for rule in rules.items() {
            let http = config_rule(rule);
            if http.selector.is_empty() {
                findings.push(
                    Finding::new(
                        Severity::Warning,
                        path,
                        rule.at,
                        "a rule without `selector`",
                    )
                    .help("name the method: selector: package.Service.Method"),
                );
                continue;
            }
            all.insert(http.selector.clone(), http);
        }
    }
    all
}

fn config_rule(node: &Node) -> HttpRule {
    let text = |name: &str| {
        node.get(name)
            .and_then(Node::text)
            .unwrap_or_default()
            .to_owned()
    };
    let either = |a: &str, b: &str| node.get(a).or_else(|| node.get(b));
    HttpRule {
        selector: text("selector"),
        get: text("get"),
        put: text("put"),
        post: text("post"),
        delete: text("delete"),
        patch: text("patch"),
        body: text("body"),
        response_body: either("response_body", "responseBody")
            .and_then(Node::text)
            .unwrap_or_default()
            .to_owned(),
        custom: node.get("custom").map(|c| {
            let part = |name: &str| {
                c.get(name)
                    .and_then(Node::text)
                    .unwrap_or_default()
                    .to_owned()
            };
            CustomPattern {
                kind: part("kind"),
                path: part("path"),
            }
        }),
        additional_bindings: either("additional_bindings", "additionalBindings")
            .map_or_else(Vec::new, |list| {
                list.items().iter().map(config_rule).collect()
            }),
    }
}

/// The types of `google.rpc.Status` and its usual details: known whether or not a definition imports them.
pub fn status_types() -> &'static Types {
    static TYPES: LazyLock<Types> = LazyLock::new(|| {
        let mut files: Files = SHIPPED
            .iter()
            .map(|(n, t)| ((*n).to_owned(), (*t).to_owned()))
            .collect();
        files.insert("all.proto".into(), "syntax = \"proto3\"; import \"google/rpc/status.proto\"; import \"google/rpc/error_details.proto\"; import \"google/api/httpbody.proto\"; import \"google/protobuf/struct.proto\"; import \"google/protobuf/wrappers.proto\"; import \"google/protobuf/timestamp.proto\"; import \"google/protobuf/empty.proto\"; import \"google/protobuf/field_mask.proto\"; message X {} service All { rpc A(X) returns (X); }".into());
        read(&files, &|_, _| ())
            .map(|d| (*d.types).clone())
            .unwrap_or_default()
    });
    &TYPES
}
