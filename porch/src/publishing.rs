//! The draft: `porch push`, `porch compare`, `porch facade delete`.

use std::collections::BTreeSet;
use std::path::PathBuf;

use reqwest::Method;
use serde_json::{Value, json};

use crate::cli::PushArgs;
use crate::client::{Client, segment};
use crate::error::CliError;
use crate::input::agreed;
use crate::offers::{offering_rows, offering_text};
use crate::show::{Show, bold, findings_text, list, paint, text};
use crate::sources::read_paths;

/// The folders of the draft that were pushed: the first parts of paths. Files that lie in none belong to what was pushed when
/// it has folders too: what has none is a part of the draft, and others have files beside it.
fn folders_pushed(paths: &[PathBuf]) -> Result<BTreeSet<String>, CliError> {
    let folders: Vec<PathBuf> = paths.iter().filter(|p| p.is_dir()).cloned().collect();
    let files = read_paths(&folders)?;
    let names = files.keys().map(|path| folder_of(path).to_owned());
    let mut found: BTreeSet<String> = names.collect();
    if found.len() < 2 {
        found.remove("");
    }
    Ok(found)
}

fn folder_of(path: &str) -> &str {
    path.split_once('/').map_or("", |(folder, _)| folder)
}

pub(crate) async fn push(args: &PushArgs, client: &Client, show: &Show) -> Result<bool, CliError> {
    let files = read_paths(&args.paths)?;
    if files.is_empty() {
        return Err(CliError::new("there are no documents in what was named").help("documents end in .yaml, .yml or .json, definitions in .wsdl, .xsd, .proto or .descriptors.txt"));
    }
    let folders = folders_pushed(&args.paths)?;
    let draft = client.get("/api/draft").await?;
    let rows = draft.as_array().into_iter().flatten();
    let gone: Vec<&str> = rows
        .map(|f| text(f, "path"))
        .filter(|p| !files.contains_key(*p) && folders.contains(folder_of(p)))
        .collect();
    let remove = if args.remove { gone.as_slice() } else { &[] };
    let body = json!({ "files": files, "remove": remove });
    let mut pushed = client.send(Method::PUT, "/api/draft", Some(body)).await?;
    let left = if args.remove { Vec::new() } else { gone };
    pushed["gone_here"] = json!(left);
    let errors = list(&pushed, "findings")
        .iter()
        .any(|f| text(f, "severity") == "error");
    show.value(&pushed, pushed_text);
    Ok(!errors)
}

fn pushed_text(v: &Value) -> String {
    let mut out = String::new();
    for (name, label) in [
        ("changed", "changed in the draft"),
        ("removed", "removed from the draft"),
    ] {
        if !list(v, name).is_empty() {
            out.push_str(&format!("{label}: {}\n", names(v, name)));
        }
    }
    if list(v, "changed").is_empty() && list(v, "removed").is_empty() {
        out.push_str("the draft had all of this already\n");
    }
    let gone = list(v, "gone_here").len();
    if gone > 0 {
        out.push_str(&format!(
            "in these folders of the draft, but not here: {} (--remove takes them out)\n",
            names(v, "gone_here")
        ));
    }
    match list(v, "kept").len() - gone {
        0 => {}
        1 => out.push_str("1 other file of the draft untouched\n"),
        n => out.push_str(&format!("{n} other files of the draft untouched\n")),
    }
    out.push_str(&findings_text(list(v, "findings")));
    let mark = paint("unreleased.", 33);
    if !list(v, "unreleased").is_empty() {
        out.push_str(&format!(
            "\n{mark} Callers are not served this yet: {}. See `porch compare`, then `porch release`.",
            names(v, "unreleased")
        ));
    }
    if !list(v, "unreleased_offers").is_empty() {
        out.push_str(&format!(
            "\n{mark} Nobody is offered this yet: {}. See `porch compare`, then `porch release --offer NAME` or `--portal`.",
            names(v, "unreleased_offers")
        ));
    }
    out
}

/// The texts of a list, one behind the other.
pub(crate) fn names(v: &Value, name: &str) -> String {
    let names = list(v, name).iter().filter_map(Value::as_str);
    names.collect::<Vec<_>>().join(", ")
}

/// Who calls what, a line each.
pub(crate) fn callers_text(used_by: &[Value]) -> String {
    let line = |u: &Value| {
        format!(
            "  {} called {} {} times in the last seven days\n",
            text(u, "consumer"),
            text(u, "operation"),
            u["calls"]
        )
    };
    used_by.iter().map(line).collect()
}

