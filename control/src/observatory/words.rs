//! Changes in words.

use serde_json::Value;

/// What was done to which object, and how, as a sentence without its subject.
pub(crate) fn words(what: &str, object: &str, detail: &Value) -> String {
    // What is changed or signed in to stands in the words already.
    let named = match (what, object) {
        ("changed the draft" | "signed in" | "failed to sign in", _) => what.to_owned(),
        ("let go of kept replies", _) => what.to_owned(),
        ("made a key", of) => format!("made a key for the {of}"),
        ("changed a key", key) => format!("changed the {key}"),
        ("released", at) => match at.rsplit_once(' ') {
            Some((environment, number)) => format!("made release {number} live in {environment}"),
            None => format!("released {at}"),
        },
        (_, object) if object.contains(' ') && !object.ends_with(' ') => {
            format!("{what} the {object}")
        }
        _ => format!("{what} {object}"),
    };
    let details = detail.as_object().into_iter().flatten();
    let told: Vec<String> = details.filter_map(|(name, v)| one(name, v)).collect();
    match told.as_slice() {
        [] => named,
        some => format!("{named}: {}", some.join("; ")),
    }
}

/// One detail; nothing when it tells nothing.
fn one(name: &str, value: &Value) -> Option<String> {
    match (name, value) {
        (_, Value::Null | Value::Bool(false)) => None,
        // Which service did it is for the other services.
        ("service", _) => None,
        (_, Value::Bool(true)) => Some(name.replace('_', " ")),
        ("ends_at", at) => Some(ends(at.as_i64()?)),
        ("address", Value::String(from)) => Some(format!("from {from}")),
        (_, Value::String(text)) if text.trim().is_empty() => None,
        (_, Value::String(text)) => Some(format!("{} {text}", name.replace('_', " "))),
        (_, Value::Array(items)) if items.is_empty() => None,
        (_, Value::Array(items)) => {
            // A push of many files names the first of them.
            const SHOWN: usize = 6;
            let texts: Vec<String> = items.iter().take(SHOWN).map(plain).collect();
            let more = match items.len().saturating_sub(SHOWN) {
                0 => String::new(),
                n => format!(" and {n} more"),
            };
            Some(format!(
                "{} {}{more}",
                name.replace('_', " "),
                texts.join(", ")
            ))
        }
        (_, other) => Some(format!("{} {}", name.replace('_', " "), plain(other))),
    }
}

fn plain(value: &Value) -> String {
    value
        .as_str()
        .map_or_else(|| value.to_string(), str::to_owned)
}

fn ends(at: i64) -> String {
    match chrono::DateTime::from_timestamp_millis(at) {
        Some(time) if at > 0 => format!("ends {}", time.format("%Y-%m-%d %H:%M UTC")),
        _ => "ended at once".into(),
    }
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    #[test]
    fn changes_read_as_sentences_and_never_as_json() {
        let files: Vec<String> = (0..9).map(|i| format!("f{i}.yaml")).collect();
        for (what, object, detail, said) in [
            (
                "released",
                "staging 3",
                json!({ "facades": ["sailings", "cargo"], "note": "" }),
                "made release 3 live in staging: facades sailings, cargo",
            ),
            (
                "changed a key",
                "key ep1_x",
                json!({ "ends_at": 0, "paused": false }),
                "changed the key ep1_x: ended at once",
            ),
            (
                "changed a key",
                "key ep1_y",
                json!({ "ends_at": 1_793_000_000_000_i64, "paused": true }),
                "changed the key ep1_y: ends 2026-10-26 07:33 UTC; paused",
            ),
            (
                "changed the draft",
                "draft",
                json!({ "changed": files, "removed": [] }),
                "changed the draft: changed f0.yaml, f1.yaml, f2.yaml, f3.yaml, f4.yaml, f5.yaml and 3 more",
            ),
            (
                "failed to sign in",
                "session",
                json!({ "address": "127.0.0.1" }),
                "failed to sign in: from 127.0.0.1",
            ),
            (
                "changed an account",
                "tove",
                json!({ "role": "viewer", "new password": true }),
                "changed an account tove: role viewer; new password",
            ),
            (
                "let go of kept replies",
                "cache",
                json!({ "facade": "sailings", "path": "/sailings/v2/fares", "tag": "" }),
                "let go of kept replies: facade sailings; path /sailings/v2/fares",
            ),
            (
                "paused",
                "consumer Kiosk",
                json!({}),
                "paused the consumer Kiosk",
            ),
        ] {
            let made = words(what, object, &detail);
            assert_eq!(made, said);
        }
    }
}
