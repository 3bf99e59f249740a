//! Commands that need no service: look, derive, check.

use std::path::{Path, PathBuf};
use std::time::Duration;

use clap::CommandFactory;
use porch_facade::{Builder, Documents, Files, Secrets, Source, effective};
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
            let name = path.file_name().map_or_else(String::new, |n| n.to_string_lossy().into_owned());
            files.insert(name, read_file(path)?);
        }
    }
    Ok(files)
}

fn read_folder(root: &Path, folder: &Path, files: &mut Files) -> Result<(), CliError> {
    let entries = std::fs::read_dir(folder).map_err(|e| CliError::new(format!("{}: {e}", folder.display())))?;
    for entry in entries.flatten() {
        let path = entry.path();
        let name = entry.file_name().to_string_lossy().into_owned();
        if name.starts_with('.') {
            continue;
        }
        if path.is_dir() {
            read_folder(root, &path, files)?;
        } else if [".yaml", ".yml", ".json", ".wsdl", ".xsd"].iter().any(|end| name.to_lowercase().ends_with(end)) {
            let relative = path.strip_prefix(root).unwrap_or(&path).to_string_lossy().replace('\\', "/");
            files.insert(relative, read_file(&path)?);
        }
    }
    Ok(())
}

fn read_file(path: &Path) -> Result<String, CliError> {
    let fail = |e: String| CliError::new(format!("{}: {e}", path.display()));
    let size = std::fs::metadata(path).map_err(|e| fail(e.to_string()))?.len();
    if size > MAX_FILE {
        return Err(fail(format!("it has {size} bytes, more than the {MAX_FILE} that are read")));
    }
    let bytes = std::fs::read(path).map_err(|e| fail(e.to_string()))?;
    String::from_utf8(bytes).map_err(|_| fail("it is not UTF-8".into()))
}

/// A definition from a file, a folder or an address.
async fn source(text: &str, login: Option<&str>) -> Result<Source, CliError> {
    if text.starts_with("http://") || text.starts_with("https://") {
        return fetch(text, login).await;
    }
    let path = PathBuf::from(text);
    if !path.exists() {
        return Err(CliError::new(format!("there is no file or folder “{text}”")).help("give a file, a folder, or an address that begins with http://"));
    }
    if path.is_file() {
        // Schemas that it imports lie beside it.
        let name = path.file_name().map_or_else(String::new, |n| n.to_string_lossy().into_owned());
        let mut files = Files::from([(name.clone(), read_file(&path)?)]);
        let folder = path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
        let mut near = Files::new();
        if files[&name].contains("schemaLocation") {
            read_folder(folder, folder, &mut near)?;
        }
        files.extend(near.into_iter().filter(|(n, _)| n.ends_with(".xsd")));
        return Ok(Source { files, main: name });
    }
    let files = read_paths(&[path])?;
    let main = files.iter().find(|(_, t)| t.contains("<definitions") || t.contains(":definitions")).or_else(|| files.iter().find(|(_, t)| t.contains("openapi")));
    let main = main.map(|(n, _)| n.clone()).ok_or_else(|| CliError::new(format!("no definition was found in {text}")))?;
    Ok(Source { files, main })
}

async fn fetch(url: &str, login: Option<&str>) -> Result<Source, CliError> {
    let fail = |e: String| CliError::new(format!("{url}: {e}"));
    if url.starts_with("https://") {
        return Err(fail("https:// is not read yet".into()).help("save the definition as a file and give that"));
    }
    let client = reqwest::Client::builder().timeout(Duration::from_secs(20)).build().map_err(|e| fail(e.to_string()))?;
    let mut request = client.get(url);
    if let Some(login) = login {
        let trimmed = login.trim();
        if trimmed != login {
            eprintln!("porch: white space around the login was taken away");
        }
        let (name, password) = trimmed.split_once(':').ok_or_else(|| fail("the login is not of the form NAME:PASSWORD".into()).usage())?;
        request = request.basic_auth(name, Some(password));
    }
    let answer = request.send().await.map_err(|e| fail(if e.is_connect() { "nothing answers there".into() } else { e.to_string() }))?;
    if !answer.status().is_success() {
        let help = if answer.status().as_u16() == 401 { "give its credentials with --login NAME:PASSWORD" } else { "" };
        return Err(fail(format!("it answers {}", answer.status())).help(help));
    }
    let body = answer.bytes().await.map_err(|e| fail(e.to_string()))?;
    let text = String::from_utf8(body.to_vec()).map_err(|_| fail("what it answers is not UTF-8".into()))?;
    Ok(Source { files: Files::from([("definition".to_owned(), text)]), main: "definition".into() })
}

