//! Forms that callers send, as values (`application/x-www-form-urlencoded`, WHATWG URL §5.1).

use porch_contract::ParamType;
use porch_facade::{FormPlan, percent_decode};
use serde_json::{Map, Number, Value};

use crate::failure::Failure;

/// The value of a form: an object, whose lists have all that stands below their names.
pub(super) fn read(plan: &FormPlan, bytes: &[u8]) -> Result<Value, Failure> {
    let text = std::str::from_utf8(bytes).map_err(|_| Failure::body("is no form in UTF-8"))?;
    let mut members = Map::new();
    let mut mistakes: Vec<(String, String)> = Vec::new();
    for (number, pair) in text.split('&').filter(|p| !p.is_empty()).enumerate() {
        if number >= MOST_PAIRS {
            return Err(Failure::body(format!(
                "is a form of more than {MOST_PAIRS} members"
            )));
        }
        let (name, value) = pair.split_once('=').unwrap_or((pair, ""));
        let (Some(name), Some(value)) = (percent_decode(name, true), percent_decode(value, true))
        else {
            return Err(Failure::body(
                "has a “%” that is no part of a text in UTF-8",
            ));
        };
        let known = plan.members.get(&*name).copied();
        let (many, kind) = known.unwrap_or((false, ParamType::Text));
        let value = typed(kind, &value);
        match members.get_mut(&*name) {
            Some(Value::Array(items)) if many => items.push(value),
            Some(_) => {
                let told = (format!("/body/{name}"), "stands more than once".to_owned());
                if !mistakes.contains(&told) && mistakes.len() < MOST {
                    mistakes.push(told);
                }
            }
            None => {
                let value = if many {
                    Value::Array(vec![value])
                } else {
                    value
                };
                members.insert(name.into_owned(), value);
            }
        }
    }
    let value = Value::Object(members);
    let misfits = plan.schema.as_ref().map(|s| s.misfits(&value));
    let misfits = misfits.into_iter().flatten();
    mistakes.extend(misfits.map(|m| (format!("/body{}", m.pointer), m.told)));
    match mistakes.is_empty() {
        true => Ok(value),
        false => Err(Failure::Mistakes(mistakes)),
    }
}

/// A form has at most so many members: each takes many times its length.
const MOST_PAIRS: usize = 10_000;
/// So many mistakes of one kind are told.
const MOST: usize = 20;

/// A text as the contract's schema has it; one that is not of its type stays a text, which the schema does not take.
fn typed(kind: ParamType, text: &str) -> Value {
    let number = || text.parse::<Number>().map(Value::Number);
    let made = match (kind, text) {
        (ParamType::Boolean, "true") => Ok(Value::Bool(true)),
        (ParamType::Boolean, "false") => Ok(Value::Bool(false)),
        (ParamType::Integer | ParamType::Number, _) => number(),
        _ => return Value::String(text.to_owned()),
    };
    made.unwrap_or_else(|_| Value::String(text.to_owned()))
}
