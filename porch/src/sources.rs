//! Files and definitions, from folders, standard input, addresses and servers.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use porch_facade::{Files, Source};

use crate::error::CliError;

const MAX_FILE: u64 = 64 << 20;

/// Reads the files of a folder, or one file; paths are relative to the folder.
pub(crate) fn read_paths(paths: &[PathBuf]) -> Result<Files, CliError> {
    let mut files = Files::new();
    for path in paths {
        if path.is_dir() {
            read_folder(path, path, &mut files)?;
        } else {
            let name = path
                .file_name()
                .map_or_else(String::new, |n| n.to_string_lossy().into_owned());
            files.insert(name, read_file(path)?);
        }
    }
    Ok(files)
}

fn read_folder(root: &Path, folder: &Path, files: &mut Files) -> Result<(), CliError> {
    let wanted = |name: &str| {
        [
            ".yaml",
            ".yml",
            ".json",
            ".wsdl",
            ".xsd",
            ".proto",
            ".descriptors.txt",
            ".pem",
        ]
        .iter()
        .any(|end| name.to_lowercase().ends_with(end))
    };
    for (name, bytes) in raw_folder(root, folder, &wanted)? {
        let shown = folder.join(&name);
        let text = porch_soap::decode_document(&bytes, None)
            .map_err(|e| CliError::new(format!("{}: it is not {e}", shown.display())))?;
        files.insert(name, text);
    }
    Ok(())
}

/// The files of a folder by their paths in it, hidden ones left out.
fn raw_folder(
    root: &Path,
    folder: &Path,
    wanted: &dyn Fn(&str) -> bool,
) -> Result<BTreeMap<String, Vec<u8>>, CliError> {
    let mut files = BTreeMap::new();
    let entries = std::fs::read_dir(folder)
        .map_err(|e| CliError::new(format!("{}: {e}", folder.display())))?;
    for entry in entries.flatten() {
        let path = entry.path();
        let name = entry.file_name().to_string_lossy().into_owned();
        if name.starts_with('.') {
            continue;
        }
        if path.is_dir() {
            files.extend(raw_folder(root, &path, wanted)?);
        } else if wanted(&name) {
            let relative = path
                .strip_prefix(root)
                .unwrap_or(&path)
                .to_string_lossy()
                .replace('\\', "/");
            files.insert(relative, read_bytes(&path)?);
        }
    }
    Ok(files)
}

pub(crate) fn read_bytes(path: &Path) -> Result<Vec<u8>, CliError> {
    let fail = |e: String| CliError::new(format!("{}: {e}", path.display()));
    let size = std::fs::metadata(path)
        .map_err(|e| fail(e.to_string()))?
        .len();
    if size > MAX_FILE {
        return Err(fail(format!(
            "it has {size} bytes, more than the {MAX_FILE} that are read"
        )));
    }
    std::fs::read(path).map_err(|e| fail(e.to_string()))
}

pub(crate) fn read_file(path: &Path) -> Result<String, CliError> {
    porch_soap::decode_document(&read_bytes(path)?, None)
        .map_err(|e| CliError::new(format!("{}: it is not {e}", path.display())))
}

/// Where a definition comes from.
pub(crate) struct Origin<'a> {
    pub(crate) text: &'a str,
    pub(crate) main: Option<&'a str>,
    pub(crate) login: Option<&'a str>,
    pub(crate) trust: Option<&'a Path>,
    pub(crate) allow_local: bool,
}

/// A definition from a file, a folder, a ZIP or an address.
pub(crate) async fn source(from: &Origin<'_>) -> Result<Source, CliError> {
    if from.text.contains("://")
        || (porch_fetch::is_server(from.text) && !Path::new(from.text).exists())
    {
        return fetch(from).await;
    }
    let path = PathBuf::from(from.text);
    if !path.exists() {
        return Err(CliError::new(format!("there is no file or folder “{}”", from.text)).help("give a file, a folder, a ZIP, an address that begins with http://, or HOST:PORT of a gRPC server"));
    }
    let everything = |_: &str| true;
    if path.is_dir() {
        return Source::from_files(from.text, raw_folder(&path, &path, &everything)?, from.main)
            .map_err(|f| unreadable(&f));
    }
    let name = path
        .file_name()
        .map_or_else(String::new, |n| n.to_string_lossy().into_owned());
    let bytes = read_bytes(&path)?;
    if porch_facade::is_zip(&bytes) {
        return Source::from_bytes(&name, &bytes, from.main).map_err(|f| unreadable(&f));
    }
    if porch_grpc::read::is_descriptor_set(&bytes) {
        return Source::from_bytes(&name, &bytes, from.main).map_err(|f| unreadable(&f));
    }
    let text = read_file(&path)?;
    if porch_grpc::read::is_proto(&text) {
        return proto_file(&path, &name, text);
    }
    if porch_soap::localise::references(&text).is_empty() {
        return Ok(Source {
            files: Files::from([(name.clone(), text)]),
            main: name,
            ..Source::default()
        });
    }
    // What it imports lies around it: in its folder, those below, and those that it names above.
    let mut up = 0;
    for (_, location) in porch_soap::localise::references(&text) {
        up = up.max(location.split('/').take_while(|p| *p == "..").count());
    }
    let folder = path
        .canonicalize()
        .ok()
        .and_then(|p| p.parent().map(Path::to_path_buf))
        .unwrap_or_default();
    let root = folder.ancestors().nth(up).unwrap_or(&folder).to_path_buf();
    let main = folder
        .strip_prefix(&root)
        .unwrap_or(Path::new(""))
        .join(&name)
        .to_string_lossy()
        .replace('\\', "/");
    let near = reachable(&root, &main)?;
    Ok(Source {
        files: near,
        main,
        ..Source::default()
    })
}

