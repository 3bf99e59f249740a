//! Parameters that are objects, lists in a path, JSON or cookies, held against their schemas (OpenAPI 3.1 §4.8.12.2).
//!
//! Expressions see their texts as they stand in the request, and so does the backend.

use std::borrow::Cow;

use http::HeaderMap;
use porch_contract::{ParamType, Shape, Style};
use porch_facade::{CompiledOperation, ShapedKind, ShapedPlace, ShapedPlan, percent_decode};
use serde_json::{Map, Value};

use super::{cookies, misfits, plain};
use crate::failure::Mistake;

/// What a parameter is read of: names and values, decoded; names are empty where a value stands for all of it.
type Pairs<'r> = Vec<(Cow<'r, str>, Cow<'r, str>)>;

/// A parameter has at most so many members or items.
const MOST: usize = 1000;
/// So many parts of a text are looked at: names and values of one member more than there may be, which is refused.
const PARTS: usize = 2 * MOST + 2;

/// Looks at all of an operation.
#[cold]
pub(super) fn look(
    operation: &CompiledOperation,
    captured: &[&str],
    query: &str,
    headers: &HeaderMap,
    mistakes: &mut Vec<Mistake>,
) {
    for plan in &operation.admission.shaped {
        let (place, pairs) = match plan.place {
            ShapedPlace::Path(at) => ("path", of_path(plan, captured.get(at).copied())),
            ShapedPlace::Query => ("query", of_query(operation, plan, query)),
            ShapedPlace::Header => ("header", of_header(plan, headers)),
            ShapedPlace::Cookie => ("cookie", of_cookies(plan, headers)),
        };
        let pointer = format!("/{place}/{}", plan.name);
        let found = pairs.and_then(|pairs| value(plan, pairs));
        match found {
            Err(told) => mistakes.push((pointer, told)),
            Ok(None) if plan.required => mistakes.push((pointer, "must be there".into())),
            Ok(None) => {}
            Ok(Some(value)) => {
                if let Some(schema) = &plan.schema {
                    misfits(schema, &value, &pointer, mistakes);
                }
            }
        }
    }
}

const NOT_UTF8: &str = "is not UTF-8 when percent-decoded";

fn decoded(text: &str, plus: bool) -> Result<Cow<'_, str>, String> {
    percent_decode(text, plus).ok_or_else(|| NOT_UTF8.to_owned())
}

/// Values with something between them, of which each may be encoded.
fn parts<'r>(text: &'r str, between: &str, plus: bool) -> Result<Vec<Cow<'r, str>>, String> {
    let parts = text.split(between).take(PARTS);
    parts.map(|part| decoded(part, plus)).collect()
}

fn nameless<'r>(values: Vec<Cow<'r, str>>) -> Pairs<'r> {
    values.into_iter().map(|v| (Cow::Borrowed(""), v)).collect()
}

/// The parts of one text: each `k=v`, or one behind the other, or values.
fn taken_apart<'r>(
    plan: &ShapedPlan,
    text: &'r str,
    between: &str,
    plus: bool,
) -> Result<Pairs<'r>, String> {
    if plan.shape.style == Style::Json {
        return Ok(nameless(vec![decoded(text, plus)?]));
    }
    match (&plan.kind, plan.shape.explode) {
        (ShapedKind::One(_), _) => Ok(nameless(vec![decoded(text, plus)?])),
        (ShapedKind::List(_), _) if text.is_empty() => Ok(Vec::new()),
        (ShapedKind::List(_), _) => parts(text, between, plus).map(nameless),
        (ShapedKind::Object(..), true) => {
            let pairs = text.split(between).take(PARTS).map(|pair| {
                let (name, value) = pair.split_once('=').unwrap_or((pair, ""));
                Ok((decoded(name, plus)?, decoded(value, plus)?))
            });
            pairs.collect()
        }
        (ShapedKind::Object(..), false) => {
            let mut parts = parts(text, between, plus)?.into_iter();
            let mut pairs = Vec::new();
            while let Some(name) = parts.next() {
                let value = parts.next();
                let value = value.ok_or_else(|| format!("“{name}” has no value"))?;
                pairs.push((name, value));
            }
            Ok(pairs)
        }
    }
}

/// What a segment holds, in the styles `simple`, `label` and `matrix` (RFC 6570 §3.2.2, §3.2.5, §3.2.7).
fn of_path<'r>(plan: &ShapedPlan, segment: Option<&'r str>) -> Result<Pairs<'r>, String> {
    let Some(text) = segment else {
        return Ok(Vec::new());
    };
    let Shape { style, explode } = plan.shape;
    match style {
        Style::Label => {
            let text = text
                .strip_prefix('.')
                .ok_or("must begin with a full stop")?;
            taken_apart(plan, text, if explode { "." } else { "," }, false)
        }
        Style::Matrix => {
            let text = text
                .strip_prefix(';')
                .ok_or("must begin with a semicolon")?;
            if explode && matches!(plan.kind, ShapedKind::Object(..)) {
                return taken_apart(plan, text, ";", false);
            }
            let all = text.split(';').take(PARTS).map(|pair| {
                let (name, value) = pair.split_once('=').unwrap_or((pair, ""));
                match decoded(name, false)? == *plan.name {
                    true => Ok(value),
                    false => Err(format!("must begin with ;{}=", plan.name)),
                }
            });
            let all: Vec<&str> = all.collect::<Result<_, String>>()?;
            match (&plan.kind, explode, all.as_slice()) {
                (ShapedKind::List(_), true, many) => {
                    let values = many.iter().map(|v| decoded(v, false));
                    values.collect::<Result<_, _>>().map(nameless)
                }
                (_, _, [one]) => taken_apart(plan, one, ",", false),
                _ => Err("stands twice".into()),
            }
        }
        _ => taken_apart(plan, text, ",", false),
    }
}

