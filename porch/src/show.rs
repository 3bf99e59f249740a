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
            say(&format!("{value:#}"));
        } else {
            let text = text(&printable(value));
            if !text.is_empty() {
                say(text.trim_end());
            }
        }
    }
}

/// Writes lines to standard output. Who reads them may have had enough, as `head` does: that is no failure, and ends the
/// program without a word.
pub(crate) fn say(text: &str) {
    use std::io::Write;
    let mut out = std::io::stdout().lock();
    let written = writeln!(out, "{text}").and_then(|()| out.flush());
    if written.is_err() {
        std::process::exit(0);
    }
}

/// A value whose texts do nothing to a terminal: what callers and backends sent is shown as characters, whatever it would
/// make a terminal do. Line ends and tabs stay.
fn printable(value: &Value) -> Value {
    match value {
        Value::String(text) => Value::String(harmless(text)),
        Value::Array(items) => items.iter().map(printable).collect(),
        Value::Object(map) => {
            let members = map.iter().map(|(k, v)| (harmless(k), printable(v)));
            Value::Object(members.collect())
        }
        other => other.clone(),
    }
}

/// A text with its control characters, and those that turn the direction of what follows, written out.
fn harmless(text: &str) -> String {
    let acts = |c: char| {
        (c.is_control() && !matches!(c, '\n' | '\t'))
            || matches!(c, '\u{200e}' | '\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}')
    };
    if !text.contains(acts) {
        return text.to_owned();
    }
    let mut out = String::with_capacity(text.len() + 16);
    for c in text.chars() {
        if acts(c) {
            out.extend(c.escape_unicode());
        } else {
            out.push(c);
        }
    }
    out
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
    let (line, column) = (number(finding, "line"), number(finding, "column"));
    let place = match (text(finding, "where"), line) {
        // About all of a file, or of none in particular.
        ("", 0) => text(finding, "file").to_owned(),
        ("", line) => format!("{}:{line}:{column}", text(finding, "file")),
        (place, _) => place.to_owned(),
    };
    let place = match text(finding, "pointer") {
        "" => place,
        pointer => format!("{place} ({pointer})"),
    };
    let before = if place.is_empty() { "" } else { ": " };
    let mut out = format!(
        "{place}{before}{}: {}",
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

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    #[test]
    fn nothing_that_was_sent_acts_on_the_terminal() {
        let value = json!({
            "target": "/x?\u{1b}[2J\u{7}",
            "list": ["a\rb", "\u{9b}31m", "\u{202e}gpj.exe"],
            "na\u{8}me": { "body": "two\nlines\tand a tab" },
            "number": 7,
        });
        let shown = printable(&value);
        assert_eq!(
            shown,
            json!({
                "target": "/x?\\u{1b}[2J\\u{7}",
                "list": ["a\\u{d}b", "\\u{9b}31m", "\\u{202e}gpj.exe"],
                "na\\u{8}me": { "body": "two\nlines\tand a tab" },
                "number": 7,
            })
        );
        assert_eq!(printable(&shown), shown);
    }

    #[test]
    fn times_and_durations_read_well() {
        assert_eq!(time(1_793_000_000_123), "2026-10-26 07:33:20");
        assert_eq!(time(i64::MAX), "");
        for (us, text) in [
            (0, "0 µs"),
            (999, "999 µs"),
            (1000, "1.0 ms"),
            (45_678, "45.7 ms"),
            (1_000_000, "1.00 s"),
            (61_000_000, "61.00 s"),
            (-5, "-0.00 s"),
        ] {
            assert_eq!(took(us), text, "{us}");
        }
    }

    #[test]
    fn findings_say_where_what_and_what_to_do() {
        let error = json!({ "severity": "error", "file": "a.yaml", "line": 3, "column": 5, "message": "no such backend", "help": "did you mean “b”?" });
        let note =
            json!({ "severity": "note", "where": "x.wsdl:1:1", "message": "odd", "help": "" });
        let text = findings_text(&[error, note]);
        assert_eq!(
            text,
            "a.yaml:3:5: error: no such backend\n  help: did you mean “b”?\nx.wsdl:1:1: note: odd\n1 error, 0 warnings"
        );
        // Nothing is said of a line that nobody knows.
        let whole = |file: &str| {
            let finding = json!({ "severity": "warning", "file": file, "line": 0, "column": 0, "message": "odd", "help": "" });
            finding_text(&finding)
        };
        assert_eq!(whole("a.proto"), "a.proto: warning: odd");
        assert_eq!(whole(""), "warning: odd");
        assert_eq!(findings_text(&[]), "");
    }

    #[test]
    fn tables_have_a_head_and_say_when_they_are_empty() {
        let rows = [["a", "1"], ["long name", "22"]].map(|r| r.map(str::to_owned).to_vec());
        let text = table(&["name", "calls"], rows);
        let lines: Vec<&str> = text.lines().map(str::trim).collect();
        assert_eq!(lines.len(), 3, "{text}");
        assert!(
            lines[0].starts_with("NAME") && lines[0].ends_with("CALLS"),
            "{text}"
        );
        assert!(lines[2].starts_with("long name"), "{text}");
        assert_eq!(table(&["name"], []), "(none)");
    }

    #[test]
    fn members_that_are_missing_or_of_another_kind_are_nothing() {
        let value = json!({ "text": 5, "number": "x", "list": {} });
        assert_eq!((text(&value, "text"), text(&value, "none")), ("", ""));
        assert_eq!((number(&value, "number"), number(&value, "none")), (0, 0));
        assert!(list(&value, "list").is_empty() && list(&value, "none").is_empty());
    }
}