fn unreadable(finding: &porch_contract::Finding) -> CliError {
    CliError::new(format!("{}:{}:{}: {}", finding.file, finding.line, finding.column, finding.message)).help(finding.help.clone())
}

/// `porch look`.
pub(crate) async fn look(args: &LookArgs, show: &Show) -> Result<bool, CliError> {
    let source = source(&args.source, args.login.as_deref()).await?;
    let look = porch_facade::look(&source).map_err(|f| unreadable(&f))?;
    let value = serde_json::to_value(&look).unwrap_or_default();
    show.value(&value, |v| look_text(v, args.fields));
    Ok(true)
}

fn look_text(v: &Value, fields: bool) -> String {
    let addresses: Vec<&str> = list(v, "addresses").iter().filter_map(Value::as_str).collect();
    let mut out = format!("{} ({}) at {}\n{}\n\n", bold(text(v, "title")), text(v, "kind").to_uppercase(), addresses.join(", "), text(v, "documentation"));
    let rows = list(v, "operations").iter().map(|o| {
        let state = if o["available"] == json!(true) { text(o, "reason").to_owned() } else { format!("cannot be called: {}", text(o, "why")) };
        vec![text(o, "source").to_owned(), text(o, "method").to_owned(), text(o, "path").to_owned(), state]
    });
    out.push_str(&table(&["operation", "method", "path proposed", "why"], rows));
    out.push('\n');
    for o in list(v, "operations") {
        let losses: Vec<&str> = list(o, "losses").iter().filter_map(Value::as_str).collect();
        if !losses.is_empty() {
            out.push_str(&format!("\n{}: JSON cannot carry\n  {}\n", text(o, "source"), losses.join("\n  ")));
        }
        if fields {
            let side = |name: &str| list(o, name).iter().map(|f| format!("    {}{}: {}\n", text(f, "name"), if f["required"] == json!(true) { "" } else { "?" }, text(f, "type"))).collect::<String>();
            let faults: Vec<&str> = list(o, "faults").iter().filter_map(Value::as_str).collect();
            out.push_str(&format!("\n{}  {}\n  in\n{}  out\n{}", bold(text(o, "source")), text(o, "documentation"), side("inputs"), side("outputs")));
            if !faults.is_empty() {
                out.push_str(&format!("  faults: {}\n", faults.join(", ")));
            }
        }
    }
    out.push_str(&findings_text(list(v, "findings")));
    out
}

/// A name for documents, from a title.
fn name_of(title: &str) -> String {
    let mut name = String::new();
    for c in title.chars() {
        if c.is_ascii_alphanumeric() {
            name.push(c.to_ascii_lowercase());
        } else if !name.is_empty() && !name.ends_with('-') {
            name.push('-');
        }
    }
    let name = name.trim_end_matches('-');
    if name.starts_with(|c: char| c.is_ascii_lowercase()) { name.to_owned() } else { format!("service-{name}") }
}

