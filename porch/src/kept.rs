//! Replies that are kept: `porch cache show` and `porch cache purge`.

use reqwest::Method;
use serde_json::{Value, json};

use crate::cli::{CacheCommand, PurgeArgs};
use crate::client::Client;
use crate::error::CliError;
use crate::show::{Show, list};

pub(crate) async fn cache(
    command: CacheCommand,
    client: &Client,
    show: &Show,
) -> Result<bool, CliError> {
    match command {
        CacheCommand::Show => {
            let kept = client.get("/api/kept").await?;
            show.value(&kept, kept_text);
        }
        CacheCommand::Purge(args) => {
            let purged = client
                .send(Method::POST, "/api/kept/purge", Some(of(args)))
                .await?;
            show.value(&purged, |v| match v["replies"].as_u64().unwrap_or(0) {
                0 => "nothing of that was kept here; other services let go of theirs".into(),
                1 => "let go of one reply; other services let go of theirs".into(),
                n => format!("let go of {n} replies; other services let go of theirs"),
            });
        }
    }
    Ok(true)
}

fn of(args: PurgeArgs) -> Value {
    json!({
        "facade": args.facade.unwrap_or_default(),
        "operation": args.operation.unwrap_or_default(),
        "path": args.path.unwrap_or_default(),
        "tag": args.tag.unwrap_or_default(),
    })
}

fn kept_text(v: &Value) -> String {
    let number = |name: &str| v[name].as_u64().unwrap_or(0);
    let operations: Vec<&str> = list(v, "operations")
        .iter()
        .filter_map(Value::as_str)
        .collect();
    let of = match operations.as_slice() {
        [] => "no operation of what is served keeps replies".to_owned(),
        all => format!("kept are replies of {}", all.join(", ")),
    };
    let mb = |bytes: u64| bytes as f64 / f64::from(1 << 20);
    let replies = match number("replies") {
        1 => "1 reply".to_owned(),
        n => format!("{n} replies"),
    };
    format!(
        "{replies} in {:.1} of {:.0} MiB; {of}",
        mb(number("bytes")),
        mb(number("most")),
    )
}
