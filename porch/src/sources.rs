//! Files and definitions, from folders, standard input, addresses and servers.

use std::collections::BTreeMap;
use std::io::Read;
use std::path::{Path, PathBuf};

use porch_facade::{Files, Source};

use crate::cli::Reading;
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
            ".md",
            ".svg",
        ]
        .iter()
        .any(|end| name.to_lowercase().ends_with(end))
    };
    for (name, bytes) in raw_folder(root, folder, &wanted)? {
        let shown = folder.join(&name);
        let text = porch_soap::decode_document(&bytes, None)
            .map_err(|e| CliError::new(format!("{}: {e}", shown.display())))?;
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
        // A link to a folder may lead back into this one.
        let is_link = entry.file_type().is_ok_and(|kind| kind.is_symlink());
        if path.is_dir() {
            if !is_link {
                files.extend(raw_folder(root, &path, wanted)?);
            }
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
        .map_err(|e| CliError::new(format!("{}: {e}", path.display())))
}

/// Where a definition comes from.
pub(crate) struct Origin<'a> {
    pub(crate) text: &'a str,
    pub(crate) main: Option<&'a str>,
    pub(crate) reading: &'a Reading,
    pub(crate) allow_local: bool,
}

/// A definition from a file, a folder, a ZIP or an address.
pub(crate) async fn source(from: &Origin<'_>) -> Result<Source, CliError> {
    if from.text == "-" {
        return from_input(from).await;
    }
    if porch_fetch::is_sample(from.text) {
        return sampled(from.text, &allowed(from)?).await;
    }
    if from.text.contains("://")
        || (porch_fetch::is_server(from.text) && !Path::new(from.text).exists())
    {
        return fetch(from).await;
    }
    let path = PathBuf::from(from.text);
    if !path.exists() {
        return Err(CliError::new(format!("there is no file or folder “{}”", from.text)).help("give a file, a folder, a ZIP, an address that begins with http:// or https://, HOST:PORT of a gRPC server, or a sample call (curl …)"));
    }
    let everything = |_: &str| true;
    if path.is_dir() {
        return Source::from_files(from.text, raw_folder(&path, &path, &everything)?, from.main)
            .map_err(|f| unreadable(&f));
    }
    file(&path, from)
}