/// `porch derive`.
pub(crate) async fn derive(args: &DeriveArgs, show: &Show) -> Result<bool, CliError> {
    let source = source(&args.source, args.login.as_deref()).await?;
    let look = porch_facade::look(&source).map_err(|f| unreadable(&f))?;
    if let Some(only) = args.only.iter().find(|n| !look.operations.iter().any(|o| o.source == **n)) {
        let near = porch_contract::suggest(only, look.operations.iter().map(|o| o.source.as_str())).map_or_else(String::new, |n| format!("did you mean “{n}”?"));
        return Err(CliError::new(format!("the definition has no operation “{only}”")).help(near));
    }
    let name = args.name.clone().unwrap_or_else(|| name_of(&look.title));
    let derived = porch_facade::derive(&source, &name, None, &args.only).map_err(|f| unreadable(&f))?;
    let fail = |path: &Path, e: std::io::Error| CliError::new(format!("{}: {e}", path.display()));
    if !args.overwrite
        && let Some(there) = derived.files.keys().map(|f| args.output.join(f)).find(|p| p.exists())
    {
        return Err(CliError::new(format!("{} is there already", there.display())).help("choose another folder or name, or add --overwrite; your edits would be lost"));
    }
    let mut written = Vec::new();
    for (file, text) in &derived.files {
        let path = args.output.join(file);
        if let Some(folder) = path.parent() {
            std::fs::create_dir_all(folder).map_err(|e| fail(folder, e))?;
        }
        std::fs::write(&path, text).map_err(|e| fail(&path, e))?;
        written.push(path.display().to_string());
    }
    let value = json!({ "written": written, "operations": derived.operations, "findings": derived.findings });
    show.value(&value, |v| {
        let files: String = list(v, "written").iter().filter_map(Value::as_str).map(|f| format!("wrote {f}\n")).collect();
        let next = format!("operations wired: {}. Edit the documents, then: porch check {}", derived.operations, args.output.display());
        format!("{files}{}\n{next}", findings_text(list(v, "findings")))
    });
    Ok(true)
}

/// `porch check`.
pub(crate) fn check(args: &CheckArgs, json: bool) -> Result<bool, CliError> {
    let files = read_paths(&args.paths)?;
    let findings = porch_facade::check(&files, &args.environment);
    let ok = !porch_contract::has_errors(&findings);
    let documents = Documents::read(&files);
    if let Some(wanted) = &args.effective {
        return show_effective(&files, &documents, &args.environment, wanted, json);
    }
    let value = json!({ "ok": ok, "findings": findings });
    Show { json }.value(&value, |v| {
        let counted = |n: usize, what: &str| format!("{n} {what}{}", if n == 1 { "" } else { "s" });
        let (facades, backends, environments) = (documents.facades.len(), documents.backends.len(), documents.environments.len());
        let counts = [counted(facades, "facade"), counted(backends, "backend"), counted(environments, "environment")].join(", ");
        if list(v, "findings").is_empty() { format!("nothing wrong: {counts}") } else { format!("{}\n{counts}", findings_text(list(v, "findings"))) }
    });
    Ok(ok)
}

fn show_effective(files: &Files, documents: &Documents, environment: &str, wanted: &str, json: bool) -> Result<bool, CliError> {
    let (facade, operation) = wanted.split_once('/').map_or((None, wanted), |(f, o)| (Some(f), o));
    let mut builder = Builder::new(Secrets::Placeholder, documents.environments.get(environment).map(|e| &e.doc));
    for name in documents.facades.keys().filter(|n| facade.is_none_or(|f| f == n.as_str())) {
        builder.add_facade(files, documents, name);
    }
    let (porch, _) = builder.finish();
    let index = porch.operations.iter().position(|o| o.id == operation);
    let index = index.ok_or_else(|| {
        let near = porch_contract::suggest(operation, porch.operations.iter().map(|o| o.id.as_str())).map_or_else(String::new, |n| format!("did you mean “{n}”?"));
        CliError::new(format!("there is no operation “{wanted}” without errors")).help(near)
    })?;
    let rules = effective(&porch, index as u32);
    Show { json }.value(&serde_json::to_value(&rules).unwrap_or_default(), |v| {
        let rows = v.as_array().into_iter().flatten().map(|r| {
            let place = if text(r, "file").is_empty() { "built in".into() } else { format!("{}:{}", text(r, "file"), r["line"]) };
            vec![text(r, "stage").into(), text(r, "rule").into(), text(r, "reach").into(), place]
        });
        table(&["stage", "rule", "reach", "where"], rows)
    });
    Ok(true)
}

/// `porch man`.
pub(crate) fn man(folder: &Path) -> Result<bool, CliError> {
    std::fs::create_dir_all(folder).map_err(|e| CliError::new(format!("{}: {e}", folder.display())))?;
    clap_mangen::generate_to(Cli::command(), folder).map_err(|e| CliError::new(e.to_string()))?;
    Ok(true)
}
