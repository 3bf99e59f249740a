//! Offers and requests for them: `porch offer`.

use reqwest::Method;
use serde_json::{Value, json};

use crate::cli::OfferCommand;
use crate::client::{Client, segment};
use crate::error::CliError;
use crate::objects::rows;
use crate::publishing::{diff_text, names};
use crate::show::{Show, bold, list, number, paint, table, text, time};

/// A length of time, in the largest unit that says it whole.
pub(crate) fn span(ms: &Value) -> String {
    let Some(ms) = ms.as_u64() else {
        return "without end".into();
    };
    let units = [
        (86_400_000, "days"),
        (3_600_000, "hours"),
        (60_000, "minutes"),
        (1000, "seconds"),
    ];
    let whole = units
        .into_iter()
        .find(|(unit, _)| ms.is_multiple_of(*unit) && ms > 0);
    whole.map_or_else(
        || format!("{ms} ms"),
        |(unit, name)| format!("{} {name}", ms / unit),
    )
}

/// Terms in a line.
pub(crate) fn terms_text(terms: &Value) -> String {
    let shown = |(name, value): (&String, &Value)| match value.as_str() {
        Some(text) => format!("{name}={text}"),
        None => format!("{name}={value}"),
    };
    let all = terms.as_object().into_iter().flatten().map(shown);
    all.collect::<Vec<_>>().join(", ")
}

fn offer_text(o: &Value) -> String {
    let mut out = format!("{} — {}\n", bold(text(o, "name")), text(o, "title"));
    if !text(o, "summary").is_empty() {
        out.push_str(&format!("{}\n", text(o, "summary")));
    }
    let granted = match text(o, "granted") {
        "by-person" => "a person says yes",
        _ => "at once",
    };
    let renewed = match text(o, "renewed") {
        "by-itself" => "goes on by itself",
        "never" => "is had once",
        _ => "may be asked for again",
    };
    let notice = match o["notice"].is_null() {
        true => "none".into(),
        false => span(&o["notice"]),
    };
    let rows = [
        ("opens", names(o, "opens")),
        ("terms", terms_text(&o["terms"])),
        ("seen by", text(o, "seen_by").into()),
        ("asked for by", text(o, "asked_by").into()),
        ("granted", granted.into()),
        ("lasts", format!("{}; {renewed}", span(&o["lasts"]))),
        ("notice", notice),
        (
            "accepted",
            o["accept"]
                .as_str()
                .map_or("nothing".into(), |v| format!("version {v}")),
        ),
        ("price", text(o, "price").into()),
        ("agreements", o["agreements"].to_string()),
    ];
    for (name, value) in rows {
        out.push_str(&format!("  {name:<13} {value}\n"));
    }
    out
}

async fn offers(client: &Client, show: &Show) -> Result<(), CliError> {
    let offers = client.get("/api/offers").await?;
    show.value(&offers, |v| {
        let rows = rows(v).map(|o| {
            vec![
                text(o, "name").into(),
                text(o, "title").into(),
                terms_text(&o["terms"]),
                names(o, "opens"),
                text(o, "granted").into(),
                span(&o["lasts"]),
                o["agreements"].to_string(),
            ]
        });
        let head = [
            "offer",
            "title",
            "terms",
            "opens",
            "granted",
            "lasts",
            "agreements",
        ];
        table(&head, rows)
    });
    Ok(())
}

async fn requests(state: &str, search: &str, client: &Client, show: &Show) -> Result<(), CliError> {
    let mut all: Vec<Value> = Vec::new();
    let path = format!(
        "/api/requests?most=500&state={}&search={}",
        segment(state),
        segment(search)
    );
    loop {
        let before = all.last().map(|r| format!("&before={}", r["id"]));
        let page = client
            .get(&format!("{path}{}", before.unwrap_or_default()))
            .await?;
        let rows = page.as_array().cloned().unwrap_or_default();
        let more = rows.len() == 500;
        all.extend(rows);
        if !more {
            break;
        }
    }
    show.value(&json!(all), |v| {
        let rows = rows(v).map(|r| {
            let decided = match text(r, "state") {
                "open" => String::new(),
                _ => format!(
                    "{} by {}",
                    time(number(r, "decided_at")),
                    text(r, "decided_by")
                ),
            };
            vec![
                number(r, "id").to_string(),
                text(r, "consumer").into(),
                text(r, "offer").into(),
                text(r, "state").into(),
                format!("{} by {}", time(number(r, "asked_at")), text(r, "asked_by")),
                decided,
                match text(r, "reason") {
                    "" => text(r, "why").into(),
                    reason => reason.into(),
                },
            ]
        });
        let head = [
            "request",
            "consumer",
            "offer",
            "is",
            "asked (utc)",
            "decided (utc)",
            "why",
        ];
        table(&head, rows)
    });
    Ok(())
}

