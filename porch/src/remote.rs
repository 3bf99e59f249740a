//! Commands that talk to a service: draft, trial runs, releases, calls.

use std::path::Path;
use std::time::Instant;

use reqwest::Method;
use serde_json::{Map, Value, json};

use crate::cli::{CallArgs, Command, PauseArgs, PushArgs, TryArgs};
use crate::client::{Client, forget_session, keep_session, segment};
use crate::error::CliError;
use crate::input::read_input;
use crate::local::read_paths;
use crate::show::{Show, bold, findings_text, list, number, paint, table, text, time};
use crate::{objects, watch};

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
        Command::Facade => objects::facades(client, show).await,
        Command::Consumer(c) => objects::consumer(c, client, show).await,
        Command::Key(c) => objects::key(c, client, show).await,
        Command::Secret(c) => objects::secret(c, client, show).await,
        Command::Account(c) => objects::account(c, client, show).await,
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
        let path = folder.join(text(file, "path"));
        let fail = |e: std::io::Error| CliError::new(format!("{}: {e}", path.display()));
        if let Some(parent) = path.parent() {
            std::fs::create_dir_all(parent).map_err(fail)?;
        }
        std::fs::write(&path, text(file, "text")).map_err(fail)?;
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

/// Finds the facade of an operation: FACADE/OPERATION, or the only facade that has it.
async fn find_operation(client: &Client, wanted: &str) -> Result<(String, String), CliError> {
    if let Some((facade, operation)) = wanted.split_once('/') {
        return Ok((facade.to_owned(), operation.to_owned()));
    }
    let (mut hits, mut known) = (Vec::new(), Vec::new());
    for facade in client
        .get("/api/facades")
        .await?
        .as_array()
        .into_iter()
        .flatten()
    {
        let name = text(facade, "name");
        let Ok(view) = client.get(&format!("/api/facades/{}", segment(name))).await else {
            continue;
        };
        for operation in list(&view, "operations") {
            known.push(text(operation, "id").to_owned());
            if text(operation, "id") == wanted {
                hits.push(name.to_owned());
            }
        }
    }
    match hits.as_slice() {
        [one] => Ok((one.clone(), wanted.to_owned())),
        [] => {
            let near = porch_contract::suggest(wanted, known.iter().map(String::as_str))
                .map_or_else(
                    || format!("the draft has: {}", known.join(", ")),
                    |n| format!("did you mean “{n}”?"),
                );
            Err(CliError::new(format!(
                "no facade of the draft has an operation “{wanted}”"
            ))
            .help(near))
        }
        many => Err(
            CliError::new(format!("“{wanted}” is in the facades {}", many.join(", ")))
                .help(format!("write {}/{wanted}", many[0])),
        ),
    }
}

fn body_of(text: Option<&str>) -> Result<Value, CliError> {
    let Some(text) = text else {
        return Ok(Value::Null);
    };
    let owned;
    let text = match text.strip_prefix('@') {
        Some(path) => {
            owned =
                std::fs::read_to_string(path).map_err(|e| CliError::new(format!("{path}: {e}")))?;
            &owned
        }
        None => text,
    };
    serde_json::from_str(text)
        .map_err(|e| CliError::new(format!("the body is no JSON: {e}")).usage())
}

