//! `porch backtest`: limits and quotas, against what was called lately.

use reqwest::Method;
use serde_json::{Value, json};

use crate::cli::BacktestArgs;
use crate::client::Client;
use crate::error::CliError;
use crate::show::{Show, list, number, table, text, time};
use crate::sources::read_paths;

/// Exits with 1 where calls would have been refused.
pub(crate) async fn backtest(
    args: &BacktestArgs,
    client: &Client,
    show: &Show,
) -> Result<bool, CliError> {
    let files = match args.changed.as_slice() {
        [] => Default::default(),
        paths => read_paths(paths)?,
    };
    let asked = json!({ "facade": args.facade, "days": args.days, "files": files });
    let told = client
        .send(Method::POST, "/api/backtests", Some(asked))
        .await?;
    let refused = list(&told, "limits")
        .iter()
        .any(|l| number(l, "refused") > 0);
    show.value(&told, |v| tested(v, args.days));
    Ok(!refused)
}

fn tested(v: &Value, days: u32) -> String {
    let limits = list(v, "limits");
    let calls = number(v, "calls");
    let mut out = format!("{calls} calls in the last {days} days\n");
    if limits.is_empty() {
        out.push_str("\nThe draft has no limits and no quotas there.");
        return out;
    }
    for limit in limits {
        let (rule, reach) = (text(limit, "rule"), text(limit, "reach"));
        let (calls, refused) = (number(limit, "calls"), number(limit, "refused"));
        out.push_str(&format!("\n{rule} ({reach}): "));
        match (text(limit, "not_tried"), refused) {
            ("", 0) => out.push_str(&format!("none of {calls} calls would have been refused\n")),
            ("", _) => {
                out.push_str(&format!(
                    "{refused} of {calls} calls would have been refused\n"
                ));
                out.push_str(&whose(limit));
                out.push('\n');
            }
            (why, _) => out.push_str(&format!("not tried: {why}\n")),
        }
    }
    out.trim_end().to_owned()
}

fn whose(limit: &Value) -> String {
    let own = list(limit, "whose").iter();
    let lines = own.filter(|s| number(s, "refused") > 0).map(|s| {
        vec![
            text(s, "name").into(),
            number(s, "calls").to_string(),
            number(s, "refused").to_string(),
            number(s, "minutes").to_string(),
            time(number(s, "first_at")),
            time(number(s, "last_at")),
            format!("{} ({})", time(number(s, "worst_at")), number(s, "worst")),
        ]
    });
    let head = [
        "whose",
        "calls",
        "refused",
        "in minutes",
        "first (utc)",
        "last (utc)",
        "worst minute",
    ];
    table(&head, lines)
}
