//! From documents to the compiled porch, with every mistake found on the way.

use std::collections::{HashMap, HashSet};
use std::sync::Arc;

use http::{HeaderName, HeaderValue};
use porch_contract::{
    Contract, Finding, Operation as ContractOperation, PathTemplate, Position, Segment, Severity,
    Step, suggest,
};
use porch_rules::expr::Template;
use porch_rules::limit::{Limit, stable_id};
use porch_soap::generic::Mapping;
use porch_soap::read::AnswerPlan;
use porch_soap::{Definition, Envelope, JsonSchemas, Plan};
use serde_json::{Map, Value, json};

use crate::compiled::*;
use crate::documents::{
    AdmitDoc, BackendKind, CredentialKind, EnvironmentDoc, FacadeDoc, MediaType, OperationDoc, Per,
};
use crate::fits::{Shapes, Target, Templates};
use crate::read::{Document, contract_of};
use crate::router::Router;
use crate::units::duration_text;
use crate::{Documents, Files};

/// Where secrets come from.
pub enum Secrets<'a> {
    /// Every secret is taken to be there: for checking.
    Placeholder,
    /// These.
    Known(&'a HashMap<String, String>),
}

/// Compiles facades into one porch.
pub struct Builder<'a> {
    pub(crate) secrets: Secrets<'a>,
    pub(crate) environment: Option<&'a EnvironmentDoc>,
    pub(crate) porch: CompiledPorch,
    hosts: Vec<Vec<String>>,
    files: Vec<(String, Position)>,
    pub(crate) findings: Vec<Finding>,
}

/// The method under which native gRPC calls are matched, which no HTTP request can have.
pub const NATIVE: &str = "gRPC native";
const DEFAULT_BODY: u64 = 1 << 20;

/// A backend with what its definition says.
pub(crate) struct Wired {
    pub(crate) index: usize,
    pub(crate) soap: Option<(Definition, Arc<Plan>)>,
    pub(crate) grpc: Option<porch_grpc::Definition>,
    /// Limits of gRPC messages: greatest size, and whether they are sent compressed.
    pub(crate) messages: (usize, bool),
    pub(crate) kind: BackendKind,
    pub(crate) soap_headers: Value,
    /// How its XML and JSON stand for each other, when it speaks XML by HTTP.
    pub(crate) xml: Option<Mapping>,
}

pub(crate) struct Op<'a> {
    pub(crate) files: &'a Files,
    pub(crate) facade: &'a Document<FacadeDoc>,
    pub(crate) contract: &'a Contract,
    pub(crate) contract_op: &'a ContractOperation,
    pub(crate) id: &'a str,
    pub(crate) doc: &'a OperationDoc,
}

impl Op<'_> {
    pub(crate) fn path(&self, rest: &[&str]) -> Vec<Step> {
        ["operations", self.id]
            .iter()
            .chain(rest)
            .map(|k| Step::Key((*k).to_owned()))
            .collect()
    }

    pub(crate) fn at(&self, rest: &[&str]) -> Position {
        self.facade.node.locate(&self.path(rest), false)
    }

    pub(crate) fn at_key(&self, rest: &[&str]) -> Position {
        self.facade.node.locate(&self.path(rest), true)
    }
}

impl<'a> Builder<'a> {
    /// A builder for an environment.
    pub fn new(secrets: Secrets<'a>, environment: Option<&'a EnvironmentDoc>) -> Self {
        Self {
            secrets,
            environment,
            porch: CompiledPorch::default(),
            hosts: Vec::new(),
            files: Vec::new(),
            findings: Vec::new(),
        }
    }

    /// The environment of the facades that are added from now on.
    pub fn use_environment(&mut self, environment: &'a EnvironmentDoc) {
        self.environment = Some(environment);
    }

