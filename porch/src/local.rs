//! Commands that need no service: look, derive, check.

use std::path::Path;
use std::sync::Arc;

use clap::CommandFactory;
use porch_contract::suggest;
use porch_facade::{Files, Model, Source, effective};
use serde_json::{Value, json};

use crate::cli::{CheckArgs, Cli, DeriveArgs, LookArgs, NameStyle, NewArgs};
use crate::client::Client;
use crate::error::CliError;
use crate::show::{Show, bold, findings_text, list, table, text};
use crate::sources::{Origin, read_file, read_paths, source, unreadable};

/// `porch look`.
pub(crate) async fn look(args: &LookArgs, show: &Show) -> Result<bool, CliError> {
    let from = Origin {
        text: &args.source,
        main: args.main.as_deref(),
        reading: &args.reading,
        allow_local: args.allow_local,
    };
    let source = source(&from).await?;
    let look =
        porch_facade::look_with(&source, &crate::show::progress).map_err(|f| unreadable(&f))?;
    let value = serde_json::to_value(&look).unwrap_or_default();
    show.value(&value, |v| look_text(v, args.fields));
    Ok(true)
}

/// What goes into an operation and what comes out.
fn fields_text(o: &Value) -> String {
    let side = |name: &str| {
        let line = |f: &Value| {
            let mark = if f["required"] == json!(true) {
                ""
            } else {
                "?"
            };
            format!("    {}{mark}: {}\n", text(f, "name"), text(f, "type"))
        };
        list(o, name).iter().map(line).collect::<String>()
    };
    let mut out = format!(
        "\n{}  {}\n  in\n{}  out\n{}",
        bold(text(o, "source")),
        text(o, "documentation"),
        side("inputs"),
        side("outputs")
    );
    let faults: Vec<&str> = list(o, "faults").iter().filter_map(Value::as_str).collect();
    if !faults.is_empty() {
        out.push_str(&format!("  faults: {}\n", faults.join(", ")));
    }
    out
}

fn look_text(v: &Value, fields: bool) -> String {
    let addresses: Vec<&str> = list(v, "addresses")
        .iter()
        .filter_map(Value::as_str)
        .collect();
    let ports = list(v, "ports");
    let mut out = format!(
        "{} ({}){}\n{}\n\n",
        bold(text(v, "title")),
        if text(v, "kind") == "grpc" {
            "gRPC".into()
        } else {
            text(v, "kind").to_uppercase()
        },
        match addresses.as_slice() {
            [] => String::new(),
            some => format!(" at {}", some.join(", ")),
        },
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
        out.push_str(&losses_text(o));
        if fields {
            out.push_str(&fields_text(o));
        }
    }
    out.push_str(&findings_text(list(v, "findings")));
    out
}

