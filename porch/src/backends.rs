//! Backends: `porch backend list` and `porch backend probe`.

use reqwest::Method;
use serde_json::{Value, json};

use crate::cli::BackendCommand;
use crate::client::{Client, segment};
use crate::error::CliError;
use crate::objects::rows;
use crate::show::{Show, bold, list, table, text, took};

pub(crate) async fn backend(
    command: BackendCommand,
    client: &Client,
    show: &Show,
) -> Result<bool, CliError> {
    match command {
        BackendCommand::List => {
            let backends = client.get("/api/backends").await?;
            show.value(&backends, list_text);
            Ok(true)
        }
        BackendCommand::Probe { name } => {
            let path = format!("/api/backends/{}/probe", segment(&name));
            let probed = client.send(Method::POST, &path, Some(json!({}))).await?;
            show.value(&probed, probe_text);
            let all = list(&probed, "addresses").iter();
            let good = |a: &Value| a["reached"] == json!(true) && a["refused"] == json!(false);
            Ok(all.clone().all(good))
        }
    }
}

fn joined(v: &Value, name: &str) -> String {
    let all = list(v, name).iter().filter_map(Value::as_str);
    all.collect::<Vec<&str>>().join(", ")
}

/// The addresses of a backend, and which of them are left alone.
fn addresses(b: &Value) -> String {
    let out = list(b, "out").iter();
    let out = out.map(|o| format!("; {} is not well: {}", text(o, "address"), text(o, "told")));
    joined(b, "addresses") + &out.collect::<String>()
}

fn list_text(v: &Value) -> String {
    let rows = rows(v).map(|b| {
        vec![
            text(b, "name").into(),
            match b["resting"].as_u64().unwrap_or(0) {
                0 => text(b, "kind").into(),
                left => format!("{}, left alone for {left} s", text(b, "kind")),
            },
            addresses(b),
            joined(b, "credentials"),
            joined(b, "facades"),
        ]
    });
    table(
        &["backend", "kind", "addresses", "is shown", "facades"],
        rows,
    )
}

fn probe_text(v: &Value) -> String {
    let shown = match joined(v, "shown") {
        none if none.is_empty() => "calls carry no credential".into(),
        shown => format!("calls are shown: {shown}"),
    };
    let mut out = format!("{} ({}); {shown}\n", bold(text(v, "name")), text(v, "kind"));
    for address in list(v, "addresses") {
        out.push_str(&address_text(address));
    }
    out
}

fn address_text(a: &Value) -> String {
    let after = took(a["us"].as_i64().unwrap_or(0));
    let mut out = format!("\n{}\n", bold(text(a, "address")));
    let told = text(a, "told");
    if a["reached"] != json!(true) {
        out.push_str(&format!("  not reached after {after}: {told}\n"));
        if !text(a, "help").is_empty() {
            out.push_str(&format!("  help: {}\n", text(a, "help")));
        }
        return out;
    }
    out.push_str(&format!(
        "  {} answers {told}, from {} in {after}\n",
        text(a, "asked"),
        text(a, "at")
    ));
    if a["refused"] == json!(true) {
        out.push_str("  it refuses what it is shown, or wants to be shown something\n");
    }
    let certificate = &a["certificate"];
    if !text(a, "tls").is_empty() {
        out.push_str(&format!("  {}", text(a, "tls")));
    }
    if certificate.is_object() {
        out.push_str(&format!(
            ", certificate {} of {}, {}; signed by {}\n",
            text(certificate, "subject"),
            joined(certificate, "names"),
            ending(certificate["ends"].as_i64().unwrap_or(0)),
            text(certificate, "issuer"),
        ));
    }
    out
}

/// Until when a certificate holds, and how many days that is from now.
fn ending(ends: i64) -> String {
    const DAY: i64 = 86_400_000;
    let day = chrono::DateTime::from_timestamp_millis(ends);
    let day = day.map_or_else(String::new, |d| d.format("%Y-%m-%d").to_string());
    match (ends - chrono::Utc::now().timestamp_millis()) / DAY {
        left if left < 0 => format!("ended {day}"),
        left => format!("holds until {day} ({left} days)"),
    }
}