    /// Compiles one facade of a set of files.
    pub fn add_facade(&mut self, files: &Files, documents: &Documents, name: &str) {
        let Some(facade) = documents.facades.get(name) else {
            return self.findings.push(Finding::error(
                "",
                Position::default(),
                format!("there is no facade “{name}”"),
            ));
        };
        let (contract_file, contract, findings) = contract_of(files, facade);
        self.findings.extend(findings);
        let Some(contract) = contract else { return };
        let key = |k: &str| facade.node.locate(&[Step::Key(k.into())], false);
        let base = facade.doc.base.trim_end_matches('/');
        if !facade.doc.base.starts_with('/') || base.contains(['{', '}', '?', '#']) {
            let help = "a base path begins with “/” and has no variables, as in /sailings/v2";
            self.findings.push(
                Finding::error(
                    &facade.file,
                    key("base"),
                    format!("“{}” is no base path", facade.doc.base),
                )
                .help(help),
            );
        }
        self.porch.facades.push(CompiledFacade {
            name: name.to_owned(),
            version: contract.version.clone(),
            base: base.to_owned(),
            key_header: contract
                .key_header
                .as_deref()
                .and_then(|h| h.parse().ok())
                .unwrap_or(HeaderName::from_static("api-key")),
            key_header_shown: contract
                .key_header
                .clone()
                .unwrap_or_else(|| "API-Key".into()),
        });
        self.hosts.push(facade.doc.hosts.clone());
        let mut backends: HashMap<String, Option<Wired>> = HashMap::new();
        for (id, doc) in &facade.doc.operations {
            let Some(contract_op) = contract.operations.get(id) else {
                let near = suggest(id, contract.operations.keys().map(String::as_str));
                let help = near.map_or_else(
                    || {
                        format!(
                            "{contract_file} has: {}",
                            contract
                                .operations
                                .keys()
                                .cloned()
                                .collect::<Vec<_>>()
                                .join(", ")
                        )
                    },
                    |n| format!("did you mean “{n}”?"),
                );
                let at = facade
                    .node
                    .locate(&["operations", id].map(|k| Step::Key(k.into())), true);
                self.findings.push(
                    Finding::error(
                        &facade.file,
                        at,
                        format!("the contract has no operation “{id}”"),
                    )
                    .help(help),
                );
                continue;
            };
            let op = Op {
                files,
                facade,
                contract: &contract,
                contract_op,
                id,
                doc,
            };
            if !backends.contains_key(&doc.call.backend) {
                let wired = self.backend(&op, documents);
                backends.insert(doc.call.backend.clone(), wired);
            }
            if let Some(Some(wired)) = backends.get(&doc.call.backend) {
                self.operation(&op, wired);
            }
        }
        let calls_grpc = |o: &OperationDoc| {
            documents
                .backends
                .get(&o.call.backend)
                .is_some_and(|b| b.doc.kind == BackendKind::Grpc)
        };
        if !facade.doc.operations.values().any(calls_grpc) {
            for name in ["native", "json", "metadata"]
                .into_iter()
                .filter(|n| facade.node.get(n).is_some())
            {
                let at = facade.node.locate(&[Step::Key(name.into())], true);
                self.findings.push(
                    Finding::new(
                        Severity::Warning,
                        &facade.file,
                        at,
                        format!("“{name}” has no meaning here"),
                    )
                    .help("it is for facades that call gRPC backends"),
                );
            }
        }
        for (id, op) in contract
            .operations
            .iter()
            .filter(|(id, _)| !facade.doc.operations.contains_key(*id))
        {
            let finding = Finding::new(
                Severity::Warning,
                &contract_file,
                op.at,
                format!("“{id}” is not wired: callers get 404"),
            );
            self.findings.push(finding.help(format!(
                "add `{id}:` below `operations:` in {}",
                facade.file
            )));
        }
    }

