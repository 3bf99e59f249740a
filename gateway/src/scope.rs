//! What expressions can name while an exchange runs.

use std::borrow::Cow;
use std::net::IpAddr;

use http::HeaderMap;
use porch_contract::{ParamType, Place};
use porch_facade::{CompiledOperation, ParamPlan, Wiring, percent_decode};
use porch_rules::expr::{Scope, Val};
use serde_json::{Value, json};

/// The values of one exchange.
pub(crate) struct Values<'a> {
    pub(crate) operation: &'a CompiledOperation,
    /// Values of the path variables, decoded and typed.
    pub(crate) path: Vec<Value>,
    /// Values of the declared query parameters that were sent.
    pub(crate) query: Vec<(&'a str, Value)>,
    pub(crate) headers: &'a HeaderMap,
    pub(crate) body: Option<Value>,
    pub(crate) consumer: &'a str,
    pub(crate) key: &'a str,
    pub(crate) address: IpAddr,
    pub(crate) answer: Option<AnswerView>,
}

/// A backend's answer as expressions see it.
pub(crate) struct AnswerView {
    pub(crate) value: Value,
}

impl AnswerView {
    pub(crate) fn new(
        status: u16,
        headers: &HeaderMap,
        body: Value,
        soap_headers: Option<Value>,
    ) -> Self {
        let headers: serde_json::Map<String, Value> = headers
            .iter()
            .map(|(k, v)| {
                (
                    k.to_string(),
                    Value::String(String::from_utf8_lossy(v.as_bytes()).into_owned()),
                )
            })
            .collect();
        let mut value = json!({ "status": status, "header": headers, "body": body });
        if let Some(soap_headers) = soap_headers {
            value["soapHeader"] = soap_headers;
        }
        Self { value }
    }
}

/// An answer without the request it belongs to: what shapes the messages of a stream.
pub(crate) struct AnswerOnly(Value);

impl AnswerOnly {
    pub(crate) fn new(body: Value) -> Self {
        Self(json!({ "status": 200, "header": {}, "body": body }))
    }
}

impl Scope for AnswerOnly {
    fn open_xml(&self, text: &str) -> Result<Value, String> {
        porch_soap::generic::to_json(text, &porch_soap::generic::Mapping::default())
            .map_err(|e| format!("is no well-formed XML: {e}"))
    }

    fn member<'s>(&'s self, root: usize, name: &str) -> Option<Val<'s>> {
        if root == ANSWER {
            self.0.get(name).map(Val::of)
        } else {
            None
        }
    }

    fn whole(&self, root: usize) -> Val<'_> {
        if root == ANSWER {
            Val::of(&self.0)
        } else {
            Val::Absent
        }
    }
}

/// Number of the root `answer`.
const ANSWER: usize = 5;

impl Scope for Values<'_> {
    fn open_xml(&self, text: &str) -> Result<Value, String> {
        porch_soap::generic::to_json(text, &porch_soap::generic::Mapping::default())
            .map_err(|e| format!("is no well-formed XML: {e}"))
    }

    fn member<'s>(&'s self, root: usize, name: &str) -> Option<Val<'s>> {
        match root {
            0 => self
                .operation
                .variables
                .iter()
                .position(|v| v == name)
                .and_then(|i| self.path.get(i))
                .map(Val::of),
            1 => self
                .query
                .iter()
                .find(|(n, _)| *n == name)
                .map(|(_, v)| Val::of(v)),
            2 => self
                .headers
                .get(name)
                .map(|v| Val::Str(String::from_utf8_lossy(v.as_bytes()))),
            3 => self.body.as_ref().and_then(|b| b.get(name)).map(Val::of),
            4 => match name {
                "consumer" => Some(Val::Str(Cow::Borrowed(self.consumer))),
                "key" => Some(Val::Str(Cow::Borrowed(self.key))),
                "address" => Some(Val::Str(Cow::Owned(self.address.to_string()))),
                _ => None,
            },
            _ => self
                .answer
                .as_ref()
                .and_then(|a| a.value.get(name))
                .map(Val::of),
        }
    }

    fn whole(&self, root: usize) -> Val<'_> {
        match root {
            0 => Val::Map(
                self.operation
                    .variables
                    .iter()
                    .cloned()
                    .zip(self.path.iter().map(Val::of))
                    .collect(),
            ),
            1 => Val::Map(
                self.query
                    .iter()
                    .map(|(n, v)| ((*n).to_owned(), Val::of(v)))
                    .collect(),
            ),
            2 => Val::Map(
                self.headers
                    .iter()
                    .map(|(k, v)| {
                        (
                            k.to_string(),
                            Val::Str(String::from_utf8_lossy(v.as_bytes())),
                        )
                    })
                    .collect(),
            ),
            3 => self.body.as_ref().map_or(Val::Absent, Val::of),
            4 => Val::Map(
                ["consumer", "key", "address"]
                    .iter()
                    .filter_map(|n| Some(((*n).to_owned(), self.member(4, n)?)))
                    .collect(),
            ),
            _ => self
                .answer
                .as_ref()
                .map_or(Val::Absent, |a| Val::of(&a.value)),
        }
    }
}

