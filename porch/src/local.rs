//! Commands that need no service: look, derive, check.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use clap::CommandFactory;
use porch_facade::{Files, Model, Source, effective};
use serde_json::{Value, json};

use crate::cli::{CheckArgs, Cli, DeriveArgs, LookArgs};
use crate::error::CliError;
use crate::show::{Show, bold, findings_text, list, table, text};

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

fn read_bytes(path: &Path) -> Result<Vec<u8>, CliError> {
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

fn read_file(path: &Path) -> Result<String, CliError> {
    porch_soap::decode_document(&read_bytes(path)?, None)
        .map_err(|e| CliError::new(format!("{}: it is not {e}", path.display())))
}

/// Where a definition comes from.
struct From<'a> {
    text: &'a str,
    main: Option<&'a str>,
    login: Option<&'a str>,
    trust: Option<&'a Path>,
    allow_local: bool,
}

/// A definition from a file, a folder, a ZIP or an address.
async fn source(from: &From<'_>) -> Result<Source, CliError> {
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

async fn fetch(from: &From<'_>) -> Result<Source, CliError> {
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

fn unreadable(finding: &porch_contract::Finding) -> CliError {
    CliError::new(format!(
        "{}:{}:{}: {}",
        finding.file, finding.line, finding.column, finding.message
    ))
    .help(finding.help.clone())
}

/// `porch look`.
pub(crate) async fn look(args: &LookArgs, show: &Show) -> Result<bool, CliError> {
    let from = From {
        text: &args.source,
        main: args.main.as_deref(),
        login: args.login.as_deref(),
        trust: args.trust.as_deref(),
        allow_local: args.allow_local,
    };
    let source = source(&from).await?;
    let look =
        porch_facade::look_with(&source, &crate::show::progress).map_err(|f| unreadable(&f))?;
    let value = serde_json::to_value(&look).unwrap_or_default();
    show.value(&value, |v| look_text(v, args.fields));
    Ok(true)
}

fn look_text(v: &Value, fields: bool) -> String {
    let addresses: Vec<&str> = list(v, "addresses")
        .iter()
        .filter_map(Value::as_str)
        .collect();
    let ports = list(v, "ports");
    let mut out = format!(
        "{} ({}) at {}\n{}\n\n",
        bold(text(v, "title")),
        if text(v, "kind") == "grpc" {
            "gRPC".into()
        } else {
            text(v, "kind").to_uppercase()
        },
        addresses.join(", "),
        text(v, "documentation")
    );
    let rows = list(v, "operations").iter().map(|o| {
        let state = if o["available"] == json!(true) {
            text(o, "reason").to_owned()
        } else {
            format!("cannot be called: {}", text(o, "why"))
        };
        vec![
            text(o, "source").to_owned(),
            text(o, "method").to_owned(),
            text(o, "path").to_owned(),
            state,
        ]
    });
    out.push_str(&table(
        &["operation", "method", "path proposed", "why"],
        rows,
    ));
    out.push('\n');
    if ports.len() > 1 {
        let rows = ports.iter().map(|p| {
            vec![
                text(p, "service").to_owned(),
                text(p, "name").to_owned(),
                format!("SOAP {}", text(p, "version")),
                text(p, "address").to_owned(),
            ]
        });
        out.push_str(&format!(
            "\nThe same operations can be called through several ports; `port:` in the backend's document picks one.\n{}\n",
            table(&["service", "port", "version", "address"], rows)
        ));
    }
    for o in list(v, "operations") {
        let losses: Vec<&str> = list(o, "losses").iter().filter_map(Value::as_str).collect();
        if !losses.is_empty() {
            out.push_str(&format!(
                "\n{}: JSON cannot carry\n  {}\n",
                text(o, "source"),
                losses.join("\n  ")
            ));
        }
        if fields {
            let side = |name: &str| {
                list(o, name)
                    .iter()
                    .map(|f| {
                        format!(
                            "    {}{}: {}\n",
                            text(f, "name"),
                            if f["required"] == json!(true) {
                                ""
                            } else {
                                "?"
                            },
                            text(f, "type")
                        )
                    })
                    .collect::<String>()
            };
            let faults: Vec<&str> = list(o, "faults").iter().filter_map(Value::as_str).collect();
            out.push_str(&format!(
                "\n{}  {}\n  in\n{}  out\n{}",
                bold(text(o, "source")),
                text(o, "documentation"),
                side("inputs"),
                side("outputs")
            ));
            if !faults.is_empty() {
                out.push_str(&format!("  faults: {}\n", faults.join(", ")));
            }
        }
    }
    out.push_str(&findings_text(list(v, "findings")));
    out
}

/// A name for documents, from a title: `CargoDesk` becomes `cargo-desk`.
fn name_of(title: &str) -> String {
    let mut name = String::new();
    let mut lower = false;
    for c in title.chars() {
        if c.is_ascii_alphanumeric() {
            if c.is_ascii_uppercase() && lower {
                name.push('-');
            }
            name.push(c.to_ascii_lowercase());
        } else if !name.is_empty() && !name.ends_with('-') {
            name.push('-');
        }
        lower = c.is_ascii_lowercase() || c.is_ascii_digit();
    }
    let name = name.trim_end_matches('-');
    if name.starts_with(|c: char| c.is_ascii_lowercase()) {
        name.to_owned()
    } else {
        format!("service-{name}")
    }
}

/// Writes files into a folder; gives their paths.
fn write_files(folder: &Path, files: &Files) -> Result<Vec<String>, CliError> {
    let fail = |path: &Path, e: std::io::Error| CliError::new(format!("{}: {e}", path.display()));
    let mut written = Vec::new();
    for (file, text) in files {
        let path = folder.join(file);
        if let Some(parent) = path.parent() {
            std::fs::create_dir_all(parent).map_err(|e| fail(parent, e))?;
        }
        std::fs::write(&path, text).map_err(|e| fail(&path, e))?;
        written.push(path.display().to_string());
    }
    Ok(written)
}

/// `porch derive`.
pub(crate) async fn derive(args: &DeriveArgs, show: &Show) -> Result<bool, CliError> {
    let from = From {
        text: &args.source,
        main: args.main.as_deref(),
        login: args.login.as_deref(),
        trust: args.trust.as_deref(),
        allow_local: args.allow_local,
    };
    let source = source(&from).await?;
    let look = porch_facade::look(&source).map_err(|f| unreadable(&f))?;
    let names = |n: &str| {
        look.operations
            .iter()
            .any(|o| o.source == n || o.source.split('/').next() == Some(n))
    };
    if let Some(only) = args.only.iter().find(|n| !names(n)) {
        let near = porch_contract::suggest(only, look.operations.iter().map(|o| o.source.as_str()))
            .map_or_else(String::new, |n| format!("did you mean “{n}”?"));
        return Err(CliError::new(format!("the definition has no operation “{only}”")).help(near));
    }
    let name = args.name.clone().unwrap_or_else(|| name_of(&look.title));
    if args.update {
        return update(args, &name, &source, show);
    }
    let derived = porch_facade::derive(&source, &name, args.address.as_deref(), &args.only)
        .map_err(|f| unreadable(&f))?;
    if !args.overwrite
        && let Some(there) = derived
            .files
            .keys()
            .map(|f| args.output.join(f))
            .find(|p| p.exists())
    {
        return Err(CliError::new(format!("{} is there already", there.display())).help("add --update to keep your edits, choose another folder or name, or add --overwrite, which loses your edits"));
    }
    let written = write_files(&args.output, &derived.files)?;
    let value = json!({ "written": written, "operations": derived.operations, "findings": derived.findings });
    show.value(&value, |v| {
        let files: String = list(v, "written")
            .iter()
            .filter_map(Value::as_str)
            .map(|f| format!("wrote {f}\n"))
            .collect();
        let next = format!(
            "operations wired: {}. Edit the documents, then: porch check {}",
            derived.operations,
            args.output.display()
        );
        format!("{files}{}\n{next}", findings_text(list(v, "findings")))
    });
    Ok(true)
}

/// `porch derive --update`.
fn update(args: &DeriveArgs, name: &str, source: &Source, show: &Show) -> Result<bool, CliError> {
    let current = read_paths(std::slice::from_ref(&args.output))?;
    let updated = porch_facade::update(&current, name, source).map_err(|f| unreadable(&f))?;
    let written = write_files(&args.output, &updated.files)?;
    for file in &updated.removed {
        let path = args.output.join(file);
        std::fs::remove_file(&path)
            .map_err(|e| CliError::new(format!("{}: {e}", path.display())))?;
    }
    let value = json!({ "written": written, "removed": updated.removed, "changes": updated.changes, "findings": updated.findings });
    show.value(&value, |v| {
        let lines = |name: &str, before: &str| {
            list(v, name)
                .iter()
                .filter_map(Value::as_str)
                .map(|f| format!("{before}{f}\n"))
                .collect::<String>()
        };
        let changes = if list(v, "changes").is_empty() {
            "the definition asks for no change of the documents\n".to_owned()
        } else {
            lines("changes", "- ")
        };
        format!(
            "{changes}{}{}{}",
            lines("written", "wrote "),
            lines("removed", "removed "),
            findings_text(list(v, "findings"))
        )
    });
    Ok(true)
}

/// `porch check`.
pub(crate) fn check(args: &CheckArgs, json: bool) -> Result<bool, CliError> {
    let files = read_paths(&args.paths)?;
    let model = Model::read(Arc::new(files), &args.environment, &Arc::default());
    if let Some(wanted) = &args.effective {
        return show_effective(&model, wanted, json);
    }
    let (findings, documents) = (model.findings(), &model.documents);
    let ok = !porch_contract::has_errors(findings);
    let value = json!({ "ok": ok, "findings": findings });
    Show { json }.value(&value, |v| {
        let counted = |n: usize, what: &str| format!("{n} {what}{}", if n == 1 { "" } else { "s" });
        let (facades, backends, environments) = (
            documents.facades.len(),
            documents.backends.len(),
            documents.environments.len(),
        );
        let counts = [
            counted(facades, "facade"),
            counted(backends, "backend"),
            counted(environments, "environment"),
        ]
        .join(", ");
        if list(v, "findings").is_empty() {
            format!("nothing wrong: {counts}")
        } else {
            format!("{}\n{counts}", findings_text(list(v, "findings")))
        }
    });
    Ok(ok)
}

fn show_effective(model: &Model, wanted: &str, json: bool) -> Result<bool, CliError> {
    let (facade, operation) = wanted
        .split_once('/')
        .map_or((None, wanted), |(f, o)| (Some(f), o));
    let names: Vec<&String> = model
        .documents
        .facades
        .keys()
        .filter(|n| facade.is_none_or(|f| f == n.as_str()))
        .collect();
    let compiled: Vec<_> = names
        .into_iter()
        .filter_map(|n| model.facade(n)?.compiled.clone())
        .collect();
    let found = compiled
        .iter()
        .find_map(|f| Some(effective(f, f.operation(operation)?)));
    let rules = found.ok_or_else(|| {
        let known = compiled.iter().flat_map(|f| &f.operations);
        let near = porch_contract::suggest(operation, known.map(|o| o.id.as_str()))
            .map_or_else(String::new, |n| format!("did you mean “{n}”?"));
        CliError::new(format!("there is no operation “{wanted}” without errors")).help(near)
    })?;
    Show { json }.value(&serde_json::to_value(&rules).unwrap_or_default(), |v| {
        let rows = v.as_array().into_iter().flatten().map(|r| {
            let place = if text(r, "file").is_empty() {
                "built in".into()
            } else {
                format!("{}:{}", text(r, "file"), r["line"])
            };
            vec![
                text(r, "stage").into(),
                text(r, "rule").into(),
                text(r, "reach").into(),
                place,
            ]
        });
        table(&["stage", "rule", "reach", "where"], rows)
    });
    Ok(true)
}

/// `porch man`.
pub(crate) fn man(folder: &Path) -> Result<bool, CliError> {
    std::fs::create_dir_all(folder)
        .map_err(|e| CliError::new(format!("{}: {e}", folder.display())))?;
    clap_mangen::generate_to(Cli::command(), folder).map_err(|e| CliError::new(e.to_string()))?;
    Ok(true)
}
