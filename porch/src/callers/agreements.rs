//! What consumers have agreed to.

use reqwest::Method;
use serde_json::{Map, Value, json};

use super::{days_from_now, key_state, texts};
use crate::cli::AgreementCommand;
use crate::client::{Client, segment};
use crate::error::CliError;
use crate::objects::rows;
use crate::offers::terms_text;
use crate::show::{Show, number, table, text, time};

/// Terms as they are written: `name=value`.
fn terms(all: &[String]) -> Result<Value, CliError> {
    let mut made = Map::new();
    for term in all {
        let Some((name, value)) = term.split_once('=') else {
            let help = "terms are written as requests=7";
            return Err(CliError::new(format!("“{term}” is no term"))
                .help(help)
                .usage());
        };
        let value = value.trim();
        let value = match value {
            "true" | "false" => json!(value == "true"),
            _ => value
                .parse::<i64>()
                .map_or_else(|_| json!(value), |n| json!(n)),
        };
        made.insert(name.trim().to_owned(), value);
    }
    Ok(Value::Object(made))
}

pub(super) fn agreement_line(a: &Value) -> Vec<String> {
    let until = json!({ "ends_at": a["until_at"], "paused": a["paused"] });
    let opens = match a["opens"].as_array() {
        None => "every facade".to_owned(),
        Some(_) => texts(a, "opens"),
    };
    vec![
        number(a, "id").to_string(),
        text(a, "consumer").into(),
        text(a, "offer").into(),
        terms_text(&a["terms"]),
        opens,
        time(number(a, "from_at")),
        key_state(&until),
    ]
}

async fn agreement_list(
    search: &str,
    offer: Option<&str>,
    holding: bool,
    client: &Client,
    show: &Show,
) -> Result<(), CliError> {
    let path = format!(
        "/api/agreements?most=500&search={}&offer={}&holding={holding}",
        segment(search),
        segment(offer.unwrap_or_default())
    );
    let mut agreements: Vec<Value> = Vec::new();
    loop {
        let before = agreements.last().map(|a| format!("&before={}", a["id"]));
        let page = client
            .get(&format!("{path}{}", before.unwrap_or_default()))
            .await?;
        let page = page.as_array().cloned().unwrap_or_default();
        let more = page.len() == 500;
        agreements.extend(page);
        if !more {
            break;
        }
    }
    let head = [
        "agreement",
        "consumer",
        "offer",
        "terms",
        "opens",
        "from (utc)",
        "is",
    ];
    show.value(&json!(agreements), |v| {
        table(&head, rows(v).map(agreement_line))
    });
    Ok(())
}

async fn end(
    id: i64,
    notice: bool,
    why: &str,
    client: &Client,
    show: &Show,
) -> Result<(), CliError> {
    let body = json!({ "with_notice": notice, "why": why });
    let path = format!("/api/agreements/{id}/end");
    let ended = client.send(Method::POST, &path, Some(body)).await?;
    show.value(&ended, |v| match notice {
        true => format!(
            "agreement {id} ends on {} (UTC)",
            time(number(v, "until_at"))
        ),
        false => format!("agreement {id} has ended"),
    });
    Ok(())
}

pub(crate) async fn agreement(
    command: AgreementCommand,
    client: &Client,
    show: &Show,
) -> Result<bool, CliError> {
    let at = |number: i64| format!("/api/agreements/{number}");
    match command {
        AgreementCommand::List {
            search,
            offer,
            holding,
        } => agreement_list(&search, offer.as_deref(), holding, client, show).await?,
        AgreementCommand::Create {
            consumer,
            offer,
            terms: given,
            facades,
            operations,
            days,
        } => {
            let opens = [facades, operations].concat();
            let opens = (!opens.is_empty()).then_some(opens);
            let new = json!({ "offer": offer, "terms": terms(&given)?, "opens": opens, "until_at": days.map(days_from_now) });
            let path = format!("/api/consumers/{}/agreements", segment(&consumer));
            let made = client.send(Method::POST, &path, Some(new)).await?;
            show.value(&made, |v| {
                format!(
                    "agreement {} of {consumer} holds from now on",
                    number(v, "id")
                )
            });
        }
        AgreementCommand::Change {
            number,
            terms: given,
            days,
        } => {
            let terms = match given.is_empty() {
                true => None,
                false => Some(terms(&given)?),
            };
            let change = json!({ "terms": terms, "until_at": days.map(days_from_now) });
            client.send(Method::PUT, &at(number), Some(change)).await?;
            show.value(&json!({ "changed": number }), |_| {
                format!("agreement {number} is changed")
            });
        }
        AgreementCommand::End {
            number: id,
            notice,
            why,
        } => end(id, notice, &why, client, show).await?,
        AgreementCommand::Delete { number } => {
            client.send(Method::DELETE, &at(number), None).await?;
            show.value(&json!({ "deleted": number }), |_| {
                format!("agreement {number} is gone")
            });
        }
    }
    Ok(true)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn terms_are_numbers_texts_and_truth_values() {
        let of = |all: &[&str]| terms(&all.iter().map(|t| (*t).to_owned()).collect::<Vec<_>>());
        assert_eq!(
            of(&["requests=7", " berth = north quay", "night=true", "x=a=b"]).unwrap(),
            json!({ "requests": 7, "berth": "north quay", "night": true, "x": "a=b" })
        );
        assert_eq!(of(&["requests"]).unwrap_err().code, 2);
    }
}
