//! What callers are served: `porch release`, `porch rollback`.

use reqwest::Method;
use serde_json::{Value, json};

use crate::cli::{ReleaseArgs, RollbackArgs};
use crate::client::{Client, segment};
use crate::error::CliError;
use crate::input::agreed;
use crate::offers::offering_rows;
use crate::publishing::{callers_text, names};
use crate::show::{Show, findings_text, list, number, table, text, time};

/// Asks before facades disappear that callers are served now: says which, and who calls them.
fn agreed_to_end(differences: &[&Value], yes: bool) -> Result<(), CliError> {
    let gone: Vec<&&Value> = differences
        .iter()
        .filter(|d| text(d, "status") == "gone")
        .collect();
    if gone.is_empty() {
        return Ok(());
    }
    let mut told = String::new();
    for facade in &gone {
        told.push_str(&format!(
            "{} would no longer be served: its callers get 404\n",
            text(facade, "facade")
        ));
        told.push_str(&match list(facade, "used_by") {
            [] => "  nobody called it in the last seven days\n".to_owned(),
            some => callers_text(some),
        });
    }
    agreed(&told, "go on?", yes)
}

/// `porch release`.
pub(crate) async fn release(
    args: &ReleaseArgs,
    client: &Client,
    show: &Show,
) -> Result<bool, CliError> {
    let all = client.get("/api/compare").await?;
    let named = |d: &&Value| args.facades.iter().any(|f| f == text(d, "facade"));
    let differences: Vec<&Value> = all.as_array().into_iter().flatten().filter(named).collect();
    agreed_to_end(&differences, args.yes)?;
    let body = json!({ "facades": args.facades, "offers": args.offers, "portal": args.portal, "note": args.note });
    let mut released = client
        .send(Method::POST, "/api/releases", Some(body))
        .await?;
    released["stays"] = stays(&differences, &args.facades);
    show.value(&released, released_text);
    Ok(true)
}

/// Shared files that changed, and the facades that go on with what they were released with.
fn stays(differences: &[&Value], released: &[String]) -> Value {
    let mut all: std::collections::BTreeMap<&str, Vec<&str>> = std::collections::BTreeMap::new();
    for shared in differences.iter().flat_map(|d| list(d, "shared")) {
        let others = list(shared, "facades").iter().filter_map(Value::as_str);
        let others = others.filter(|f| released.iter().all(|r| r != f));
        all.insert(text(shared, "file"), others.collect());
    }
    all.retain(|_, facades| !facades.is_empty());
    let all = all.into_iter();
    all.map(|(file, facades)| json!({ "file": file, "facades": facades }))
        .collect()
}

/// `porch rollback`.
pub(crate) async fn rollback(
    args: &RollbackArgs,
    client: &Client,
    show: &Show,
) -> Result<bool, CliError> {
    let Some(number) = args.number else {
        return releases(client, show).await;
    };
    let only = args.facade.as_deref();
    let filter = only.map_or_else(String::new, |f| format!("?facade={}", segment(f)));
    let back = client
        .get(&format!("/api/releases/{number}/compare{filter}"))
        .await?;
    let differences: Vec<&Value> = list(&back, "differences").iter().collect();
    let same = |d: &Value| text(d, "status") == "same";
    let offering = offering_rows(&back["offering"]);
    let offers_stay = only.is_some() || offering.iter().all(same);
    if differences.iter().all(|d| same(d)) && offers_stay {
        show.value(&back, |v| {
            format!(
                "release {} serves the same as release {number}; nothing was changed",
                v["served"]
            )
        });
        return Ok(true);
    }
    agreed_to_end(&differences, args.yes)?;
    let facades: Vec<&str> = only.into_iter().collect();
    let body = json!({ "facades": facades, "served": back["served"] });
    let path = format!("/api/releases/{number}/rollback");
    let released = client.send(Method::POST, &path, Some(body)).await?;
    show.value(&released, released_text);
    Ok(true)
}

fn released_text(v: &Value) -> String {
    let mut out = format!("release {} is live\n", v["number"]);
    for (name, label) in [
        ("taken", "taken"),
        ("carried_over", "carried over unchanged"),
        ("removed", "no longer served"),
        ("offered", "offered"),
        ("no_longer_offered", "no longer offered"),
    ] {
        if !list(v, name).is_empty() {
            out.push_str(&format!("{label}: {}\n", names(v, name)));
        }
    }
    match number(v, "followed") {
        0 => {}
        1 => out.push_str("agreements of 1 consumer have the new terms\n"),
        n => out.push_str(&format!("agreements of {n} consumers have the new terms\n")),
    }
    for shared in list(v, "stays") {
        let (file, facades) = (text(shared, "file"), names(shared, "facades"));
        out.push_str(&format!(
            "{file} stays as it was for {facades}, until they are released too\n"
        ));
    }
    let rows = list(v, "serves").iter().map(|f| {
        vec![
            text(f, "name").into(),
            text(f, "version").into(),
            f["operations"].to_string(),
            text(f, "address").into(),
        ]
    });
    let served = table(&["served now", "version", "operations", "at"], rows);
    out.push_str(&format!("\n{served}\n"));
    out.push_str(&findings_text(list(v, "findings")));
    if let Some(call) = v.get("call").filter(|c| c.is_object()) {
        out.push_str(&format!("\ncall it: {}\n", call_text(call)));
    }
    out
}

/// A call as it is typed into a shell.
fn call_text(call: &Value) -> String {
    let quoted = |text: &str| match text.contains(['\'', '?', '&', ' ', '"', '$', '*', '(', ';']) {
        true => format!("'{}'", text.replace('\'', "'\\''")),
        false => text.to_owned(),
    };
    let mut line = format!(
        "porch call {} {}",
        text(call, "method"),
        quoted(text(call, "path"))
    );
    if call["body"].is_string() {
        line.push_str(&format!(" --body {}", quoted(text(call, "body"))));
    }
    line
}

async fn releases(client: &Client, show: &Show) -> Result<bool, CliError> {
    let releases = client.get("/api/releases").await?;
    show.value(&releases, |v| {
        let rows = v.as_array().into_iter().flatten().map(|r| {
            let served = if r["served"] == json!(true) {
                "served"
            } else {
                ""
            };
            vec![
                r["number"].to_string(),
                served.into(),
                time(number(r, "made_at")),
                text(r, "made_by").into(),
                names(r, "taken"),
                names(r, "facades"),
                text(r, "note").into(),
            ]
        });
        table(
            &["release", "", "made (UTC)", "by", "taken", "holds", "note"],
            rows,
        )
    });
    Ok(true)
}
