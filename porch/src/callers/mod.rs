//! Who calls: consumers, what they show, what they have agreed to, and how much they have used.

mod agreements;
mod certificates;
mod keys;
mod quotas;

use std::path::Path;

use reqwest::Method;
use serde_json::{Value, json};

pub(crate) use self::agreements::agreement;
use self::agreements::agreement_line;
pub(crate) use self::keys::key;
pub(crate) use self::quotas::quota;
use crate::cli::{ConsumerChangeArgs, ConsumerCommand};
use crate::client::{Client, segment};
use crate::error::CliError;
use crate::input::{agreed, read_input};
use crate::objects::rows;
use crate::show::{Show, bold, list, number, table, text, time};

/// Consumers that are asked for at a time.
const PAGE: usize = 500;

/// All consumers, a page at a time.
async fn all(client: &Client, search: &str) -> Result<Value, CliError> {
    let (mut found, mut after) = (Vec::new(), String::new());
    loop {
        let path = format!(
            "/api/consumers?most={PAGE}&search={}&after={}",
            segment(search),
            segment(&after)
        );
        let Value::Array(page) = client.get(&path).await? else {
            return Ok(Value::Array(found));
        };
        let more = page.len() == PAGE;
        after = page.last().map_or("", |c| text(c, "name")).to_owned();
        found.extend(page);
        if !more {
            return Ok(Value::Array(found));
        }
    }
}

fn texts(value: &Value, name: &str) -> String {
    let all = list(value, name).iter().filter_map(Value::as_str);
    all.collect::<Vec<_>>().join(", ")
}

fn key_state(key: &Value) -> String {
    let now = chrono::Utc::now().timestamp_millis();
    match key["ends_at"].as_i64() {
        Some(at) if at <= now => format!("ended {}", time(at)),
        _ if key["paused"] == json!(true) => "paused".into(),
        Some(at) => format!("until {}", time(at)),
        None => "good".into(),
    }
}

/// What a key opens.
fn opens(key: &Value) -> String {
    let facades = match key["facades"].as_array() {
        None => "every facade".to_owned(),
        Some(_) => texts(key, "facades"),
    };
    match key["agreements"].as_array() {
        None => facades,
        Some(all) => {
            let numbers: Vec<String> = all.iter().map(Value::to_string).collect();
            format!("{facades}, by agreement {}", numbers.join(", "))
        }
    }
}

fn used(key: &Value) -> String {
    key["last_used_at"].as_i64().map_or("never".into(), time)
}

fn days_from_now(days: u32) -> i64 {
    chrono::Utc::now().timestamp_millis() + i64::from(days) * 86_400_000
}

fn consumer_lines(c: &Value) -> Vec<Vec<String>> {
    let state = match c["paused"] == json!(true) {
        true => "paused",
        false => "active",
    };
    let head = [text(c, "name"), text(c, "owner"), &texts(c, "roles"), state].map(str::to_owned);
    let keys = list(c, "keys").iter().map(|k| {
        let known = format!("{}…", text(k, "prefix"));
        vec![
            known,
            text(k, "label").into(),
            opens(k),
            key_state(k),
            used(k),
        ]
    });
    let passwords = list(c, "passwords").iter().map(|p| {
        let name = format!("password of {}", text(p, "name"));
        vec![
            name,
            String::new(),
            "every facade".into(),
            "good".into(),
            used(p),
        ]
    });
    let clients = list(c, "clients").iter().map(|t| {
        let name = format!("tokens of {}", text(t, "name"));
        let every = "every facade".to_owned();
        vec![name, String::new(), every, "good".into(), used(t)]
    });
    let signing = list(c, "signing_keys").iter().map(|s| {
        let name = format!("signatures of {}", text(s, "keyid"));
        let every = "every facade".to_owned();
        vec![name, text(s, "kind").into(), every, "good".into(), used(s)]
    });
    let certificates = list(c, "certificates").iter().map(|s| {
        let name = format!("certificate {}", text(s, "known_by"));
        let every = "every facade".to_owned();
        vec![name, String::new(), every, "good".into(), used(s)]
    });
    let others = clients.chain(signing).chain(certificates);
    let all = keys.chain(passwords).chain(others);
    let mut lines: Vec<Vec<String>> = all.collect();
    if lines.is_empty() {
        let mut none = vec!["(none)".to_owned()];
        none.resize(5, String::new());
        lines.push(none);
    }
    lines
        .into_iter()
        .map(|line| [head.to_vec(), line].concat())
        .collect()
}

