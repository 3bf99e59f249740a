//! What expressions can name while an exchange runs.

mod answers;
mod shaped;

use std::borrow::Cow;
use std::cell::OnceCell;
use std::net::IpAddr;

use self::answers::Named;
pub(crate) use self::answers::{AnswerView, Within};
use crate::caller::Caller;
use crate::failure::Mistake;
use http::{HeaderMap, header};
use porch_contract::{ParamType, Place};
use porch_facade::{CompiledOperation, OF_CALLER, ParamPlan, REQUEST_ROOTS, percent_decode};
use porch_rules::expr::{NoXml, Scope as Names, Val};
use porch_valid::Validator;
use serde_json::{Value, json};

/// The values of one exchange.
pub(crate) struct Scope<'a> {
    pub(crate) operation: &'a CompiledOperation,
    /// Values of the path variables, decoded and typed.
    pub(crate) path: Vec<Value>,
    /// Values of the declared query parameters that were sent.
    pub(crate) query: Vec<(&'a str, Value)>,
    pub(crate) headers: &'a HeaderMap,
    pub(crate) body: Option<Value>,
    pub(crate) caller: &'a Caller,
    pub(crate) address: IpAddr,
    /// Answers by the numbers of their steps, as far as they are there.
    pub(crate) answers: Vec<OnceCell<AnswerView>>,
    /// What is seen besides by a call that is made for an item, and by what is made of an answer.
    pub(crate) within: Option<&'a Within<'a>>,
}

/// An answer without the request it belongs to: what shapes the messages of a stream.
pub(crate) struct AnswerOnly(Value);

impl AnswerOnly {
    pub(crate) fn new(body: Value) -> Self {
        Self(json!({ "status": 200, "header": {}, "body": body }))
    }
}

impl Names for AnswerOnly {
    fn open_xml(&self, text: &str) -> Result<Value, NoXml> {
        open_xml(text)
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

/// The value of an XML document, in the generic mapping.
fn open_xml(text: &str) -> Result<Value, NoXml> {
    porch_soap::generic::to_json(text, &porch_soap::generic::Mapping::default())
        .map_err(|e| NoXml(format!("is no well-formed XML: {e}")))
}

/// Number of the first root that is an answer.
const ANSWER: usize = REQUEST_ROOTS.len();
/// Number of the root that cookies are named by.
const COOKIE: usize = 5;
/// Number of the root that what was agreed to is named by.
const TERMS: usize = 7;
/// The same for the claims of a token.
const CLAIMED: usize = 8;

impl Scope<'_> {
    fn answer(&self, root: usize) -> Option<Named<'_>> {
        let step = root.checked_sub(ANSWER)?;
        match &self.within {
            None => self.answers.get(step)?.get().map(Named::Answer),
            Some(within) => within.value(root, step),
        }
    }
}

impl Names for Scope<'_> {
    fn open_xml(&self, text: &str) -> Result<Value, NoXml> {
        open_xml(text)
    }

    fn member<'s>(&'s self, root: usize, name: &str) -> Option<Val<'s>> {
        if let (Some(within), true) = (&self.within, root < ANSWER) {
            return within.around.member(root, name);
        }
        match root {
            0 => self
                .operation
                .route
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
                "consumer" => Some(Val::Str(Cow::Borrowed(self.caller.consumer_name()))),
                "key" => Some(Val::Str(Cow::Borrowed(self.caller.shown()))),
                "address" => Some(Val::Str(Cow::Owned(self.address.to_string()))),
                "account" => Some(Val::Str(Cow::Borrowed(self.caller.account()))),
                "agreement" => {
                    let offer = self.caller.agreement().map_or("", |a| &a.offer);
                    Some(Val::Str(Cow::Borrowed(offer)))
                }
                "roles" => {
                    let roles = self.caller.roles();
                    let roles = roles.map(|r| Val::Str(Cow::Borrowed(r)));
                    Some(Val::List(roles.collect()))
                }
                _ => None,
            },
            TERMS => self.caller.agreement()?.terms.get(name).map(Val::of),
            CLAIMED => self.caller.says()?.claims.get(name).map(Val::of),
            COOKIE => cookie(self.headers, name).map(|v| Val::Str(Cow::Borrowed(v))),
            _ => self.answer(root)?.member(name),
        }
    }

    fn whole(&self, root: usize) -> Val<'_> {
        if let (Some(within), true) = (&self.within, root < ANSWER) {
            return within.around.whole(root);
        }
        match root {
            0 => Val::Map(
                self.operation
                    .route
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
                OF_CALLER
                    .iter()
                    .filter_map(|n| Some(((*n).to_owned(), self.member(4, n)?)))
                    .collect(),
            ),
            COOKIE => Val::Map(
                cookies(self.headers)
                    .map(|(name, value)| (name.to_owned(), Val::Str(Cow::Borrowed(value))))
                    .collect(),
            ),
            CLAIMED => (self.caller.says()).map_or(Val::Absent, |s| Val::of(&s.claims)),
            TERMS => (self.caller.agreement()).map_or(Val::Absent, |a| Val::of(&a.terms)),
            _ => self.answer(root).map_or(Val::Absent, Named::whole),
        }
    }
}

