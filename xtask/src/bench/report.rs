//! What was measured, as tables for people.

use serde_json::{Value, json};

/// All results of one run.
#[derive(Default)]
pub(super) struct Results {
    pub(super) cases: Vec<Value>,
    pub(super) conversions: Vec<Value>,
    pub(super) messages: Vec<Value>,
    pub(super) running: Vec<Value>,
    pub(super) idle_mb: f64,
}

impl Results {
    pub(super) fn is_empty(&self) -> bool {
        let rest = [&self.conversions, &self.messages, &self.running];
        self.cases.is_empty() && rest.into_iter().all(Vec::is_empty)
    }

    pub(super) fn into_json(self) -> Value {
        let mut all = self.cases;
        all.extend(self.conversions);
        all.extend(self.messages);
        all.extend(self.running);
        Value::Array(all)
    }

    pub(super) fn print(&self) {
        let converted = self.conversions.iter().map(conversion_row).collect();
        table(
            "conversion alone | ours | bare XML scan | ratio | serde_json into a Value | target | met",
            converted,
        );
        let messages = self.messages.iter().map(message_row).collect();
        table(
            "messages alone | ours | dynamic message | ratio | target | met",
            messages,
        );
        if !self.cases.is_empty() {
            println!(
                "memory of the idle service with 10 operations and 1,000 keys: {:.1} MB\n",
                self.idle_mb
            );
        }
        table(
            "case | reference | throughput | CPU a request | p50 added | p99 added | memory | target | met",
            self.cases.iter().map(case_row).collect(),
        );
        table(
            "case | seen | figure | target | met",
            self.running.iter().map(running_row).collect(),
        );
    }
}

/// A table with a line below it; nothing where there are no rows.
fn table(head: &str, rows: Vec<String>) {
    if rows.is_empty() {
        return;
    }
    println!("| {head} |");
    println!("|{}", "---|".repeat(head.split(" | ").count()));
    for row in rows {
        println!("| {row} |");
    }
    println!();
}

fn text(row: &Value, name: &str) -> String {
    match &row[name] {
        Value::String(text) => text.clone(),
        other => other.to_string(),
    }
}

fn per_second(row: &Value, name: &str) -> String {
    format!("{:.0} MB/s", row[name].as_f64().unwrap_or(f64::NAN))
}

fn yes(met: bool) -> &'static str {
    if met { "yes" } else { "no" }
}

fn conversion_row(row: &Value) -> String {
    let ratio = row["ratio"].as_f64().unwrap_or(f64::NAN);
    let least = if text(row, "case").starts_with("read") {
        0.65
    } else {
        0.6
    };
    format!(
        "{} | {} | {} | {ratio:.2} | {} | ≥ {least} | {}",
        text(row, "case"),
        per_second(row, "ours_mb_s"),
        per_second(row, "bare_xml_mb_s"),
        per_second(row, "serde_json_mb_s"),
        yes(ratio >= least)
    )
}

fn message_row(row: &Value) -> String {
    let ratio = row["ratio"].as_f64().unwrap_or(f64::NAN);
    format!(
        "{} | {} | {} | {ratio:.1} | ≥ 7 | {}",
        text(row, "case"),
        per_second(row, "ours_mb_s"),
        per_second(row, "dynamic_mb_s"),
        yes(ratio >= 7.0)
    )
}

fn running_row(row: &Value) -> String {
    let (target, met) = match row["target"].as_f64() {
        Some(bound) => {
            // Of some the figure is how many times as fast they are.
            let sign = if row["least"] == json!(true) {
                "≥"
            } else {
                "≤"
            };
            (format!("{sign} {bound}"), yes(row["met"] == json!(true)))
        }
        None => ("measured, not judged".to_owned(), "–"),
    };
    let (case, said) = (text(row, "case"), text(row, "said"));
    format!("{case} | {said} | {} | {target} | {met}", row["value"])
}

fn case_row(row: &Value) -> String {
    let text = |name: &str| text(row, name);
    format!(
        "{} | {} | {} ({} / {} a second) | {} | {} µs | {} µs | {} MB | {} | {}",
        text("case"),
        text("reference"),
        text("throughput_ratio"),
        text("ours_per_second"),
        text("reference_per_second"),
        text("cpu_ratio"),
        text("p50_added_us"),
        text("p99_added_us"),
        text("memory_mb"),
        text("target"),
        yes(row["met"] == json!(true))
    )
}