    /// The compiled porch, and everything that was found.
    ///
    /// The porch is only fit to be served when no finding is an error.
    pub fn finish(mut self) -> (CompiledPorch, Vec<Finding>) {
        let mut router = Router::default();
        for (i, operation) in self.porch.operations.iter().enumerate() {
            let Ok(template) = PathTemplate::parse(&operation.path) else {
                continue;
            };
            let facade = &self.porch.facades[operation.facade];
            let hosts = &self.hosts[operation.facade];
            let hosts: Vec<Option<&str>> = if hosts.is_empty() {
                vec![None]
            } else {
                hosts.iter().map(|h| Some(h.as_str())).collect()
            };
            for host in hosts {
                let native = matches!(&operation.wiring, Wiring::Grpc(w) if w.native);
                if native
                    && let Wiring::Grpc(w) = &operation.wiring
                    && let Ok(path) = PathTemplate::parse(&w.path)
                {
                    // Additional bindings lead to the same method: the first of them takes its native callers.
                    let taken = router
                        .insert(host, "", &path, NATIVE, i as u32)
                        .err()
                        .map(|other| &self.porch.operations[other as usize]);
                    if let Some(other) = taken.filter(|o| o.facade != operation.facade) {
                        let (file, at) = &self.files[i];
                        let message = format!(
                            "native callers of {} are taken by the facade “{}” already",
                            w.method, self.porch.facades[other.facade].name
                        );
                        self.findings.push(Finding::error(file, *at, message).help(
                            "let only one of them be `native`, or give them different hosts",
                        ));
                    }
                }
                if let Err(other) =
                    router.insert(host, &facade.base, &template, &operation.method, i as u32)
                {
                    let other = &self.porch.operations[other as usize];
                    let (file, at) = &self.files[i];
                    let message = format!(
                        "{} {}{} is the route of “{}” in the facade “{}” too",
                        operation.method,
                        facade.base,
                        operation.path,
                        other.id,
                        self.porch.facades[other.facade].name
                    );
                    self.findings.push(
                        Finding::error(file, *at, message)
                            .help("give one of them another path, base path or host"),
                    );
                }
            }
        }
        // `**` of an HTTP rule takes no segment too, where nothing else has that path.
        for (i, operation) in self.porch.operations.iter().enumerate() {
            let shorter = PathTemplate::parse(&operation.path).ok().filter(|t| {
                matches!(
                    (t.segments.last(), &operation.wiring),
                    (Some(Segment::Rest(_)), Wiring::Grpc(_))
                ) && t.verb.is_none()
            });
            if let Some(mut template) = shorter {
                template.segments.pop();
                let hosts = &self.hosts[operation.facade];
                for host in if hosts.is_empty() {
                    vec![None]
                } else {
                    hosts.iter().map(|h| Some(h.as_str())).collect()
                } {
                    let _ = router.insert(
                        host,
                        &self.porch.facades[operation.facade].base,
                        &template,
                        &operation.method,
                        i as u32,
                    );
                }
            }
        }
        self.porch.router = router;
        let mut seen = HashSet::new();
        self.findings.retain(|f| seen.insert(format!("{f:?}")));
        self.findings.sort_by(|a, b| {
            b.severity
                .cmp(&a.severity)
                .then_with(|| (&a.file, a.line, a.column).cmp(&(&b.file, b.line, b.column)))
        });
        (self.porch, self.findings)
    }

