//! Looking at a definition: what it offers, and what it would look like as REST.

use porch_contract::{Finding, SchemaView, Severity};
use porch_soap::{Definition, JsonSchemas, propose};
use serde::Serialize;
use serde_json::{Value, json};

use crate::source::Source;

/// What a definition offers.
#[derive(Clone, Debug, Serialize)]
pub struct Look {
    /// `soap`, `grpc` or `http`.
    pub kind: &'static str,
    /// The definition's title.
    pub title: String,
    /// What it says of itself.
    pub documentation: String,
    /// Addresses it names.
    pub addresses: Vec<String>,
    /// Its ports, for SOAP: the same operations may be called through several.
    pub ports: Vec<porch_soap::Port>,
    /// Its operations.
    pub operations: Vec<LookOperation>,
    /// What was found on the way.
    pub findings: Vec<LookFinding>,
}

/// One operation and its proposed REST shape.
#[derive(Clone, Debug, Serialize)]
pub struct LookOperation {
    /// Proposed `operationId`.
    pub id: String,
    /// Proposed method.
    pub method: String,
    /// Proposed path.
    pub path: String,
    /// Name in the definition.
    pub source: String,
    /// How it is called: `SOAP 1.1 document/literal`; empty for HTTP.
    pub style: String,
    /// Whether it can be called.
    pub available: bool,
    /// Why not.
    pub why: String,
    /// What JSON cannot carry.
    pub losses: Vec<String>,
    /// Why this shape was proposed.
    pub reason: String,
    /// What the definition says of it.
    pub documentation: String,
    /// Members of its input: name, type, required.
    pub inputs: Vec<LookField>,
    /// Members of its output.
    pub outputs: Vec<LookField>,
    /// Names of its declared faults.
    pub faults: Vec<String>,
}

/// One member of an input or output.
#[derive(Clone, Debug, Serialize)]
pub struct LookField {
    /// Name.
    pub name: String,
    /// Type in words.
    #[serde(rename = "type")]
    pub kind: String,
    /// Whether it must be there.
    pub required: bool,
}

/// A finding as `look` shows it.
#[derive(Clone, Debug, Serialize)]
pub struct LookFinding {
    /// How bad it is.
    pub severity: Severity,
    /// What was found.
    pub message: String,
    /// File, line and column.
    #[serde(rename = "where")]
    pub place: String,
    /// What to do.
    pub help: String,
}

impl From<Finding> for LookFinding {
    fn from(f: Finding) -> Self {
        Self {
            severity: f.severity,
            message: f.message,
            place: format!("{}:{}:{}", f.file, f.line, f.column),
            help: f.help,
        }
    }
}

/// Reads a definition and shows what it offers.
///
/// # Errors
/// When it is none that can be read.
pub fn look(source: &Source) -> Result<Look, Box<Finding>> {
    look_with(source, &|_, _| ())
}

/// The same, telling how far it is: files read, and files in all.
///
/// # Errors
/// When it is none that can be read.
pub fn look_with(
    source: &Source,
    progress: porch_grpc::read::Progress<'_>,
) -> Result<Look, Box<Finding>> {
    match kind(source)? {
        Kind::Grpc => porch_grpc::read(&source.files, progress).map(|d| grpc(&d, source)),
        Kind::Soap => porch_soap::read_definition(&source.files, &source.main).map(soap),
        Kind::Http => http(source),
    }
}

pub(crate) enum Kind {
    Soap,
    Grpc,
    Http,
}

/// Tells what a definition is from what it holds, never from its name.
pub(crate) fn kind(source: &Source) -> Result<Kind, Box<Finding>> {
    let text = source.files.get(&source.main).map_or("", String::as_str);
    let start = text.trim_start_matches('\u{feff}').trim_start();
    if start.starts_with('<') {
        return Ok(Kind::Soap);
    }
    if porch_grpc::read::is_definition(text) {
        return Ok(Kind::Grpc);
    }
    match porch_contract::Node::parse(text) {
        Ok(node) if node.get("openapi").is_some() => Ok(Kind::Http),
        Ok(node) if node.get("swagger").is_some() => Err(Box::new(
            Finding::error(&source.main, node.at, "OpenAPI 2.0 is not read yet")
                .help("convert it to OpenAPI 3 first"),
        )),
        Ok(node) => {
            let help = "give a WSDL 1.1, .proto files, a descriptor set or an OpenAPI 3 document";
            Err(Box::new(
                Finding::error(
                    &source.main,
                    node.at,
                    "this is no definition that can be read",
                )
                .help(help),
            ))
        }
        Err(e) => Err(Box::new(
            Finding::error(&source.main, e.at, e.message)
                .help("give a WSDL 1.1, .proto files, a descriptor set or an OpenAPI 3 document"),
        )),
    }
}

fn fields(root: &Value, schema: &Value) -> Vec<LookField> {
    SchemaView::new(root, schema)
        .fields()
        .into_iter()
        .map(|f| LookField {
            name: f.name,
            kind: f.kind,
            required: f.required,
        })
        .collect()
}