/// A line without most of a fingerprint, which takes a line's room and tells nothing more.
fn shorter(mut line: Vec<String>) -> Vec<String> {
    if let Some(shows) = line.get_mut(4)
        && let Some((before, hex)) = shows.split_once("sha256:")
        && let Some(first) = hex.get(..12)
    {
        *shows = format!("{before}sha256:{first}…");
    }
    line
}

/// What is listed of consumers.
const LISTED: [&str; 9] = [
    "consumer",
    "owner",
    "roles",
    "state",
    "shows",
    "label",
    "opens",
    "is",
    "used (utc)",
];

pub(crate) async fn consumer(
    command: ConsumerCommand,
    client: &Client,
    show: &Show,
) -> Result<bool, CliError> {
    match command {
        ConsumerCommand::List { search } => {
            let consumers = all(client, &search).await?;
            show.value(&consumers, |v| {
                let lines = rows(v).flat_map(consumer_lines).map(shorter);
                table(&LISTED, lines)
            });
        }
        ConsumerCommand::Show { name } => {
            let path = format!("/api/consumers/{}", segment(&name));
            let found = client.get(&path).await?;
            show.value(&found, one_consumer);
        }
        ConsumerCommand::Create {
            name,
            owner,
            roles,
            labels,
        } => {
            let new = json!({ "name": name, "owner": owner, "roles": roles, "labels": labels });
            let made = client
                .send(Method::POST, "/api/consumers", Some(new))
                .await?;
            show.value(&made, |v| {
                let name = text(v, "name");
                format!("registered {name}; make it a key with: porch key create \"{name}\"")
            });
        }
        ConsumerCommand::Change(args) => change_consumer(args, client, show).await?,
        ConsumerCommand::Delete { name, yes } => {
            delete_consumer(&name, yes, client, show).await?;
        }
        shows => what_it_shows(shows, client, show).await?,
    }
    Ok(true)
}

/// What a consumer shows besides keys.
async fn what_it_shows(
    command: ConsumerCommand,
    client: &Client,
    show: &Show,
) -> Result<(), CliError> {
    match command {
        ConsumerCommand::Password {
            consumer,
            name,
            remove,
        } => password(&consumer, name, remove, client, show).await?,
        ConsumerCommand::Token {
            consumer,
            issuer,
            client: id,
            remove,
        } => {
            let of = (issuer.trim(), id.trim());
            token_client(&consumer, of, remove, client, show).await?;
        }
        ConsumerCommand::SigningKey {
            consumer,
            keyid,
            public_key,
            remove,
        } => {
            let of = (consumer.as_str(), keyid.as_str());
            signing_key(of, public_key.as_deref(), remove, client, show).await?;
        }
        ConsumerCommand::Certificate {
            consumer,
            file,
            known_by,
            remove,
        } => {
            let of = (file.as_deref(), known_by.as_deref().map(str::trim));
            certificates::certificate(&consumer, of, remove, client, show).await?;
        }
        _ => {}
    }
    Ok(())
}

async fn token_client(
    consumer: &str,
    (issuer, id): (&str, &str),
    remove: bool,
    client: &Client,
    show: &Show,
) -> Result<(), CliError> {
    if remove {
        let name = format!("{id} of {issuer}");
        let path = format!("/api/clients/{}", segment(&name));
        client.send(Method::DELETE, &path, None).await?;
        show.value(&json!({ "removed": name }), |_| {
            format!("tokens of {name} are nobody's any more")
        });
        return Ok(());
    }
    let path = format!("/api/consumers/{}/clients", segment(consumer));
    let new = json!({ "issuer": issuer, "client": id });
    let made = client.send(Method::POST, &path, Some(new)).await?;
    show.value(&made, |v| {
        format!("tokens of {} are {consumer}'s", text(v, "name"))
    });
    Ok(())
}

async fn delete_consumer(
    name: &str,
    yes: bool,
    client: &Client,
    show: &Show,
) -> Result<(), CliError> {
    let path = format!("/api/consumers/{}", segment(name));
    let found = client.get(&path).await?;
    agreed(&what_breaks(&found), &format!("Delete {name}?"), yes)?;
    client.send(Method::DELETE, &path, None).await?;
    show.value(&json!({ "deleted": name }), |_| {
        format!("{name} is no consumer any more")
    });
    Ok(())
}

