//! The description (OpenAPI 3.1) that follows from exchanges.

mod parts;
mod paths;

use std::collections::BTreeMap;

use indexmap::IndexMap;
use serde_json::{Map, Value, json};

use crate::secrets::{Credential, Known, is_secret};
use crate::segments::{self, Segment};
use crate::shape::{Keeping, MAX_PARTS, MAX_SECRETS, Shape, typed};
use crate::{Exchange, essence};
use parts::{Address, MAX_FIELDS, body_value, example_of, is_usual_answer, is_usual_field};
use paths::{alike, common_prefix, described, named, shown};

/// A whole body is kept as an example when it has at most so many bytes.
const MAX_EXAMPLE: usize = 64 << 10;

/// What was learned of a service.
#[derive(Debug, Default)]
pub struct Learned {
    /// Its description: an OpenAPI 3.1 document, as JSON.
    pub text: String,
    /// The credentials that the samples carried, each once. Nothing of them stands in the description.
    pub credentials: Vec<Known>,
    /// What there is to know, in words.
    pub told: Vec<String>,
}

/// One sample, taken apart.
struct Sample<'e> {
    exchange: &'e Exchange,
    address: Address,
    request: Option<Value>,
    answer: Option<Value>,
}

/// Learns what a service is from exchanges with it. The title is the first host's unless given.
pub fn learn(exchanges: &[Exchange], title: Option<&str>) -> Learned {
    let mut learner = Learner {
        learned: Learned::default(),
        secrets: Vec::new(),
        parts: MAX_PARTS,
    };
    let samples: Vec<Sample<'_>> = exchanges.iter().map(|e| learner.sample(e)).collect();
    learner.describe(&samples, title)
}

struct Learner {
    learned: Learned,
    /// Texts that may not be seen anywhere.
    secrets: Vec<String>,
    parts: usize,
}

/// Shorter texts are no secrets that could be told from other texts.
const SHORTEST: usize = 3;

