//! Messages and where they are sent: `porch message`, `porch webhook`.

use reqwest::Method;
use serde_json::{Value, json};

use crate::cli::{MessageCommand, WebhookCommand};
use crate::client::Client;
use crate::error::CliError;
use crate::objects::rows;
use crate::publishing::names;
use crate::show::{Show, number, table, text, time};

/// So many come at a time.
const PAGE: usize = 100;

/// A list that comes in pages, the newest first, to so many.
async fn all(client: &Client, path: &str, most: usize) -> Result<Value, CliError> {
    let mut all: Vec<Value> = Vec::new();
    loop {
        let before = all.last().map(|last| format!("?before={}", last["id"]));
        let path = format!("{path}{}", before.unwrap_or_default());
        let page = client.get(&path).await?;
        let page = page.as_array().cloned().unwrap_or_default();
        let more = page.len() == PAGE;
        all.extend(page);
        if !more || all.len() >= most {
            break;
        }
    }
    all.truncate(most);
    Ok(json!(all))
}

/// `porch message …`.
pub(crate) async fn message(
    command: MessageCommand,
    client: &Client,
    show: &Show,
) -> Result<bool, CliError> {
    match command {
        MessageCommand::List { most } => {
            let found = all(client, "/api/messages", most).await?;
            show.value(&found, |v| {
                let rows = rows(v).map(|m| {
                    vec![
                        time(number(m, "at")),
                        text(m, "kind").into(),
                        text(m, "subject").into(),
                    ]
                });
                table(&["when", "kind", "subject"], rows)
            });
        }
        MessageCommand::Send {
            facade,
            operations,
            subject,
            text,
        } => {
            let body = json!({ "facade": facade, "operations": operations, "subject": subject, "text": text });
            let told = client.send(Method::POST, "/api/announcements", Some(body));
            show.value(&told.await?, |v| match number(v, "teams") {
                0 => format!("no team uses {facade}: nobody was told"),
                1 => "1 team was told".into(),
                n => format!("{n} teams were told"),
            });
        }
    }
    Ok(true)
}

/// How it stands with a webhook.
fn state(w: &Value) -> String {
    if w["paused"] == json!(true) {
        return match text(w, "problem") {
            "" => "paused".into(),
            why => format!("paused: {why}"),
        };
    }
    match (w["agreed"] == json!(true), text(w, "problem")) {
        (true, _) => "sends".into(),
        (false, "") => "is asked".into(),
        (false, why) => why.into(),
    }
}

fn kinds(w: &Value) -> String {
    match names(w, "kinds") {
        none if none.is_empty() => "all".into(),
        some => some,
    }
}

fn events_text(v: &Value) -> String {
    let line = |e: &Value| {
        let status = e["status"]
            .as_i64()
            .map_or(String::new(), |s| s.to_string());
        vec![
            number(e, "id").to_string(),
            time(number(e, "at")),
            text(e, "kind").into(),
            text(e, "state").into(),
            number(e, "attempts").to_string(),
            status,
            e["next_at"].as_i64().map_or(String::new(), time),
            text(e, "problem").into(),
        ]
    };
    let head = [
        "event", "told", "kind", "state", "tries", "status", "next", "why",
    ];
    table(&head, rows(v).map(line))
}

/// `porch webhook …`.
pub(crate) async fn webhook(
    command: WebhookCommand,
    client: &Client,
    show: &Show,
) -> Result<bool, CliError> {
    let path = |id: i64| format!("/api/webhooks/{id}");
    match command {
        WebhookCommand::List => {
            let found = client.get("/api/webhooks").await?;
            show.value(&found, |v| {
                let rows = rows(v).map(|w| {
                    let id = number(w, "id").to_string();
                    vec![id, text(w, "url").into(), kinds(w), state(w)]
                });
                table(&["webhook", "address", "kinds", "state"], rows)
            });
        }
        WebhookCommand::Add { address, kinds } => {
            let body = json!({ "url": address, "kinds": kinds });
            let made = client.send(Method::POST, "/api/webhooks", Some(body));
            show.value(&made.await?, |v| {
                format!("webhook {} {}: {}", v["id"], text(v, "url"), state(v))
            });
        }
        WebhookCommand::Pause { number: id } | WebhookCommand::Resume { number: id } => {
            let paused = matches!(command, WebhookCommand::Pause { .. });
            let body = json!({ "paused": paused });
            let path = format!("{}/pause", path(id));
            let changed = client.send(Method::PUT, &path, Some(body)).await?;
            show.value(&changed, |v| format!("webhook {id} {}", state(v)));
        }
        WebhookCommand::Remove { number: id } => {
            client.send(Method::DELETE, &path(id), None).await?;
            let gone = json!({ "removed": id });
            show.value(&gone, |_| format!("webhook {id} is gone"));
        }
        WebhookCommand::Events { number: id, most } => {
            let found = all(client, &format!("{}/events", path(id)), most).await?;
            show.value(&found, events_text);
        }
        WebhookCommand::Again { number: id, event } => {
            let path = format!("{}/events/{event}/again", path(id));
            client.send(Method::POST, &path, None).await?;
            let again = json!({ "sent_again": event });
            show.value(&again, |_| format!("event {event} is sent again"));
        }
    }
    Ok(true)
}