    fn operation(&mut self, op: &Op<'_>, wired: &Wired) {
        let wiring = match wired.kind {
            BackendKind::Soap => self.soap(op, wired),
            BackendKind::Grpc => self.grpc(op, wired),
            BackendKind::Http => self.http(op, wired.xml.clone()),
        };
        let Some(wiring) = wiring else { return };
        let facade_reach = format!("facade {}", op.facade.doc.name);
        let operation_reach = format!("operation {}", op.id);
        let facade_path = |keys: &[&str]| {
            op.facade
                .node
                .locate(
                    &keys
                        .iter()
                        .map(|k| Step::Key((*k).to_owned()))
                        .collect::<Vec<_>>(),
                    false,
                )
                .line
        };
        let place = |rule: String, reach: &str, line: usize| RulePlace {
            rule,
            reach: reach.to_owned(),
            file: op.facade.file.clone(),
            line,
        };
        let (all, own) = (&op.facade.doc.admit, &op.doc.admit);
        let key = if all.credentials.contains(&CredentialKind::Key) {
            Some(place(
                "a key is demanded".into(),
                &facade_reach,
                facade_path(&["admit", "credentials"]),
            ))
        } else if own.credentials.contains(&CredentialKind::Key) {
            Some(place(
                "a key is demanded".into(),
                &operation_reach,
                op.at(&["admit", "credentials"]).line,
            ))
        } else {
            None
        };
        let mut limits = self.limits(
            op,
            all,
            &facade_reach,
            "",
            key.is_some(),
            &[Step::Key("admit".into())],
        );
        limits.extend(self.limits(
            op,
            own,
            &operation_reach,
            op.id,
            key.is_some(),
            &op.path(&["admit"]),
        ));
        let max_body = match (all.max_body, own.max_body) {
            (facade, Some(size)) if facade.is_none_or(|f| size.0 <= f.0) => (
                size.0,
                place(
                    format!("body at most {} bytes", size.0),
                    &operation_reach,
                    op.at(&["admit", "max-body"]).line,
                ),
            ),
            (Some(size), _) => (
                size.0,
                place(
                    format!("body at most {} bytes", size.0),
                    &facade_reach,
                    facade_path(&["admit", "max-body"]),
                ),
            ),
            _ => (
                DEFAULT_BODY,
                RulePlace {
                    rule: format!("body at most {DEFAULT_BODY} bytes"),
                    reach: "everywhere".into(),
                    file: String::new(),
                    line: 0,
                },
            ),
        };
        let parameters = op.contract_op.parameters.iter().map(|p| {
            let view = op.contract.view(&p.schema);
            let texts = view
                .value()
                .get("enum")
                .and_then(Value::as_array)
                .into_iter()
                .flatten();
            let enumeration = texts
                .map(|v| v.as_str().map_or_else(|| v.to_string(), str::to_owned))
                .collect();
            ParamPlan {
                name: p.name.clone(),
                place: p.place,
                kind: view.param_type(),
                required: p.required,
                enumeration,
            }
        });
        for (key, given) in [
            ("body", op.doc.body.is_some()),
            ("response-body", op.doc.response_body.is_some()),
        ] {
            if given && wired.grpc.is_none() {
                self.findings.push(
                    Finding::error(
                        &op.facade.file,
                        op.at_key(&[key]),
                        format!("only gRPC calls have “{key}”"),
                    )
                    .help("use `send` and `reply`"),
                );
            }
        }
        for name in op
            .doc
            .faults
            .keys()
            .filter(|_| wired.soap.is_none() && wired.grpc.is_none())
        {
            self.findings.push(Finding::error(
                &op.facade.file,
                op.at_key(&["faults", name]),
                "only SOAP and gRPC answers have faults",
            ));
        }
        self.files.push((
            op.facade.file.clone(),
            op.facade
                .node
                .locate(&["operations", op.id].map(|k| Step::Key(k.into())), true),
        ));
        self.porch.operations.push(CompiledOperation {
            id: op.id.to_owned(),
            facade: self.porch.facades.len() - 1,
            method: op.contract_op.method.clone(),
            path: op.contract_op.path.to_string(),
            variables: op.contract_op.path.variables().map(str::to_owned).collect(),
            several: op
                .contract_op
                .path
                .segments
                .iter()
                .filter_map(|s| {
                    if let Segment::Rest(name) = s {
                        Some(name.clone())
                    } else {
                        None
                    }
                })
                .collect(),
            parameters: parameters.collect(),
            key,
            limits,
            max_body,
            body_required: op
                .contract_op
                .body
                .as_ref()
                .is_some_and(|(_, required)| *required),
            backend: wired.index,
            wiring,
            place: place(
                format!("calls {}", op.doc.call.backend),
                &operation_reach,
                op.at_key(&["call"]).line,
            ),
            faults: op.doc.faults.iter().map(|(k, v)| (k.clone(), *v)).collect(),
            media: media(op, wired),
        });
    }

