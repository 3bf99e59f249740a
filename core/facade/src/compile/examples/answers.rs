//! What a contract says of an operation's answers, and of the requests that they belong to.

use std::collections::HashMap;
use std::sync::Arc;

use http::{HeaderName, HeaderValue, StatusCode};
use porch_contract::{Place, SchemaView, Written};
use serde_json::{Map, Value};

use crate::compiled::Given;

/// Fields that are not an example's to give: they are of the message, or of the porch (RFC 9110 §7.6.1, §8.6).
const NOT_OF_EXAMPLES: [&str; 12] = [
    "content-type",
    "content-length",
    "content-encoding",
    "transfer-encoding",
    "connection",
    "trailer",
    "upgrade",
    "keep-alive",
    "date",
    "traceparent",
    "ratelimit",
    "ratelimit-policy",
];

/// What a reference leads to.
fn deref<'a>(root: &'a Value, value: &'a Value) -> &'a Value {
    SchemaView::new(root, value).value()
}

/// The members of an object; none where there is none.
fn members(value: Option<&Value>) -> impl Iterator<Item = (&String, &Value)> {
    value.and_then(Value::as_object).into_iter().flatten()
}

/// Whether a media type is JSON (RFC 6839 §3.1).
pub(super) fn is_json(media: &str) -> bool {
    let essence = media.split(';').next().unwrap_or_default().trim();
    essence == "application/json" || essence.ends_with("+json")
}

/// The values that requests have for examples, by the names of the examples.
#[derive(Default)]
pub(super) struct Asked(HashMap<String, Vec<Given>>);

impl Asked {
    pub(super) fn of(
        root: &Value,
        written: Written<'_>,
        known: &mut HashMap<*const Value, Arc<Value>>,
    ) -> Self {
        let mut all = Self::default();
        let lists = [written.item, written.operation].map(|o| o.get("parameters"));
        let parameters = lists.into_iter().flatten().filter_map(Value::as_array);
        for parameter in parameters.flatten().map(|p| deref(root, p)) {
            let place = match parameter.get("in").and_then(Value::as_str) {
                Some("path") => Place::Path,
                Some("query") => Place::Query,
                Some("header") => Place::Header,
                _ => continue,
            };
            let name = parameter.get("name").and_then(Value::as_str);
            let name = name.unwrap_or_default().trim_end_matches('*');
            all.add(root, parameter, (Some(place), name), known);
        }
        let body = written.operation.get("requestBody").map(|b| deref(root, b));
        for (media, content) in members(body.and_then(|b| b.get("content"))) {
            if is_json(media) {
                all.add(root, deref(root, content), (None, ""), known);
            }
        }
        all
    }

    fn add(
        &mut self,
        root: &Value,
        of: &Value,
        (place, name): (Option<Place>, &str),
        known: &mut HashMap<*const Value, Arc<Value>>,
    ) {
        for (example, value) in members(of.get("examples")) {
            let Some(value) = deref(root, value).get("value") else {
                continue;
            };
            let all = self.0.entry(example.clone()).or_default();
            // What an operation says of a parameter stands before what its path says.
            all.retain(|g| g.place != place || *g.name != *name);
            all.push(Given {
                place,
                name: name.into(),
                value: known
                    .entry(std::ptr::from_ref(value))
                    .or_insert_with(|| Arc::new(value.clone()))
                    .clone(),
            });
        }
    }

    /// What a request has for the example of a name.
    pub(super) fn of_name(&self, name: &str) -> Vec<Given> {
        self.0.get(name).cloned().unwrap_or_default()
    }
}

/// One example of an answer, or what one can be made of.
pub(super) struct Answer<'a> {
    pub(super) status: StatusCode,
    pub(super) usual: bool,
    pub(super) media: Option<String>,
    pub(super) name: Option<&'a str>,
    pub(super) value: Option<&'a Value>,
    pub(super) schema: Option<&'a Value>,
    pub(super) fields: Arc<[(HeaderName, HeaderValue)]>,
}

impl Answer<'_> {
    pub(super) fn is_json(&self) -> bool {
        self.media.as_deref().is_some_and(is_json)
    }

    /// Its name for people, with a blank behind it.
    pub(super) fn shown(&self) -> String {
        self.name.map_or_else(String::new, |n| format!("“{n}” "))
    }
}

/// The answers of one operation.
pub(super) struct Answers;

/// A response of an operation.
struct Response<'a> {
    status: StatusCode,
    usual: bool,
    value: &'a Value,
}

