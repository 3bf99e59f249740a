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
    let mut failed = Vec::new();
    for (i, name) in wanted.iter().enumerate() {
        progress(i, wanted.len());
        let Err(e) = compiler.open_file(name) else {
            continue;
        };
        let placed = (failed.len() < TOLD).then(|| {
            let telling = telling.get_or_insert_with(|| self::compiler(tree, None));
            telling.open_file(name).err()
        });
        let e = placed.flatten().unwrap_or(e);
        failed.push(compile_finding(tree, name, &e));
    }
    progress(wanted.len(), wanted.len());
    (compiler.encode_file_descriptor_set(), failed)
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
