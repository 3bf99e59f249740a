//! Reading a contract: OpenAPI 3.1 (and 3.0, whose operations look the same).

mod parameters;

use std::collections::{HashMap, HashSet};

use indexmap::IndexMap;
use serde_json::Value;

use crate::{Finding, Node, PathTemplate, Position, SchemaView, Step};

pub use parameters::{Parameter, Place, Shape, Style};

/// One operation of a contract.
#[derive(Clone, Debug)]
pub struct Operation {
    /// Its `operationId`.
    pub id: String,
    /// Upper-case method.
    pub method: String,
    /// Its path template.
    pub path: PathTemplate,
    /// Parameters, those of the path item first.
    pub parameters: Vec<Parameter>,
    /// Cookies (RFC 6265 §4.2), which stand together in one header field.
    pub cookies: Vec<Parameter>,
    /// Schema of a JSON request body and whether a body must be sent.
    pub body: Option<(Value, bool)>,
    /// Media types of its request bodies, ranges among them, each with its schema; none: it has no body.
    pub bodies: Vec<(String, Option<Value>)>,
    /// Whether a body must be sent, whatever it is.
    pub needs_body: bool,
    /// Schema of the JSON reply of the first 2xx response.
    pub reply: Option<Value>,
    /// Its `summary`, or `description`.
    pub summary: String,
    /// Where it stands in the contract.
    pub at: Position,
}

/// A contract, read.
#[derive(Clone, Debug)]
pub struct Contract {
    /// `info.title`.
    pub title: String,
    /// `info.version`.
    pub version: String,
    /// Operations by `operationId`, in the order written.
    pub operations: IndexMap<String, Operation>,
    /// Name of the header that carries the key, from the first `apiKey` security scheme in a header.
    pub key_header: Option<String>,
    /// The whole document.
    pub document: Value,
}

impl Contract {
    /// A view of one of its schemas.
    pub fn view<'a>(&'a self, schema: &'a Value) -> SchemaView<'a> {
        SchemaView::new(&self.document, schema)
    }

    /// The operations as the document has them, by their ids.
    pub fn written(&self) -> HashMap<&str, Written<'_>> {
        let items = self.document.get("paths").and_then(Value::as_object);
        let items = items.into_iter().flatten().map(|(_, item)| item);
        let mut all = HashMap::new();
        for item in items {
            let more = ["additionalOperations", "x-additionalOperations"];
            let more = more.iter().filter_map(|name| item.get(*name));
            let operations = item.as_object().into_iter().flatten();
            let more = more.filter_map(Value::as_object).flatten();
            for (_, operation) in operations.chain(more) {
                if let Some(id) = operation.get("operationId").and_then(Value::as_str) {
                    all.entry(id).or_insert(Written { item, operation });
                }
            }
        }
        all
    }

    /// Every `operationId` of the document, those of operations that could not be read among them.
    pub fn ids(&self) -> HashSet<&str> {
        let items = self.document.get("paths").and_then(Value::as_object);
        items
            .into_iter()
            .flatten()
            .filter_map(|(_, item)| item.as_object())
            .flatten()
            .filter_map(|(_, operation)| operation.get("operationId")?.as_str())
            .collect()
    }
}

/// An operation as the document has it, with the path item that it stands in.
#[derive(Clone, Copy, Debug)]
pub struct Written<'a> {
    /// The path item.
    pub item: &'a Value,
    /// The operation.
    pub operation: &'a Value,
}

const METHODS: [&str; 8] = [
    "get", "put", "post", "delete", "options", "head", "patch", "trace",
];

/// Reads a contract and says what is wrong with it.
///
/// Findings carry `file`. What can be read is returned even when something is wrong; only a document that is no
/// OpenAPI at all gives no contract.
pub fn parse(file: &str, text: &str) -> (Option<Contract>, Vec<Finding>) {
    let node = match Node::parse(text) {
        Ok(node) => node,
        Err(e) => return (None, vec![Finding::error(file, e.at, e.message)]),
    };
    contract_of(file, &node)
}