/// `porch offer …`.
pub(crate) async fn offer(
    command: OfferCommand,
    client: &Client,
    show: &Show,
) -> Result<bool, CliError> {
    match command {
        OfferCommand::List => offers(client, show).await?,
        OfferCommand::Preview => {
            let path = "/api/portal/preview";
            let made = client.send(Method::POST, path, None).await?;
            show.value(&made, |v| text(v, "address").into());
        }
        OfferCommand::Show { name } => {
            let offers = client.get("/api/offers").await?;
            let found = rows(&offers).find(|o| text(o, "name") == name);
            let help = "see `porch offer list`; what is in the draft only, `porch compare` shows";
            let none = || CliError::new(format!("there is no offer “{name}”")).help(help);
            show.value(found.ok_or_else(none)?, offer_text);
        }
        OfferCommand::Requests { state, search } => {
            requests(state.as_deref().unwrap_or(""), &search, client, show).await?;
        }
        OfferCommand::Grant { number: id, reason } => {
            let path = format!("/api/requests/{id}/grant");
            let body = json!({ "reason": reason });
            let granted = client.send(Method::POST, &path, Some(body)).await?;
            show.value(&granted, |v| {
                let agreement = number(v, "agreement");
                let (consumer, offer) = (text(v, "consumer"), text(v, "offer"));
                format!("{consumer} has {offer}: agreement {agreement}")
            });
        }
        OfferCommand::TurnDown { number: id, reason } => {
            let path = format!("/api/requests/{id}/turn-down");
            let body = json!({ "reason": reason });
            let decided = client.send(Method::POST, &path, Some(body)).await?;
            show.value(&decided, |v| {
                format!("request {} of {} is turned down", id, text(v, "consumer"))
            });
        }
    }
    Ok(true)
}

/// What becomes of offers and the portal, in `porch compare`.
pub(crate) fn offering_text(d: &Value) -> String {
    let state = |status: &str| match status {
        "same" => paint("served as it is in the draft", 32),
        "new" => paint("in the draft only: nobody is offered it", 33),
        "gone" => paint("served, but not in the draft any more", 33),
        _ => paint("the draft differs from what is served", 33),
    };
    let what = match d["offer"].as_str() {
        Some(offer) => format!("offer {offer}"),
        None => "the portal".into(),
    };
    let mut out = format!("{}: {}\n", bold(&what), state(text(d, "status")));
    for change in list(d, "changes").iter().filter_map(Value::as_str) {
        out.push_str(&format!("  {change}\n"));
    }
    let then = text(d, "then");
    if !then.is_empty() {
        let count = match number(d, "agreements") {
            0 => "no agreement holds".into(),
            1 => format!("1 agreement holds: {then}"),
            n => format!("{n} agreements hold: {then}"),
        };
        out.push_str(&format!("  {count}\n"));
    }
    out + &diff_text(&d["files"])
}

/// Offers and the portal as rows of `porch compare`.
pub(crate) fn offering_rows(offering: &Value) -> Vec<Value> {
    let mut all = list(offering, "offers").to_vec();
    if offering["portal"].is_string() {
        let files = &offering["portal_files"];
        all.push(json!({ "portal": true, "status": offering["portal"], "files": files }));
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lengths_are_said_in_the_largest_unit_that_says_them_whole() {
        for (ms, said) in [
            (json!(1_209_600_000), "14 days"),
            (json!(5_400_000), "90 minutes"),
            (json!(90_000), "90 seconds"),
            (json!(1), "1 ms"),
            (json!(null), "without end"),
        ] {
            assert_eq!(span(&ms), said);
        }
    }
}