async fn try_out(args: &TryArgs, client: &Client, show: &Show) -> Result<bool, CliError> {
    let (facade, operation) = find_operation(client, &args.operation).await?;
    let view = client
        .get(&format!(
            "/api/facades/{}/operations/{}",
            segment(&facade),
            segment(&operation)
        ))
        .await?;
    let sample = &view["table"]["sample"];
    let path_names: Vec<&str> = text(&view, "path")
        .split('/')
        .filter_map(|s| s.strip_prefix('{')?.strip_suffix('}'))
        .map(|s| s.trim_end_matches('*'))
        .collect();
    let (mut path, mut query) = (Map::new(), Map::new());
    for pair in &args.values {
        let (name, value) = pair.split_once('=').ok_or_else(|| {
            CliError::new(format!("“{pair}” is not of the form name=value")).usage()
        })?;
        if path_names.contains(&name) {
            path.insert(name.into(), json!(value));
        } else {
            query.insert(name.into(), json!(value));
        }
    }
    // What was not given is taken from the contract's sample.
    let mut filled = Vec::new();
    for name in path_names {
        if !path.contains_key(name) {
            let value = sample["path"]
                .get(name)
                .cloned()
                .unwrap_or_else(|| json!("text"));
            filled.push(format!(
                "{name}={}",
                value
                    .as_str()
                    .map_or_else(|| value.to_string(), str::to_owned)
            ));
            path.insert(name.into(), value);
        }
    }
    let body = match (&args.body, sample.get("body")) {
        (None, Some(sample)) => {
            filled.push(format!("body {sample}"));
            sample.clone()
        }
        (given, _) => body_of(given.as_deref())?,
    };
    let mut headers = Map::new();
    for header in &args.headers {
        let (name, value) = header.split_once(':').ok_or_else(|| {
            CliError::new(format!("“{header}” is not of the form name:value")).usage()
        })?;
        headers.insert(name.trim().into(), json!(value.trim()));
    }
    let trial = json!({ "facade": facade, "operation": operation, "path": path, "query": query, "headers": headers, "body": body });
    let result = client
        .send(Method::POST, "/api/trials", Some(trial))
        .await?;
    show.value(&result, |v| {
        let mut out = String::new();
        if !filled.is_empty() {
            out.push_str(&format!(
                "filled in from the contract: {}\n",
                filled.join(", ")
            ));
        }
        out.push_str(&watch::stages_text(&v["trace"]));
        if v["released"] == json!(false) {
            out.push_str(&format!(
                "\n{} This is the draft; callers are not served it yet.\n",
                paint("unreleased.", 33)
            ));
        }
        out
    });
    Ok(number(&result, "status") < 400)
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
    show.value(&json!(list_), |v| {
        let mut out = String::new();
        for d in v.as_array().into_iter().flatten() {
            let name = text(d, "facade");
            let state = match text(d, "status") {
                "same" => paint("served as it is in the draft", 32),
                "new" => paint("in the draft only: callers get 404", 33),
                "gone" => paint("served, but not in the draft any more", 33),
                _ => paint("the draft differs from what is served", 33),
            };
            out.push_str(&format!("{}: {state}\n", bold(name)));
            for c in list(d, "changes") {
                let colour = if text(c, "harm") == "breaks" { 31 } else { 36 };
                let operation = if text(c, "operation").is_empty() {
                    String::new()
                } else {
                    format!("{}: ", text(c, "operation"))
                };
                out.push_str(&format!(
                    "  {} {operation}{}\n",
                    paint(text(c, "harm"), colour),
                    text(c, "what")
                ));
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
                for line in diff
                    .as_str()
                    .unwrap_or_default()
                    .lines()
                    .filter(|l| !l.starts_with("---") && !l.starts_with("+++"))
                {
                    let colour = match line.chars().next() {
                        Some('+') => 32,
                        Some('-') => 31,
                        _ => 2,
                    };
                    out.push_str(&format!("    {}\n", paint(line, colour)));
                }
            }
        }
        if out.is_empty() {
            "the draft is empty, and nothing is served".into()
        } else {
            out
        }
    });
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

/// `porch call`.
pub(crate) async fn call(args: &CallArgs, show: &Show) -> Result<bool, CliError> {
    let (method, path) = match args.request.as_slice() {
        [path] => (
            if args.body.is_some() { "POST" } else { "GET" },
            path.as_str(),
        ),
        [method, path, ..] => (method.as_str(), path.as_str()),
        [] => return Err(CliError::new("no path was given").usage()),
    };
    if !path.starts_with('/') {
        return Err(CliError::new(format!("“{path}” is no path"))
            .help("paths begin with “/”, as in /sailings/v2/fares/FAR-MAR/foot")
            .usage());
    }
    let method = Method::from_bytes(method.to_uppercase().as_bytes())
        .map_err(|_| CliError::new(format!("“{method}” is no method")).usage())?;
    let gateway = args.gateway.trim().trim_end_matches('/');
    let mut request = reqwest::Client::new().request(method, format!("{gateway}{path}"));
    if let Some(key) = args.key.as_deref().map(str::trim).filter(|k| !k.is_empty()) {
        request = request.header(&args.key_header, key);
    }
    let body = body_of(args.body.as_deref())?;
    if !body.is_null() {
        request = request.json(&body);
    }
    let began = Instant::now();
    let answer = request.send().await.map_err(|e| {
        CliError::new(format!("the gateway at {gateway} cannot be reached: {e}"))
            .help("give its address with --gateway or ELM_PORCH_GATEWAY")
    })?;
    let status = answer.status();
    let headers: Map<String, Value> = answer
        .headers()
        .iter()
        .map(|(k, v)| (k.to_string(), json!(String::from_utf8_lossy(v.as_bytes()))))
        .collect();
    let bytes = answer
        .bytes()
        .await
        .map_err(|e| CliError::new(format!("the gateway broke off: {e}")))?;
    let us = began.elapsed().as_micros() as i64;
    let body_text = String::from_utf8_lossy(&bytes).into_owned();
    let body = serde_json::from_str(&body_text).unwrap_or(Value::String(body_text));
    let value = json!({ "status": status.as_u16(), "headers": headers, "body": body, "us": us });
    show.value(&value, |v| {
        let mut out = format!(
            "{} in {}\n",
            bold(&status.to_string()),
            crate::show::took(us)
        );
        for (name, field) in v["headers"].as_object().into_iter().flatten() {
            out.push_str(&format!(
                "{}: {}\n",
                paint(name, 36),
                field.as_str().unwrap_or_default()
            ));
        }
        match &v["body"] {
            Value::String(body) => out.push_str(&format!("\n{body}")),
            body => out.push_str(&format!("\n{body:#}")),
        }
        out
    });
    Ok(status.as_u16() < 400)
}