/// Reads a contract from a tree that was made of other documents.
pub fn contract_of(file: &str, node: &Node) -> (Option<Contract>, Vec<Finding>) {
    let mut reader = ContractReader {
        file,
        document: node.to_value(),
        findings: Vec::new(),
    };
    let contract = reader.contract(node);
    (contract, reader.findings)
}

/// Whether a path item of OpenAPI 3.1 (§4.8.9) has operations by this name.
pub fn is_method(name: &str) -> bool {
    METHODS.contains(&name)
}

struct ContractReader<'a> {
    file: &'a str,
    document: Value,
    findings: Vec<Finding>,
}

impl ContractReader<'_> {
    fn error(&mut self, at: Position, message: String, help: &str) {
        self.findings
            .push(Finding::error(self.file, at, message).help(help));
    }

    fn contract(&mut self, node: &Node) -> Option<Contract> {
        let version = self
            .document
            .get("openapi")
            .and_then(Value::as_str)
            .unwrap_or_default()
            .to_owned();
        if !version.starts_with("3.") {
            let help = "a contract begins with `openapi: 3.1.0`, `info` and `paths`";
            self.error(node.at, "this is not an OpenAPI 3 document".into(), help);
            return None;
        }
        let info = |name: &str| {
            self.document
                .pointer(&format!("/info/{name}"))
                .and_then(Value::as_str)
                .unwrap_or_default()
                .to_owned()
        };
        let (title, version) = (info("title"), info("version"));
        let mut operations = IndexMap::new();
        let empty = Node {
            at: node.at,
            kind: crate::NodeKind::Map(Vec::new().into()),
        };
        for (path, path_at, item) in node.get("paths").unwrap_or(&empty).entries() {
            let template = match PathTemplate::parse(path) {
                Ok(template) => template,
                Err(e) => {
                    self.error(*path_at, format!("path “{path}”: {e}"), "");
                    continue;
                }
            };
            for (method, at, body) in item.entries() {
                if METHODS.contains(&method.as_str()) {
                    self.operation(&mut operations, &template, method, *at, item, body);
                }
                // Methods that 3.1 has no place for; 3.2 names them without the prefix (§4.9).
                if method == "x-additionalOperations" || method == "additionalOperations" {
                    for (method, at, body) in body.entries() {
                        self.operation(&mut operations, &template, method, *at, item, body);
                    }
                }
            }
        }
        Some(Contract {
            title,
            version,
            operations,
            key_header: self.key_header(),
            document: std::mem::take(&mut self.document),
        })
    }

    /// The parameters of a path item and of an operation, of which the operation's stand before (OpenAPI 3.1, section 4.8.9),
    /// held against the variables of the path.
    fn all_parameters(
        &mut self,
        id: &str,
        path: &PathTemplate,
        at: Position,
        item: &Node,
        node: &Node,
    ) -> Vec<Parameter> {
        let parameters = self.those_of(item, node, false);
        for variable in path.variables() {
            if !parameters
                .iter()
                .any(|p| p.place == Place::Path && p.name == variable)
            {
                self.error(
                    at,
                    format!("“{id}”: the path variable {{{variable}}} is not described"),
                    &format!("add a parameter with `name: {variable}` and `in: path`"),
                );
            }
        }
        for p in &parameters {
            if p.place == Place::Path && !path.variables().any(|v| v == p.name) {
                self.error(
                    at,
                    format!(
                        "“{id}”: the parameter “{}” is in no segment of {path}",
                        p.name
                    ),
                    &format!(
                        "write {{{}}} into the path, or remove the parameter",
                        p.name
                    ),
                );
            }
        }
        parameters
    }

    fn operation(
        &mut self,
        into: &mut IndexMap<String, Operation>,
        path: &PathTemplate,
        method: &str,
        at: Position,
        item: &Node,
        node: &Node,
    ) {
        let value = node.to_value();
        let Some(id) = value
            .get("operationId")
            .and_then(Value::as_str)
            .map(str::to_owned)
        else {
            let message = format!("{} {path} has no operationId", method.to_uppercase());
            return self.error(
                at,
                message,
                "wiring points at operations by their operationId: give it one",
            );
        };
        if into.contains_key(&id) {
            let id_at = node.locate(&[Step::Key("operationId".into())], false);
            return self.error(
                id_at,
                format!("the operationId “{id}” stands in this contract twice"),
                "each operation needs its own",
            );
        }
        let parameters = self.all_parameters(&id, path, at, item, node);
        let cookies = self.those_of(item, node, true);
        let described = value.get("requestBody").map(|b| self.deref(b));
        let described = described.unwrap_or_default();
        let needs_body = described.get("required") == Some(&Value::Bool(true));
        let body = json_schema(&described).or_else(|| form_schema(&described));
        let body = body.map(|schema| (schema, needs_body));
        let reply = value
            .get("responses")
            .and_then(Value::as_object)
            .and_then(|all| {
                all.iter()
                    .find(|(status, _)| status.starts_with('2'))
                    .and_then(|(_, r)| json_schema(&self.deref(r)))
            });
        let text = |name: &str| value.get(name).and_then(Value::as_str).map(str::to_owned);
        let summary = text("summary")
            .or_else(|| text("description"))
            .unwrap_or_default();
        let operation = Operation {
            id: id.clone(),
            method: method.to_uppercase(),
            path: path.clone(),
            parameters,
            cookies,
            body,
            bodies: bodies_of(&described),
            needs_body,
            reply,
            summary,
            at,
        };
        into.insert(id, operation);
    }

    fn deref(&self, value: &Value) -> Value {
        SchemaView::new(&self.document, value).value().clone()
    }

    fn key_header(&self) -> Option<String> {
        let schemes = self
            .document
            .pointer("/components/securitySchemes")?
            .as_object()?;
        schemes.values().find_map(|s| {
            let is = |name: &str, value: &str| s.get(name).and_then(Value::as_str) == Some(value);
            (is("type", "apiKey") && is("in", "header"))
                .then(|| s.get("name")?.as_str().map(str::to_owned))?
        })
    }
}