    fn limits(
        &mut self,
        op: &Op<'_>,
        admit: &AdmitDoc,
        reach: &str,
        id: &str,
        keyed: bool,
        path: &[Step],
    ) -> Vec<LimitPlan> {
        let mut plans = Vec::new();
        for (i, doc) in admit.limits.iter().enumerate() {
            let here: Vec<Step> = path
                .iter()
                .cloned()
                .chain([Step::Key("limits".into()), Step::Index(i)])
                .collect();
            let at = op.facade.node.locate(&here, false);
            if doc.per == Per::Consumer && !keyed {
                let help = "add `credentials: [key]`, or count `per: address` or `per: everyone`";
                self.findings.push(
                    Finding::error(
                        &op.facade.file,
                        at,
                        "a limit per consumer needs callers that are known",
                    )
                    .help(help),
                );
            }
            if doc.requests == 0 {
                self.findings.push(
                    Finding::error(&op.facade.file, at, "a limit of 0 lets nobody pass")
                        .help("pause the operation instead"),
                );
            }
            let per = match doc.per {
                Per::Consumer => "consumer",
                Per::Address => "address",
                Per::Everyone => "everyone",
            };
            let window = duration_text(doc.window.0);
            let name = if id.is_empty() {
                op.facade.doc.name.clone()
            } else {
                id.to_owned()
            };
            let policy = format!(
                "\"{name}\";q={};w={}",
                doc.requests,
                doc.window.0.as_millis().div_ceil(1000)
            );
            let rule = format!("limit {} in {window} per {per}", doc.requests);
            plans.push(LimitPlan {
                id: stable_id(&format!("{}/{id}/{rule}", op.facade.doc.name)),
                limit: Limit {
                    requests: doc.requests,
                    window: doc.window.0,
                },
                per: doc.per,
                policy: HeaderValue::from_str(&policy).unwrap_or(HeaderValue::from_static("")),
                name,
                place: RulePlace {
                    rule,
                    reach: reach.to_owned(),
                    file: op.facade.file.clone(),
                    line: at.line,
                },
            });
        }
        plans
    }

    pub(crate) fn templates<'t>(&self, op: &'t Op<'_>) -> Templates<'t> {
        Templates {
            file: &op.facade.file,
            text: op.files.get(&op.facade.file).map_or("", String::as_str),
            node: &op.facade.node,
            contract: op.contract,
            operation: op.contract_op,
        }
    }

    fn soap(&mut self, op: &Op<'_>, wired: &Wired) -> Option<Wiring> {
        let (definition, plan) = wired.soap.as_ref()?;
        let Some(name) = &op.doc.call.operation else {
            let help = "add `operation: NAME` of the definition";
            self.findings.push(
                Finding::error(
                    &op.facade.file,
                    op.at(&["call"]),
                    "a SOAP call names its operation",
                )
                .help(help),
            );
            return None;
        };
        let Some(soap_op) = definition.operation(name) else {
            let near = suggest(name, definition.operations.iter().map(|o| o.name.as_str()));
            let help = near.map_or_else(
                || {
                    format!(
                        "it has: {}",
                        definition
                            .operations
                            .iter()
                            .map(|o| o.name.clone())
                            .collect::<Vec<_>>()
                            .join(", ")
                    )
                },
                |n| format!("did you mean “{n}”?"),
            );
            self.findings.push(
                Finding::error(
                    &op.facade.file,
                    op.at(&["call", "operation"]),
                    format!("the definition has no operation “{name}”"),
                )
                .help(help),
            );
            return None;
        };
        if let Some(why) = &soap_op.unavailable {
            self.findings.push(Finding::error(
                &op.facade.file,
                op.at(&["call", "operation"]),
                format!("{name} cannot be called: {why}"),
            ));
            return None;
        }
        for key in op.doc.faults.keys() {
            let known = soap_op
                .faults
                .iter()
                .flat_map(|(n, m)| [n.as_str(), m.local.as_str()]);
            if !known.clone().any(|n| n == key) && !is_code(key) {
                let near = suggest(key, known)
                    .map_or_else(String::new, |n| format!("did you mean “{n}”?"));
                self.findings.push(
                    Finding::new(
                        Severity::Warning,
                        &op.facade.file,
                        op.at_key(&["faults", key]),
                        format!("{name} declares no fault “{key}”"),
                    )
                    .help(near),
                );
            }
        }
        // Only the headers that this operation wants and does not say itself.
        let own = op.doc.soap_headers.as_ref();
        let wanted: Map<String, Value> = wired
            .soap_headers
            .as_object()
            .into_iter()
            .flatten()
            .filter(|(k, _)| {
                soap_op.headers.iter().any(|h| h.json == **k)
                    && own.is_none_or(|o| o.get(k.as_str()).is_none())
            })
            .map(|(k, v)| (k.clone(), v.clone()))
            .collect();
        let envelope = match Envelope::new(plan.clone(), soap_op, &Value::Object(wanted)) {
            Ok(envelope) => envelope,
            Err(errors) => {
                for e in errors {
                    let message = format!(
                        "the SOAP headers of “{}”{}: {}",
                        op.doc.call.backend, e.pointer, e.message
                    );
                    self.findings
                        .push(Finding::error(&op.facade.file, op.at(&["call"]), message));
                }
                return None;
            }
        };
        let mut schemas = JsonSchemas::new(plan);
        let input = soap_op
            .input
            .as_ref()
            .map_or(Value::Null, |m| schemas.of(m.type_id));
        let output = soap_op
            .output
            .as_ref()
            .map_or(json!({}), |m| schemas.of(m.type_id));
        let header: Map<String, Value> = soap_op
            .output_headers
            .iter()
            .map(|h| (h.json.clone(), schemas.of(h.type_id)))
            .collect();
        let has_header = !header.is_empty();
        let header =
            json!({ "type": "object", "properties": header, "additionalProperties": false });
        let document = json!({ "components": { "schemas": schemas.schemas }, "input": input, "output": output, "soapHeader": header });
        let templates = self.templates(op);
        let shapes = Shapes {
            answer: Some((&document, &document["output"])),
            soap_header: has_header.then(|| (&document, &document["soapHeader"])),
        };
        let default_send = || {
            if op.contract_op.body.is_some() {
                json!("=body")
            } else {
                json!({})
            }
        };
        let send = op.doc.send.clone().unwrap_or_else(default_send);
        let target = Target {
            what: format!("{name}'s input"),
            root: &document,
            schema: &document["input"],
        };
        let (send, found) =
            templates.compile(&send, &op.path(&["send"]), false, &shapes, Some(&target));
        self.findings.extend(found);
        let reply = self.reply(op, &templates, &shapes);
        let send = send?;
        let headers = self.soap_headers(op, &templates, &shapes, soap_op, plan);
        let reads_body = [Some(&send), reply.as_ref(), headers.as_ref()]
            .into_iter()
            .flatten()
            .any(|t| uses(t, "body"));
        let answer = AnswerPlan::of(plan.clone(), soap_op);
        let whole = send
            .as_plain_path()
            .is_some_and(|p| p.iter().map(|s| s.name.as_str()).eq(["body"]));
        let direct = whole
            && ![reply.as_ref(), headers.as_ref()]
                .into_iter()
                .flatten()
                .any(|t| uses(t, "body"));
        Some(Wiring::Soap(Box::new(SoapWiring {
            operation: name.clone(),
            envelope,
            answer: Arc::new(answer),
            send,
            direct,
            reply,
            headers,
            reads_body,
        })))
    }

