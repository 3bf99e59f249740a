//! OpenAPI 2.0: its operations, parameters, bodies and responses as later versions have them.

use std::collections::HashSet;

use porch_contract::{Node, NodeKind, Position};
use serde_json::Value;

use crate::Version;
use crate::build::{Entries, is_true, list, map, put, scalar, text};
use crate::shape::Shape;
use crate::sources::reference;
use crate::walk::Walk;

/// Members of a parameter or header that later stand in its schema (2.0, Parameter Object).
const OF_SCHEMA: [&str; 19] = [
    "type",
    "format",
    "items",
    "default",
    "maximum",
    "exclusiveMaximum",
    "minimum",
    "exclusiveMinimum",
    "maxLength",
    "minLength",
    "pattern",
    "maxItems",
    "minItems",
    "uniqueItems",
    "enum",
    "multipleOf",
    "x-nullable",
    "schema",
    "$ref",
];

/// A header that came by a reference; `None`: it stays as it is.
pub(crate) fn object(walk: &Walk<'_>, shape: &Shape, node: &Node) -> Option<Node> {
    let older = walk.version == Version::Two && shape.what == "header";
    (older && node.get("schema").is_none()).then(|| with_schema(node))
}

/// A parameter or header with its type in a schema of its own, and its lists written as a style says.
fn with_schema(node: &Node) -> Node {
    let (mut own, mut schema): (Entries, Entries) = (Vec::new(), Vec::new());
    for (name, at, value) in node.entries() {
        let into = match name.as_str() {
            "collectionFormat" => continue,
            name if OF_SCHEMA.contains(&name) => &mut schema,
            _ => &mut own,
        };
        into.push((name.clone(), *at, value.clone()));
    }
    let mut made = map(node.at, own);
    put(&mut made, "schema", map(node.at, schema));
    let place = node.get("in").and_then(Node::text).unwrap_or("header");
    let is_list = node.get("type").and_then(Node::text) == Some("array");
    let format = node.get("collectionFormat").and_then(Node::text);
    if is_list && place == "query" {
        let (style, explode) = match format.unwrap_or("csv") {
            "multi" => ("form", true),
            "ssv" => ("spaceDelimited", false),
            "pipes" => ("pipeDelimited", false),
            _ => ("form", false),
        };
        put(&mut made, "style", text(node.at, style));
        put(&mut made, "explode", scalar(node.at, Value::Bool(explode)));
    }
    made
}

/// An operation as 3.0 has it, those of its path's parameters among its own.
pub(crate) fn operation(walk: &mut Walk<'_>, item: &Node, node: &Node) -> Node {
    let mut made = map(node.at, Vec::new());
    for (name, at, value) in node.entries() {
        let own = ["parameters", "responses", "consumes", "produces", "schemes"];
        if let (false, NodeKind::Map(entries)) = (own.contains(&name.as_str()), &mut made.kind) {
            entries.push((name.clone(), *at, value.clone()));
        }
    }
    let (consumes, produces) = (walk.media("consumes", node), walk.media("produces", node));
    let (mut others, mut form, mut body) = (Vec::new(), Vec::new(), None);
    for parameter in parameters(walk, item, node) {
        match parameter.get("in").and_then(Node::text).unwrap_or_default() {
            "body" => body = Some(parameter),
            "formData" => form.push(parameter),
            _ => others.push(with_schema(&parameter)),
        }
    }
    if !others.is_empty() {
        put(&mut made, "parameters", list(node.at, others));
    }
    if let Some(body) = body {
        put(&mut made, "requestBody", request_body(&body, &consumes));
    } else if !form.is_empty() {
        put(
            &mut made,
            "requestBody",
            form_body(node.at, form, &consumes),
        );
    }
    let responses = node.get("responses").map(Node::entries).unwrap_or_default();
    let responses = responses.iter().filter_map(|(status, at, response)| {
        if status.starts_with("x-") {
            return None;
        }
        let found = followed(walk, response)?;
        Some((status.clone(), *at, self::response(&found, &produces)))
    });
    let responses = map(node.at, responses.collect());
    put(&mut made, "responses", responses);
    made
}

/// What a node is, or what its reference leads to.
fn followed(walk: &mut Walk<'_>, node: &Node) -> Option<Node> {
    let Some(target) = reference(node) else {
        return Some(node.clone());
    };
    match walk.sources.follow_from(target, node.at) {
        Ok(found) => Some(found.clone()),
        Err(why) => {
            walk.nowhere(target, node.at, &why);
            None
        }
    }
}

/// The parameters of a path and of an operation, whose own stand before those.
fn parameters(walk: &mut Walk<'_>, item: &Node, node: &Node) -> Vec<Node> {
    let (mut all, mut known): (Vec<Node>, HashSet<[Option<String>; 2]>) =
        (Vec::new(), HashSet::new());
    for from in [node, item] {
        let given = from.get("parameters").map(Node::items).unwrap_or_default();
        for parameter in given {
            let Some(found) = followed(walk, parameter) else {
                continue;
            };
            let key = ["name", "in"];
            let key = key.map(|k| found.get(k).and_then(Node::text).map(str::to_owned));
            if known.insert(key) {
                all.push(found);
            }
        }
    }
    all
}