/// The media types of a request body, each with its schema.
fn bodies_of(described: &Value) -> Vec<(String, Option<Value>)> {
    let content = described.get("content").and_then(Value::as_object);
    let types = content.into_iter().flatten().map(|(name, media)| {
        let name = name.split(';').next().unwrap_or_default().trim();
        (name.to_ascii_lowercase(), media.get("schema").cloned())
    });
    types.collect()
}

/// The media type of forms (WHATWG URL §5).
pub const FORM: &str = "application/x-www-form-urlencoded";

/// The schema of a form, where a request body has no other that has members.
fn form_schema(of: &Value) -> Option<Value> {
    let content = of.get("content")?.as_object()?;
    let is_form = |name: &&String| name.split(';').next().is_some_and(|n| n.trim() == FORM);
    let (_, media) = content.iter().find(|(name, _)| is_form(name))?;
    media.get("schema").cloned()
}

/// The schema of the JSON media type of a request body or response.
fn json_schema(of: &Value) -> Option<Value> {
    let content = of.get("content")?.as_object()?;
    let (_, media) = content.iter().find(|(name, _)| {
        let essence = name.split(';').next().unwrap_or_default().trim();
        essence == "application/json"
            || essence.ends_with("+json")
            || essence == "application/x-ndjson"
            || essence == "*/*"
    })?;
    Some(
        media
            .get("schema")
            .cloned()
            .unwrap_or(Value::Object(Default::default())),
    )
}

#[cfg(test)]
mod tests;
