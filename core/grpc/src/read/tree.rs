//! `.proto` files by the names that others import them by.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::{Arc, Mutex, PoisonError};

use miette::Diagnostic;
use porch_contract::{Finding, Position, Severity};
use protox::file::{FileResolver, GoogleFileResolver};

use super::shipped::SHIPPED;
use super::syntax::understood;
use super::texts::{MAX_BRACES, imports, too_deep, without_comments};
use super::{Files, is_built_in, is_proto};
use crate::descriptor::{Location, SourceCodeInfo};

/// Finds files by the names that others import them by.
#[derive(Default)]
pub(super) struct Tree {
    /// Text by import name.
    pub(super) texts: HashMap<String, String>,
    /// Where each stands.
    pub(super) paths: HashMap<String, String>,
    /// The number of each file's edition, where it states one.
    pub(super) editions: HashMap<String, i32>,
    imports: HashMap<String, Vec<String>>,
    pub(super) with_services: Vec<String>,
    pub(super) findings: Vec<Finding>,
}

/// A `.proto` file of a definition.
struct Proto<'f> {
    path: &'f str,
    text: &'f str,
    /// Its text without comments.
    clean: String,
}

impl Proto<'_> {
    /// Its package, or an empty text.
    fn package(&self) -> &str {
        let statements = self.clean.split(';').map(str::trim);
        let named = statements.filter_map(|s| s.strip_prefix("package"));
        named.map(str::trim).next().unwrap_or_default()
    }
}

impl Tree {
    pub(super) fn of(files: &Files) -> Self {
        let protos: Vec<Proto<'_>> = files
            .iter()
            .filter(|(_, text)| is_proto(text))
            .map(|(path, text)| Proto {
                path,
                text,
                clean: without_comments(text),
            })
            .collect();
        let roots = roots(files, &protos);
        let above = above(files, &protos);
        let mut tree = Self::default();
        for proto in &protos {
            let root = roots
                .iter()
                .filter(|r| proto.path.starts_with(r.as_str()))
                .max_by_key(|r| r.len());
            match root {
                Some(root) => tree.add(&proto.path[root.len()..], proto),
                None => tree.add(&format!("{above}{}", proto.path), proto),
            }
        }
        tree
    }

    fn add(&mut self, name: &str, Proto { path, text, clean }: &Proto<'_>) {
        let Some((text, edition)) = understood(text, clean) else {
            let at = Position { line: 1, column: 1 };
            let what = "this edition is not known, so the file is not read";
            self.findings.push(
                Finding::new(Severity::Warning, path, at, what).help("editions 2023 and 2024 are"),
            );
            return;
        };
        if too_deep(clean) {
            self.findings.push(Finding::new(
                Severity::Warning,
                path,
                Position::default(),
                format!("braces lie in more than {MAX_BRACES} others, so the file is not read"),
            ));
            return;
        }
        if let Some(number) = edition {
            self.editions.insert(name.to_owned(), number);
        }
        let mut words = clean.split_whitespace();
        if words.any(|w| w == "service" || w.ends_with(";service") || w.ends_with("}service")) {
            self.with_services.push(name.to_owned());
        }
        self.imports.insert(name.to_owned(), imports(clean));
        self.paths.insert(name.to_owned(), (*path).to_owned());
        self.texts.insert(name.to_owned(), text);
    }

