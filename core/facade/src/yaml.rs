//! Writing YAML that is pleasant to edit.

use serde_json::Value;

/// A value as YAML block text, ending in a line feed.
pub(crate) fn to_yaml(value: &Value) -> String {
    let mut out = String::new();
    write(&mut out, value, 0);
    out
}

fn write(out: &mut String, value: &Value, indent: usize) {
    match value {
        Value::Object(map) if !map.is_empty() => {
            for (key, value) in map {
                out.push_str(&" ".repeat(indent));
                out.push_str(&scalar(key));
                out.push(':');
                below(out, value, indent + 2);
            }
        }
        Value::Array(items) if !items.is_empty() => {
            for item in items {
                out.push_str(&" ".repeat(indent));
                out.push('-');
                match item {
                    Value::Object(map) if !map.is_empty() => {
                        // The first member stands on the dash's own line.
                        let mut inner = String::new();
                        write(&mut inner, item, indent + 2);
                        out.push(' ');
                        out.push_str(inner.trim_start());
                    }
                    _ => below(out, item, indent + 2),
                }
            }
        }
        other => {
            out.push_str(&flat(other));
            out.push('\n');
        }
    }
}

fn below(out: &mut String, value: &Value, indent: usize) {
    match value {
        Value::Object(map) if !map.is_empty() => {
            out.push('\n');
            write(out, value, indent);
        }
        Value::Array(items) if !items.is_empty() => {
            if items.iter().all(|i| !i.is_object() && !i.is_array()) && items.len() <= 8 {
                let list: Vec<String> = items.iter().map(flow).collect();
                out.push_str(&format!(" [{}]\n", list.join(", ")));
            } else {
                out.push('\n');
                write(out, value, indent);
            }
        }
        other => {
            out.push(' ');
            out.push_str(&flat(other));
            out.push('\n');
        }
    }
}

fn flat(value: &Value) -> String {
    match value {
        Value::String(text) => scalar(text),
        Value::Object(_) => "{}".into(),
        Value::Array(_) => "[]".into(),
        other => other.to_string(),
    }
}

fn flow(value: &Value) -> String {
    match value {
        Value::String(text) if text.contains([',', '[', ']', '{', '}']) => {
            Value::String(text.clone()).to_string()
        }
        other => flat(other),
    }
}

/// A text, plain where YAML reads it back as the same text.
fn scalar(text: &str) -> String {
    let plain = !text.is_empty()
        && text.trim() == text
        && !text.contains(['\n', '\t', '\r', '"', '\\'])
        && !text.contains(": ")
        && !text.contains(" #")
        && !text.ends_with(':')
        && !text.starts_with([
            '-', '?', ':', ',', '[', ']', '{', '}', '#', '&', '*', '!', '|', '>', '\'', '%', '@',
            '`', '.', '~', '+',
        ])
        && text.chars().all(|c| !c.is_control())
        && !text.starts_with(|c: char| c.is_ascii_digit())
        && !matches!(
            text.to_lowercase().as_str(),
            // YAML 1.1, which others may read it by, has more of these.
            "true" | "false" | "null" | "yes" | "no" | "on" | "off" | "y" | "n" | "=" | "<<"
        );
    if plain {
        text.to_owned()
    } else {
        Value::String(text.to_owned()).to_string()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn what_is_written_reads_back_the_same() {
        let value = json!({"a": [1, "2", true, null, "x: y", "=path.route"], "200": {"b": [{"c": "no", "d": []}, ["e"]], "empty": {}}, "t": " lead", "n": 1.50, "q": "a\"b\\\n", "f": ["a,b", "{x}"]});
        let text = to_yaml(&value);
        assert_eq!(
            porch_contract::Node::parse(&text).unwrap().to_value(),
            value,
            "{text}"
        );
    }
}