/// A definition from one file, with those around it that it needs.
fn file(path: &Path, from: &Origin<'_>) -> Result<Source, CliError> {
    let name = path
        .file_name()
        .map_or_else(String::new, |n| n.to_string_lossy().into_owned());
    let bytes = read_bytes(path)?;
    if porch_facade::is_zip(&bytes) {
        return Source::from_bytes(&name, &bytes, from.main).map_err(|f| unreadable(&f));
    }
    if porch_grpc::read::is_descriptor_set(&bytes) {
        return Source::from_bytes(&name, &bytes, from.main).map_err(|f| unreadable(&f));
    }
    let text = read_file(path)?;
    if porch_grpc::read::is_proto(&text) {
        return proto_file(path, &name, text);
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

/// A definition, or sample calls, from standard input.
async fn from_input(from: &Origin<'_>) -> Result<Source, CliError> {
    let mut bytes = Vec::new();
    let mut input = std::io::stdin().lock().take(MAX_FILE + 1);
    let read = input.read_to_end(&mut bytes);
    read.map_err(|e| CliError::new(format!("standard input: {e}")))?;
    if bytes.len() as u64 > MAX_FILE {
        let message = format!("standard input has more than {MAX_FILE} bytes");
        return Err(CliError::new(message));
    }
    match std::str::from_utf8(&bytes) {
        Ok(text) if porch_fetch::is_sample(text) => sampled(text, &allowed(from)?).await,
        _ => {
            let read = Source::from_bytes("standard input", &bytes, from.main);
            read.map_err(|f| unreadable(&f))
        }
    }
}

/// What may be asked for a definition, and how.
fn allowed(from: &Origin<'_>) -> Result<porch_fetch::Allowed, CliError> {
    let login = match from.reading.login.as_deref() {
        None => None,
        Some(text) => {
            let (login, trimmed) =
                porch_fetch::login(text).map_err(|e| CliError::new(e.to_string()).usage())?;
            if trimmed {
                eprintln!("porch: white space around the login was taken away");
            }
            Some(login)
        }
    };
    let text = |path: &Option<PathBuf>| match path {
        Some(path) => std::fs::read_to_string(path)
            .map_err(|e| CliError::new(format!("{}: {e}", path.display()))),
        None => Ok(String::new()),
    };
    let own = porch_facade::OwnCertificate {
        chain: text(&from.reading.certificate)?,
        key: text(&from.reading.certificate_key)?,
    };
    let trust = text(&from.reading.trust)?;
    // Whoever types an address of this host means it.
    let local = from.allow_local
        || porch_fetch::is_sample(from.text)
        || from.text == "-"
        || porch_fetch::names_local(from.text);
    Ok(porch_fetch::Allowed {
        local,
        only_public: false,
        most: 0,
        login,
        trust,
        server_name: from.reading.server_name.clone().unwrap_or_default(),
        own: (!own.chain.is_empty()).then(|| own.into()),
    })
}

fn not_fetched(e: &porch_fetch::FetchError) -> CliError {
    let help = match e {
        porch_fetch::FetchError::Local(..) => "add --allow-local if that is where it is".to_owned(),
        porch_fetch::FetchError::Login(..) => {
            "give its credentials with --login NAME:PASSWORD".to_owned()
        }
        porch_fetch::FetchError::Certificate(..) => {
            "give the certificate that its own is signed with: --trust FILE".to_owned()
        }
        other => other.help(),
    };
    CliError::new(e.to_string()).help(help)
}

/// What follows from sample calls.
async fn sampled(text: &str, allowed: &porch_fetch::Allowed) -> Result<Source, CliError> {
    let sampled = porch_fetch::sample(text, allowed).await;
    let sampled = sampled.map_err(|e| not_fetched(&e))?;
    for told in &sampled.told {
        eprintln!("porch: {told}");
    }
    Ok(sampled.source)
}

async fn fetch(from: &Origin<'_>) -> Result<Source, CliError> {
    let allowed = allowed(from)?;
    let fetched = porch_fetch::fetch(from.text, &allowed).await;
    let is_address = from.text.contains("://");
    let is_server = porch_fetch::is_server(from.text);
    let known = |f: &porch_fetch::Fetched| porch_facade::is_definition(&f.source);
    let absent = |e: &porch_fetch::FetchError| matches!(e, porch_fetch::FetchError::Answer(..));
    let elsewhere = match &fetched {
        Ok(fetched) => !known(fetched),
        Err(e) => absent(e) || is_server,
    };
    if is_address && elsewhere {
        let offers = porch_fetch::offers(from.text, &allowed).await;
        let offers = offers.unwrap_or_default();
        if let Some(one) = porch_fetch::only_own(from.text, &offers) {
            eprintln!("porch: taken from {}, {}", one.address, one.found);
            return told(porch_fetch::fetch(&one.address, &allowed).await);
        }
        if !offers.is_empty() {
            return Err(choose(&offers));
        }
        if fetched.is_ok() {
            eprintln!("porch: there is no definition: what it answers is taken as a sample");
            return sampled(from.text, &allowed).await;
        }
    }
    told(fetched)
}

fn told(
    fetched: Result<porch_fetch::Fetched, porch_fetch::FetchError>,
) -> Result<Source, CliError> {
    let fetched = fetched.map_err(|e| not_fetched(&e))?;
    for missing in &fetched.missing {
        eprintln!("porch: not fetched: {missing}");
    }
    Ok(fetched.source)
}

/// Several definitions, of which one must be chosen.
fn choose(offers: &[porch_fetch::Offer]) -> CliError {
    let lines = offers.iter().map(|o| match o.title.as_str() {
        "" => format!("\n    {}", o.address),
        title => format!("\n    {}  ({title})", o.address),
    });
    let lines: String = lines.collect();
    let found = offers.first().map_or("", |o| o.found);
    let message = match offers.len() {
        1 => format!("it offers a definition elsewhere, {found}"),
        n => format!("it offers {n} definitions, {found}"),
    };
    CliError::new(message).help(format!("choose one:{lines}"))
}

pub(crate) fn unreadable(finding: &porch_contract::Finding) -> CliError {
    let place = finding.place();
    let told = match place.as_str() {
        "" => finding.message.clone(),
        place => format!("{place}: {}", finding.message),
    };
    CliError::new(told).help(finding.help.clone())
}

#[cfg(test)]
mod tests;
