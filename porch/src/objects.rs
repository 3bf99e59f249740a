//! The objects that are kept: facades, consumers, keys, secrets, accounts.

use reqwest::Method;
use serde_json::{Value, json};

use crate::cli::{ConsumerCommand, KeyCommand, SecretCommand};
use crate::client::{Client, segment};
use crate::error::CliError;
use crate::input::read_input;
use crate::show::{Show, bold, list, number, table, text, time};

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

fn key_state(key: &Value) -> String {
    let ends = key["ends_at"].as_i64();
    let now = chrono::Utc::now().timestamp_millis();
    match ends {
        Some(at) if at <= now => format!("ended {}", time(at)),
        _ if key["paused"] == json!(true) => "paused".into(),
        Some(at) => format!("until {}", time(at)),
        None => "good".into(),
    }
}

/// A consumer's lines in the list: one for each of its keys.
fn keys_of(c: &Value) -> Vec<Vec<String>> {
    let state = if c["paused"] == json!(true) {
        "paused"
    } else {
        "active"
    };
    let head = vec![
        text(c, "name").to_owned(),
        text(c, "owner").to_owned(),
        state.to_owned(),
    ];
    let keys = list(c, "keys");
    let mut lines: Vec<Vec<String>> = keys
        .iter()
        .map(|k| {
            vec![
                format!("{}…", text(k, "prefix")),
                text(k, "label").into(),
                opens(k),
                key_state(k),
            ]
        })
        .collect();
    if lines.is_empty() {
        lines.push(vec![
            "(none)".into(),
            String::new(),
            String::new(),
            String::new(),
        ]);
    }
    lines
        .into_iter()
        .map(move |line| [head.clone(), line].concat())
        .collect::<Vec<_>>()
}

pub(crate) async fn consumer(
    command: ConsumerCommand,
    client: &Client,
    show: &Show,
) -> Result<bool, CliError> {
    match command {
        ConsumerCommand::List => {
            let consumers = client.get("/api/consumers").await?;
            show.value(&consumers, |v| {
                let rows = rows(v).flat_map(keys_of);
                table(
                    &[
                        "consumer", "owner", "state", "key", "label", "opens", "key is",
                    ],
                    rows,
                )
            });
        }
        ConsumerCommand::Create { name, owner } => {
            let made = client
                .send(
                    Method::POST,
                    "/api/consumers",
                    Some(json!({ "name": name, "owner": owner })),
                )
                .await?;
            show.value(&made, |v| {
                format!(
                    "registered {}; make it a key with: porch key create \"{}\"",
                    text(v, "name"),
                    text(v, "name")
                )
            });
        }
    }
    Ok(true)
}

/// The facades that a key opens.
fn opens(key: &Value) -> String {
    match key["facades"].as_array() {
        None => "every facade".into(),
        Some(all) => {
            let names: Vec<&str> = all.iter().filter_map(Value::as_str).collect();
            names.join(", ")
        }
    }
}

/// All keys, each with its consumer.
fn key_list(consumers: &Value) -> Value {
    let of = |consumer: &Value| {
        let name = consumer["name"].clone();
        let with_name = move |key: &Value| {
            let mut key = key.clone();
            key["consumer"] = name.clone();
            key
        };
        list(consumer, "keys")
            .iter()
            .map(with_name)
            .collect::<Vec<_>>()
    };
    rows(consumers).flat_map(of).collect()
}

fn key_line(key: &Value) -> Vec<String> {
    vec![
        format!("{}…", text(key, "prefix")),
        text(key, "consumer").into(),
        text(key, "label").into(),
        opens(key),
        key_state(key),
    ]
}

pub(crate) async fn key(
    command: KeyCommand,
    client: &Client,
    show: &Show,
) -> Result<bool, CliError> {
    match command {
        KeyCommand::List => {
            let consumers = client.get("/api/consumers").await?;
            show.value(&key_list(&consumers), |v| {
                let head = ["key", "consumer", "label", "opens", "key is"];
                table(&head, rows(v).map(key_line))
            });
        }
        KeyCommand::Create {
            consumer,
            label,
            days,
            facades,
        } => {
            let facades = (!facades.is_empty()).then_some(facades);
            let ends_at =
                days.map(|d| chrono::Utc::now().timestamp_millis() + i64::from(d) * 86_400_000);
            let made = client
                .send(
                    Method::POST,
                    &format!("/api/consumers/{}/keys", segment(&consumer)),
                    Some(json!({ "label": label, "ends_at": ends_at, "facades": facades })),
                )
                .await?;
            show.value(&made, |v| format!("{}\nThis is the only time the key is shown whole. It is known as {}… from now on, and opens {}.", bold(text(v, "key")), text(v, "prefix"), opens(v)));
        }
        KeyCommand::End { prefix } => {
            let known_by = porch_rules::key::prefix(&prefix)
                .unwrap_or(&prefix)
                .trim_end_matches('…')
                .to_owned();
            let ended = client
                .send(
                    Method::PUT,
                    &format!("/api/keys/{}", segment(&known_by)),
                    Some(json!({ "ends_at": 0 })),
                )
                .await?;
            show.value(&ended, |v| format!("{}… has ended", text(v, "prefix")));
        }
    }
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
