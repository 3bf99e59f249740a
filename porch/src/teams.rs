//! Teams of the portal: `porch team`.

use reqwest::Method;
use serde_json::{Value, json};

use crate::cli::TeamCommand;
use crate::client::{Client, segment};
use crate::error::CliError;
use crate::objects::rows;
use crate::publishing::names;
use crate::show::{Show, number, table, text};

/// So many come at a time.
const PAGE: usize = 100;

/// `porch team …`.
pub(crate) async fn team(
    command: TeamCommand,
    client: &Client,
    show: &Show,
) -> Result<bool, CliError> {
    match command {
        TeamCommand::List { search } => {
            let path = format!("/api/teams?search={}", segment(&search));
            let mut all: Vec<Value> = Vec::new();
            loop {
                let behind = all.last().map(|t| format!("&behind={}", t["id"]));
                let page = client
                    .get(&format!("{path}{}", behind.unwrap_or_default()))
                    .await?;
                let page = page.as_array().cloned().unwrap_or_default();
                let more = page.len() == PAGE;
                all.extend(page);
                if !more {
                    break;
                }
            }
            show.value(&json!(all), |v| {
                let rows = rows(v).map(|t| {
                    vec![
                        number(t, "id").to_string(),
                        text(t, "name").into(),
                        names(t, "roles"),
                        names(t, "members"),
                        names(t, "consumers"),
                    ]
                });
                table(&["team", "name", "roles", "members", "consumers"], rows)
            });
        }
        TeamCommand::Change { number: id, roles } => {
            let path = format!("/api/teams/{id}/roles");
            let body = json!({ "roles": roles });
            let changed = client.send(Method::PUT, &path, Some(body)).await?;
            show.value(&changed, |v| match names(v, "roles").as_str() {
                "" => format!("{} has no role", text(v, "name")),
                roles => format!("{} has the roles {roles}", text(v, "name")),
            });
        }
    }
    Ok(true)
}
