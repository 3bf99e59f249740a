//! Watching: traces, explanations, usage, audit.

use serde_json::Value;

use crate::cli::TraceArgs;
use crate::client::{Client, segment};
use crate::error::CliError;
use crate::show::{Show, bold, list, number, paint, table, text, time, took};

fn status_text(status: i64) -> String {
    let colour = match status {
        0..400 => 32,
        400..500 => 33,
        _ => 31,
    };
    paint(&status.to_string(), colour)
}

pub(crate) async fn traces(
    args: &TraceArgs,
    client: &Client,
    show: &Show,
) -> Result<bool, CliError> {
    let pairs = [
        ("facade", &args.facade),
        ("operation", &args.operation),
        ("consumer", &args.consumer),
        ("status", &args.status),
    ];
    let query: String = pairs
        .iter()
        .filter(|(_, v)| !v.is_empty())
        .map(|(n, v)| format!("&{n}={}", segment(v)))
        .collect();
    let lines = client
        .get(&format!("/api/traces?most={}{query}", args.most))
        .await?;
    show.value(&lines, |v| {
        let rows = v.as_array().into_iter().flatten().map(|t| {
            let id: String = text(t, "id").chars().take(12).collect();
            vec![
                id,
                time(number(t, "at")),
                status_text(number(t, "status")),
                took(number(t, "us")),
                text(t, "consumer").into(),
                format!("{} {}", text(t, "method"), text(t, "target")),
                text(t, "why").into(),
            ]
        });
        table(
            &[
                "exchange", "at (utc)", "status", "took", "consumer", "request", "why",
            ],
            rows,
        )
    });
    Ok(true)
}

pub(crate) async fn explain(
    id: &str,
    stages: bool,
    client: &Client,
    show: &Show,
) -> Result<bool, CliError> {
    let found = client
        .get(&format!("/api/traces/{}", segment(id.trim())))
        .await?;
    show.value(&found, |v| {
        let mut out: String = list(v, "explanation")
            .iter()
            .filter_map(Value::as_str)
            .map(|l| format!("{l}\n"))
            .collect();
        if stages {
            out.push('\n');
            out.push_str(&stages_text(&v["trace"]));
        }
        out
    });
    Ok(true)
}

/// A trace, stage by stage.
pub(crate) fn stages_text(trace: &Value) -> String {
    let mut out = String::new();
    for stage in list(trace, "stages") {
        let of = match text(stage, "step") {
            "" => String::new(),
            step => format!(" of {step}"),
        };
        out.push_str(&format!(
            "{}{of} {}\n",
            bold(text(stage, "name")),
            paint(
                &format!(
                    "at {}, took {}",
                    took(number(stage, "from_us")),
                    took(number(stage, "us"))
                ),
                2
            )
        ));
        for note in list(stage, "notes").iter().filter_map(Value::as_str) {
            out.push_str(&format!("  · {note}\n"));
        }
        for (name, mark) in [("before", "←"), ("after", "→")] {
            if let Some(message) = stage.get(name).filter(|m| !m.is_null()) {
                out.push_str(&message_text(message, mark));
            }
        }
    }
    out.push_str(&format!(
        "{} in {}\n",
        status_text(number(trace, "status")),
        took(number(trace, "us"))
    ));
    if let Some(refusal) = trace.get("refusal").filter(|r| !r.is_null()) {
        out.push_str(&format!(
            "{} {}\n",
            paint("refused:", 31),
            text(refusal, "why")
        ));
        if !text(refusal, "file").is_empty() {
            out.push_str(&format!(
                "  by “{}”, reach {}, {}:{}\n",
                text(refusal, "rule"),
                text(refusal, "reach"),
                text(refusal, "file"),
                refusal["line"]
            ));
        }
    }
    out
}

fn message_text(message: &Value, mark: &str) -> String {
    let mut out = String::new();
    if !text(message, "head").is_empty() {
        out.push_str(&format!("  {mark} {}\n", text(message, "head")));
    }
    for header in list(message, "headers") {
        let part = |i: usize| header.get(i).and_then(Value::as_str).unwrap_or_default();
        out.push_str(&format!("    {}: {}\n", paint(part(0), 36), part(1)));
    }
    for line in text(message, "body").lines() {
        out.push_str(&format!("    {line}\n"));
    }
    out
}

pub(crate) async fn usage(minutes: i64, client: &Client, show: &Show) -> Result<bool, CliError> {
    let lines = client.get(&format!("/api/usage?minutes={minutes}")).await?;
    show.value(&lines, |v| {
        let rows = v.as_array().into_iter().flatten().map(|u| {
            let name = if text(u, "operation").is_empty() {
                "(nothing found)".to_owned()
            } else {
                format!("{}/{}", text(u, "facade"), text(u, "operation"))
            };
            let n = |name: &str| u[name].to_string();
            vec![
                name,
                text(u, "consumer").into(),
                n("calls"),
                n("refused"),
                n("failed"),
                n("misfits"),
                took(number(u, "p50_us")),
                took(number(u, "p99_us")),
                n("bytes_out"),
            ]
        });
        table(
            &[
                "operation",
                "consumer",
                "calls",
                "refused",
                "failed",
                "off contract",
                "half within",
                "99 % within",
                "bytes out",
            ],
            rows,
        )
    });
    Ok(true)
}

pub(crate) async fn copies(minutes: i64, client: &Client, show: &Show) -> Result<bool, CliError> {
    let lines = client
        .get(&format!("/api/copies?minutes={minutes}"))
        .await?;
    show.value(&lines, |v| {
        let rows = v.as_array().into_iter().flatten().map(|c| {
            let n = |name: &str| c[name].to_string();
            vec![
                format!("{}/{}", text(c, "facade"), text(c, "operation")),
                text(c, "backend").into(),
                n("same"),
                n("different"),
                n("failed"),
                n("left_out"),
                took(number(c, "mean_us")),
                took(number(c, "copies_mean_us")),
                text(c, "told").into(),
            ]
        });
        let head = [
            "operation",
            "copied to",
            "same",
            "different",
            "failed",
            "left out",
            "took",
            "copies took",
            "last",
        ];
        table(&head, rows)
    });
    Ok(true)
}

pub(crate) async fn audit(client: &Client, show: &Show) -> Result<bool, CliError> {
    let lines = client.get("/api/audit").await?;
    show.value(&lines, |v| {
        let rows = v.as_array().into_iter().flatten().map(|l| {
            vec![
                time(number(l, "at")),
                text(l, "who").into(),
                text(l, "words").into(),
            ]
        });
        table(&["at (utc)", "who", "did"], rows)
    });
    Ok(true)
}