    /// Compiles the header elements of an operation's requests.
    fn soap_headers(
        &mut self,
        op: &Op<'_>,
        templates: &Templates<'_>,
        shapes: &Shapes<'_>,
        soap_op: &porch_soap::Operation,
        plan: &Plan,
    ) -> Option<Template> {
        let value = op.doc.soap_headers.as_ref()?;
        let mut schemas = JsonSchemas::new(plan);
        let properties: Map<String, Value> = soap_op
            .headers
            .iter()
            .map(|h| (h.json.clone(), schemas.of(h.type_id)))
            .collect();
        let root = json!({ "components": { "schemas": schemas.schemas }, "headers": { "type": "object", "properties": properties, "additionalProperties": false } });
        let target = Target {
            what: format!("the SOAP header of {}", soap_op.name),
            root: &root,
            schema: &root["headers"],
        };
        let (template, found) = templates.compile(
            value,
            &op.path(&["soap-headers"]),
            false,
            shapes,
            Some(&target),
        );
        self.findings.extend(found);
        if soap_op.headers.is_empty() {
            self.findings.push(Finding::error(
                &op.facade.file,
                op.at_key(&["soap-headers"]),
                format!("{} declares no SOAP headers", soap_op.name),
            ));
        }
        template
    }

    /// Compiles `reply`, and checks it, or the whole answer where it is not given, against the contract.
    pub(crate) fn reply(
        &mut self,
        op: &Op<'_>,
        templates: &Templates<'_>,
        shapes: &Shapes<'_>,
    ) -> Option<Template> {
        let reply = op.doc.reply.as_ref()?;
        let target = op.contract_op.reply.as_ref().map(|schema| Target {
            what: "the contract's reply".into(),
            root: &op.contract.document,
            schema,
        });
        let (template, found) =
            templates.compile(reply, &op.path(&["reply"]), true, shapes, target.as_ref());
        self.findings.extend(found);
        // The whole answer is what is streamed through anyway.
        template.filter(|t| {
            t.as_plain_path()
                .is_none_or(|p| !p.iter().map(|s| s.name.as_str()).eq(["answer", "body"]))
        })
    }

