//! `.proto` files into descriptors.

use std::sync::Arc;

use porch_contract::{Finding, Position, Severity};
use protox::file::{ChainFileResolver, GoogleFileResolver};

use super::tree::{Shared, Tree, compile_finding};
use super::{Files, Gathered, Progress, sets};

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
    let (set, failed) = with_room(|| to_descriptors(&tree, &wanted, progress))?;
    let compiled = sets::decoded(&set);
    let none = compiled.is_empty();
    for mut file in compiled {
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

fn to_descriptors(tree: &Arc<Tree>, wanted: &[String], progress: Progress<'_>) -> Compiled {
    let mut resolver = ChainFileResolver::new();
    resolver.add(Shared(tree.clone()));
    resolver.add(GoogleFileResolver::new());
    let mut compiler = protox::Compiler::with_file_resolver(resolver);
    compiler.include_imports(true).include_source_info(true);
    let mut failed = Vec::new();
    for (i, name) in wanted.iter().enumerate() {
        progress(i, wanted.len());
        if let Err(e) = compiler.open_file(name) {
            failed.push(compile_finding(tree, name, &e));
        }
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