fn soap(definition: Definition) -> Look {
    let shapes = propose::shapes(&definition);
    let mut schemas = JsonSchemas::new(&definition.plan);
    let sides: Vec<(Value, Value)> = definition
        .operations
        .iter()
        .map(|o| {
            let mut of = |m: &Option<porch_soap::Message>| {
                m.as_ref().map_or(json!({}), |m| schemas.of(m.type_id))
            };
            (of(&o.input), of(&o.output))
        })
        .collect();
    let root = json!({ "components": { "schemas": schemas.schemas } });
    let operations = definition.operations.iter().zip(&shapes).zip(&sides).map(
        |((o, shape), (input, output))| LookOperation {
            id: shape.id.clone(),
            method: shape.method.to_owned(),
            path: shape.path.clone(),
            source: o.name.clone(),
            style: format!(
                "SOAP {} {}",
                if o.version == porch_soap::SoapVersion::V11 {
                    "1.1"
                } else {
                    "1.2"
                },
                o.style
            ),
            available: o.unavailable.is_none(),
            why: o.unavailable.clone().unwrap_or_default(),
            losses: o.losses.clone(),
            reason: shape.why.clone(),
            documentation: o.documentation.clone(),
            inputs: fields(&root, input),
            outputs: fields(&root, output),
            faults: o.faults.iter().map(|(_, m)| m.local.clone()).collect(),
        },
    );
    Look {
        kind: "soap",
        title: definition.title.clone(),
        documentation: definition.documentation.clone(),
        addresses: addresses(&definition),
        ports: definition.ports.clone(),
        operations: operations.collect(),
        findings: definition
            .findings
            .iter()
            .cloned()
            .map(Into::into)
            .collect(),
    }
}

fn grpc(definition: &porch_grpc::Definition, source: &Source) -> Look {
    let shapes = porch_grpc::propose::shapes(definition);
    let types = &definition.types;
    let mut schemas = porch_grpc::Schemas::new(types);
    let sides: Vec<(Value, Value)> = shapes
        .iter()
        .filter_map(|s| definition.method(&s.calls))
        .map(|m| (schemas.of(m.input), schemas.of(m.output)))
        .collect();
    let root = json!({ "components": { "schemas": schemas.schemas } });
    let operations = shapes
        .iter()
        .zip(&sides)
        .filter_map(|(shape, (input, output))| {
            let method = definition.method(&shape.calls)?;
            let style = match (method.client_streaming, method.server_streaming) {
                (false, false) => "gRPC",
                (true, false) => "gRPC, messages streamed in",
                (false, true) => "gRPC, messages streamed out",
                (true, true) => "gRPC, messages streamed both ways",
            };
            Some(LookOperation {
                id: shape.id.clone(),
                method: shape.method.clone(),
                path: shape.path.clone(),
                source: shape.calls.clone(),
                style: style.to_owned(),
                available: true,
                why: String::new(),
                losses: Vec::new(),
                reason: shape.why.clone(),
                documentation: method.documentation.clone(),
                inputs: fields(&root, input),
                outputs: fields(&root, output),
                faults: Vec::new(),
            })
        });
    let names: Vec<&str> = definition
        .services
        .iter()
        .map(|s| s.name.rsplit('.').next().unwrap_or(&s.name))
        .collect();
    let documentation: Vec<&str> = definition
        .services
        .iter()
        .map(|s| s.documentation.as_str())
        .filter(|d| !d.is_empty())
        .collect();
    Look {
        kind: "grpc",
        title: if names.len() > 3 {
            format!(
                "{} and {} more services",
                names[..2].join(", "),
                names.len() - 2
            )
        } else {
            names.join(", ")
        },
        documentation: documentation.join("\n"),
        addresses: Some(source.address.clone())
            .filter(|a| !a.is_empty())
            .into_iter()
            .collect(),
        ports: Vec::new(),
        operations: operations.collect(),
        findings: definition
            .findings
            .iter()
            .cloned()
            .map(Into::into)
            .collect(),
    }
}

/// The addresses of all ports, each once.
fn addresses(definition: &Definition) -> Vec<String> {
    let mut all: Vec<String> = Vec::new();
    for port in definition.ports.iter().filter(|p| !p.address.is_empty()) {
        if !all.contains(&port.address) {
            all.push(port.address.clone());
        }
    }
    all
}

fn http(source: &Source) -> Result<Look, Box<Finding>> {
    let (contract, findings) = porch_contract::parse_contract(
        &source.main,
        source.files.get(&source.main).map_or("", String::as_str),
    );
    let Some(contract) = contract else {
        return Err(Box::new(findings.into_iter().next().unwrap_or_else(|| {
            Finding::error(
                &source.main,
                Default::default(),
                "this is no OpenAPI document",
            )
        })));
    };
    let operations = contract.operations.values().map(|o| {
        let mut inputs: Vec<LookField> = o
            .parameters
            .iter()
            .map(|p| LookField {
                name: p.name.clone(),
                kind: contract.view(&p.schema).kind(),
                required: p.required,
            })
            .collect();
        if let Some((schema, _)) = &o.body {
            inputs.extend(fields(&contract.document, schema));
        }
        LookOperation {
            id: o.id.clone(),
            method: o.method.clone(),
            path: o.path.to_string(),
            source: o.id.clone(),
            style: String::new(),
            available: true,
            why: String::new(),
            losses: Vec::new(),
            reason: "as the definition has it".into(),
            documentation: o.summary.clone(),
            inputs,
            outputs: o
                .reply
                .as_ref()
                .map_or_else(Vec::new, |s| fields(&contract.document, s)),
            faults: Vec::new(),
        }
    });
    let servers = contract
        .document
        .get("servers")
        .and_then(Value::as_array)
        .into_iter()
        .flatten();
    Ok(Look {
        kind: "http",
        title: contract.title.clone(),
        documentation: contract
            .document
            .pointer("/info/description")
            .and_then(Value::as_str)
            .unwrap_or_default()
            .to_owned(),
        ports: Vec::new(),
        addresses: servers
            .filter_map(|s| s.get("url")?.as_str().map(str::to_owned))
            .collect(),
        operations: operations.collect(),
        findings: findings.into_iter().map(Into::into).collect(),
    })
}