    fn http(&mut self, op: &Op<'_>, xml: Option<Mapping>) -> Option<Wiring> {
        let templates = self.templates(op);
        let shapes = Shapes {
            answer: None,
            soap_header: None,
        };
        if op.doc.call.operation.is_some() {
            let help = "an HTTP call has `method` and `path`";
            self.findings.push(
                Finding::error(
                    &op.facade.file,
                    op.at_key(&["call", "operation"]),
                    "an HTTP backend without a definition has no named operations",
                )
                .help(help),
            );
        }
        let empty = Map::new();
        let send = match &op.doc.send {
            Some(Value::Object(map)) => map,
            None => &empty,
            Some(_) => {
                self.findings.push(Finding::error(
                    &op.facade.file,
                    op.at(&["send"]),
                    "what is sent by HTTP has `path`, `query`, `headers` and `body`",
                ));
                return None;
            }
        };
        for key in send
            .keys()
            .filter(|k| !["path", "query", "headers", "body"].contains(&k.as_str()))
        {
            let near = suggest(key, ["path", "query", "headers", "body"]).map_or_else(
                || "known are path, query, headers, body".to_owned(),
                |n| format!("did you mean “{n}”?"),
            );
            self.findings.push(
                Finding::error(
                    &op.facade.file,
                    op.at_key(&["send", key]),
                    format!("“{key}” is not known here"),
                )
                .help(near),
            );
        }
        let mut part = |name: &str| -> Option<Template> {
            let value = send.get(name)?;
            let (template, found) =
                templates.compile(value, &op.path(&["send", name]), false, &shapes, None);
            self.findings.extend(found);
            template
        };
        let (path_values, query, headers, body) =
            (part("path"), part("query"), part("headers"), part("body"));
        let pairs = |t: Option<Template>| match t {
            Some(Template::Map(entries)) => Some(entries),
            _ => None,
        };
        let path = self.http_path(op, pairs(path_values).unwrap_or_default())?;
        let reply = self.reply(op, &templates, &shapes);
        let all = |t: &Option<Template>| t.as_ref().is_some_and(|t| uses(t, "body"));
        let (query, headers) = (pairs(query), pairs(headers).unwrap_or_default());
        let reads_body = all(&body)
            || all(&reply)
            || query
                .iter()
                .flatten()
                .chain(&headers)
                .any(|(_, t)| uses(t, "body"));
        if let Some(method) = &op.doc.call.method
            && (method.is_empty() || !method.bytes().all(|b| b.is_ascii_uppercase()))
        {
            self.findings.push(
                Finding::error(
                    &op.facade.file,
                    op.at(&["call", "method"]),
                    format!("“{method}” is no method"),
                )
                .help("methods are written in capitals: GET, POST …"),
            );
        }
        let headers = headers
            .into_iter()
            .filter_map(|(name, template)| self.header_rule(op, &name, template))
            .collect();
        let method = op.doc.call.method.as_deref().and_then(|m| m.parse().ok());
        Some(Wiring::Http(Box::new(HttpWiring {
            method,
            path,
            query,
            headers,
            xml,
            body,
            reply,
            reads_body,
        })))
    }

    fn header_rule(
        &mut self,
        op: &Op<'_>,
        name: &str,
        template: Template,
    ) -> Option<(HeaderName, HeaderRule)> {
        let Ok(header) = name.parse::<HeaderName>() else {
            self.findings.push(Finding::error(
                &op.facade.file,
                op.at_key(&["send", "headers", name]),
                format!("“{name}” is no name of a header field"),
            ));
            return None;
        };
        let Template::Literal(value) = &template else {
            return Some((header, HeaderRule::Make(template)));
        };
        let text = value
            .as_str()
            .map_or_else(|| value.to_string(), str::to_owned);
        match HeaderValue::from_str(&text) {
            Ok(value) => Some((header, HeaderRule::Set(value))),
            Err(_) => {
                self.findings.push(Finding::error(
                    &op.facade.file,
                    op.at(&["send", "headers", name]),
                    "this text cannot stand in a header field",
                ));
                None
            }
        }
    }

