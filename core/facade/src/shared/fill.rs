//! Values of parameters, put in their places.

use porch_contract::{Step, suggest};
use serde_json::{Map, Value};

/// What stands before the name of a parameter.
const ROOT: &str = "parameters";

/// What is wrong with a place: the steps to it, what, and what helps.
pub(super) type Wrong = (Vec<Step>, String, String);

/// Puts values in their places.
pub(super) struct Filler<'f> {
    /// The values.
    pub(super) values: &'f Map<String, Value>,
    /// So many bytes may still be put in.
    pub(super) room: usize,
    /// What is wrong.
    pub(super) wrong: Vec<Wrong>,
    path: Vec<Step>,
}

impl<'f> Filler<'f> {
    pub(super) fn new(values: &'f Map<String, Value>, room: usize) -> Self {
        Self {
            values,
            room,
            wrong: Vec::new(),
            path: Vec::new(),
        }
    }

    /// A value with all parameters filled in.
    pub(super) fn fill(&mut self, value: &Value) -> Value {
        match value {
            Value::String(text) => self.text(text),
            Value::Array(items) => {
                let items = items.iter().enumerate();
                let items = items.map(|(i, v)| self.below(Step::Index(i), v));
                Value::Array(items.collect())
            }
            Value::Object(map) => {
                let members = map.iter().map(|(k, v)| {
                    let step = Step::Key(k.clone());
                    let made = match (k.as_str(), v) {
                        ("when", Value::String(text)) => self.condition(step, text),
                        _ => self.below(step, v),
                    };
                    (k.clone(), made)
                });
                Value::Object(members.collect())
            }
            other => other.clone(),
        }
    }

    /// The same for a member of the whole document.
    pub(super) fn top(&mut self, key: &str, value: &Value) -> Value {
        self.below(Step::Key(key.to_owned()), value)
    }

    fn below(&mut self, step: Step, value: &Value) -> Value {
        self.path.push(step);
        let made = self.fill(value);
        self.path.pop();
        made
    }

    /// A condition stays an expression, whatever is put in.
    fn condition(&mut self, step: Step, text: &str) -> Value {
        self.path.push(step);
        let made = self.expression(text);
        self.path.pop();
        Value::String(made)
    }

    fn text(&mut self, text: &str) -> Value {
        match only_name(text) {
            Some(name) => match self.value(name) {
                Some(value) => as_said(value),
                None => Value::Null,
            },
            None => Value::String(self.expression(text)),
        }
    }

    /// The value of a parameter, as long as there is room for it.
    fn value(&mut self, name: &str) -> Option<&'f Value> {
        let Some(value) = self.values.get(name) else {
            let known = self.values.keys().map(String::as_str);
            let help = match suggest(name, known.clone()) {
                Some(near) => format!("did you mean “{near}”?"),
                None => "add it below `parameters:`".to_owned(),
            };
            let message = format!("there is no parameter “{name}”");
            self.wrong.push((self.path.clone(), message, help));
            return None;
        };
        match self.room.checked_sub(value.to_string().len()) {
            Some(room) => self.room = room,
            None => {
                let message = "the values of parameters make this too large".to_owned();
                self.wrong.push((self.path.clone(), message, String::new()));
                return None;
            }
        }
        Some(value)
    }

    /// An expression with the names of parameters replaced by literals; texts in it are let be.
    fn expression(&mut self, text: &str) -> String {
        if !text.starts_with('=') || text.starts_with("==") || !text.contains(ROOT) {
            return text.to_owned();
        }
        let (mut made, mut rest) = (String::with_capacity(text.len()), text);
        while let Some(c) = rest.chars().next() {
            let is_name = c.is_ascii_alphabetic() || c == '_';
            let length = match c {
                '"' | '\'' => quoted(rest, made.ends_with(['r', 'R'])),
                _ if is_name => name_length(rest),
                _ => c.len_utf8(),
            };
            let (piece, behind) = rest.split_at(length);
            let is_member = made.trim_end().ends_with(['.', '?']);
            let named = behind.strip_prefix('.').map(|b| &b[..name_length(b)]);
            match named {
                Some(name) if piece == ROOT && !is_member && !name.is_empty() => {
                    if let Some(value) = self.value(name) {
                        literal(value, &mut made);
                    }
                    rest = &behind[1 + name.len()..];
                }
                _ => {
                    made.push_str(piece);
                    rest = behind;
                }
            }
        }
        made
    }
}

/// The name in a text that is nothing but a parameter.
pub(super) fn only_name(text: &str) -> Option<&str> {
    let rest = text.strip_prefix('=')?.trim();
    let name = rest.strip_prefix(ROOT)?.strip_prefix('.')?;
    (!name.is_empty() && name_length(name) == name.len()).then_some(name)
}

/// So many bytes at the beginning of a text are a name.
fn name_length(text: &str) -> usize {
    let more = |c: char| c.is_ascii_alphanumeric() || c == '_';
    text.find(|c| !more(c)).unwrap_or(text.len())
}

