//! Commands that talk to a service: draft, trial runs, releases, calls.

use std::path::Path;

use reqwest::Method;
use serde_json::{Value, json};

use crate::cli::{Command, FacadeCommand, PauseArgs, PushArgs};
use crate::client::{Client, forget_session, keep_session, segment};
use crate::error::CliError;
use crate::input::read_input;
use crate::pulled::write_below;
use crate::show::{Show, bold, findings_text, list, number, paint, table, text, time};
use crate::sources::read_paths;
use crate::trying::{find_operation, try_out};
use crate::{accounts, objects, watch};

pub(crate) async fn dispatch(
    command: Command,
    client: &Client,
    show: &Show,
) -> Result<bool, CliError> {
    match command {
        Command::Push(args) => push(&args, client, show).await,
        Command::Pull { folder } => pull(&folder, client, show).await,
        Command::Try(args) => try_out(&args, client, show).await,
        Command::Compare { facade } => compare(facade.as_deref(), client, show).await,
        Command::Release { facades, note } => {
            release(
                json!({ "facades": facades, "note": note }),
                "/api/releases",
                client,
                show,
            )
            .await
        }
        Command::Rollback { number: Some(n) } => {
            release(
                json!({}),
                &format!("/api/releases/{n}/rollback"),
                client,
                show,
            )
            .await
        }
        Command::Rollback { number: None } => releases(client, show).await,
        Command::Pause(args) => pause(&args, true, client, show).await,
        Command::Resume(args) => pause(&args, false, client, show).await,
        Command::Trace(args) => watch::traces(&args, client, show).await,
        Command::Explain { id, stages } => watch::explain(&id, stages, client, show).await,
        Command::Usage { minutes } => watch::usage(minutes, client, show).await,
        Command::Audit => watch::audit(client, show).await,
        Command::Facade(FacadeCommand::List) => objects::facades(client, show).await,
        Command::Consumer(c) => objects::consumer(c, client, show).await,
        Command::Key(c) => objects::key(c, client, show).await,
        Command::Secret(c) => objects::secret(c, client, show).await,
        Command::Account(c) => accounts::account(c, client, show).await,
        Command::Login { name } => login(&name, client, show).await,
        Command::Logout => {
            let ended = client.send(Method::DELETE, "/api/session", None).await;
            forget_session();
            ended.map(|_| true)
        }
        Command::Whoami => {
            let mut who = client.get("/api/session").await?;
            who["url"] = json!(client.url);
            show.value(&who, |v| {
                format!(
                    "{} ({}) at {}",
                    text(v, "name"),
                    text(v, "role"),
                    text(v, "url")
                )
            });
            Ok(true)
        }
        _ => Err(CliError::new("this command needs no service")),
    }
}

async fn login(name: &str, client: &Client, show: &Show) -> Result<bool, CliError> {
    let password = read_input("password")?;
    let session = client
        .send(
            Method::POST,
            "/api/session",
            Some(json!({ "name": name, "password": password, "label": "porch login" })),
        )
        .await?;
    let path = keep_session(&client.url, text(&session, "token"))?;
    let value = json!({ "name": text(&session, "name"), "role": text(&session, "role"), "url": client.url, "kept_in": path.display().to_string() });
    show.value(&value, |v| {
        format!(
            "signed in as {} ({}); the session is kept in {}",
            text(v, "name"),
            text(v, "role"),
            text(v, "kept_in")
        )
    });
    Ok(true)
}

async fn push(args: &PushArgs, client: &Client, show: &Show) -> Result<bool, CliError> {
    let files = read_paths(&args.paths)?;
    if files.is_empty() {
        return Err(CliError::new("there are no documents in what was named").help("documents end in .yaml, .yml or .json, definitions in .wsdl, .xsd, .proto or .descriptors.txt"));
    }
    let draft = client.get("/api/draft").await?;
    let gone: Vec<&str> = draft
        .as_array()
        .into_iter()
        .flatten()
        .map(|f| text(f, "path"))
        .filter(|p| !files.contains_key(*p))
        .collect();
    let remove: Vec<&str> = if args.remove { gone } else { Vec::new() };
    let pushed = client
        .send(
            Method::PUT,
            "/api/draft",
            Some(json!({ "files": files, "remove": remove })),
        )
        .await?;
    let errors = list(&pushed, "findings")
        .iter()
        .any(|f| text(f, "severity") == "error");
    show.value(&pushed, |v| {
        let names = |name: &str| list(v, name).iter().filter_map(Value::as_str).collect::<Vec<_>>().join(", ");
        let mut out = String::new();
        for (name, label) in [("changed", "changed in the draft"), ("removed", "removed from the draft")] {
            if !list(v, name).is_empty() {
                out.push_str(&format!("{label}: {}\n", names(name)));
            }
        }
        if list(v, "changed").is_empty() && list(v, "removed").is_empty() {
            out.push_str("the draft had all of this already\n");
        }
        if !list(v, "kept").is_empty() {
            out.push_str(&format!("in the draft, but not among these files: {} (--remove takes them out)\n", names("kept")));
        }
        out.push_str(&findings_text(list(v, "findings")));
        if !list(v, "unreleased").is_empty() {
            out.push_str(&format!("\n{} Callers are not served this yet: {}. See `porch compare`, then `porch release`.", paint("unreleased.", 33), names("unreleased")));
        }
        out
    });
    Ok(!errors)
}