    /// A file with all that it imports.
    pub(super) fn reach(&self, from: &str) -> BTreeSet<String> {
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

/// The folders above what was given, when it is a part of a tree: imports begin with them, and packages are named after them.
fn above(files: &Files, protos: &[Proto<'_>]) -> String {
    let imported: BTreeSet<String> = protos.iter().flat_map(|p| imports(&p.clean)).collect();
    let by_path: HashMap<&str, &Proto<'_>> = protos.iter().map(|p| (p.path, p)).collect();
    let mut votes: BTreeMap<&str, usize> = BTreeMap::new();
    for import in imported.iter().filter(|i| !files.contains_key(*i)) {
        let ends = import.match_indices('/').map(|(at, _)| at + 1);
        // The longest end of the import that is a file here.
        for at in ends {
            let Some(proto) = by_path.get(&import[at..]) else {
                continue;
            };
            // What is built in stays so, unless it is really that file.
            if !is_built_in(import) || proto.package().replace('.', "/") == folder(import) {
                *votes.entry(&import[..at]).or_default() += 1;
            }
            break;
        }
    }
    let most = votes.into_iter().max_by_key(|(_, n)| *n);
    most.map_or_else(String::new, |(above, _)| above.to_owned())
}

fn folder(path: &str) -> &str {
    path.rsplit_once('/').map_or("", |(folder, _)| folder)
}

/// The folders that imports start from: an import that matches the end of a path tells what the beginning is.
fn roots(files: &Files, protos: &[Proto<'_>]) -> BTreeSet<String> {
    let last = |path: &str| path.rsplit('/').next().map_or(0, |l| path.len() - l.len());
    let mut by_last: HashMap<&str, Vec<&str>> = HashMap::new();
    for Proto { path, .. } in protos {
        by_last.entry(&path[last(path)..]).or_default().push(path);
    }
    let mut roots = BTreeSet::new();
    for import in protos.iter().flat_map(|p| imports(&p.clean)) {
        if files.contains_key(&import) {
            continue;
        }
        let ends = format!("/{import}");
        let same_name = by_last.get(&import[last(&import)..]);
        let shortest = same_name
            .into_iter()
            .flatten()
            .filter(|p| p.ends_with(&ends))
            .min_by_key(|p| p.len());
        if let Some(path) = shortest {
            roots.insert(path[..path.len() - import.len()].to_owned());
        }
    }
    roots
}

/// The files, for the compiler.
pub(super) struct Shared {
    pub(super) tree: Arc<Tree>,
    /// Where comments are kept meanwhile. The compiler goes through all places of a file for each of its options, so it gets
    /// none; without this, it gets them, to tell where a mistake stands.
    pub(super) comments: Option<Arc<Mutex<HashMap<String, SourceCodeInfo>>>>,
}

impl Shared {
    /// A file of the definition, or the one that ships by its name when there is none or it cannot be read.
    fn source(&self, name: &str) -> Result<protox::file::File, protox::Error> {
        let shipped = SHIPPED.iter().find(|(n, _)| *n == name).map(|(_, t)| *t);
        let parsed = |text: &str| protox::file::File::from_source(name, text);
        match (self.tree.texts.get(name), shipped) {
            (Some(own), Some(shipped)) => parsed(own).or_else(|_| parsed(shipped)),
            (Some(own), None) => parsed(own),
            (None, Some(shipped)) => parsed(shipped),
            (None, None) => Err(protox::Error::file_not_found(name)),
        }
    }
}

impl FileResolver for Shared {
    fn open_file(&self, name: &str) -> Result<protox::file::File, protox::Error> {
        // What the compiler brings is what it understands, whatever copy of it lies beside the definition.
        if name.starts_with("google/protobuf/")
            && let Ok(file) = GoogleFileResolver::new().open_file(name)
        {
            return Ok(file);
        }
        let file = self.source(name)?;
        let Some(comments) = &self.comments else {
            return Ok(file);
        };
        let mut descriptor = file.file_descriptor_proto().clone();
        let places = descriptor.source_code_info.take().map(|info| info.location);
        let location = places.into_iter().flatten().filter_map(|place| {
            let (leading, trailing) = (place.leading_comments, place.trailing_comments);
            (leading.is_some() || trailing.is_some()).then(|| Location {
                path: place.path,
                leading_comments: leading.unwrap_or_default(),
                trailing_comments: trailing.unwrap_or_default(),
            })
        });
        let info = SourceCodeInfo {
            location: location.collect(),
        };
        let mut kept = comments.lock().unwrap_or_else(PoisonError::into_inner);
        kept.insert(name.to_owned(), info);
        Ok(protox::file::File::from_file_descriptor_proto(descriptor))
    }
}

/// An error of the compiler, with its place.
pub(super) fn compile_finding(tree: &Tree, name: &str, error: &protox::Error) -> Finding {
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
    let help = match error.help() {
        Some(help) => help.to_string(),
        None if error.to_string().contains("not found") => {
            "give the folder or ZIP that holds it too; google/protobuf, google/api, google/rpc, google/type, google/longrunning and google/iam are built in".into()
        }
        None => String::new(),
    };
    Finding::error(path, at, error.to_string()).help(help)
}
