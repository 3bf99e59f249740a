//! One change of one value.

use serde_json::Value;

use super::pointer::{Place, Pointer, at, at_mut, child, index, written};
use super::{Action, Change, MOST, Values, equal};
use crate::expr::{EvalError, Template};

/// Why a change could not be made.
pub(super) struct Failed(pub(super) String);

impl From<String> for Failed {
    fn from(why: String) -> Self {
        Self(why)
    }
}

impl From<(String, EvalError)> for Failed {
    fn from((source, error): (String, EvalError)) -> Self {
        Self(format!("={source}: {error}"))
    }
}

/// Makes a change wherever its path leads.
pub(super) fn change(
    change: &Change,
    value: &mut Value,
    values: &dyn Values,
    left: &mut usize,
) -> Result<(), Failed> {
    if let Some(when) = &change.when
        && !holds(when, values)?
    {
        return Ok(());
    }
    let Some(places) = change.path.places(value, MOST) else {
        return Err(format!("it would meet more than {MOST} places").into());
    };
    let items = change.path.shared().len();
    // What is made is made of the value as it was; and from the end, so that no item is another one meanwhile.
    let mut made = Vec::with_capacity(places.len());
    for place in &places {
        made.push(match change.action.value() {
            Some(template) => own(template, value, (place, items), values)?,
            None => None,
        });
        if let Some(Some(made)) = made.last() {
            spend(made, left)?;
        }
    }
    for (place, made) in places.into_iter().zip(made).rev() {
        one(change, value, (&place, items), (made, values), left)?;
    }
    Ok(())
}

/// Counts what is put into a value, and nothing beyond what may be.
fn spend(made: &Value, left: &mut usize) -> Result<(), Failed> {
    let mut open = vec![made];
    while let Some(value) = open.pop() {
        let cost = match value {
            Value::Array(items) => {
                open.extend(items);
                1
            }
            Value::Object(members) => {
                open.extend(members.values());
                1 + members.len()
            }
            Value::String(text) => 1 + text.len() / 64,
            _ => 1,
        };
        *left = left
            .checked_sub(cost)
            .ok_or_else(|| Failed("more would be put into the body than may be".into()))?;
    }
    Ok(())
}

fn holds(when: &Template, values: &dyn Values) -> Result<bool, Failed> {
    match values.value(when, None)? {
        Some(Value::Bool(held)) => Ok(held),
        _ => Err("whether it is made is neither true nor false"
            .to_owned()
            .into()),
    }
}

/// The value that is put at a place; where it is absent, nothing is.
fn own(
    template: &Template,
    value: &Value,
    (place, items): (&Place, usize),
    values: &dyn Values,
) -> Result<Option<Value>, Failed> {
    let item = (items > 0).then(|| at(value, &place[..items])).flatten();
    Ok(values.value(template, item)?)
}

fn one(
    change: &Change,
    value: &mut Value,
    (place, items): (&Place, usize),
    (made, values): (Option<Value>, &dyn Values),
    left: &mut usize,
) -> Result<(), Failed> {
    if change.may_be_absent && is_absent(change, value, (place, items)) {
        return Ok(());
    }
    match &change.action {
        Action::Add(_) => match made {
            Some(made) => add(value, place, made),
            None => Ok(()),
        },
        Action::Default(_) => match (at(value, place), made) {
            (Some(there), _) if !there.is_null() => Ok(()),
            (Some(_), Some(made)) => replace(value, place, made),
            (None, Some(made)) => add(value, place, made),
            (_, None) => Ok(()),
        },
        Action::Test(_) => {
            let there = found(value, place)?;
            match equal(there, made.as_ref().unwrap_or(&Value::Null)) {
                true => Ok(()),
                false => Err("another value is there".to_owned().into()),
            }
        }
        Action::Remove => remove(value, place).map(drop),
        Action::Replace(_) => match made {
            Some(made) => replace(value, place, made),
            None => remove(value, place).map(drop),
        },
        Action::Move(from) => {
            let from = concrete(from, (place, items));
            if from == *place {
                found(value, place)?;
                return Ok(());
            }
            let taken = remove(value, &from)?;
            add(value, place, taken)
        }
        Action::Copy(from) => {
            let from = concrete(from, (place, items));
            let there = found(value, &from)?;
            spend(there, left)?;
            let copied = there.clone();
            add(value, place, copied)
        }
        Action::Rename(to) => rename(value, place, to),
        Action::Mask(keep) => mask(value, place, *keep),
        Action::Substitute(substitution) => {
            text(value, place, left, &mut |text| substitution.apply(text))
        }
        Action::Link => text(value, place, left, &mut |link| values.link(link)),
    }
}

/// Whether what is changed, or what it is taken from, or what it is put into, is not there.
fn is_absent(change: &Change, value: &Value, (place, items): (&Place, usize)) -> bool {
    if matches!(change.action, Action::Add(_) | Action::Default(_)) {
        let parent = place.len().saturating_sub(1);
        return at(value, &place[..parent]).is_none();
    }
    match change.action.from() {
        Some(from) => at(value, &concrete(from, (place, items))).is_none(),
        None => at(value, place).is_none(),
    }
}

/// Where a value is taken from, for the items that a place is in.
fn concrete(from: &Pointer, (place, items): (&Place, usize)) -> Place {
    let mut all = place[..items].to_vec();
    all.extend_from_slice(&from.tokens()[items..]);
    all
}