/// What JSON cannot carry of an operation.
fn losses_text(o: &Value) -> String {
    let losses: Vec<&str> = list(o, "losses").iter().filter_map(Value::as_str).collect();
    if losses.is_empty() {
        return String::new();
    }
    let source = text(o, "source");
    format!("\n{source}: JSON cannot carry\n  {}\n", losses.join("\n  "))
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
    // Names have at most 64 characters.
    name.truncate(50);
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
pub(crate) async fn derive(
    args: &DeriveArgs,
    client: Option<&Client>,
    show: &Show,
) -> Result<bool, CliError> {
    let from = Origin {
        text: &args.source,
        main: args.main.as_deref(),
        reading: &args.reading,
        allow_local: args.allow_local,
    };
    let source = source(&from).await?;
    let look = looked(args, &source)?;
    let name = args.name.clone().unwrap_or_else(|| name_of(&look.title));
    if args.update {
        return update(args, &name, &source, show);
    }
    let wanted = porch_facade::Wanted {
        name: &name,
        address: args.address.as_deref(),
        only: &args.only,
        names: match args.names {
            Some(NameStyle::AsIs) => porch_facade::Names::AsIs,
            Some(NameStyle::Camel) | None => porch_facade::Names::Camel,
        },
        ..porch_facade::Wanted::default()
    };
    let derived = porch_facade::derive_as(&source, &wanted).map_err(|f| unreadable(&f))?;
    let written = write_new(&args.output, &derived, args.overwrite)?;
    let kept = match client {
        Some(client) => keep(client, &derived.secrets).await?,
        None => 0,
    };
    let secrets: Vec<&str> = derived.secrets.iter().map(|s| s.name.as_str()).collect();
    let value = json!({ "written": written, "operations": derived.operations, "findings": derived.findings, "secrets": secrets, "secrets_kept": kept });
    show.value(&value, |v| {
        let findings = findings_text(list(v, "findings"));
        let told = secrets_text(&secrets, kept);
        let next = format!(
            "operations wired: {}. Edit the documents, then: porch check {}",
            derived.operations,
            args.output.display()
        );
        format!("{}{findings}{told}\n{next}", written_text(v))
    });
    Ok(true)
}

/// The files that were written, a line each.
fn written_text(v: &Value) -> String {
    let files = list(v, "written").iter().filter_map(Value::as_str);
    files.map(|f| format!("wrote {f}\n")).collect()
}

/// Writes derived documents; nothing that is there is lost.
fn write_new(
    output: &Path,
    derived: &porch_facade::Derived,
    overwrite: bool,
) -> Result<Vec<String>, CliError> {
    let mut files = derived.files.keys().map(|f| output.join(f));
    if !overwrite && let Some(there) = files.find(|p| p.exists()) {
        return Err(CliError::new(format!("{} is there already", there.display())).help("add --update to keep your edits, choose another folder or name, or add --overwrite, which loses your edits"));
    }
    write_files(output, &derived.files)
}

/// Sets the secrets that samples carried, in the service; what is there already may belong to another backend, and stays.
async fn keep(client: &Client, secrets: &[porch_facade::Stored]) -> Result<usize, CliError> {
    let there = client.get("/api/secrets").await?;
    let there = there.as_array().into_iter().flatten();
    let there: Vec<&str> = there.map(|s| text(s, "name")).collect();
    let mut kept = 0;
    for secret in secrets {
        if there.contains(&secret.name.as_str()) {
            eprintln!(
                "porch: the secret {} is set already and stays as it is",
                secret.name
            );
            continue;
        }
        let body = json!({ "name": secret.name, "value": secret.value });
        let sent = client.send(reqwest::Method::PUT, "/api/secrets", Some(body));
        sent.await?;
        kept += 1;
    }
    Ok(kept)
}

fn secrets_text(names: &[&str], kept: usize) -> String {
    match (names, kept) {
        ([], _) => String::new(),
        (names, 0) => {
            let set: String = names
                .iter()
                .map(|n| format!("  porch secret set {n}\n"))
                .collect();
            format!(
                "\nsecrets of the sample stand in no file. Set them, or derive with --keep-secrets:\n{set}"
            )
        }
        (names, _) => format!("\nsecrets set in the service: {}\n", names.join(", ")),
    }
}

/// `porch new`.
pub(crate) fn new(args: &NewArgs, show: &Show) -> Result<bool, CliError> {
    let told = |e: porch_sample::NoSample| CliError::new(e.message).help(e.help).usage();
    let mut exchanges = Vec::new();
    for operation in &args.operations {
        exchanges.extend(porch_sample::read_exchanges(operation).map_err(told)?);
    }
    if let Some(path) = &args.exchanges {
        exchanges.extend(porch_sample::read_exchanges(&read_file(path)?).map_err(told)?);
    }
    if exchanges.is_empty() {
        let text = format!("GET /{}", args.name);
        exchanges.extend(porch_sample::read_exchanges(&text).map_err(told)?);
    }
    let title = args.title.as_deref().unwrap_or(&args.name);
    let derived = porch_facade::begin(&args.name, title, &exchanges).map_err(|f| unreadable(&f))?;
    let written = write_new(&args.output, &derived, args.overwrite)?;
    let value = json!({ "written": written, "operations": derived.operations, "findings": derived.findings });
    show.value(&value, |v| {
        let findings = findings_text(list(v, "findings"));
        let folder = args.output.display();
        let told = "they answer with examples of the contract until they have a `call`";
        let next = format!(
            "operations: {}; {told}. Edit the contract, then: porch check {folder}",
            derived.operations
        );
        format!("{}{findings}\n{next}", written_text(v))
    });
    Ok(true)
}

/// What the definition offers, where something is to be found in it: a large one takes its time to look at.
fn looked(args: &DeriveArgs, source: &Source) -> Result<porch_facade::Look, CliError> {
    if args.name.is_some() && args.only.is_empty() && args.names.is_none() {
        return Ok(porch_facade::Look::default());
    }
    let look = porch_facade::look(source).map_err(|f| unreadable(&f))?;
    let names = |n: &str| {
        let mut all = look.operations.iter();
        all.any(|o| o.source == n || o.source.split('/').next() == Some(n))
    };
    if let Some(only) = args.only.iter().find(|n| !names(n)) {
        let near = porch_contract::suggest(only, look.operations.iter().map(|o| o.source.as_str()))
            .map_or_else(String::new, |n| format!("did you mean “{n}”?"));
        return Err(CliError::new(format!("the definition has no operation “{only}”")).help(near));
    }
    if args.names.is_some() && look.kind == "http" {
        let message = "the names of an HTTP backend are what its description calls them";
        let help =
            "leave --names out; `send` and `reply` of the facade's document rename what they name";
        return Err(CliError::new(message).help(help));
    }
    Ok(look)
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
    known_environment(&model, &args.environment)?;
    if let Some(wanted) = &args.rules {
        return show_rules(&model, wanted, json);
    }
    let (findings, documents) = (model.findings(), &model.documents);
    let ok = !porch_contract::has_errors(findings);
    let value = json!({ "ok": ok, "findings": findings });
    Show { json }.value(&value, |v| {
        let counted = |n: usize, what: &str| format!("{n} {what}{}", if n == 1 { "" } else { "s" });
        let mut counts = vec![
            counted(documents.facades.len(), "facade"),
            counted(documents.backends.len(), "backend"),
        ];
        let lists = documents.rules.len();
        counts.extend((lists > 0).then(|| counted(lists, "list") + " of shared rules"));
        counts.push(counted(documents.environments.len(), "environment"));
        let offers = documents.offers.len();
        counts.extend((offers > 0).then(|| counted(offers, "offer")));
        counts.extend((!documents.portals.is_empty()).then(|| "the portal".into()));
        let counts = counts.join(", ");
        if list(v, "findings").is_empty() {
            format!("nothing wrong: {counts}")
        } else {
            format!("{}\n{counts}", findings_text(list(v, "findings")))
        }
    });
    Ok(ok)
}

/// An environment that the files do not have is refused; the usual one need not be there.
fn known_environment(model: &Model, name: &str) -> Result<(), CliError> {
    let known = &model.documents.environments;
    if known.contains_key(name) || name == "live" {
        return Ok(());
    }
    let names: Vec<&str> = known.keys().map(String::as_str).collect();
    let help = match suggest(name, names.iter().copied()) {
        Some(near) => format!("did you mean “{near}”?"),
        None if names.is_empty() => "the files hold no environment".into(),
        None => format!("there are: {}", names.join(", ")),
    };
    let message = format!("the files hold no environment “{name}”");
    Err(CliError::new(message).help(help).usage())
}

fn show_rules(model: &Model, wanted: &str, json: bool) -> Result<bool, CliError> {
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
            let place = |r: &Value| match text(r, "file") {
                "" => "built in".to_owned(),
                file => format!("{file}:{}", r["line"]),
            };
            let by = &r["overridden_by"];
            let by = by.is_object().then(|| format!(", by {}", place(by)));
            vec![
                text(r, "stage").into(),
                text(r, "rule").into(),
                text(r, "reach").into(),
                place(r) + &by.unwrap_or_default(),
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