    fn http_path(
        &mut self,
        op: &Op<'_>,
        mut values: Vec<(String, Template)>,
    ) -> Option<Vec<PathPart>> {
        let own = op.contract_op.path.to_string();
        let text = op.doc.call.path.as_deref().unwrap_or(&own);
        let at = op.at(&["call", "path"]);
        let template = match PathTemplate::parse(text) {
            Ok(template) => template,
            Err(e) => {
                self.findings.push(Finding::error(
                    &op.facade.file,
                    at,
                    format!("path “{text}”: {e}"),
                ));
                return None;
            }
        };
        let variables: Vec<&str> = op.contract_op.path.variables().collect();
        let mut parts = Vec::new();
        for segment in &template.segments {
            let (name, rest) = match segment {
                Segment::Literal(text) => {
                    parts.push(PathPart::Fixed(format!("/{text}")));
                    continue;
                }
                Segment::Parameter(name) => (name, false),
                Segment::Rest(name) => (name, true),
            };
            parts.push(PathPart::Fixed("/".into()));
            if let Some(i) = values.iter().position(|(n, _)| n == name) {
                match values.remove(i).1 {
                    Template::Expr(expr) => parts.push(PathPart::Value(expr)),
                    _ => self.findings.push(Finding::error(
                        &op.facade.file,
                        op.at(&["send", "path", name]),
                        "a path variable needs an expression",
                    )),
                }
            } else if let Some(i) = variables.iter().position(|v| v == name) {
                parts.push(if rest {
                    PathPart::CapturedRest(i)
                } else {
                    PathPart::Captured(i)
                });
            } else {
                let near = suggest(name, variables.iter().copied()).map_or_else(
                    || format!("add `path: {{ {name}: … }}` below `send:`"),
                    |n| format!("did you mean “{n}”?"),
                );
                self.findings.push(
                    Finding::error(
                        &op.facade.file,
                        at,
                        format!("nothing gives {{{name}}} a value"),
                    )
                    .help(near),
                );
            }
        }
        if let Some(verb) = &template.verb {
            parts.push(PathPart::Fixed(format!(":{verb}")));
        }
        for (name, _) in values {
            self.findings.push(Finding::error(
                &op.facade.file,
                op.at_key(&["send", "path", &name]),
                format!("the backend's path has no {{{name}}}"),
            ));
        }
        Some(parts)
    }
}

/// What callers may send and ask for: what the operation says, else the facade, else JSON where the backend speaks XML.
fn media(op: &Op<'_>, wired: &Wired) -> Option<Media> {
    let own = if op.doc.media_types.is_empty() {
        &op.facade.doc.media_types
    } else {
        &op.doc.media_types
    };
    let offered = match own.as_slice() {
        [] if wired.xml.is_some() => vec![MediaType::Json],
        [] => return None,
        some => some.to_vec(),
    };
    // The caller's XML looks like the backend's unless the facade says otherwise.
    let mapping = op
        .facade
        .doc
        .xml
        .as_ref()
        .map(|x| x.mapping())
        .or_else(|| wired.xml.clone())
        .unwrap_or_default();
    Some(Media { offered, mapping })
}

/// Whether a fault's name is one of the codes that SOAP 1.1 §4.4.1 and SOAP 1.2 part 1 §5.4.6 define, or below one of them.
fn is_code(name: &str) -> bool {
    matches!(
        name.split('.').next(),
        Some(
            "Client"
                | "Server"
                | "Sender"
                | "Receiver"
                | "VersionMismatch"
                | "MustUnderstand"
                | "DataEncodingUnknown"
        )
    )
}

/// Whether a template names a root.
pub(crate) fn uses(template: &Template, root: &str) -> bool {
    let mut found = false;
    template.each_expr(&mut Vec::new(), &mut |_, expr| {
        found |= expr.references().iter().any(|r| r.steps[0].name == root)
    });
    found
}
