//! Accounts of publishers, their sessions, and the tokens of their machines.

use reqwest::Method;
use serde_json::json;

use crate::cli::{AccountCommand, SessionCommand, TokenCommand};
use crate::client::{Client, segment};
use crate::error::CliError;
use crate::input::{read_input, read_two};
use crate::objects::rows;
use crate::show::{Show, number, table, text, time};

pub(crate) async fn account(
    command: AccountCommand,
    client: &Client,
    show: &Show,
) -> Result<bool, CliError> {
    match command {
        AccountCommand::List => {
            let accounts = client.get("/api/accounts").await?;
            show.value(&accounts, |v| {
                table(
                    &["account", "role", "since (utc)"],
                    rows(v).map(|a| {
                        vec![
                            text(a, "name").into(),
                            text(a, "role").into(),
                            time(number(a, "created_at")),
                        ]
                    }),
                )
            });
        }
        AccountCommand::Create { name, role, openid } => {
            let password = match openid {
                true => None,
                false => Some(read_input("password")?),
            };
            let new = json!({ "name": name, "password": password, "role": role });
            let made = client.send(Method::POST, "/api/accounts", Some(new));
            show.value(&made.await?, |v| {
                format!("made {} ({})", text(v, "name"), text(v, "role"))
            });
        }
        AccountCommand::Change {
            name,
            role,
            password,
        } => change(&name, role, password, client, show).await?,
        AccountCommand::Password => {
            let (old, new) = read_two("old password", "new password")?;
            let body = json!({ "old": old, "new": new });
            client
                .send(Method::PUT, "/api/session/password", Some(body))
                .await?;
            show.value(&json!({ "changed": true }), |_| {
                "the password is changed; sign in again".into()
            });
        }
        AccountCommand::SignOut { name, tokens } => sign_out(&name, tokens, client, show).await?,
        AccountCommand::End { name } => {
            let path = format!("/api/accounts/{}", segment(&name));
            client.send(Method::DELETE, &path, None).await?;
            show.value(&json!({ "name": name }), |_| {
                format!("{name} is no account any more; its sessions and tokens are over")
            });
        }
    }
    Ok(true)
}

/// Ends all that is open of an account.
async fn sign_out(name: &str, tokens: bool, client: &Client, show: &Show) -> Result<(), CliError> {
    let path = format!("/api/accounts/{}/sessions?tokens={tokens}", segment(name));
    let ended = client.send(Method::DELETE, &path, None).await?;
    show.value(&ended, |v| {
        let tokens = match number(v, "tokens") {
            0 => String::new(),
            n => format!(" and {n} tokens"),
        };
        format!("ended {} sessions{tokens} of {name}", number(v, "sessions"))
    });
    Ok(())
}

async fn change(
    name: &str,
    role: Option<String>,
    password: bool,
    client: &Client,
    show: &Show,
) -> Result<(), CliError> {
    let new = if password {
        Some(read_input("password")?)
    } else {
        None
    };
    let path = format!("/api/accounts/{}", segment(name));
    let change = json!({ "role": role, "password": new });
    let changed = client.send(Method::PATCH, &path, Some(change)).await?;
    show.value(&changed, |v| {
        let ended = if password {
            "; its sessions are over"
        } else {
            ""
        };
        format!("{} is {}{ended}", text(v, "name"), a_role(text(v, "role")))
    });
    Ok(())
}

fn a_role(role: &str) -> String {
    match role {
        "administrator" => "an administrator".to_owned(),
        other => format!("a {other}"),
    }
}

pub(crate) async fn token(
    command: TokenCommand,
    client: &Client,
    show: &Show,
) -> Result<bool, CliError> {
    match command {
        TokenCommand::List => {
            let all = client.get("/api/tokens").await?;
            show.value(&all, |v| {
                let head = [
                    "number",
                    "token",
                    "what for",
                    "account",
                    "role",
                    "ends (utc)",
                    "last used (utc)",
                ];
                table(&head, rows(v).map(token_row))
            });
        }
        TokenCommand::Create { label, role, days } => {
            let body = json!({ "label": label, "role": role, "days": days });
            let made = client.send(Method::POST, "/api/tokens", Some(body)).await?;
            show.value(&made, |v| {
                format!(
                    "{}\nmay do what {} may, until {} (utc); it is shown this once",
                    text(v, "token"),
                    a_role(text(v, "role")),
                    time(number(v, "ends_at"))
                )
            });
        }
        TokenCommand::End { id } => {
            let path = format!("/api/tokens/{id}");
            client.send(Method::DELETE, &path, None).await?;
            show.value(&json!({ "id": id }), |_| {
                format!("token {id} is good for nothing any more")
            });
        }
    }
    Ok(true)
}

fn token_row(token: &serde_json::Value) -> Vec<String> {
    let ends = number(token, "ends_at");
    let over = chrono::Utc::now().timestamp_millis() > ends;
    vec![
        number(token, "id").to_string(),
        format!("{}…", text(token, "prefix")),
        text(token, "label").into(),
        text(token, "account").into(),
        text(token, "role").into(),
        match over {
            true => format!("ended {}", time(ends)),
            false => time(ends),
        },
        match number(token, "last_used_at") {
            0 => "never".into(),
            at => time(at),
        },
    ]
}

pub(crate) async fn session(
    command: SessionCommand,
    client: &Client,
    show: &Show,
) -> Result<bool, CliError> {
    match command {
        SessionCommand::List => {
            let all = client.get("/api/sessions").await?;
            show.value(&all, |v| {
                table(
                    &["number", "what for", "since (utc)", "ends (utc)", ""],
                    rows(v).map(|s| {
                        let own = s["own"].as_bool() == Some(true);
                        vec![
                            number(s, "id").to_string(),
                            text(s, "label").into(),
                            time(number(s, "created_at")),
                            time(number(s, "ends_at")),
                            if own {
                                "this one".into()
                            } else {
                                String::new()
                            },
                        ]
                    }),
                )
            });
        }
        SessionCommand::End { id: Some(id), .. } => {
            let path = format!("/api/sessions/{id}");
            client.send(Method::DELETE, &path, None).await?;
            show.value(&json!({ "id": id }), |_| format!("session {id} is over"));
        }
        SessionCommand::End { id: None, .. } => {
            client.send(Method::DELETE, "/api/sessions", None).await?;
            show.value(&json!({ "all": true }), |_| {
                "all sessions are over; sign in again".into()
            });
        }
    }
    Ok(true)
}