/// So many bytes at the beginning of a text are a text in quotes.
fn quoted(text: &str, raw: bool) -> usize {
    let mut chars = text.char_indices();
    let quote = chars.next().map(|(_, c)| c);
    while let Some((at, c)) = chars.next() {
        match c {
            '\\' if !raw => drop(chars.next()),
            _ if Some(c) == quote => return at + c.len_utf8(),
            _ => {}
        }
    }
    text.len()
}

/// A value as a structure says it: a text that begins with `=` is none that is evaluated.
fn as_said(value: &Value) -> Value {
    match value {
        Value::String(text) if text.starts_with('=') => Value::String(format!("={text}")),
        Value::Array(items) => items.iter().map(as_said).collect(),
        Value::Object(map) => {
            let members = map.iter().map(|(k, v)| (k.clone(), as_said(v)));
            Value::Object(members.collect())
        }
        other => other.clone(),
    }
}

/// A value as expressions write it (CEL language definition, “Syntax”).
fn literal(value: &Value, into: &mut String) {
    match value {
        Value::String(text) => quote(text, into),
        Value::Array(items) => {
            into.push('[');
            for (i, item) in items.iter().enumerate() {
                into.push_str(if i > 0 { ", " } else { "" });
                literal(item, into);
            }
            into.push(']');
        }
        Value::Object(map) => {
            into.push('{');
            for (i, (name, member)) in map.iter().enumerate() {
                into.push_str(if i > 0 { ", " } else { "" });
                quote(name, into);
                into.push_str(": ");
                literal(member, into);
            }
            into.push('}');
        }
        // So that nothing before it is taken for its sign.
        Value::Number(number) => into.push_str(&format!("({number})")),
        other => into.push_str(&other.to_string()),
    }
}

fn quote(text: &str, into: &mut String) {
    into.push('"');
    for c in text.chars() {
        match c {
            '"' | '\\' => into.extend(['\\', c]),
            '\n' => into.push_str("\\n"),
            c if c.is_control() => into.push_str(&format!("\\u{:04x}", u32::from(c))),
            c => into.push(c),
        }
    }
    into.push('"');
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    fn filled(value: &Value, with: Value) -> Result<Value, Vec<String>> {
        let values = with.as_object().cloned().unwrap_or_default();
        let mut filler = Filler::new(&values, 1000);
        let made = filler.fill(value);
        match filler.wrong.is_empty() {
            true => Ok(made),
            false => Err(filler.wrong.into_iter().map(|w| w.1).collect()),
        }
    }

    #[test]
    fn values_stand_where_parameters_were_named_and_texts_are_let_be() {
        let with = json!({ "n": 7, "low": -3, "who": "a \"b\" \\ c\n", "odd": "=body.x", "on": true, "l": ["a", 1.5] });
        for (from, to) in [
            (json!("=parameters.n"), json!(7)),
            (json!("= parameters.l "), json!(["a", 1.5])),
            (json!("=parameters.odd"), json!("==body.x")),
            (
                json!({ "when": "=parameters.on" }),
                json!({ "when": "=true" }),
            ),
            (
                json!("=path.x == parameters.who"),
                json!("=path.x == \"a \\\"b\\\" \\\\ c\\n\""),
            ),
            (
                json!("=1 -parameters.low in parameters.l"),
                json!("=1 -(-3) in [\"a\", (1.5)]"),
            ),
            // What only looks like one.
            (json!("==parameters.n"), json!("==parameters.n")),
            (json!("parameters.n"), json!("parameters.n")),
            (
                json!("='parameters.n' + body.parameters.n"),
                json!("='parameters.n' + body.parameters.n"),
            ),
            (
                json!("='it\\'s parameters.n'"),
                json!("='it\\'s parameters.n'"),
            ),
            (json!("=my_parameters.n"), json!("=my_parameters.n")),
            (
                json!("=r'\\' + string(parameters.n)"),
                json!("=r'\\' + string((7))"),
            ),
        ] {
            assert_eq!(filled(&from, with.clone()), Ok(to), "{from}");
        }
    }

    #[test]
    fn what_is_not_there_and_what_grows_too_large_is_told() {
        let names = |value| filled(&value, json!({ "requests": 1 }));
        let told = names(json!(["=parameters.requets", "=parameters.x + 1"]));
        let told = told.expect_err("two that are not there");
        assert_eq!(
            told,
            [
                "there is no parameter “requets”",
                "there is no parameter “x”"
            ]
        );
        let many: Vec<Value> = (0..200).map(|_| json!("=parameters.long")).collect();
        let told = filled(&json!(many), json!({ "long": "x".repeat(20) }));
        assert!(told.is_err_and(|all| all[0].contains("too large")));
    }

    #[test]
    fn whatever_is_put_in_is_one_literal() {
        use porch_rules::expr::Expr;
        for value in [
            json!("\u{0}\u{1}\t\r\u{7f}\u{85}é🚢\u{2028}'\"\\"),
            json!({ "a": { "b": [null, true, 1e300, -5, "=x"] } }),
        ] {
            let values = json!({ "v": value });
            let made = filled(&json!("=parameters.v == path"), values).expect("filled");
            let source = made
                .as_str()
                .and_then(|t| t.strip_prefix('='))
                .unwrap_or_default();
            assert!(Expr::compile(source, &["path"]).is_ok(), "{source}");
        }
    }
}