/// What is at a place, which must be there.
fn found<'v>(value: &'v Value, place: &[String]) -> Result<&'v Value, Failed> {
    match at(value, place) {
        Some(found) => Ok(found),
        None => Err(missing(value, place)),
    }
}

/// The first part of a place that is not there, and what there is instead.
fn missing(value: &Value, place: &[String]) -> Failed {
    const SHOWN: usize = 8;
    let mut here = value;
    for (i, token) in place.iter().enumerate() {
        if let Some(below) = child(here, token) {
            here = below;
            continue;
        }
        let of = match i {
            0 => "the body".to_owned(),
            _ => written(&place[..i]),
        };
        let there = match here {
            Value::Object(members) if members.is_empty() => "has no members".into(),
            Value::Object(members) => {
                let names: Vec<&str> = members.keys().take(SHOWN).map(String::as_str).collect();
                let more = if members.len() > SHOWN { " …" } else { "" };
                format!("has {}{more}", names.join(", "))
            }
            Value::Array(items) => format!("is a list of {}", items.len()),
            _ => "is neither an object nor a list".into(),
        };
        return Failed(format!("there is no “{token}”: {of} {there}"));
    }
    Failed("there is nothing".into())
}

/// The value around a place, and its last token.
fn around<'v, 'p>(
    value: &'v mut Value,
    place: &'p [String],
) -> Result<Option<(&'v mut Value, &'p str)>, Failed> {
    let Some((last, rest)) = place.split_last() else {
        return Ok(None);
    };
    if at(value, rest).is_none() {
        return Err(missing(value, rest));
    }
    Ok(at_mut(value, rest).map(|of| (of, last.as_str())))
}

fn add(value: &mut Value, place: &[String], made: Value) -> Result<(), Failed> {
    match around(value, place)? {
        None => *value = made,
        Some((Value::Object(members), name)) => drop(members.insert(name.to_owned(), made)),
        Some((Value::Array(items), "-")) => items.push(made),
        Some((Value::Array(items), token)) => match index(token) {
            Some(at) if at <= items.len() => items.insert(at, made),
            Some(_) => return Err(format!("the list has {} items", items.len()).into()),
            None => return Err(format!("“{token}” is no item of a list").into()),
        },
        Some((_, token)) => {
            return Err(format!("“{token}” has no place in a value without members").into());
        }
    }
    Ok(())
}

fn replace(value: &mut Value, place: &[String], made: Value) -> Result<(), Failed> {
    if at(value, place).is_none() {
        return Err(missing(value, place));
    }
    if let Some(there) = at_mut(value, place) {
        *there = made;
    }
    Ok(())
}

fn remove(value: &mut Value, place: &[String]) -> Result<Value, Failed> {
    if at(value, place).is_none() {
        return Err(missing(value, place));
    }
    let taken = match around(value, place)? {
        None => Some(std::mem::take(value)),
        Some((Value::Object(members), name)) => members.shift_remove(name),
        Some((Value::Array(items), token)) => index(token).map(|at| items.remove(at)),
        Some(_) => None,
    };
    taken.ok_or_else(|| Failed("there is nothing".into()))
}

/// Gives a member another name; it stays where it stands. What has that name already makes way.
fn rename(value: &mut Value, place: &[String], to: &str) -> Result<(), Failed> {
    found(value, place)?;
    match around(value, place)? {
        Some((Value::Object(members), name)) if name != to => {
            let all = std::mem::take(members);
            for (own, value) in all {
                if own == name {
                    members.insert(to.to_owned(), value);
                } else if own != to {
                    members.insert(own, value);
                }
            }
            Ok(())
        }
        Some((Value::Object(_), _)) => Ok(()),
        _ => Err("only members have names".to_owned().into()),
    }
}

/// Puts another text in place of one.
fn text(
    value: &mut Value,
    place: &[String],
    left: &mut usize,
    of: &mut dyn FnMut(&str) -> Result<Option<String>, String>,
) -> Result<(), Failed> {
    let made = match found(value, place)? {
        Value::String(text) => of(text)?,
        Value::Null => None,
        _ => return Err("it is no text".to_owned().into()),
    };
    let Some(made) = made.map(Value::String) else {
        return Ok(());
    };
    spend(&made, left)?;
    replace(value, place, made)
}

/// Hides a text, or the digits of a number, but for so many letters at its end; never more than half of them is shown.
fn mask(value: &mut Value, place: &[String], keep: usize) -> Result<(), Failed> {
    found(value, place)?;
    let Some(there) = at_mut(value, place) else {
        return Ok(());
    };
    match masked(std::mem::take(there), keep) {
        Some(masked) => *there = masked,
        None => return Err("only texts and numbers are masked".to_owned().into()),
    }
    Ok(())
}

/// A value that is masked; `None` where it is neither a text nor a number.
pub(super) fn masked(value: Value, keep: usize) -> Option<Value> {
    let text = match value {
        Value::Null => return Some(Value::Null),
        Value::String(text) => text,
        Value::Number(number) => number.to_string(),
        Value::Bool(_) => "••••".to_owned(),
        _ => return None,
    };
    let letters = text.chars().count();
    let shown = keep.min(letters / 2);
    let end: String = text.chars().skip(letters - shown).collect();
    Some(Value::String(format!("••••{end}")))
}