async fn pull(folder: &Path, client: &Client, show: &Show) -> Result<bool, CliError> {
    let draft = client.get("/api/draft").await?;
    let mut written = Vec::new();
    for file in draft.as_array().into_iter().flatten() {
        let name = text(file, "path");
        let path = write_below(folder, name, text(file, "text"))
            .map_err(|e| CliError::new(format!("{name:?}: {e}")))?;
        written.push(path.display().to_string());
    }
    show.value(&json!({ "written": written }), |v| {
        list(v, "written")
            .iter()
            .filter_map(Value::as_str)
            .map(|f| format!("wrote {f}\n"))
            .collect()
    });
    Ok(true)
}

fn compare_text(differences: &Value) -> String {
    let all = differences.as_array().into_iter().flatten();
    let out: String = all.map(difference_text).collect();
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
    for u in list(d, "used_by") {
        out.push_str(&format!(
            "  {} called {} {} times in the last seven days\n",
            text(u, "consumer"),
            text(u, "operation"),
            u["calls"]
        ));
    }
    for (file, diff) in d["files"].as_object().into_iter().flatten() {
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

async fn compare(facade: Option<&str>, client: &Client, show: &Show) -> Result<bool, CliError> {
    let all = client.get("/api/compare").await?;
    let list_: Vec<Value> = all
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
    show.value(&json!(list_), compare_text);
    Ok(true)
}

async fn release(body: Value, path: &str, client: &Client, show: &Show) -> Result<bool, CliError> {
    let released = client.send(Method::POST, path, Some(body)).await?;
    show.value(&released, |v| {
        let names = |name: &str| {
            list(v, name)
                .iter()
                .filter_map(Value::as_str)
                .collect::<Vec<_>>()
                .join(", ")
        };
        let mut out = format!("release {} is live: {}", v["number"], names("taken"));
        if !list(v, "carried_over").is_empty() {
            out.push_str(&format!(
                "; carried over unchanged: {}",
                names("carried_over")
            ));
        }
        if !list(v, "removed").is_empty() {
            out.push_str(&format!("; no longer served: {}", names("removed")));
        }
        format!("{out}\n{}", findings_text(list(v, "findings")))
    });
    Ok(true)
}

async fn releases(client: &Client, show: &Show) -> Result<bool, CliError> {
    let releases = client.get("/api/releases").await?;
    show.value(&releases, |v| {
        let rows = v.as_array().into_iter().flatten().map(|r| {
            let names = |name: &str| {
                list(r, name)
                    .iter()
                    .filter_map(Value::as_str)
                    .collect::<Vec<_>>()
                    .join(", ")
            };
            let served = if r["served"] == json!(true) {
                "served"
            } else {
                ""
            };
            vec![
                r["number"].to_string(),
                served.into(),
                time(number(r, "made_at")),
                text(r, "made_by").into(),
                names("taken"),
                names("facades"),
                text(r, "note").into(),
            ]
        });
        table(
            &["release", "", "made (UTC)", "by", "taken", "holds", "note"],
            rows,
        )
    });
    Ok(true)
}

async fn pause(
    args: &PauseArgs,
    paused: bool,
    client: &Client,
    show: &Show,
) -> Result<bool, CliError> {
    let (path, body) = match args.what.as_str() {
        "facade" => (
            format!("/api/facades/{}/pause", segment(&args.name)),
            json!({ "paused": paused }),
        ),
        "operation" => {
            let (facade, operation) = find_operation(client, &args.name).await?;
            (
                format!("/api/facades/{}/pause", segment(&facade)),
                json!({ "operation": operation, "paused": paused }),
            )
        }
        "consumer" => (
            format!("/api/consumers/{}/pause", segment(&args.name)),
            json!({ "paused": paused }),
        ),
        _ => (
            format!("/api/keys/{}", segment(&args.name)),
            json!({ "paused": paused }),
        ),
    };
    client.send(Method::PUT, &path, Some(body)).await?;
    let value = json!({ "what": args.what, "name": args.name, "paused": paused });
    show.value(&value, |v| {
        format!(
            "{} {} {}",
            text(v, "what"),
            text(v, "name"),
            if paused {
                "is paused; callers get 503 or 401 at once"
            } else {
                "is no longer paused"
            }
        )
    });
    Ok(true)
}