fn of_query<'r>(
    operation: &CompiledOperation,
    plan: &ShapedPlan,
    query: &'r str,
) -> Result<Pairs<'r>, String> {
    let mut found = Pairs::new();
    let mut times = 0;
    for pair in query.split('&').filter(|p| !p.is_empty()) {
        let (raw_name, raw) = pair.split_once('=').unwrap_or((pair, ""));
        let name = decoded(raw_name, true)?;
        if plan.is_deep() {
            let member = name
                .strip_prefix(&*plan.name)
                .and_then(|rest| rest.strip_prefix('['));
            if let Some(member) = member.and_then(|m| m.strip_suffix(']')) {
                found.push((member.to_owned().into(), decoded(raw, true)?));
            }
        } else if plan.takes_any_name() {
            let all = &operation.admission.parameters;
            if !all
                .iter()
                .any(|p| *p.name == *name && *p.name != *plan.name)
            {
                found.push((name, decoded(raw, true)?));
            }
        } else if *name == *plan.name {
            times += 1;
            let between = match plan.shape.style {
                Style::Delimited(' ') if raw.contains("%20") => "%20",
                Style::Delimited(' ') => "+",
                Style::Delimited(_) if raw.contains("%7C") => "%7C",
                Style::Delimited(_) => "|",
                _ => ",",
            };
            found.extend(taken_apart(plan, raw, between, true)?);
        }
        if found.len() > MOST {
            return Err(format!("has more than {MOST} members"));
        }
    }
    match times > 1 {
        true => Err("stands twice".into()),
        false => Ok(found),
    }
}

fn of_header<'r>(plan: &ShapedPlan, headers: &'r HeaderMap) -> Result<Pairs<'r>, String> {
    let mut found = Pairs::new();
    for field in headers.get_all(&*plan.name) {
        let text = field.to_str().map_err(|_| "is no text".to_owned())?;
        // Fields are not percent-encoded.
        let parts = text.split(',').map(str::trim).take(PARTS);
        match (&plan.kind, plan.shape.style, plan.shape.explode) {
            (_, Style::Json, _) | (ShapedKind::One(_), ..) => {
                found.push(("".into(), text.trim().into()));
            }
            (ShapedKind::List(_), ..) => found.extend(parts.map(|p| ("".into(), p.into()))),
            (ShapedKind::Object(..), _, true) => found.extend(parts.map(|p| {
                let (name, value) = p.split_once('=').unwrap_or((p, ""));
                (name.trim().into(), value.trim().into())
            })),
            (ShapedKind::Object(..), _, false) => {
                let parts: Vec<&str> = parts.collect();
                let pairs = parts.chunks(2);
                let pairs = pairs.map(|p| (p[0].into(), p.get(1).copied().unwrap_or("").into()));
                found.extend(pairs);
            }
        }
        if found.len() > MOST {
            return Err(format!("has more than {MOST} members"));
        }
    }
    Ok(found)
}

/// The cookies of a name (RFC 6265 §4.2.1); a quoted value is what stands between its quotes.
fn of_cookies<'r>(plan: &ShapedPlan, headers: &'r HeaderMap) -> Result<Pairs<'r>, String> {
    let mut found = Pairs::new();
    for (_, value) in cookies(headers).filter(|(name, _)| *name == &*plan.name) {
        match (&plan.kind, plan.shape.style, plan.shape.explode) {
            (_, Style::Json, _) | (ShapedKind::One(_), ..) | (ShapedKind::List(_), _, true) => {
                found.push(("".into(), decoded(value, false)?));
            }
            _ => found.extend(taken_apart(plan, value, ",", false)?),
        }
    }
    Ok(found)
}

/// The value that was sent; none where there is none.
fn value(plan: &ShapedPlan, pairs: Pairs<'_>) -> Result<Option<Value>, String> {
    let Some((_, first)) = pairs.first() else {
        return Ok(None);
    };
    // What is left out would pass unseen.
    if pairs.len() > MOST {
        return Err(format!("has more than {MOST} members"));
    }
    if plan.shape.style == Style::Json {
        if pairs.len() > 1 {
            return Err("stands twice".into());
        }
        let value = serde_json::from_str(first);
        return value.map(Some).map_err(|e| format!("is no JSON: {e}"));
    }
    let typed = |kind: ParamType, text: &str| plain(kind, text).map_err(|e| e.to_string());
    Ok(Some(match &plan.kind {
        ShapedKind::One(_) if pairs.len() > 1 => return Err("stands twice".into()),
        ShapedKind::One(kind) => typed(*kind, first)?,
        ShapedKind::List(kind) => {
            let items = pairs.iter().map(|(_, text)| typed(*kind, text));
            Value::Array(items.collect::<Result<_, _>>()?)
        }
        ShapedKind::Object(members, others) => {
            let mut object = Map::new();
            for (name, text) in &pairs {
                // What is deeper is described by no style.
                if name.contains('[') {
                    return Ok(None);
                }
                let known = members.iter().find(|(n, ..)| *n == **name);
                let (kind, list) = known.map_or((*others, false), |(_, kind, list)| (*kind, *list));
                let value = typed(kind, text).map_err(|told| format!("“{name}” {told}"))?;
                match (object.get_mut(&**name), list) {
                    (Some(Value::Array(all)), true) => all.push(value),
                    (Some(_), _) => return Err(format!("“{name}” stands twice")),
                    (None, true) => {
                        drop(object.insert(name.to_string(), Value::Array(vec![value])))
                    }
                    (None, false) => drop(object.insert(name.to_string(), value)),
                }
            }
            Value::Object(object)
        }
    }))
}