/// The first cookie of a name (RFC 6265 §5.4: those of the longest path stand first).
fn cookie<'h>(headers: &'h HeaderMap, name: &str) -> Option<&'h str> {
    cookies(headers).find(|(n, _)| *n == name).map(|(_, v)| v)
}

/// Cookies with their values (RFC 6265 §4.2.1); a quoted value is what stands between its quotes.
pub(crate) fn cookies(headers: &HeaderMap) -> impl Iterator<Item = (&str, &str)> {
    let fields = headers.get_all(header::COOKIE).into_iter();
    let pairs = fields
        .filter_map(|f| f.to_str().ok())
        .flat_map(|f| f.split(';'));
    pairs.map(|pair| {
        let (name, value) = pair.trim().split_once('=').unwrap_or((pair.trim(), ""));
        let quoted = value.strip_prefix('"').and_then(|v| v.strip_suffix('"'));
        (name, quoted.unwrap_or(value))
    })
}

/// Values of the path variables, and of the query parameters that were sent.
pub(crate) type Parameters<'a> = (Vec<Value>, Vec<(&'a str, Value)>);

/// The text of a path variable. One that takes several segments keeps the slashes that came encoded, so that they can be
/// told from those between its segments (`google/api/http.proto`, on multi-segment variables).
fn decoded<'t>(operation: &CompiledOperation, name: &str, raw: &'t str) -> Option<Cow<'t, str>> {
    let several = raw.contains("%2F") && operation.route.several.iter().any(|s| s == name);
    if !several {
        return percent_decode(raw, false);
    }
    let parts: Option<Vec<Cow<'_, str>>> = raw
        .split("%2F")
        .map(|part| percent_decode(part, false))
        .collect();
    parts.map(|p| Cow::Owned(p.join("%2F")))
}

/// Why a parameter's text is none of its type.
#[derive(Debug, thiserror::Error)]
enum Untyped {
    #[error("is not UTF-8 when percent-decoded")]
    NotUtf8,
    #[error("is none of {0}{1}")]
    NotListed(String, String),
    #[error("must be {0}")]
    Kind(&'static str),
}

/// Reads the parameters of a request; every one that does not fit is a mistake.
pub(crate) fn parameters<'a>(
    operation: &'a CompiledOperation,
    captured: &[&str],
    query: Option<&str>,
    headers: &HeaderMap,
) -> Result<Parameters<'a>, Vec<Mistake>> {
    let mut mistakes = Vec::new();
    let path = path_values(operation, captured, &mut mistakes);
    let (found, seen) = query_values(operation, query.unwrap_or_default(), &mut mistakes);
    for plan in &operation.admission.parameters {
        let (place, missing) = match plan.place {
            Place::Query => ("query", !seen.contains(&&*plan.name)),
            Place::Header => {
                header_value(plan, headers, &mut mistakes);
                ("header", !headers.contains_key(&*plan.name))
            }
            Place::Path => continue,
        };
        if plan.required && missing {
            mistakes.push((format!("/{place}/{}", plan.name), "must be there".into()));
        }
    }
    if !operation.admission.shaped.is_empty() {
        let query = query.unwrap_or_default();
        shaped::look(operation, captured, query, headers, &mut mistakes);
    }
    if mistakes.is_empty() {
        Ok((path, found))
    } else {
        Err(mistakes)
    }
}

