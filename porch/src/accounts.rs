//! Accounts of publishers.

use reqwest::Method;
use serde_json::json;

use crate::cli::AccountCommand;
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
        AccountCommand::Create { name, role } => {
            let password = read_input("password")?;
            let made = client
                .send(
                    Method::POST,
                    "/api/accounts",
                    Some(json!({ "name": name, "password": password, "role": role })),
                )
                .await?;
            show.value(&made, |v| {
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
        AccountCommand::End { name } => {
            let path = format!("/api/accounts/{}", segment(&name));
            client.send(Method::DELETE, &path, None).await?;
            show.value(&json!({ "name": name }), |_| {
                format!("{name} is no account any more, and its sessions are over")
            });
        }
    }
    Ok(true)
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
        format!("{} is a {}{ended}", text(v, "name"), text(v, "role"))
    });
    Ok(())
}