impl Answers {
    /// The examples that the contract gives, those of the usual answer first.
    pub(super) fn of<'a>(
        root: &'a Value,
        written: Written<'a>,
    ) -> impl Iterator<Item = Answer<'a>> {
        let mut all = responses(root, written);
        all.sort_by_key(|r| !r.usual);
        all.into_iter().flat_map(move |response| {
            let fields = fields(root, response.value);
            let contents = contents(root, &response).into_iter();
            contents.flat_map(move |(media, content)| {
                let named = members(content.get("examples"));
                let named = named.filter_map(move |(name, example)| {
                    let value = deref(root, example).get("value")?;
                    Some((Some(name.as_str()), value))
                });
                let one = content.get("example").map(|value| (None, value));
                let (fields, media) = (fields.clone(), media.to_owned());
                let schema = content.get("schema");
                one.into_iter()
                    .chain(named)
                    .map(move |(name, value)| Answer {
                        status: response.status,
                        usual: response.usual,
                        media: Some(media.clone()),
                        name,
                        value: Some(value),
                        schema,
                        fields: fields.clone(),
                    })
            })
        })
    }

    /// What an example of the usual answer can be made of: one for each media type, or one without a body.
    pub(super) fn to_make<'a>(
        root: &'a Value,
        written: Written<'a>,
    ) -> impl Iterator<Item = Answer<'a>> {
        let usual = responses(root, written).into_iter().find(|r| r.usual);
        let usual = usual.unwrap_or(Response {
            status: StatusCode::NO_CONTENT,
            usual: true,
            value: &Value::Null,
        });
        let fields = fields(root, usual.value);
        let contents = contents(root, &usual);
        let bare = contents.is_empty().then_some((None, None));
        let contents = contents.into_iter();
        let made = contents.map(|(media, c)| (Some(media.to_owned()), c.get("schema")));
        bare.into_iter()
            .chain(made)
            .map(move |(media, schema)| Answer {
                status: usual.status,
                usual: true,
                media,
                name: None,
                value: None,
                schema,
                fields: fields.clone(),
            })
    }
}

/// The schemas of JSON that an operation answers.
pub(super) fn schemas<'a>(root: &'a Value, written: Written<'a>) -> Vec<&'a Value> {
    let all = responses(root, written);
    let contents = all.iter().flat_map(|r| contents(root, r));
    let json = contents.filter(|(media, _)| is_json(media));
    json.filter_map(|(_, c)| c.get("schema")).collect()
}

/// The responses that have a status, with the usual one told: the least success, else the one for all others, else the first.
fn responses<'a>(root: &'a Value, written: Written<'a>) -> Vec<Response<'a>> {
    let described = written.operation.get("responses");
    let all = members(described).filter_map(|(code, value)| {
        let code = code.to_ascii_uppercase();
        let status = code.replace("XX", "00").parse::<u16>().ok()?;
        let status = StatusCode::from_u16(status).ok()?;
        let told = (200..600).contains(&status.as_u16());
        told.then(|| (status, deref(root, value)))
    });
    let mut all: Vec<(StatusCode, &Value)> = all.collect();
    let least = |all: &[(StatusCode, &Value)]| {
        let good = all.iter().enumerate().filter(|(_, r)| r.0.is_success());
        good.min_by_key(|(_, r)| r.0).map(|(i, _)| i)
    };
    let mut usual = least(&all);
    if usual.is_none()
        && let Some(value) = described.and_then(|d| d.get("default"))
    {
        usual = Some(all.len());
        all.push((StatusCode::OK, deref(root, value)));
    }
    let usual = usual.unwrap_or(0);
    let all = all.into_iter().enumerate();
    all.map(|(i, (status, value))| Response {
        status,
        usual: i == usual,
        value,
    })
    .collect()
}

/// The media types of a response, without parameters; what is a range of anything is JSON. A 204 or 304 has none (RFC 9110
/// §15.3.5, §15.4.5).
fn contents<'a>(root: &'a Value, response: &Response<'a>) -> Vec<(&'a str, &'a Value)> {
    if matches!(response.status.as_u16(), 204 | 205 | 304) {
        return Vec::new();
    }
    let all = members(response.value.get("content")).filter_map(|(name, content)| {
        let essence = name.split(';').next().unwrap_or_default().trim();
        let media = match essence {
            "*/*" | "application/*" => "application/json",
            range if range.ends_with("/*") || !range.contains('/') => return None,
            media => media,
        };
        Some((media, deref(root, content)))
    });
    all.collect()
}

/// The header fields that a response has: those with an example, and those that must be there.
fn fields(root: &Value, response: &Value) -> Arc<[(HeaderName, HeaderValue)]> {
    let all = members(response.get("headers")).filter_map(|(name, described)| {
        let name: HeaderName = name.parse().ok()?;
        if NOT_OF_EXAMPLES.contains(&name.as_str()) {
            return None;
        }
        let value = of_field(root, deref(root, described).as_object()?)?;
        let text = match &value {
            Value::String(text) => text.clone(),
            Value::Number(_) | Value::Bool(_) => value.to_string(),
            _ => return None,
        };
        Some((name, HeaderValue::from_str(&text).ok()?))
    });
    all.collect()
}

fn of_field(root: &Value, described: &Map<String, Value>) -> Option<Value> {
    if let Some(value) = described.get("example") {
        return Some(value.clone());
    }
    let first = members(described.get("examples")).next();
    if let Some(value) = first.and_then(|(_, e)| deref(root, e).get("value")) {
        return Some(value.clone());
    }
    let schema = described.get("schema")?;
    let view = SchemaView::new(root, schema);
    let required = described.get("required") == Some(&Value::Bool(true));
    let given = ["example", "examples", "default", "const"];
    let says = given.iter().any(|k| view.value().get(*k).is_some());
    (required || says).then(|| view.sample())
}