fn path_values(
    operation: &CompiledOperation,
    captured: &[&str],
    mistakes: &mut Vec<Mistake>,
) -> Vec<Value> {
    let variables = &operation.route.variables;
    let mut path = Vec::with_capacity(variables.len());
    for (name, raw) in variables.iter().zip(captured) {
        let mut plans = operation.admission.parameters.iter();
        let plan = plans.find(|p| p.place == Place::Path && *p.name == **name);
        let value = match (decoded(operation, name, raw), plan) {
            (None, _) => Err(Untyped::NotUtf8),
            (Some(text), None) => Ok(Value::String(text.into_owned())),
            (Some(text), Some(plan)) => typed(plan, &text),
        };
        match value {
            Ok(value) => {
                if let Some(schema) = plan.and_then(|p| p.schema.as_ref()) {
                    misfits(schema, &value, &format!("/path/{name}"), mistakes);
                }
                path.push(value);
            }
            Err(untyped) => mistakes.push((format!("/path/{name}"), untyped.to_string())),
        }
    }
    // A trailing variable of several segments may have taken none.
    let none = variables.iter().skip(captured.len());
    path.extend(none.map(|_| Value::String(String::new())));
    path
}

/// Whether a declared header field, if it was sent, has the type that it is declared with; lists have commas between their values
/// (OpenAPI 3.1 §4.8.12.2, style `simple`). Expressions see its text.
fn header_value(plan: &ParamPlan, headers: &HeaderMap, mistakes: &mut Vec<Mistake>) {
    let mut fields = headers.get_all(&*plan.name).iter();
    let Some(first) = fields.next() else { return };
    let text = String::from_utf8_lossy(first.as_bytes());
    let told = match plan.many {
        false if fields.next().is_some() => Some("stands twice".to_owned()),
        false => typed(plan, text.trim()).err().map(|e| e.to_string()),
        true => headers.get_all(&*plan.name).iter().find_map(|field| {
            let text = String::from_utf8_lossy(field.as_bytes());
            let mut values = text.split(',').map(str::trim);
            values.find_map(|value| typed(plan, value).err().map(|e| e.to_string()))
        }),
    };
    let place = || format!("/header/{}", plan.name);
    match (told, &plan.schema) {
        (Some(told), _) => mistakes.push((place(), told)),
        (None, Some(schema)) if !plan.many => {
            if let Ok(value) = typed(plan, text.trim()) {
                misfits(schema, &value, &place(), mistakes);
            }
        }
        _ => {}
    }
}

