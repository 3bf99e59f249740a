//! What an HTTP backend says of itself, where its document names a description: what is called, sent and answered is held
//! against it.

use std::sync::{Arc, OnceLock};

use indexmap::IndexMap;
use porch_contract::{
    Finding, Operation, Parameter, PathTemplate, Place, Segment, Severity, Step, suggest,
};
use porch_rules::expr::Template;
use serde_json::{Map, Value, json};

use super::look::described;
use crate::Files;
use crate::compiled::Definition;
use crate::documents::{BackendDoc, OperationDoc};
use crate::read::{Document, beside};
use crate::source::Source;
use crate::wiring::{AnswerShape, CallCompiler, Target};

/// At most so many operations are named where none is near.
const LISTED: usize = 8;

/// The operations of a description.
#[derive(Debug)]
pub(super) struct Description {
    operations: IndexMap<String, Operation>,
    /// Its document, with what each operation gives.
    document: Arc<OnceLock<Value>>,
    findings: Vec<Finding>,
}

impl Definition for Description {
    fn findings(&self) -> &[Finding] {
        &self.findings
    }

    fn sides(&self, _: &OperationDoc) -> Option<Value> {
        None
    }
}

/// The file that a description may be read from: it is in one piece.
pub(super) fn sources(files: &Files, backend: &Document<BackendDoc>) -> Vec<String> {
    let Some(name) = &backend.doc.definition else {
        return Vec::new();
    };
    let path = beside(&backend.file, name);
    Vec::from_iter(files.contains_key(&path).then_some(path))
}

/// Reads the description that a backend's document names.
pub(super) fn read(
    files: &Files,
    backend: &Document<BackendDoc>,
    name: &str,
) -> Result<Description, Box<Finding>> {
    let path = beside(&backend.file, name);
    let at = backend
        .node
        .locate(&[Step::Key("definition".into())], false);
    let wrong = |message: String| Finding::error(&backend.file, at, message);
    let Some(text) = files.get(&path) else {
        let near = suggest(&path, files.keys().map(String::as_str));
        let near = near.map_or_else(String::new, |n| format!("did you mean “{n}”?"));
        let told = wrong(format!("there is no file “{path}”")).help(near);
        return Err(Box::new(told));
    };
    if !porch_odata::is_metadata(text) && !porch_describe::is_description(text) {
        let help = "an HTTP backend's definition is an OpenAPI document or OData metadata";
        let told = wrong(format!("“{path}” describes no HTTP backend")).help(help);
        return Err(Box::new(told));
    }
    let read = described(&Source {
        files: Files::from([(path.clone(), text.clone())]),
        main: path,
        ..Source::default()
    })?;
    let contract = read.described.contract;
    // At the backend a path may be another than in what would be published of it.
    let mut operations = contract.operations;
    for (id, operation) in &mut operations {
        let upstream = read.described.operations.get(id);
        let path = upstream.and_then(|u| u.path.as_deref());
        let path = path.map(|p| p.split('?').next().unwrap_or_default());
        if let Some(Ok(path)) = path.map(PathTemplate::parse) {
            operation.path = path;
        }
    }
    let given: Map<String, Value> = operations
        .iter()
        .filter_map(|(id, op)| Some((id.clone(), op.reply.clone()?)))
        .collect();
    let mut document = contract.document;
    document["operations"] = json!(given);
    // What is wrong with parts that nobody calls is the backend's own business.
    let mut findings = read.findings;
    findings.retain(|f| f.severity > Severity::Note);
    for finding in &mut findings {
        finding.severity = finding.severity.min(Severity::Warning);
    }
    Ok(Description {
        operations,
        document: Arc::new(OnceLock::from(document)),
        findings,
    })
}

/// Whether a path that is called is one of an operation's; a fixed segment may be the value of a variable.
fn fits(called: &PathTemplate, of: &PathTemplate, exactly: bool) -> bool {
    let is_text = |s: &Segment| matches!(s, Segment::Literal(_));
    let all = called.segments.iter().zip(&of.segments);
    called.segments.len() == of.segments.len()
        && called.verb == of.verb
        && all.into_iter().all(|(a, b)| match (a, b) {
            (Segment::Literal(a), Segment::Literal(b)) => a == b,
            (a, _) if is_text(a) => !exactly && !is_text(b),
            (_, b) => !is_text(b),
        })
}

