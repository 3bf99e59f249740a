//! How far quotas are used.

use reqwest::Method;
use serde_json::{Value, json};

use crate::cli::QuotaCommand;
use crate::client::{Client, segment};
use crate::error::CliError;
use crate::objects::rows;
use crate::show::{Show, number, table, text, time};

fn quota_line(q: &Value) -> Vec<String> {
    let (used, most) = (number(q, "used"), q["most"].as_i64());
    let share = most
        .filter(|m| *m > 0)
        .map_or(String::new(), |most| format!("{} %", used * 100 / most));
    let added = match number(q, "added") {
        0 => String::new(),
        added => format!(", {added} added"),
    };
    vec![
        text(q, "facade").into(),
        text(q, "rule").into(),
        match text(q, "whose") {
            "" => "(by request)".into(),
            whose => whose.into(),
        },
        match most {
            Some(most) => format!("{used} of {most}{added}"),
            None => used.to_string(),
        },
        share,
        time(number(q, "until_at")),
    ]
}

pub(crate) async fn quota(
    command: QuotaCommand,
    client: &Client,
    show: &Show,
) -> Result<bool, CliError> {
    match command {
        QuotaCommand::List => {
            let quotas = client.get("/api/quotas").await?;
            let head = ["facade", "quota", "whose", "used", "share", "until (utc)"];
            show.value(&quotas, |v| match rows(v).next() {
                None => "no quota has been used in its period".to_owned(),
                Some(_) => table(&head, rows(v).map(quota_line)),
            });
        }
        QuotaCommand::Add {
            consumer,
            amount,
            of,
            why,
        } => {
            let (facade, operation) = match of.split_once('/') {
                Some((facade, operation)) => (facade, Some(operation)),
                None => (of.as_str(), None),
            };
            let add = json!({ "consumer": consumer, "facade": facade, "operation": operation, "amount": amount, "why": why });
            client.send(Method::POST, "/api/quotas", Some(add)).await?;
            show.value(&json!({ "added": amount }), |_| {
                format!("{amount} more for {consumer}, until its period ends")
            });
        }
        QuotaCommand::Told { consumer } => {
            let path = format!("/api/events?consumer={}", segment(&consumer));
            let events = client.get(&path).await?;
            let head = ["told (utc)", "consumer", "facade", "what"];
            show.value(&events, |v| {
                table(
                    &head,
                    rows(v).map(|e| {
                        let d = &e["detail"];
                        let told = format!(
                            "{} %: {} of {} ({})",
                            number(d, "share"),
                            number(d, "used"),
                            number(d, "most"),
                            text(d, "rule")
                        );
                        vec![
                            time(number(e, "at")),
                            text(e, "consumer").into(),
                            text(e, "facade").into(),
                            told,
                        ]
                    }),
                )
            });
        }
    }
    Ok(true)
}