/// The values that were sent of declared parameters, and the names of all of those that were.
fn query_values<'a>(
    operation: &'a CompiledOperation,
    query: &str,
    mistakes: &mut Vec<Mistake>,
) -> (Vec<(&'a str, Value)>, Vec<&'a str>) {
    let (mut found, mut seen): (Vec<(&str, Value)>, Vec<&str>) = (Vec::new(), Vec::new());
    for pair in query.split('&').filter(|p| !p.is_empty()) {
        let (raw_name, raw) = pair.split_once('=').unwrap_or((pair, ""));
        let name = percent_decode(raw_name, true);
        let mut plans = operation.admission.parameters.iter();
        let plan = plans.find(|p| p.place == Place::Query && is_named(p, name.as_deref()));
        let Some(plan) = plan else {
            if operation.admission.only_known_query {
                unknown(operation, raw_name, name.as_deref(), mistakes);
            }
            continue;
        };
        seen.push(&plan.name);
        if plan.of_call {
            continue;
        }
        if let (Some(between), true) = (plan.between, plan.many) {
            match list(plan, between, raw) {
                Ok(value) => put_list(&mut found, plan, value),
                Err(untyped) => {
                    mistakes.push((format!("/query/{}", plan.name), untyped.to_string()));
                }
            }
            continue;
        }
        let before = found.iter_mut().find(|(n, _)| *n == &*plan.name);
        if raw.is_empty() && plan.may_be_empty {
            continue;
        }
        let text = percent_decode(raw, true).ok_or(Untyped::NotUtf8);
        let value = match text.and_then(|text| typed(plan, &text)) {
            Ok(value) => value,
            Err(untyped) => {
                mistakes.push((format!("/query/{}", plan.name), untyped.to_string()));
                continue;
            }
        };
        match (before, plan.many) {
            (Some((_, Value::Array(list))), true) => list.push(value),
            (Some(_), _) => {
                mistakes.push((format!("/query/{}", plan.name), "stands twice".into()));
            }
            (None, true) => found.push((&plan.name, Value::Array(vec![value]))),
            (None, false) => found.push((&plan.name, value)),
        }
    }
    let looked_at = if operation.admission.query_schemas {
        found.as_slice()
    } else {
        &[]
    };
    for (name, value) in looked_at {
        let mut plans = operation.admission.parameters.iter();
        let plan = plans.find(|p| p.place == Place::Query && *p.name == **name);
        if let Some(schema) = plan.and_then(|p| p.schema.as_ref()) {
            misfits(schema, value, &format!("/query/{name}"), mistakes);
        }
    }
    (found, seen)
}

/// What else a parameter's schema says of its value.
#[cold]
fn misfits(schema: &Validator, value: &Value, place: &str, mistakes: &mut Vec<Mistake>) {
    let misfits = schema.misfits(value).into_iter();
    mistakes.extend(misfits.map(|m| (format!("{place}{}", m.pointer), m.told)));
}

/// Whether a name of the query is a member of an object that has names of its own.
#[cold]
fn is_member(operation: &CompiledOperation, name: Option<&str>) -> bool {
    let all = operation.admission.shaped.iter().filter(|p| p.is_deep());
    let begins = |of: &str| name.and_then(|n| n.strip_prefix(of)?.strip_prefix('['));
    all.into_iter().any(|p| begins(&p.name).is_some())
}

/// A query parameter that the contract has not.
#[cold]
fn unknown(
    operation: &CompiledOperation,
    raw: &str,
    name: Option<&str>,
    mistakes: &mut Vec<Mistake>,
) {
    const TOLD: usize = 100;
    const SHOWN: usize = 60;
    if mistakes.len() >= TOLD || is_member(operation, name) {
        return;
    }
    let name: String = name.unwrap_or(raw).chars().take(SHOWN).collect();
    let known = operation.admission.parameters.iter();
    let known = known.filter(|p| p.place == Place::Query).map(|p| &*p.name);
    let near = porch_contract::suggest(&name, known);
    let near = near.map_or_else(String::new, |n| format!("; did you mean “{n}”?"));
    mistakes.push((format!("/query/{name}"), format!("is not known here{near}")));
}

/// The values of a list that stands once (OpenAPI 3.1 §4.8.12.2).
fn list(plan: &ParamPlan, between: char, raw: &str) -> Result<Value, Untyped> {
    let written = match between {
        ' ' => raw.replace('+', "%20").replace("%20", " "),
        '|' => raw.replace("%7C", "|").replace("%7c", "|"),
        _ => raw.to_owned(),
    };
    let values = written.split(between).filter(|_| !written.is_empty());
    let values = values.map(|value| {
        let text = percent_decode(value, true).ok_or(Untyped::NotUtf8)?;
        typed(plan, &text)
    });
    values.collect::<Result<Vec<_>, _>>().map(Value::Array)
}

fn put_list<'a>(found: &mut Vec<(&'a str, Value)>, plan: &'a ParamPlan, value: Value) {
    match (found.iter_mut().find(|(n, _)| *n == &*plan.name), value) {
        (Some((_, Value::Array(before))), Value::Array(more)) => before.extend(more),
        (_, value) => found.push((&plan.name, value)),
    }
}

/// Whether a parameter has this name, in one of its spellings.
fn is_named(plan: &ParamPlan, name: Option<&str>) -> bool {
    name == Some(&*plan.name) || (plan.other.is_some() && name == plan.other.as_deref())
}

fn typed(plan: &ParamPlan, text: &str) -> Result<Value, Untyped> {
    if !plan.enumeration.is_empty() && !plan.enumeration.iter().any(|e| e == text) {
        let near = porch_contract::suggest(text, plan.enumeration.iter().map(String::as_str))
            .map_or_else(String::new, |n| format!("; did you mean “{n}”?"));
        return Err(Untyped::NotListed(plan.enumeration.join(", "), near));
    }
    plain(plan.kind, text)
}

/// A text as a value of a type.
fn plain(kind: ParamType, text: &str) -> Result<Value, Untyped> {
    match kind {
        ParamType::Text => Ok(Value::String(text.to_owned())),
        ParamType::Boolean => match text {
            "true" => Ok(Value::Bool(true)),
            "false" => Ok(Value::Bool(false)),
            _ => Err(Untyped::Kind("true or false")),
        },
        ParamType::Integer | ParamType::Number => {
            let what = if kind == ParamType::Integer {
                "a whole number"
            } else {
                "a number"
            };
            let whole = kind == ParamType::Number || !text.contains(['.', 'e', 'E']);
            match text.parse::<serde_json::Number>() {
                Ok(number) if whole => Ok(Value::Number(number)),
                _ => Err(Untyped::Kind(what)),
            }
        }
    }
}