/// A `.proto` file with those around it that it may import: of the folder that its imports are relative to.
fn proto_file(path: &Path, name: &str, text: String) -> Result<Source, CliError> {
    let folder = path
        .canonicalize()
        .ok()
        .and_then(|p| p.parent().map(Path::to_path_buf))
        .unwrap_or_default();
    let missing = porch_grpc::read::missing_imports(&text);
    // The nearest folder above it in which what it imports lies.
    let root = folder
        .ancestors()
        .take(12)
        .find(|root| missing.iter().any(|import| root.join(import).is_file()))
        .unwrap_or(&folder)
        .to_path_buf();
    let main = folder
        .strip_prefix(&root)
        .unwrap_or(Path::new(""))
        .join(name)
        .to_string_lossy()
        .replace('\\', "/");
    let mut files = Files::from([(main.clone(), text)]);
    let mut open = vec![main.clone()];
    while let Some(file) = open.pop() {
        for import in files
            .get(&file)
            .map(|t| porch_grpc::read::missing_imports(t))
            .unwrap_or_default()
        {
            let path = root.join(&import);
            if !files.contains_key(&import) && path.is_file() {
                files.insert(import.clone(), read_file(&path)?);
                open.push(import);
            }
        }
    }
    Ok(Source {
        files,
        main,
        ..Source::default()
    })
}

/// A file of a folder with those that it leads to.
fn reachable(root: &Path, main: &str) -> Result<Files, CliError> {
    let mut files = Files::new();
    let mut open = vec![main.to_owned()];
    while let Some(name) = open.pop() {
        let path = root.join(&name);
        if files.contains_key(&name) || !path.is_file() {
            continue;
        }
        let text = read_file(&path)?;
        for (_, location) in porch_soap::localise::references(&text) {
            open.push(porch_soap::wsdl::beside(&name, &location));
        }
        files.insert(name, text);
    }
    Ok(files)
}

async fn fetch(from: &Origin<'_>) -> Result<Source, CliError> {
    let login = match from.login {
        None => None,
        Some(text) => {
            let (login, trimmed) =
                porch_fetch::login(text).map_err(|e| CliError::new(e).usage())?;
            if trimmed {
                eprintln!("porch: white space around the login was taken away");
            }
            Some(login)
        }
    };
    let trust = match from.trust {
        Some(path) => std::fs::read_to_string(path)
            .map_err(|e| CliError::new(format!("{}: {e}", path.display())))?,
        None => String::new(),
    };
    // Whoever types an address of this host means it.
    let local = from.allow_local || porch_fetch::names_local(from.text);
    let fetched = porch_fetch::fetch(
        from.text,
        &porch_fetch::Allowed {
            local,
            login,
            trust,
        },
    )
    .await
    .map_err(|e| {
        let help = match &e {
            porch_fetch::FetchError::Local(..) => {
                "add --allow-local if that is where it is".to_owned()
            }
            porch_fetch::FetchError::Login(..) => {
                "give its credentials with --login NAME:PASSWORD".to_owned()
            }
            other => other.help(),
        };
        CliError::new(e.to_string()).help(help)
    })?;
    for missing in &fetched.missing {
        eprintln!("porch: not fetched: {missing}");
    }
    Ok(fetched.source)
}

pub(crate) fn unreadable(finding: &porch_contract::Finding) -> CliError {
    CliError::new(format!(
        "{}:{}:{}: {}",
        finding.file, finding.line, finding.column, finding.message
    ))
    .help(finding.help.clone())
}
