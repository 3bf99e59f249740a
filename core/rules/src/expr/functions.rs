//! The functions that expressions may call.

use std::borrow::Cow;

use super::eval::{Got, wrong};
use super::value::Val;

pub(super) fn call<'s>(name: &str, mut arguments: Vec<Val<'s>>) -> Got<'s> {
    let first = if arguments.is_empty() {
        Val::Absent
    } else {
        arguments.remove(0)
    };
    if name == "orValue" {
        return Ok(if matches!(first, Val::Absent) {
            arguments.remove(0)
        } else {
            first
        });
    }
    if matches!(first, Val::Absent) {
        return Ok(Val::Absent);
    }
    let refuse = |of: &Val<'_>| wrong(format!("{name} has no meaning for {}", of.kind()));
    let text = |v: String| Ok(Val::Str(Cow::Owned(v)));
    match (name, &first, arguments.as_slice()) {
        ("size", Val::Str(s), _) => Ok(Val::Int(s.chars().count() as i64)),
        ("size", v, _) => v
            .items()
            .map_or_else(|| refuse(v), |i| Ok(Val::Int(i.len() as i64))),
        ("type", v, _) => Ok(Val::Str(Cow::Borrowed(v.kind()))),
        ("string", v, _) => v
            .to_text()
            .map_or_else(|| refuse(v), |t| text(t.into_owned())),
        ("bool", Val::Bool(b), _) => Ok(Val::Bool(*b)),
        ("bool", Val::Str(s), _) if matches!(s.as_ref(), "true" | "false") => {
            Ok(Val::Bool(s == "true"))
        }
        ("int", Val::Str(s), _) => s
            .parse()
            .map(Val::Int)
            .or_else(|_| wrong(format!("“{s}” is no whole number"))),
        ("int", v, _) => match v.number() {
            Some(Val::Int(i)) => Ok(Val::Int(i)),
            Some(Val::Double(d)) if d.abs() < 9.2e18 => Ok(Val::Int(d as i64)),
            _ => refuse(v),
        },
        ("double", Val::Str(s), _) => s
            .parse()
            .map(Val::Double)
            .or_else(|_| wrong(format!("“{s}” is no number"))),
        ("double", v, _) => v.as_f64().map_or_else(|| refuse(v), |d| Ok(Val::Double(d))),
        ("startsWith", Val::Str(s), [Val::Str(t)]) => Ok(Val::Bool(s.starts_with(t.as_ref()))),
        ("endsWith", Val::Str(s), [Val::Str(t)]) => Ok(Val::Bool(s.ends_with(t.as_ref()))),
        ("contains", Val::Str(s), [Val::Str(t)]) => Ok(Val::Bool(s.contains(t.as_ref()))),
        ("lowerAscii", Val::Str(s), _) => text(s.to_ascii_lowercase()),
        ("upperAscii", Val::Str(s), _) => text(s.to_ascii_uppercase()),
        ("trim", Val::Str(s), _) => text(s.trim().to_owned()),
        ("replace", Val::Str(s), [Val::Str(from), Val::Str(to)]) => replaced(s, from, to),
        ("split", Val::Str(s), [Val::Str(by)]) => parted(s, by, None),
        ("split", Val::Str(s), [Val::Str(by), most]) => match most.number() {
            Some(Val::Int(most)) => parted(s, by, usize::try_from(most).ok()),
            _ => refuse(most),
        },
        (_, v, _) => refuse(v),
    }
}

/// So many parts of a text at most.
const MAX_PARTS: usize = 1 << 14;

/// The parts of a text between the occurrences of another one; the last of so many parts keeps the rest. Nothing between
/// characters parts them all.
fn parted<'s>(text: &str, by: &str, most: Option<usize>) -> Got<'s> {
    let part = |p: &str| Val::Str(Cow::Owned(p.to_owned()));
    let limit = most.unwrap_or(MAX_PARTS + 1).min(MAX_PARTS + 1);
    let parts: Vec<Val<'s>> = match by {
        "" => {
            let mut rest = text;
            let mut parts = Vec::new();
            while parts.len() + 1 < limit
                && let Some(c) = rest.chars().next()
                && rest.len() > c.len_utf8()
            {
                let (one, behind) = rest.split_at(c.len_utf8());
                parts.push(part(one));
                rest = behind;
            }
            if limit > 0 && !rest.is_empty() {
                parts.push(part(rest));
            }
            parts
        }
        by => text.splitn(limit, by).map(part).collect(),
    };
    match parts.len() > MAX_PARTS {
        true => wrong(format!("a text of more than {MAX_PARTS} parts")),
        false => Ok(Val::List(parts)),
    }
}

/// A text with all occurrences replaced; how long it will be is known before it is made.
fn replaced<'s>(text: &str, from: &str, to: &str) -> Got<'s> {
    let times = text.matches(from).count();
    let kept = text.len() - times * from.len();
    if times.saturating_mul(to.len()).saturating_add(kept) > 1 << 20 {
        return wrong("a text of more than 1 MiB");
    }
    Ok(Val::Str(Cow::Owned(text.replace(from, to))))
}
