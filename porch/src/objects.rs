//! Objects that are kept: facades and secrets.

use reqwest::Method;
use serde_json::{Value, json};

use crate::cli::SecretCommand;
use crate::client::Client;
use crate::error::CliError;
use crate::input::read_input;
use crate::show::{Show, list, number, table, text, time};

pub(crate) fn rows(v: &Value) -> impl Iterator<Item = &Value> {
    v.as_array().into_iter().flatten()
}

pub(crate) async fn facades(client: &Client, show: &Show) -> Result<bool, CliError> {
    let facades = client.get("/api/facades").await?;
    show.value(&facades, |v| {
        let rows = rows(v).map(|f| {
            let backends: Vec<&str> = list(f, "backends")
                .iter()
                .filter_map(Value::as_str)
                .collect();
            vec![
                text(f, "name").into(),
                text(f, "version").into(),
                text(f, "base").into(),
                f["operations"].to_string(),
                backends.join(", "),
                text(f, "status").into(),
                f["calls"].to_string(),
            ]
        });
        table(
            &[
                "facade",
                "version",
                "base",
                "operations",
                "backends",
                "draft",
                "calls (1 h)",
            ],
            rows,
        )
    });
    Ok(true)
}

pub(crate) async fn secret(
    command: SecretCommand,
    client: &Client,
    show: &Show,
) -> Result<bool, CliError> {
    match command {
        SecretCommand::List => {
            let secrets = client.get("/api/secrets").await?;
            show.value(&secrets, |v| {
                table(
                    &["secret", "changed (utc)", "by"],
                    rows(v).map(|s| {
                        vec![
                            text(s, "name").into(),
                            time(number(s, "changed_at")),
                            text(s, "changed_by").into(),
                        ]
                    }),
                )
            });
        }
        SecretCommand::Set { name } => {
            let value = read_input("secret")?;
            let set = client
                .send(
                    Method::PUT,
                    "/api/secrets",
                    Some(json!({ "name": name, "value": value })),
                )
                .await?;
            show.value(&set, |v| {
                format!("{} is set and acts at once", text(v, "name"))
            });
        }
    }
    Ok(true)
}