/// Values of the path variables, and of the query parameters that were sent.
pub(crate) type Parameters<'a> = (Vec<Value>, Vec<(&'a str, Value)>);

/// The text of a path variable. One that takes several segments keeps the slashes that came encoded, so that they can be
/// told from those between its segments (`google/api/http.proto`, on multi-segment variables).
fn decoded<'t>(operation: &CompiledOperation, name: &str, raw: &'t str) -> Option<Cow<'t, str>> {
    let several = raw.contains("%2F") && operation.several.iter().any(|s| s == name);
    if !several {
        return percent_decode(raw, false);
    }
    let parts: Option<Vec<Cow<'_, str>>> = raw
        .split("%2F")
        .map(|part| percent_decode(part, false))
        .collect();
    parts.map(|p| Cow::Owned(p.join("%2F")))
}

/// One thing in a request that the contract rules out.
pub(crate) type Mistake = (String, String);

/// Reads the parameters of a request; every one that does not fit is a mistake.
pub(crate) fn parameters<'a>(
    operation: &'a CompiledOperation,
    captured: &[&str],
    query: Option<&str>,
    headers: &HeaderMap,
) -> Result<Parameters<'a>, Vec<Mistake>> {
    let mut mistakes = Vec::new();
    let mut path = Vec::with_capacity(captured.len());
    for (name, raw) in operation.variables.iter().zip(captured) {
        let plan = operation
            .parameters
            .iter()
            .find(|p| p.place == Place::Path && p.name == *name);
        match decoded(operation, name, raw) {
            Some(text) => match plan.map_or_else(
                || Ok(Value::String(text.clone().into_owned())),
                |p| typed(p, &text),
            ) {
                Ok(value) => path.push(value),
                Err(message) => mistakes.push((format!("/path/{name}"), message)),
            },
            None => mistakes.push((
                format!("/path/{name}"),
                "is not UTF-8 when percent-decoded".into(),
            )),
        }
    }
    // A trailing variable of several segments may have taken none.
    path.extend(
        operation
            .variables
            .iter()
            .skip(captured.len())
            .map(|_| Value::String(String::new())),
    );
    // Query parameters that are fields of a gRPC message are read by its types.
    let fields = match &operation.wiring {
        Wiring::Grpc(wiring) => Some(&wiring.used_query),
        _ => None,
    };
    let mut seen: Vec<&str> = Vec::new();
    let mut found: Vec<(&str, Value)> = Vec::new();
    for pair in query
        .unwrap_or_default()
        .split('&')
        .filter(|p| !p.is_empty())
    {
        let (raw_name, raw) = pair.split_once('=').unwrap_or((pair, ""));
        let name = percent_decode(raw_name, true);
        let Some(plan) = operation
            .parameters
            .iter()
            .find(|p| p.place == Place::Query && name.as_deref() == Some(&p.name))
        else {
            continue;
        };
        seen.push(&plan.name);
        if fields.is_some_and(|used| !used.contains(&plan.name)) {
            continue;
        }
        if found.iter().any(|(n, _)| *n == plan.name) {
            mistakes.push((format!("/query/{}", plan.name), "stands twice".into()));
            continue;
        }
        match percent_decode(raw, true)
            .ok_or_else(|| "is not UTF-8 when percent-decoded".to_owned())
            .and_then(|text| typed(plan, &text))
        {
            Ok(value) => found.push((&plan.name, value)),
            Err(message) => mistakes.push((format!("/query/{}", plan.name), message)),
        }
    }
    for plan in operation.parameters.iter().filter(|p| p.required) {
        let missing = match plan.place {
            Place::Query => !seen.contains(&plan.name.as_str()),
            Place::Header => !headers.contains_key(&plan.name),
            Place::Path => false,
        };
        if missing {
            let place = if plan.place == Place::Query {
                "query"
            } else {
                "header"
            };
            mistakes.push((format!("/{place}/{}", plan.name), "must be there".into()));
        }
    }
    if mistakes.is_empty() {
        Ok((path, found))
    } else {
        Err(mistakes)
    }
}

fn typed(plan: &ParamPlan, text: &str) -> Result<Value, String> {
    if !plan.enumeration.is_empty() && !plan.enumeration.iter().any(|e| e == text) {
        let near = porch_contract::suggest(text, plan.enumeration.iter().map(String::as_str))
            .map_or_else(String::new, |n| format!("; did you mean “{n}”?"));
        return Err(format!("is none of {}{near}", plan.enumeration.join(", ")));
    }
    match plan.kind {
        ParamType::Text => Ok(Value::String(text.to_owned())),
        ParamType::Boolean => match text {
            "true" => Ok(Value::Bool(true)),
            "false" => Ok(Value::Bool(false)),
            _ => Err("must be true or false".into()),
        },
        ParamType::Integer | ParamType::Number => {
            let what = if plan.kind == ParamType::Integer {
                "a whole number"
            } else {
                "a number"
            };
            let whole = plan.kind == ParamType::Number || !text.contains(['.', 'e', 'E']);
            match text.parse::<serde_json::Number>() {
                Ok(number) if whole => Ok(Value::Number(number)),
                _ => Err(format!("must be {what}")),
            }
        }
    }
}
