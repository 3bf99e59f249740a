//! What consumers have agreed to.

use reqwest::Method;
use serde_json::{Map, Value, json};

use super::{all, days_from_now, key_state, texts};
use crate::cli::AgreementCommand;
use crate::client::{Client, segment};
use crate::error::CliError;
use crate::objects::rows;
use crate::show::{Show, list, number, table, text, time};

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
    let shown = |(name, value): (&String, &Value)| match value.as_str() {
        Some(text) => format!("{name}={text}"),
        None => format!("{name}={value}"),
    };
    let terms = a["terms"].as_object().into_iter().flatten().map(shown);
    let until = json!({ "ends_at": a["until_at"], "paused": a["paused"] });
    let facades = match a["facades"].as_array() {
        None => "every facade".to_owned(),
        Some(_) => texts(a, "facades"),
    };
    vec![
        number(a, "id").to_string(),
        text(a, "consumer").into(),
        text(a, "offer").into(),
        terms.collect::<Vec<_>>().join(", "),
        facades,
        time(number(a, "from_at")),
        key_state(&until),
    ]
}

async fn agreement_list(search: &str, client: &Client, show: &Show) -> Result<(), CliError> {
    let consumers = all(client, search).await?;
    let agreements = rows(&consumers).flat_map(|c| list(c, "agreements").to_vec());
    let head = [
        "agreement",
        "consumer",
        "offer",
        "terms",
        "opens",
        "from (utc)",
        "is",
    ];
    show.value(&agreements.collect(), |v| {
        table(&head, rows(v).map(agreement_line))
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
        AgreementCommand::List { search } => agreement_list(&search, client, show).await?,
        AgreementCommand::Create {
            consumer,
            offer,
            terms: given,
            facades,
            days,
        } => {
            let facades = (!facades.is_empty()).then_some(facades);
            let new = json!({ "offer": offer, "terms": terms(&given)?, "facades": facades, "until_at": days.map(days_from_now) });
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
        AgreementCommand::End { number } => {
            let end = json!({ "until_at": 0 });
            client.send(Method::PUT, &at(number), Some(end)).await?;
            show.value(&json!({ "ended": number }), |_| {
                format!("agreement {number} has ended")
            });
        }
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