impl Walk<'_> {
    /// The media types of an operation, or of all of them.
    fn media(&self, name: &str, node: &Node) -> Vec<String> {
        let given = node.get(name).or_else(|| self.sources.main().get(name));
        let texts = given.map(Node::items).unwrap_or_default().iter();
        let texts: Vec<String> = texts.filter_map(|t| t.text().map(str::to_owned)).collect();
        match texts.is_empty() {
            true => vec!["application/json".into()],
            false => texts,
        }
    }
}

fn request_body(body: &Node, consumes: &[String]) -> Node {
    let mut made = map(body.at, Vec::new());
    for name in ["description", "required"] {
        if let Some(value) = body.get(name) {
            put(&mut made, name, value.clone());
        }
    }
    let media = body
        .get("schema")
        .map_or_else(Vec::new, |s| vec![("schema".to_owned(), s.at, s.clone())]);
    let media = map(body.at, media);
    let forms = |t: &&String| !t.contains("form");
    // Forms have parameters of their own.
    let types: Vec<&String> = consumes.iter().filter(forms).collect();
    let types = if types.is_empty() {
        consumes.iter().collect()
    } else {
        types
    };
    let content = types.iter().map(|t| ((*t).clone(), body.at, media.clone()));
    put(&mut made, "content", map(body.at, content.collect()));
    made
}

fn form_body(at: Position, form: Vec<Node>, consumes: &[String]) -> Node {
    let file = form
        .iter()
        .any(|p| p.get("type").and_then(Node::text) == Some("file"));
    let (mut properties, mut required) = (Vec::new(), Vec::new());
    for parameter in form {
        let Some(name) = parameter
            .get("name")
            .and_then(Node::text)
            .map(str::to_owned)
        else {
            continue;
        };
        if is_true(parameter.get("required")) {
            required.push(text(parameter.at, &name));
        }
        let made = with_schema(&parameter);
        let mut schema = made
            .get("schema")
            .cloned()
            .unwrap_or_else(|| map(at, Vec::new()));
        if let Some(description) = parameter.get("description") {
            put(&mut schema, "description", description.clone());
        }
        properties.push((name, parameter.at, schema));
    }
    let mut schema = map(at, vec![("type".into(), at, text(at, "object"))]);
    put(&mut schema, "properties", map(at, properties));
    let any = !required.is_empty();
    if any {
        put(&mut schema, "required", list(at, required));
    }
    let named: Vec<&String> = consumes.iter().filter(|t| t.contains("form")).collect();
    let types: Vec<&str> = match (named.is_empty(), file) {
        (_, true) => vec!["multipart/form-data"],
        (true, false) => vec!["application/x-www-form-urlencoded"],
        (false, false) => named.iter().map(|t| t.as_str()).collect(),
    };
    let media = map(at, vec![("schema".into(), at, schema)]);
    let content = types.iter().map(|t| ((*t).to_owned(), at, media.clone()));
    let mut made = map(at, Vec::new());
    put(&mut made, "content", map(at, content.collect()));
    if any {
        put(&mut made, "required", scalar(at, Value::Bool(true)));
    }
    made
}

fn response(node: &Node, produces: &[String]) -> Node {
    let mut made = map(node.at, Vec::new());
    if let Some(description) = node.get("description") {
        put(&mut made, "description", description.clone());
    }
    if let Some(headers) = node.get("headers") {
        let headers = headers.entries().iter();
        let headers = headers.map(|(name, at, header)| (name.clone(), *at, with_schema(header)));
        put(&mut made, "headers", map(node.at, headers.collect()));
    }
    let examples = node.get("examples").map(Node::entries).unwrap_or_default();
    let Some(schema) = node.get("schema") else {
        return made;
    };
    let media = |name: &str| {
        let mut media = map(node.at, vec![("schema".into(), schema.at, schema.clone())]);
        if let Some((.., example)) = examples.iter().find(|(n, ..)| n == name) {
            put(&mut media, "example", example.clone());
        }
        media
    };
    let content = produces
        .iter()
        .map(|name| (name.clone(), node.at, media(name)));
    put(&mut made, "content", map(node.at, content.collect()));
    made
}

/// Where the service is (2.0: `schemes`, `host` and `basePath`), as an address or relative to where the document came from.
pub(crate) fn server(root: &Node) -> String {
    let text = |name: &str| {
        root.get(name)
            .and_then(Node::text)
            .unwrap_or_default()
            .trim()
    };
    let schemes = root.get("schemes").map(Node::items).unwrap_or_default();
    let has = |scheme: &str| schemes.iter().any(|s| s.text() == Some(scheme));
    let base = text("basePath").trim_end_matches('/');
    let slash = if base.is_empty() || base.starts_with('/') {
        ""
    } else {
        "/"
    };
    match (text("host"), has("https"), has("http")) {
        ("", ..) => format!("{slash}{base}"),
        (host, true, _) => format!("https://{host}{slash}{base}"),
        (host, false, true) => format!("http://{host}{slash}{base}"),
        // None said: the one by which the document came.
        (host, ..) => format!("//{host}{slash}{base}"),
    }
}
