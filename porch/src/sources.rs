//! Files and definitions, from folders, standard input, addresses and servers.

use std::collections::BTreeMap;
use std::io::Read;
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
    pub(crate) login: Option<&'a str>,
    pub(crate) trust: Option<&'a Path>,
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
    let login = match from.login {
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
    let trust = match from.trust {
        Some(path) => std::fs::read_to_string(path)
            .map_err(|e| CliError::new(format!("{}: {e}", path.display())))?,
        None => String::new(),
    };
    // Whoever types an address of this host means it.
    let local = from.allow_local
        || porch_fetch::is_sample(from.text)
        || from.text == "-"
        || porch_fetch::names_local(from.text);
    Ok(porch_fetch::Allowed {
        local,
        login,
        trust,
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
mod tests {
    use super::*;

    /// A folder with these files.
    fn folder(files: &[(&str, &[u8])]) -> tempfile::TempDir {
        let folder = tempfile::tempdir().unwrap();
        for (name, content) in files {
            let path = folder.path().join(name);
            std::fs::create_dir_all(path.parent().unwrap()).unwrap();
            std::fs::write(path, content).unwrap();
        }
        folder
    }

    fn names(files: &Files) -> Vec<&str> {
        files.keys().map(String::as_str).collect()
    }

    async fn read(path: &Path, main: Option<&str>) -> Result<Source, CliError> {
        source(&Origin {
            text: path.to_str().unwrap(),
            main,
            login: None,
            trust: None,
            allow_local: false,
        })
        .await
    }

    #[test]
    fn documents_are_read_and_everything_else_is_left_alone() {
        let place = folder(&[
            ("a.facade.yaml", b"name: a"),
            ("below/deep/b.wsdl", b"<x/>"),
            ("below/c.XSD", b"<y/>"),
            ("notes.txt", b"not ours"),
            ("picture.png", b"\x89PNG\xff\xfe"),
            (".hidden.yaml", b"secret: 1"),
            (".git/config.yaml", b"secret: 2"),
        ]);
        let files = read_paths(&[place.path().to_path_buf()]).unwrap();
        assert_eq!(
            names(&files),
            ["a.facade.yaml", "below/c.XSD", "below/deep/b.wsdl"]
        );
        assert_eq!(files["a.facade.yaml"], "name: a");
        // A file that is named is taken, whatever it is called, by its own name.
        let one = read_paths(&[place.path().join("notes.txt")]).unwrap();
        assert_eq!(names(&one), ["notes.txt"]);
        let both = [
            place.path().join("below"),
            place.path().join("a.facade.yaml"),
        ];
        assert_eq!(
            names(&read_paths(&both).unwrap()),
            ["a.facade.yaml", "c.XSD", "deep/b.wsdl"]
        );
    }

    #[test]
    fn links_that_lead_in_a_circle_end() {
        let place = folder(&[("a/b.yaml", b"x: 1")]);
        std::os::unix::fs::symlink(place.path(), place.path().join("a/back")).unwrap();
        std::os::unix::fs::symlink("nowhere", place.path().join("dangling.yaml")).unwrap();
        let there = read_paths(&[place.path().join("a")]).unwrap();
        assert_eq!(names(&there), ["b.yaml"]);
        assert!(read_paths(&[place.path().to_path_buf()]).is_err());
    }

    #[test]
    fn a_file_in_another_encoding_is_read_and_one_in_none_is_told_by_name() {
        let utf16: Vec<u8> = [0xff, 0xfe]
            .into_iter()
            .chain("<a>\u{e4}</a>".encode_utf16().flat_map(u16::to_le_bytes))
            .collect();
        let place = folder(&[("a.wsdl", &utf16), ("b/bad.yaml", b"a: \xff\xfe\xfd")]);
        let files = read_paths(&[place.path().join("a.wsdl")]).unwrap();
        assert_eq!(files["a.wsdl"], "<a>\u{e4}</a>");
        let wrong = read_paths(&[place.path().to_path_buf()])
            .unwrap_err()
            .to_string();
        assert!(wrong.contains("bad.yaml"), "{wrong}");
        let gone = read_paths(&[place.path().join("gone.yaml")])
            .unwrap_err()
            .to_string();
        assert!(gone.contains("gone.yaml"), "{gone}");
    }

    const PROTO: &[u8] = b"syntax = \"proto3\"; package a; import \"lib/b.proto\"; service S { rpc G(lib.B) returns (lib.B); }";
    const IMPORTED: &[u8] = b"syntax = \"proto3\"; package lib; message B { string x = 1; }";

    #[tokio::test]
    async fn a_proto_file_brings_along_what_it_imports() {
        let place = folder(&[
            ("api/v1/a.proto", PROTO),
            ("api/lib/b.proto", IMPORTED),
            ("api/lib/other.proto", b"syntax = \"proto3\";"),
        ]);
        let found = read(&place.path().join("api/v1/a.proto"), None)
            .await
            .unwrap();
        assert_eq!(found.main, "v1/a.proto");
        assert_eq!(names(&found.files), ["lib/b.proto", "v1/a.proto"]);
    }

    #[tokio::test]
    async fn a_definition_brings_along_the_schemas_that_it_names_above_and_below() {
        let wsdl = b"<d:definitions xmlns:d='http://schemas.xmlsoap.org/wsdl/'><d:types><s:schema xmlns:s='http://www.w3.org/2001/XMLSchema'><s:include schemaLocation='../shared/a.xsd'/></s:schema></d:types></d:definitions>";
        let xsd = b"<s:schema xmlns:s='http://www.w3.org/2001/XMLSchema'/>";
        let place = folder(&[
            ("desk/desk.wsdl", wsdl),
            ("shared/a.xsd", xsd),
            ("shared/b.txt", b"x"),
        ]);
        let found = read(&place.path().join("desk/desk.wsdl"), None)
            .await
            .unwrap();
        assert_eq!(found.main, "desk/desk.wsdl");
        assert!(
            found.files.contains_key("shared/a.xsd"),
            "{:?}",
            names(&found.files)
        );
    }

    #[tokio::test]
    async fn what_is_not_there_or_no_definition_says_so() {
        let place = folder(&[("empty/readme.md", b"# nothing")]);
        let gone = read(&place.path().join("gone"), None)
            .await
            .err()
            .unwrap()
            .to_string();
        assert!(gone.contains("there is no file or folder"), "{gone}");
        let none = read(&place.path().join("empty"), None).await;
        let text = read(&place.path().join("empty/readme.md"), None).await;
        for source in [none, text].into_iter().flatten() {
            let wrong = porch_facade::look(&source).err();
            assert!(wrong.is_some(), "{:?}", source.files);
        }
    }
}
