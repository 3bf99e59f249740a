//! Shared rules: `porch rules`.

use serde_json::Value;

use crate::client::Client;
use crate::error::CliError;
use crate::objects::rows;
use crate::publishing::names;
use crate::show::{Show, list, table, text};

pub(crate) async fn rules(client: &Client, show: &Show) -> Result<bool, CliError> {
    let rules = client.get("/api/rules").await?;
    show.value(&rules, rules_text);
    Ok(true)
}

fn rules_text(v: &Value) -> String {
    if rows(v).next().is_none() {
        return "the draft holds no shared rules; a document of them begins with `elm-porch: rules/1`".into();
    }
    let rows = rows(v).map(|r| {
        let reach = match text(r, "reach") {
            "backends" => format!("backends {}", names(r, "backends")),
            "used" => "where it is used".into(),
            other => other.to_owned(),
        };
        vec![
            text(r, "name").into(),
            reach,
            list(r, "parameters")
                .iter()
                .map(parameter)
                .collect::<Vec<_>>()
                .join(", "),
            names(r, "facades"),
            text(r, "file").into(),
        ]
    });
    table(&["rules", "reach", "parameters", "act on", "where"], rows)
}

fn parameter(p: &Value) -> String {
    let (name, kind) = (text(p, "name"), text(p, "type"));
    match p.get("default") {
        Some(value) => format!("{name} ({kind}, {value})"),
        None => format!("{name} ({kind})"),
    }
}
