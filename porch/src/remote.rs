//! Commands that talk to a service: draft, trial runs, releases, calls.

use std::path::Path;

use reqwest::Method;
use serde_json::{Value, json};

use crate::cli::{Command, FacadeCommand, PauseArgs};
use crate::client::{Client, forget_session, keep_session, segment};
use crate::error::CliError;
use crate::input::read_input;
use crate::pulled::write_below;
use crate::show::{Show, list, text};
use crate::trying::{find_operation, try_out};
use crate::{
    accounts, backends, backtest, callers, kept, objects, publishing, releasing, rules, watch,
};

pub(crate) async fn dispatch(
    command: Command,
    client: &Client,
    show: &Show,
) -> Result<bool, CliError> {
    match command {
        Command::Push(args) => publishing::push(&args, client, show).await,
        Command::Pull { folder } => pull(&folder, client, show).await,
        Command::Try(args) => try_out(&args, client, show).await,
        Command::Compare { facade } => publishing::compare(facade.as_deref(), client, show).await,
        Command::Release(args) => releasing::release(&args, client, show).await,
        Command::Rollback(args) => releasing::rollback(&args, client, show).await,
        Command::Pause(args) => pause(&args, true, client, show).await,
        Command::Resume(args) => pause(&args, false, client, show).await,
        Command::Cache(c) => kept::cache(c, client, show).await,
        Command::Trace(args) => watch::traces(&args, client, show).await,
        Command::Explain { id, stages } => watch::explain(&id, stages, client, show).await,
        Command::Usage {
            minutes,
            copies: false,
        } => watch::usage(minutes, client, show).await,
        Command::Usage { minutes, .. } => watch::copies(minutes, client, show).await,
        Command::Audit => watch::audit(client, show).await,
        Command::Facade(FacadeCommand::List) => objects::facades(client, show).await,
        Command::Facade(FacadeCommand::Delete { name, yes }) => {
            publishing::delete(&name, yes, client, show).await
        }
        Command::Backend(c) => backends::backend(c, client, show).await,
        Command::Rules => rules::rules(client, show).await,
        Command::Consumer(c) => callers::consumer(c, client, show).await,
        Command::Key(c) => callers::key(c, client, show).await,
        Command::Message(c) => crate::webhooks::message(c, client, show).await,
        Command::Webhook(c) => crate::webhooks::webhook(c, client, show).await,
        Command::Team(c) => crate::teams::team(c, client, show).await,
        Command::Offer(c) => crate::offers::offer(c, client, show).await,
        Command::Agreement(c) => callers::agreement(c, client, show).await,
        Command::Quota(c) => callers::quota(c, client, show).await,
        Command::Backtest(args) => backtest::backtest(&args, client, show).await,
        Command::Secret(c) => objects::secret(c, client, show).await,
        Command::Account(c) => accounts::account(c, client, show).await,
        Command::Token(c) => accounts::token(c, client, show).await,
        Command::Session(c) => accounts::session(c, client, show).await,
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
        "agreement" => (
            format!("/api/agreements/{}", segment(&args.name)),
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