async fn signing_key(
    (consumer, keyid): (&str, &str),
    public_key: Option<&Path>,
    remove: bool,
    client: &Client,
    show: &Show,
) -> Result<(), CliError> {
    if remove {
        let path = format!("/api/signing-keys/{}", segment(keyid));
        client.send(Method::DELETE, &path, None).await?;
        show.value(&json!({ "removed": keyid }), |_| {
            format!("the key {keyid} is gone")
        });
        return Ok(());
    }
    let body = match public_key {
        Some(file) => {
            let read = std::fs::read_to_string(file);
            let text = read.map_err(|e| CliError::new(format!("{}: {e}", file.display())))?;
            json!({ "keyid": keyid, "public_key": text })
        }
        None => json!({ "keyid": keyid, "secret": read_input("secret")? }),
    };
    let path = format!("/api/consumers/{}/signing-keys", segment(consumer));
    let made = client.send(Method::POST, &path, Some(body)).await?;
    show.value(&made, |v| {
        let (keyid, kind) = (text(v, "keyid"), text(v, "kind"));
        format!("{consumer} signs with “{keyid}” ({kind}); it acts at once")
    });
    Ok(())
}

/// What stops working when a consumer is gone.
fn what_breaks(found: &Value) -> String {
    let (keys, calls) = (list(found, "keys").len(), list(found, "calls"));
    let shows = keys
        + list(found, "passwords").len()
        + list(found, "clients").len()
        + list(found, "signing_keys").len()
        + list(found, "certificates").len();
    let mut told = format!("{} credentials end.\n", shows);
    for c in calls.iter().take(10) {
        told.push_str(&format!(
            "{}/{}: {} calls in the last seven days\n",
            text(c, "facade"),
            text(c, "operation"),
            number(c, "calls")
        ));
    }
    told
}

fn one_consumer(v: &Value) -> String {
    let line = |name: &str, value: String| format!("{name:<10} {value}\n");
    let mut out = line("consumer", bold(text(v, "name")));
    for (name, value) in [
        ("owner", text(v, "owner").to_owned()),
        ("roles", texts(v, "roles")),
        ("labels", texts(v, "labels")),
    ] {
        if !value.is_empty() {
            out.push_str(&line(name, value));
        }
    }
    let head = ["shows", "label", "opens", "is", "used (utc)"];
    let lines = consumer_lines(v).into_iter().map(|l| l[4..].to_vec());
    out.push_str(&format!("\n{}\n", table(&head, lines)));
    if !list(v, "agreements").is_empty() {
        let lines = list(v, "agreements").iter().map(agreement_line);
        let lines = lines.map(|l| [&l[..1], &l[2..]].concat());
        out.push_str(&format!(
            "\n{}\n",
            table(
                &["agreement", "offer", "terms", "opens", "from (utc)", "is"],
                lines
            )
        ));
    }
    let calls = list(v, "calls").iter().map(|c| {
        vec![
            text(c, "facade").into(),
            text(c, "operation").into(),
            number(c, "calls").to_string(),
        ]
    });
    match list(v, "calls").is_empty() {
        true => out.push_str("\nit has called nothing in the last seven days"),
        false => out.push_str(&format!(
            "\n{}",
            table(&["facade", "operation", "calls (7 d)"], calls)
        )),
    }
    out
}

async fn change_consumer(
    args: ConsumerChangeArgs,
    client: &Client,
    show: &Show,
) -> Result<(), CliError> {
    let roles = (args.no_roles || !args.roles.is_empty()).then_some(args.roles);
    let labels = (!args.labels.is_empty()).then_some(args.labels);
    let nothing = args.owner.is_none() && roles.is_none() && labels.is_none();
    if nothing && args.bound.is_none() {
        let help = "give --owner, --role, --no-roles, --label or --bound";
        return Err(CliError::new("nothing is to be changed").help(help).usage());
    }
    let path = format!("/api/consumers/{}", segment(&args.name));
    let change =
        json!({ "owner": args.owner, "roles": roles, "labels": labels, "bound": args.bound });
    client.send(Method::PATCH, &path, Some(change)).await?;
    show.value(&json!({ "changed": args.name }), |_| {
        format!("{} is changed", args.name)
    });
    Ok(())
}

async fn password(
    consumer: &str,
    name: Option<String>,
    remove: bool,
    client: &Client,
    show: &Show,
) -> Result<(), CliError> {
    if remove {
        let name = name.unwrap_or_else(|| consumer.to_owned());
        let path = format!("/api/passwords/{}", segment(&name));
        client.send(Method::DELETE, &path, None).await?;
        show.value(&json!({ "removed": name }), |_| {
            format!("the password of {name} is gone")
        });
        return Ok(());
    }
    let password = read_input("password")?;
    let path = format!("/api/consumers/{}/password", segment(consumer));
    let body = json!({ "name": name, "password": password });
    let set = client.send(Method::PUT, &path, Some(body)).await?;
    show.value(&set, |v| {
        let name = text(v, "name");
        format!("{consumer} shows the name “{name}” with the password; it acts at once")
    });
    Ok(())
}
