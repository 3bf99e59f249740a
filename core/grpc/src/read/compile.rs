//! `.proto` files into descriptors.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};

use porch_contract::{Finding, Position, Severity};
use protox::file::{ChainFileResolver, GoogleFileResolver};

use super::tree::{Shared, Tree, compile_finding};
use super::{Files, Gathered, Progress, sets};
use crate::descriptor::SourceCodeInfo;

/// Compiles the `.proto` files that define services, with all that they import.
pub(super) fn compile(
    files: &Files,
    gathered: &mut Gathered,
    findings: &mut Vec<Finding>,
    progress: Progress<'_>,
) -> Result<(), Box<Finding>> {
    let mut tree = Tree::of(files);
    findings.append(&mut tree.findings);
    if tree.texts.is_empty() {
        return Ok(());
    }
    let mut wanted = tree.with_services.clone();
    if wanted.is_empty() && gathered.files.is_empty() {
        wanted = tree.texts.keys().cloned().collect();
        wanted.sort();
    }
    let tree = Arc::new(tree);
    let comments = Arc::default();
    let (set, failed) = with_room(|| to_descriptors(&tree, &wanted, &comments, progress))?;
    let mut comments =
        std::mem::take(&mut *comments.lock().unwrap_or_else(PoisonError::into_inner));
    let compiled = sets::decoded(&set);
    let none = compiled.is_empty();
    for mut file in compiled {
        file.source_code_info = comments.remove(&file.name).or(file.source_code_info);
        if let Some(edition) = tree.editions.get(&file.name) {
            (file.syntax, file.edition) = ("editions".into(), Some(*edition));
        }
        let reached = tree.reach(&file.name);
        if let Some(path) = tree.paths.get(&file.name) {
            gathered.paths.insert(file.name.clone(), path.clone());
        }
        gathered.add(file, reached);
    }
    // One broken file of many is worth a word; when nothing is left, it is why.
    if none && gathered.files.is_empty() {
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

/// Descriptors of files, and why some have none.
type Compiled = (Vec<u8>, Vec<Finding>);

/// Comments of files, by their names.
type Kept = Arc<Mutex<HashMap<String, SourceCodeInfo>>>;

fn compiler(tree: &Arc<Tree>, comments: Option<Kept>) -> protox::Compiler {
    let mut resolver = ChainFileResolver::new();
    resolver.add(Shared {
        tree: tree.clone(),
        comments,
    });
    resolver.add(GoogleFileResolver::new());
    let mut compiler = protox::Compiler::with_file_resolver(resolver);
    compiler.include_imports(true).include_source_info(true);
    compiler
}

fn to_descriptors(
    tree: &Arc<Tree>,
    wanted: &[String],
    comments: &Kept,
    progress: Progress<'_>,
) -> Compiled {
    let mut compiler = compiler(tree, Some(comments.clone()));
    // Where a mistake stands is told by a compiler that gets all places; so many times, for each takes as long again.
    const TOLD: usize = 20;
    let mut telling = None;
    let mut failed = Failed::default();
    for (i, name) in wanted.iter().enumerate() {
        progress(i, wanted.len());
        let Err(e) = compiler.open_file(name) else {
            continue;
        };
        if failed.knows(name, &e) {
            continue;
        }
        let placed = (failed.all.len() < TOLD).then(|| {
            let telling = telling.get_or_insert_with(|| self::compiler(tree, None));
            telling.open_file(name).err()
        });
        let e = placed.flatten().unwrap_or(e);
        failed.add(name, &e, compile_finding(tree, name, &e));
    }
    progress(wanted.len(), wanted.len());
    (compiler.encode_file_descriptor_set(), failed.told())
}

/// What could not be compiled: each mistake once, whoever imports the file that it is in.
#[derive(Default)]
struct Failed {
    all: Vec<(Finding, Vec<String>)>,
    known: HashMap<(String, String), usize>,
}

impl Failed {
    fn key(name: &str, e: &protox::Error) -> (String, String) {
        let text = e.to_string();
        // A file that is missing is so for everybody.
        let file = e
            .file()
            .filter(|_| !e.is_file_not_found() && !text.ends_with("not found"));
        (file.unwrap_or(name).to_owned(), text)
    }

    /// Whether a mistake was told before; the file is noted with it then.
    fn knows(&mut self, name: &str, e: &protox::Error) -> bool {
        let known = self.known.get(&Self::key(name, e));
        if let Some(known) = known {
            self.all[*known].1.push(name.to_owned());
        }
        known.is_some()
    }

    fn add(&mut self, name: &str, e: &protox::Error, finding: Finding) {
        self.known.insert(Self::key(name, e), self.all.len());
        self.all.push((finding, Vec::new()));
    }

    fn told(self) -> Vec<Finding> {
        let all = self.all.into_iter().map(|(mut finding, others)| {
            let n = others.len();
            if let Some(first) = others.first() {
                let files = match n {
                    1 => format!("{first} needs it too"),
                    2 => format!("{first} and {} need it too", others[1]),
                    n => format!("{first}, {} and {} more need it too", others[1], n - 2),
                };
                finding.message = format!("{}; {files}, and is left out as well", finding.message);
                if n > 1 {
                    finding.message = finding.message.replace("and is left", "and are left");
                }
            }
            finding
        });
        all.collect()
    }
}

/// The compiler calls itself for imports and nested messages: it gets room for that.
fn with_room(work: impl FnOnce() -> Compiled + Send) -> Result<Compiled, Box<Finding>> {
    let compiled = std::thread::scope(|scope| {
        std::thread::Builder::new()
            .stack_size(256 << 20)
            .spawn_scoped(scope, work)
            .map(std::thread::ScopedJoinHandle::join)
    });
    match compiled {
        Ok(Ok(done)) => Ok(done),
        _ => Err(Box::new(
            Finding::error(
                "",
                Position::default(),
                "the compiler of .proto files gave up",
            )
            .help("check the files with another compiler"),
        )),
    }
}
