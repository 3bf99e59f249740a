//! Showing things to people and machines.

use std::io::IsTerminal;

use comfy_table::{ContentArrangement, Table, presets};
use serde_json::Value;

/// How to show.
pub(crate) struct Show {
    /// JSON on standard output, nothing else.
    pub(crate) json: bool,
}

impl Show {
    /// JSON for machines, or what `text` makes of it for people.
    pub(crate) fn value(&self, value: &Value, text: impl FnOnce(&Value) -> String) {
        if self.json {
            println!("{value:#}");
        } else {
            let text = text(value);
            if !text.is_empty() {
                println!("{}", text.trim_end());
            }
        }
    }
}

/// Whether colours are wanted (the NO_COLOR convention).
fn colours() -> bool {
    std::env::var_os("NO_COLOR").is_none_or(|v| v.is_empty()) && std::io::stdout().is_terminal()
}

/// A text in a colour of the terminal's own sixteen.
pub(crate) fn paint(text: &str, code: u8) -> String {
    if colours() {
        format!("\u{1b}[{code}m{text}\u{1b}[0m")
    } else {
        text.to_owned()
    }
}

pub(crate) fn bold(text: &str) -> String {
    paint(text, 1)
}

/// A table without lines but one below its head.
pub(crate) fn table(head: &[&str], rows: impl IntoIterator<Item = Vec<String>>) -> String {
    let mut table = Table::new();
    table
        .load_style(presets::NOTHING)
        .set_content_arrangement(ContentArrangement::Dynamic);
    if !std::io::stdout().is_terminal() {
        table.set_content_arrangement(ContentArrangement::Disabled);
    }
    table.set_header(head.iter().map(|h| h.to_uppercase()).collect::<Vec<_>>());
    let mut empty = true;
    for row in rows {
        empty = false;
        table.add_row(row);
    }
    if empty {
        "(none)".into()
    } else {
        table
            .to_string()
            .lines()
            .map(str::trim_end)
            .collect::<Vec<_>>()
            .join("\n")
    }
}

/// A member's text, or an empty one.
pub(crate) fn text<'v>(value: &'v Value, name: &str) -> &'v str {
    value.get(name).and_then(Value::as_str).unwrap_or_default()
}

pub(crate) fn number(value: &Value, name: &str) -> i64 {
    value.get(name).and_then(Value::as_i64).unwrap_or(0)
}

pub(crate) fn list<'v>(value: &'v Value, name: &str) -> &'v [Value] {
    value
        .get(name)
        .and_then(Value::as_array)
        .map_or(&[], Vec::as_slice)
}

/// A finding in two lines: where and what, then what to do.
pub(crate) fn finding_text(finding: &Value) -> String {
    let severity = text(finding, "severity");
    let colour = match severity {
        "error" => 31,
        "warning" => 33,
        _ => 36,
    };
    let place = match text(finding, "where") {
        "" => format!(
            "{}:{}:{}",
            text(finding, "file"),
            number(finding, "line"),
            number(finding, "column")
        ),
        place => place.to_owned(),
    };
    let mut out = format!(
        "{place}: {}: {}",
        paint(severity, colour),
        text(finding, "message")
    );
    let help = text(finding, "help");
    if !help.is_empty() {
        out.push_str(&format!("\n  help: {help}"));
    }
    out
}

/// All findings, and how many of each.
pub(crate) fn findings_text(findings: &[Value]) -> String {
    let mut out: Vec<String> = findings.iter().map(finding_text).collect();
    let count = |severity: &str| {
        findings
            .iter()
            .filter(|f| text(f, "severity") == severity)
            .count()
    };
    let (errors, warnings) = (count("error"), count("warning"));
    if !findings.is_empty() {
        out.push(format!(
            "{errors} {}, {warnings} {}",
            if errors == 1 { "error" } else { "errors" },
            if warnings == 1 { "warning" } else { "warnings" }
        ));
    }
    out.join("\n")
}

/// Milliseconds since 1970 as a time of day and date, in UTC.
pub(crate) fn time(ms: i64) -> String {
    chrono::DateTime::from_timestamp_millis(ms)
        .map_or_else(String::new, |t| t.format("%Y-%m-%d %H:%M:%S").to_string())
}

/// Microseconds in a unit that reads well.
pub(crate) fn took(us: i64) -> String {
    match us {
        0..1000 => format!("{us} µs"),
        1000..1_000_000 => format!("{:.1} ms", us as f64 / 1000.0),
        _ => format!("{:.2} s", us as f64 / 1e6),
    }
}

/// Tells on a terminal how far a long reading is: a line that is written over, from the first second on.
pub(crate) fn progress(done: usize, all: usize) {
    use std::io::{IsTerminal, Write};
    use std::sync::OnceLock;
    use std::time::{Duration, Instant};
    static STARTED: OnceLock<Instant> = OnceLock::new();
    let started = STARTED.get_or_init(Instant::now);
    let mut err = std::io::stderr();
    if started.elapsed() < Duration::from_secs(1) || !err.is_terminal() {
        return;
    }
    let _ = if done == all {
        write!(err, "\r\x1b[K")
    } else {
        write!(err, "\rporch: read {done} of {all} files\x1b[K")
    };
    let _ = err.flush();
}