impl Description {
    fn find(&self, method: &str, path: &PathTemplate) -> Option<&Operation> {
        let of_method = || self.operations.values().filter(|o| o.method == method);
        let exact = of_method().find(|o| fits(path, &o.path, true));
        exact.or_else(|| of_method().find(|o| fits(path, &o.path, false)))
    }

    /// Its document.
    fn document(&self) -> &Value {
        self.document.get().unwrap_or(&Value::Null)
    }
}

/// The operation of a description that is called.
pub(super) struct Called<'d> {
    of: &'d Description,
    operation: &'d Operation,
}

impl<'d> Called<'d> {
    /// What is known of its answer.
    pub(super) fn shape(&self) -> Option<AnswerShape> {
        self.operation.reply.as_ref()?;
        Some(AnswerShape {
            document: self.of.document.clone(),
            body: vec!["operations".to_owned(), self.operation.id.clone()],
            soap_header: None,
        })
    }

    /// What a body that is sent must fit.
    pub(super) fn body(&self) -> Option<Target<'d>> {
        let (schema, _) = self.operation.body.as_ref()?;
        Some(Target {
            what: format!(
                "the body of {} {}",
                self.operation.method, self.operation.path
            ),
            root: self.of.document(),
            schema,
        })
    }

    fn query(&self) -> impl Iterator<Item = &'d Parameter> {
        let all = self.operation.parameters.iter();
        all.filter(|p| p.place == Place::Query)
    }
}

impl CallCompiler<'_> {
    /// The operation of the backend's description that is called; what it has not is an error.
    pub(super) fn described<'d>(&mut self, of: Option<&'d Description>) -> Option<Called<'d>> {
        let of = of?;
        let own = self.contract_op.path.to_string();
        let path = self.call.path.clone().unwrap_or(own);
        let path = path.split('?').next().unwrap_or_default();
        let template = PathTemplate::parse(path).ok()?;
        let method = self.call.method.as_ref();
        let method = method.unwrap_or(&self.contract_op.method).clone();
        if let Some(operation) = of.find(&method, &template) {
            return Some(Called { of, operation });
        }
        let names: Vec<String> = of
            .operations
            .values()
            .map(|o| format!("{} {}", o.method, o.path))
            .collect();
        let wanted = format!("{method} {path}");
        let help = match suggest(&wanted, names.iter().map(String::as_str)) {
            Some(near) => format!("did you mean “{near}”?"),
            None => {
                let shown: Vec<&str> = names.iter().take(LISTED).map(String::as_str).collect();
                let more = if names.len() > LISTED { " …" } else { "" };
                format!("it has: {}{more}", shown.join(", "))
            }
        };
        let at = self.at(&["call", "path"]);
        self.error(at, format!("the definition has no {wanted}"), help);
        None
    }

    /// Holds the query that is sent against the description.
    pub(super) fn described_query(&mut self, called: &Called<'_>, sent: &[(String, Template)]) {
        let known: Vec<&str> = called.query().map(|p| p.name.as_str()).collect();
        let what = format!("{} {}", called.operation.method, called.operation.path);
        for (name, _) in sent.iter().filter(|(n, _)| !known.contains(&n.as_str())) {
            let help = match suggest(name, known.iter().copied()) {
                Some(near) => format!("did you mean “{near}”?"),
                None if known.is_empty() => "it has none".to_owned(),
                None => format!("there are: {}", known.join(", ")),
            };
            let at = self.at_key(&["send", "query", name]);
            self.error(at, format!("{what} has no query parameter “{name}”"), help);
        }
        // Before the question mark of the path there may be more of them.
        let fixed = self.call.path.as_ref().is_some_and(|p| p.contains('?'));
        for needed in called.query().filter(|p| p.required && !fixed) {
            if !sent.iter().any(|(n, _)| *n == needed.name) {
                let at = self.at_key(&["send", "query"]);
                let message = format!("{what} needs the query parameter “{}”", needed.name);
                self.error(at, message, format!("add `{}: …`", needed.name));
            }
        }
    }
}
