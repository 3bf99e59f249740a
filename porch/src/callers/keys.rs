//! Keys: made, changed, renewed, ended, and looked for where they do not belong.

use std::path::{Path, PathBuf};

use porch_rules::key::{hide_keys, keys_in, prefix};
use reqwest::Method;
use serde_json::{Value, json};

use super::{all, days_from_now, key_state, opens, used};
use crate::cli::{KeyChangeArgs, KeyCommand, Opening};
use crate::client::{Client, segment};
use crate::error::CliError;
use crate::objects::rows;
use crate::show::{Show, bold, list, table, text};

fn known_by(text: &str) -> String {
    let text = text.trim();
    prefix(text)
        .unwrap_or(text)
        .trim_end_matches('…')
        .to_owned()
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
        let keys = list(consumer, "keys").iter().map(with_name);
        keys.collect::<Vec<_>>()
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
        used(key),
    ]
}

pub(crate) async fn key(
    command: KeyCommand,
    client: &Client,
    show: &Show,
) -> Result<bool, CliError> {
    match command {
        KeyCommand::List { search } => {
            let consumers = all(client, &search).await?;
            show.value(&key_list(&consumers), |v| {
                let head = ["key", "consumer", "label", "opens", "is", "used (utc)"];
                table(&head, rows(v).map(key_line))
            });
        }
        KeyCommand::Create {
            consumer,
            label,
            days,
            opens: Opening {
                facades,
                agreements,
            },
        } => {
            let facades = (!facades.is_empty()).then_some(facades);
            let agreements = (!agreements.is_empty()).then_some(agreements);
            let new = json!({ "label": label, "ends_at": days.map(days_from_now), "facades": facades, "agreements": agreements });
            let path = format!("/api/consumers/{}/keys", segment(&consumer));
            let made = client.send(Method::POST, &path, Some(new)).await?;
            show.value(&made, shown_once);
        }
        KeyCommand::Change(args) => change_key(args, client, show).await?,
        KeyCommand::Renew {
            prefix,
            keep,
            days,
            label,
        } => {
            let new = json!({ "ends_at": days.map(days_from_now), "label": label });
            renew_key(&prefix, keep, new, client, show).await?;
        }
        KeyCommand::End { prefix } => {
            let path = format!("/api/keys/{}", segment(&known_by(&prefix)));
            let end = json!({ "ends_at": 0 });
            let ended = client.send(Method::PUT, &path, Some(end)).await?;
            show.value(&ended, |v| format!("{}… has ended", text(v, "prefix")));
        }
        KeyCommand::Delete { prefix } => {
            let known = known_by(&prefix);
            let path = format!("/api/keys/{}", segment(&known));
            client.send(Method::DELETE, &path, None).await?;
            show.value(&json!({ "deleted": known }), |_| {
                format!("{known}… is gone")
            });
        }
        KeyCommand::Find { paths } => return find(&paths, client, show).await,
    }
    Ok(true)
}

async fn renew_key(
    prefix: &str,
    keep: u32,
    mut new: Value,
    client: &Client,
    show: &Show,
) -> Result<(), CliError> {
    new["old_until"] = json!(if keep == 0 { 0 } else { days_from_now(keep) });
    let path = format!("/api/keys/{}/renew", segment(&known_by(prefix)));
    let renewed = client.send(Method::POST, &path, Some(new)).await?;
    show.value(&renewed, |v| {
        let (new, old) = (&v["new"], &v["old"]);
        format!(
            "{}\nThe old one, {}…, is {}.",
            shown_once(new),
            text(old, "prefix"),
            key_state(old)
        )
    });
    Ok(())
}

fn shown_once(key: &Value) -> String {
    format!(
        "{}\nThis is the only time the key is shown whole. It is known as {}… from now on, and opens {}.",
        bold(text(key, "key")),
        text(key, "prefix"),
        opens(key)
    )
}

async fn change_key(args: KeyChangeArgs, client: &Client, show: &Show) -> Result<(), CliError> {
    let Opening {
        facades,
        agreements,
    } = args.opens;
    let facades = (args.every_facade || !facades.is_empty()).then_some(facades);
    let agreements = (args.every_agreement || !agreements.is_empty()).then_some(agreements);
    let path = format!("/api/keys/{}", segment(&known_by(&args.prefix)));
    let change = json!({
        "label": args.label, "ends_at": args.days.map(days_from_now), "endless": args.endless,
        "facades": facades, "agreements": agreements,
    });
    let changed = client.send(Method::PUT, &path, Some(change)).await?;
    show.value(&changed, |v| {
        format!(
            "{}… opens {}, and is {}",
            text(v, "prefix"),
            opens(v),
            key_state(v)
        )
    });
    Ok(())
}

/// Files that are looked into, and bytes of each, at most.
const MOST_FILES: usize = 100_000;
const MOST_BYTES: u64 = 16 << 20;

/// Looks for keys in files.
async fn find(paths: &[PathBuf], client: &Client, show: &Show) -> Result<bool, CliError> {
    let known = key_list(&all(client, "").await?);
    let mut files = Vec::new();
    for path in paths {
        files_below(path, &mut files)?;
    }
    let mut found = Vec::new();
    for file in files {
        let small = std::fs::metadata(&file).is_ok_and(|m| m.len() <= MOST_BYTES);
        let Some(bytes) = small.then(|| std::fs::read(&file).ok()).flatten() else {
            continue;
        };
        let text = String::from_utf8_lossy(&bytes);
        for (i, line) in text.lines().enumerate() {
            for key in keys_in(line) {
                let mut shown = key.to_owned();
                hide_keys(&mut shown, "…");
                let own = rows(&known).find(|k| prefix(key) == Some(text_of(k, "prefix")));
                let state = own.map_or("nobody's here".to_owned(), key_state);
                let whose = own.map_or("", |k| text_of(k, "consumer"));
                found.push(json!({ "file": file, "line": i + 1, "key": shown, "consumer": whose, "is": state }));
            }
        }
    }
    let none = found.is_empty();
    show.value(&Value::Array(found), |v| match none {
        true => "no keys were found".to_owned(),
        false => table(
            &["file", "line", "key", "consumer", "is"],
            rows(v).map(|f| {
                vec![
                    text(f, "file").into(),
                    f["line"].to_string(),
                    text(f, "key").into(),
                    text(f, "consumer").into(),
                    text(f, "is").into(),
                ]
            }),
        ),
    });
    Ok(none)
}

fn text_of<'v>(value: &'v Value, name: &str) -> &'v str {
    text(value, name)
}

fn files_below(path: &Path, into: &mut Vec<PathBuf>) -> Result<(), CliError> {
    let wrong = |e: std::io::Error| CliError::new(format!("{}: {e}", path.display()));
    let kind = std::fs::symlink_metadata(path).map_err(wrong)?;
    if kind.is_file() && into.len() < MOST_FILES {
        into.push(path.to_owned());
    }
    if kind.is_dir() {
        let mut all: Vec<PathBuf> = std::fs::read_dir(path)
            .map_err(wrong)?
            .flatten()
            .map(|e| e.path())
            .collect();
        all.sort();
        for below in all {
            files_below(&below, into)?;
        }
    }
    Ok(())
}