fn compare_text(differences: &Value) -> String {
    let all = differences.as_array().into_iter().flatten();
    let out: String = all
        .map(|d| match d["facade"].is_string() {
            true => difference_text(d),
            false => offering_text(d),
        })
        .collect();
    if out.is_empty() {
        "the draft is empty, and nothing is served".into()
    } else {
        out
    }
}

fn difference_text(d: &Value) -> String {
    let state = match text(d, "status") {
        "same" => paint("served as it is in the draft", 32),
        "new" => paint("in the draft only: callers get 404", 33),
        "gone" => paint("served, but not in the draft any more", 33),
        _ => paint("the draft differs from what is served", 33),
    };
    let mut out = format!("{}: {state}\n", bold(text(d, "facade")));
    for c in list(d, "changes") {
        let colour = if text(c, "harm") == "breaks" { 31 } else { 36 };
        let operation = match text(c, "operation") {
            "" => String::new(),
            id => format!("{id}: "),
        };
        let harm = paint(text(c, "harm"), colour);
        out.push_str(&format!("  {harm} {operation}{}\n", text(c, "what")));
    }
    out.push_str(&callers_text(list(d, "used_by")));
    for shared in list(d, "shared") {
        let (file, facades) = (text(shared, "file"), names(shared, "facades"));
        out.push_str(&format!(
            "  {} {file} changes {facades} too\n",
            paint("shared", 33)
        ));
    }
    out + &diff_text(&d["files"])
}

/// Changed files, line by line.
pub(crate) fn diff_text(files: &Value) -> String {
    let mut out = String::new();
    for (file, diff) in files.as_object().into_iter().flatten() {
        out.push_str(&format!("  {file}\n"));
        let lines = diff.as_str().unwrap_or_default().lines();
        for line in lines.filter(|l| !l.starts_with("---") && !l.starts_with("+++")) {
            let colour = match line.chars().next() {
                Some('+') => 32,
                Some('-') => 31,
                _ => 2,
            };
            out.push_str(&format!("    {}\n", paint(line, colour)));
        }
    }
    out
}

pub(crate) async fn compare(
    facade: Option<&str>,
    client: &Client,
    show: &Show,
) -> Result<bool, CliError> {
    let all = client.get("/api/compare").await?;
    let mut list_: Vec<Value> = all
        .as_array()
        .into_iter()
        .flatten()
        .filter(|d| facade.is_none_or(|f| text(d, "facade") == f))
        .cloned()
        .collect();
    if let (Some(name), true) = (facade, list_.is_empty()) {
        return Err(CliError::new(format!(
            "neither the draft nor what is served has a facade “{name}”"
        )));
    }
    if facade.is_none() {
        list_.extend(offering_rows(&client.get("/api/offers/compare").await?));
    }
    show.value(&json!(list_), compare_text);
    Ok(true)
}

/// `porch facade delete`.
pub(crate) async fn delete(
    name: &str,
    yes: bool,
    client: &Client,
    show: &Show,
) -> Result<bool, CliError> {
    let path = format!("/api/facades/{}", segment(name));
    client.get(&path).await?;
    let usage = client.get("/api/usage?minutes=10080").await?;
    let mut callers: Vec<Value> = usage.as_array().into_iter().flatten().cloned().collect();
    callers.retain(|u| text(u, "facade") == name);
    for caller in &mut callers {
        if text(caller, "consumer").is_empty() {
            caller["consumer"] = json!("callers without a key");
        }
    }
    let told = match callers.as_slice() {
        [] => "nobody called it in the last seven days\n".to_owned(),
        some => callers_text(some),
    };
    agreed(
        &told,
        &format!("take the facade “{name}” out of the draft?"),
        yes,
    )?;
    let mut deleted = client.send(Method::DELETE, &path, None).await?;
    deleted["facade"] = json!(name);
    show.value(&deleted, deleted_text);
    Ok(true)
}

fn deleted_text(v: &Value) -> String {
    let mut out = format!("removed from the draft: {}\n", names(v, "removed"));
    if !list(v, "unused").is_empty() {
        let unused = names(v, "unused");
        out.push_str(&format!(
            "still in the draft, and called by no facade: {unused}\n"
        ));
    }
    if v["served"] == json!(true) {
        let facade = text(v, "facade");
        let mark = paint("unreleased.", 33);
        out.push_str(&format!(
            "{mark} Callers are still served it; `porch release {facade}` ends that."
        ));
    }
    out
}
