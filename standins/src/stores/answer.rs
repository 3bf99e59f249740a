//! What is asked for in an address, and pages of entities (OData URL Conventions 4.01).

use axum::Json;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Response};
use serde_json::{Value, json};
use url::form_urlencoded::parse;

use super::PAGE;

/// What a request asks for.
pub(super) struct Asked {
    /// Segments: names, and what stands in their parentheses.
    segments: Vec<(String, Option<String>)>,
    options: Vec<(String, String)>,
}

/// Takes an address apart.
pub(super) fn asked(path: &str, query: &str) -> Result<Asked, String> {
    let segments = path.split('/').filter(|s| !s.is_empty()).map(|segment| {
        // One segment has no plus that means a blank.
        let plain = segment.replace('+', "%2B");
        let decoded = parse(plain.as_bytes())
            .next()
            .map(|(k, v)| match v.is_empty() {
                true => k.into_owned(),
                false => format!("{k}={v}"),
            });
        let text = decoded.unwrap_or_default();
        match text.split_once('(') {
            None => Ok((text, None)),
            Some((name, rest)) => match rest.strip_suffix(')') {
                Some(inner) => Ok((name.to_owned(), Some(inner.to_owned()))),
                None => Err(format!("“{text}” is not closed")),
            },
        }
    });
    let options: Vec<(String, String)> = parse(query.as_bytes()).into_owned().collect();
    const KNOWN: [&str; 6] = [
        "$select",
        "$filter",
        "$top",
        "$skip",
        "$count",
        "$skiptoken",
    ];
    match options.iter().find(|(n, _)| !KNOWN.contains(&n.as_str())) {
        Some((name, _)) => Err(format!("the option “{name}” is not known here")),
        None => Ok(Asked {
            segments: segments.collect::<Result<_, _>>()?,
            options,
        }),
    }
}

/// A literal: a text in quotes, whose own quotes are doubled, or a number.
fn literal(text: &str) -> Option<String> {
    match text.strip_prefix('\'') {
        None => text.parse::<f64>().is_ok().then(|| text.to_owned()),
        Some(rest) => {
            let inner = rest.strip_suffix('\'')?;
            let single = inner.replace("''", "");
            (!single.contains('\'')).then(|| inner.replace("''", "'"))
        }
    }
}

impl Asked {
    pub(super) fn names(&self) -> Vec<&str> {
        self.segments
            .iter()
            .map(|(name, _)| name.as_str())
            .collect()
    }

    /// The key of the first segment.
    pub(super) fn first_key(&self) -> Option<String> {
        let inner = self.segments.first()?.1.as_ref()?;
        Some(literal(inner).unwrap_or_else(|| inner.clone()))
    }

    /// A named value of the first segment.
    pub(super) fn named(&self, name: &str) -> String {
        let inner = self.segments.first().and_then(|(_, i)| i.as_deref());
        let mut pairs = inner
            .unwrap_or_default()
            .split(',')
            .filter_map(|p| p.split_once('='));
        let found = pairs.find(|(n, _)| *n == name);
        found
            .and_then(|(_, value)| literal(value))
            .unwrap_or_default()
    }

    fn option(&self, name: &str) -> Option<&str> {
        let mut options = self.options.iter();
        options.find(|(n, _)| n == name).map(|(_, v)| v.as_str())
    }

    fn number(&self, name: &str) -> Option<usize> {
        self.option(name)?.parse().ok()
    }
}

/// A value as it is written in a literal, without quotes.
pub(super) fn text_of(value: &Value) -> String {
    value
        .as_str()
        .map_or_else(|| value.to_string(), str::to_owned)
}

/// One page of entities, with the address of the next one.
pub(super) fn page(all: &[Value], asked: &Asked, root: &str, path: &str) -> Response {
    let filter = asked.option("$filter").and_then(|f| f.split_once(" eq "));
    if asked.option("$filter").is_some() && filter.is_none() {
        return refused(
            StatusCode::BAD_REQUEST,
            "only `NAME eq VALUE` is known here",
        );
    }
    let fits = |entity: &&Value| match filter {
        None => true,
        Some((name, value)) => {
            let is = &entity[name.trim()];
            literal(value.trim()).is_some_and(|l| text_of(is) == l)
        }
    };
    let all: Vec<&Value> = all.iter().filter(fits).collect();
    let from = asked.number("$skiptoken").unwrap_or(0) + asked.number("$skip").unwrap_or(0);
    let top = asked.number("$top").unwrap_or(usize::MAX);
    let some = all.iter().skip(from).take(top.min(PAGE));
    let select: Option<Vec<&str>> = asked.option("$select").map(|s| s.split(',').collect());
    let some: Vec<Value> = some
        .map(|entity| match (&select, entity.as_object()) {
            (Some(names), Some(members)) => {
                let kept = members.iter().filter(|(n, _)| names.contains(&n.as_str()));
                kept.map(|(n, v)| (n.clone(), v.clone())).collect()
            }
            _ => (*entity).clone(),
        })
        .collect();
    let mut page = json!({});
    if asked.option("$count") == Some("true") {
        page["@odata.count"] = json!(all.len());
    }
    let next = from + some.len();
    if next < all.len() && top > PAGE {
        page["@odata.nextLink"] = json!(format!("{root}/{path}?$skiptoken={next}"));
    }
    page["value"] = json!(some);
    Json(page).into_response()
}

/// An error as OData has it (JSON Format 4.01 §21).
pub(super) fn refused(status: StatusCode, why: &str) -> Response {
    let code = status.as_u16().to_string();
    (
        status,
        Json(json!({ "error": { "code": code, "message": why } })),
    )
        .into_response()
}