impl Learner {
    fn sample<'e>(&mut self, exchange: &'e Exchange) -> Sample<'e> {
        let call = &exchange.call;
        self.tell(call.told.iter().cloned());
        let mut address = Address::of(&call.url);
        if address.long || call.fields.len() > MAX_FIELDS {
            self.tell(["a request is so long that only the beginning of its path, query and fields is looked at".to_owned()]);
        }
        let (hidden, shown) = std::mem::take(&mut address.query)
            .into_iter()
            .partition(|(name, _)| is_secret(name));
        address.query = shown;
        for (name, value) in hidden {
            self.hide(spellings(&value));
            self.credential(&address.origin, Credential::Query(name, value));
        }
        let fields = call.fields.iter().take(MAX_FIELDS);
        for (name, value) in fields.filter(|(_, v)| !v.is_empty()) {
            if name.eq_ignore_ascii_case("authorization") {
                self.credential(&address.origin, Credential::of_authorization(value));
                self.secrets.push(value.clone());
                // What stands behind the scheme may be said again alone.
                let rest = value
                    .split_once(' ')
                    .map(|(_, rest)| rest.trim().to_owned());
                self.secrets.extend(rest.filter(|r| r.len() >= SHORTEST));
            } else if is_secret(name) {
                self.credential(
                    &address.origin,
                    Credential::Header(name.clone(), value.clone()),
                );
            }
        }
        let request = call.body.as_deref();
        let request = request.and_then(|b| body_value(&essence(&call.fields), b));
        let answer = exchange.answer.as_ref();
        let answer = answer.and_then(|a| body_value(&essence(&a.fields), &a.body));
        Sample {
            exchange,
            address,
            request,
            answer,
        }
    }

    fn tell(&mut self, all: impl IntoIterator<Item = String>) {
        for told in all {
            if !self.learned.told.contains(&told) {
                self.learned.told.push(told);
            }
        }
    }

    /// Notes texts down that may not be seen anywhere, each once; of too many the number is enough.
    fn hide(&mut self, secrets: Vec<String>) {
        for secret in secrets {
            if self.secrets.len() <= MAX_SECRETS && !self.secrets.contains(&secret) {
                self.secrets.push(secret);
            }
        }
    }

    /// Nothing says how XML is meant to become JSON: that is the publisher's choice.
    fn tell_of_xml(&mut self, samples: &[Sample<'_>]) {
        let answers = samples.iter().filter_map(|s| s.exchange.answer.as_ref());
        let mut kinds = answers.map(|a| essence(&a.fields));
        if kinds.any(|kind| kind.ends_with("xml")) {
            self.tell(["answers are XML and pass as they are; with `media-type: application/xml` in the backend's document callers get JSON".to_owned()]);
        }
    }

    fn credential(&mut self, origin: &str, credential: Credential) {
        let values = credential.values().into_iter();
        let long: Vec<String> = values.flat_map(spellings).collect();
        self.hide(long);
        // What is not kept is not shown either: there are more secrets than are looked for then.
        let known = &mut self.learned.credentials;
        if known.len() >= MAX_CREDENTIALS {
            return;
        }
        let mut same = known.iter();
        let same = same.find(|k| k.origin == origin && k.credential.place() == credential.place());
        match same {
            Some(same) if same.credential == credential => {}
            Some(_) => {
                let place = credential.place();
                self.tell([format!(
                    "{place} is not the same in all samples: the first is taken"
                )]);
            }
            None => known.push(Known {
                origin: origin.to_owned(),
                credential,
            }),
        }
    }

    fn describe(mut self, samples: &[Sample<'_>], title: Option<&str>) -> Learned {
        let main = samples.first().map(|s| s.address.origin.clone());
        let main = main.unwrap_or_default();
        let prefix = common_prefix(samples.iter().filter(|s| s.address.origin == main));
        let mut paths: IndexMap<(String, Vec<Segment>), Vec<usize>> = IndexMap::new();
        for (i, sample) in samples.iter().enumerate() {
            let skipped = if sample.address.origin == main {
                prefix.len()
            } else {
                0
            };
            let segments = segments::template(&sample.address.segments[skipped..]);
            let key = (sample.exchange.call.method.clone(), segments);
            paths.entry(key).or_default().push(i);
        }
        segments::merge(&mut paths, &|a, b| alike(&samples[a], &samples[b]));
        let mut described = Map::new();
        for ((method, segments), of) in &paths {
            let own: Vec<&Sample<'_>> = of.iter().map(|i| &samples[*i]).collect();
            let skipped = if own[0].address.origin == main {
                prefix.len()
            } else {
                0
            };
            let mut operation = self.operation(segments, &own, skipped);
            if own[0].address.origin != main {
                operation["servers"] = json!([{ "url": own[0].address.origin }]);
            }
            let item = described
                .entry(shown(segments))
                .or_insert_with(|| json!({}));
            item[method.to_ascii_lowercase()] = operation;
        }
        self.tell_of_xml(samples);
        if self.parts == 0 {
            self.tell([format!("the samples have more than {MAX_PARTS} values: the types follow from the first of them")]);
        }
        let title = title.map(str::to_owned).or_else(|| named(&main, &paths));
        let title = title.unwrap_or_else(|| "sample".into());
        let mut document = json!({
            "openapi": "3.1.0",
            "info": { "title": title, "version": "1.0.0" },
            "paths": described,
        });
        if !main.is_empty() {
            let below: String = prefix.iter().map(|s| format!("/{s}")).collect();
            document["servers"] = json!([{ "url": format!("{main}{below}") }]);
        }
        self.learned.text = document.to_string();
        self.learned
    }

    fn operation(&mut self, path: &[Segment], samples: &[&Sample<'_>], skipped: usize) -> Value {
        let names: Vec<String> = (1..=samples.len())
            .map(|n| {
                if n == 1 {
                    "sample".into()
                } else {
                    format!("sample-{n}")
                }
            })
            .collect();
        let mut parameters = Vec::new();
        for (at, segment) in path.iter().enumerate() {
            if let Segment::Variable(name) = segment {
                let values = samples.iter().map(|s| s.address.segments.get(at + skipped));
                let values: Vec<Option<&str>> = values.map(|v| v.map(String::as_str)).collect();
                parameters.push(self.parameter(("path", name), true, &names, &values));
            }
        }
        let mut query: Vec<&str> = Vec::new();
        for (name, _) in samples.iter().flat_map(|s| &s.address.query) {
            if !query.contains(&name.as_str()) {
                query.push(name);
            }
        }
        for name in query {
            parameters.push(self.query(name, &names, samples));
        }
        let mut fields: Vec<&str> = Vec::new();
        let all = samples.iter();
        let all = all.flat_map(|s| s.exchange.call.fields.iter().take(MAX_FIELDS));
        for (name, _) in all {
            let known = fields.iter().any(|f| f.eq_ignore_ascii_case(name));
            if !known && !is_usual_field(name) && !is_secret(name) {
                fields.push(name);
            }
        }
        for name in fields {
            let values = samples
                .iter()
                .map(|s| crate::field(&s.exchange.call.fields, name));
            let values: Vec<Option<&str>> = values.collect();
            parameters.push(self.parameter(("header", name), false, &names, &values));
        }
        let mut operation = json!({});
        if !parameters.is_empty() {
            operation["parameters"] = Value::Array(parameters);
        }
        if let Some(body) = self.request_body(&names, samples) {
            operation["requestBody"] = body;
        }
        operation["responses"] = self.responses(&names, samples);
        operation
    }

    fn parameter(
        &mut self,
        (place, name): (&str, &str),
        required: bool,
        names: &[String],
        values: &[Option<&str>],
    ) -> Value {
        let mut shape = Shape::default();
        let mut examples = Map::new();
        for (example, text) in names.iter().zip(values) {
            // What is written `{name}` already has no value.
            let Some(text) = text.filter(|t| !t.starts_with('{')) else {
                continue;
            };
            let value = typed(text);
            let mut keeping = Keeping {
                secrets: &self.secrets,
                parts: &mut self.parts,
            };
            shape.add(&value, &mut keeping);
            if keeping.may_show(text) {
                examples.insert(example.clone(), json!({ "value": value }));
            }
        }
        let mut schema = shape.schema();
        match schema.as_object_mut() {
            Some(s) if s.contains_key("type") => drop(s.shift_remove("examples")),
            _ => schema = json!({ "type": "string" }),
        }
        let mut parameter = json!({ "name": name, "in": place, "schema": schema });
        if required {
            parameter["required"] = json!(true);
        }
        if !examples.is_empty() {
            parameter["examples"] = Value::Object(examples);
        }
        parameter
    }

    /// A query parameter: one that stands several times is a list.
    fn query(&mut self, name: &str, names: &[String], samples: &[&Sample<'_>]) -> Value {
        let of = |s: &&Sample<'_>| -> Vec<String> {
            let all = s.address.query.iter().filter(|(n, _)| n == name);
            all.map(|(_, value)| value.clone()).collect()
        };
        let all: Vec<Vec<String>> = samples.iter().map(of).collect();
        if all.iter().all(|values| values.len() <= 1) {
            let values: Vec<Option<&str>> =
                all.iter().map(|v| v.first().map(String::as_str)).collect();
            return self.parameter(("query", name), false, names, &values);
        }
        let mut shape = Shape::default();
        for text in all.iter().flatten() {
            let mut keeping = Keeping {
                secrets: &self.secrets,
                parts: &mut self.parts,
            };
            shape.add(&typed(text), &mut keeping);
        }
        json!({ "name": name, "in": "query", "schema": { "type": "array", "items": shape.schema() } })
    }

    fn request_body(&mut self, names: &[String], samples: &[&Sample<'_>]) -> Option<Value> {
        let bodies = names.iter().zip(samples).filter_map(|(name, s)| {
            let call = &s.exchange.call;
            Some(Body {
                name,
                kind: essence(&call.fields),
                bytes: call.body.as_deref()?,
                value: s.request.as_ref(),
            })
        });
        let bodies: Vec<Body<'_>> = bodies.collect();
        if bodies.is_empty() {
            return None;
        }
        let content = self.content(&bodies);
        let required = bodies.len() == samples.len();
        Some(json!({ "required": required, "content": content }))
    }

    fn responses(&mut self, names: &[String], samples: &[&Sample<'_>]) -> Value {
        let mut by_status: BTreeMap<u16, Vec<(&String, &Sample<'_>)>> = BTreeMap::new();
        for (name, sample) in names.iter().zip(samples) {
            if let Some(answer) = &sample.exchange.answer {
                let all = by_status.entry(answer.status).or_default();
                all.push((name, sample));
            }
        }
        let mut responses = Map::new();
        for (status, answers) in by_status {
            let mut response = json!({ "description": described(status) });
            let headers = self.headers(answers.iter().map(|(_, s)| *s));
            if !headers.is_empty() {
                response["headers"] = Value::Object(headers);
            }
            let bodies = answers.iter().filter_map(|(name, s)| {
                let answer = s.exchange.answer.as_ref()?;
                (!answer.body.is_empty()).then(|| Body {
                    name,
                    kind: essence(&answer.fields),
                    bytes: &answer.body,
                    value: s.answer.as_ref(),
                })
            });
            let bodies: Vec<Body<'_>> = bodies.collect();
            if !bodies.is_empty() {
                response["content"] = self.content(&bodies);
            }
            responses.insert(status.to_string(), response);
        }
        if responses.is_empty() {
            responses.insert("200".into(), json!({ "description": described(200) }));
        }
        Value::Object(responses)
    }

    /// The header fields of answers that say something of the service (OpenAPI 3.1 §4.8.21).
    fn headers<'s>(&mut self, samples: impl Iterator<Item = &'s Sample<'s>>) -> Map<String, Value> {
        let mut headers = Map::new();
        let answers = samples.filter_map(|s| s.exchange.answer.as_ref());
        for (name, value) in answers.flat_map(|a| &a.fields) {
            let known = headers
                .keys()
                .any(|n: &String| n.eq_ignore_ascii_case(name));
            if known || is_usual_answer(name) || is_secret(name) || headers.len() >= MAX_HEADERS {
                continue;
            }
            let (mut shape, value) = (Shape::default(), typed(value));
            let mut keeping = Keeping {
                secrets: &self.secrets,
                parts: &mut self.parts,
            };
            shape.add(&value, &mut keeping);
            headers.insert(name.clone(), json!({ "schema": shape.schema() }));
        }
        headers
    }

    /// Bodies by their media types, each with its schema and examples (OpenAPI 3.1 §4.8.14).
    fn content(&mut self, bodies: &[Body<'_>]) -> Value {
        let mut kinds: IndexMap<&str, Vec<&Body<'_>>> = IndexMap::new();
        for body in bodies {
            let kind = match body.kind.as_str() {
                "" => "application/octet-stream",
                kind => kind,
            };
            kinds.entry(kind).or_default().push(body);
        }
        let content = kinds.into_iter();
        let content: Map<String, Value> = content
            .map(|(kind, of)| (kind.to_owned(), self.media(kind, &of)))
            .collect();
        Value::Object(content)
    }

    fn media(&mut self, kind: &str, bodies: &[&Body<'_>]) -> Value {
        let (mut shape, mut examples) = (Shape::default(), Map::new());
        for body in bodies {
            let name = body.name;
            if let Some(value) = body.value {
                let mut keeping = Keeping {
                    secrets: &self.secrets,
                    parts: &mut self.parts,
                };
                shape.add(value, &mut keeping);
            }
            let length = body.bytes.len();
            if length > MAX_EXAMPLE {
                self.tell([format!(
                    "{name}: a body of {length} bytes is too long to be kept as an example"
                )]);
                continue;
            }
            match example_of(kind, body.bytes, body.value, &self.secrets) {
                Ok(Some(example)) => {
                    examples.insert(name.to_owned(), json!({ "value": example }));
                }
                Ok(None) => {}
                Err(why) => {
                    self.tell([format!(
                        "{name}: {why}, so that no example of {kind} is kept"
                    )]);
                }
            }
        }
        let mut media = json!({});
        let schema = shape.schema();
        if schema.as_object().is_some_and(|s| !s.is_empty()) {
            media["schema"] = schema;
        } else if kind.starts_with("text/") {
            media["schema"] = json!({ "type": "string" });
        }
        if !examples.is_empty() {
            media["examples"] = Value::Object(examples);
        }
        media
    }
}

/// A secret as it is, and as a query has it.
fn spellings(secret: &str) -> Vec<String> {
    if secret.len() < SHORTEST {
        return Vec::new();
    }
    let encoded = crate::command::encoded(secret);
    let plus = encoded.replace("%20", "+");
    vec![secret.to_owned(), encoded.to_lowercase(), plus, encoded]
}

/// So many credentials are kept.
const MAX_CREDENTIALS: usize = 50;

/// A body of a sample.
struct Body<'b> {
    /// The name of its sample.
    name: &'b str,
    kind: String,
    bytes: &'b [u8],
    value: Option<&'b Value>,
}

/// So many header fields of answers are described.
const MAX_HEADERS: usize = 50;
