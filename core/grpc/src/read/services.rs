//! Services, their methods and their HTTP rules.

use std::collections::HashMap;

use porch_contract::{Finding, Position, Severity};

use super::texts::{method_position, without_comments};
use super::{Files, Method, Service};
use crate::build::Comments;
use crate::descriptor::{self, File, HttpRule};
use crate::rule::{Rule, rules};
use crate::types::{Cardinality, MessageId, Types};

/// Where methods are defined, for what is told of them. Looking is bounded: each takes going through a text.
pub(super) struct Texts<'t> {
    files: &'t Files,
    paths: &'t HashMap<String, String>,
    left: usize,
}

impl<'t> Texts<'t> {
    pub(super) fn new(files: &'t Files, paths: &'t HashMap<String, String>) -> Self {
        const MOST: usize = 100;
        let left = MOST;
        Self { files, paths, left }
    }

    /// The path of a file, and where a method stands in it.
    fn place(&mut self, file: &str, full: &str) -> (String, Position) {
        let Some(path) = self.paths.get(file) else {
            return (file.to_owned(), Position::default());
        };
        let (service, method) = full.rsplit_once('/').unwrap_or_default();
        let service = service.rsplit('.').next().unwrap_or(service);
        let looked = self.left > 0;
        self.left = self.left.saturating_sub(1);
        let text = self.files.get(path).filter(|_| looked);
        let at = text.and_then(|t| method_position(&without_comments(t), service, method));
        (path.clone(), at.unwrap_or_default())
    }
}

/// The services of all files. Rules of service configurations win over those in the files.
pub(super) fn services(
    all: &[File],
    types: &Types,
    own_rules: HashMap<String, HttpRule>,
    texts: Texts<'_>,
    findings: &mut Vec<Finding>,
) -> Vec<Service> {
    let mut reading = Reading {
        types,
        own_rules,
        texts,
        findings,
    };
    let services = all.iter().flat_map(|file| reading.file(file)).collect();
    for selector in reading.own_rules.keys() {
        reading.findings.push(Finding::new(
            Severity::Warning,
            "",
            Position::default(),
            format!(
                "the service configuration has a rule for “{selector}”, which is no method here"
            ),
        ));
    }
    services
}

/// What services are read with.
struct Reading<'r> {
    types: &'r Types,
    /// Rules of service configurations that no method has taken yet.
    own_rules: HashMap<String, HttpRule>,
    texts: Texts<'r>,
    findings: &'r mut Vec<Finding>,
}

impl Reading<'_> {
    fn file(&mut self, file: &File) -> Vec<Service> {
        let comments = Comments::of(file.source_code_info.as_ref());
        let mut services = Vec::new();
        for (i, service) in file.service.iter().enumerate() {
            let name = if file.package.is_empty() {
                service.name.clone()
            } else {
                format!("{}.{}", file.package, service.name)
            };
            // Reflection is how a server tells its definition, not something to publish.
            if name.starts_with("grpc.reflection.") {
                continue;
            }
            let mut methods = Vec::new();
            for (j, method) in service.method.iter().enumerate() {
                let documentation = comments.at(&[6, i as i32, 2, j as i32]);
                methods.extend(self.method(file, &name, method, &documentation));
            }
            services.push(Service {
                name,
                documentation: comments.at(&[6, i as i32]).into(),
                file: file.name.clone(),
                methods,
            });
        }
        services
    }

    fn method(
        &mut self,
        file: &File,
        service: &str,
        method: &descriptor::MethodProto,
        documentation: &str,
    ) -> Option<Method> {
        let full = format!("{service}/{}", method.name);
        let message = |name: &str| self.types.find(name.trim_start_matches('.'));
        let (Some(input), Some(output)) =
            (message(&method.input_type), message(&method.output_type))
        else {
            let text = format!("{full}: its messages are nowhere to be found, so it is left out");
            self.tell(Severity::Warning, file, &full, text);
            return None;
        };
        let options = method.options.as_ref();
        let own = self.own_rules.remove(&full.replace('/', "."));
        let http = own
            .as_ref()
            .or_else(|| options.and_then(|o| o.http.as_ref()));
        let (rules, mut wrong) = http.map_or_else(Default::default, rules);
        let fits = |rule: &Rule| {
            let unfit = unfit(self.types, input, output, rule);
            wrong.extend(unfit.clone());
            unfit.is_none()
        };
        let rules: Vec<Rule> = rules.into_iter().filter(fits).collect();
        for w in wrong {
            let text = format!("{full}: its HTTP rule: {w}");
            self.tell(Severity::Error, file, &full, text);
        }
        Some(Method {
            name: method.name.clone(),
            full,
            input,
            output,
            client_streaming: method.client_streaming,
            server_streaming: method.server_streaming,
            deprecated: options.is_some_and(|o| o.deprecated),
            documentation: documentation.into(),
            rules,
        })
    }

    fn tell(&mut self, severity: Severity, file: &File, method: &str, text: String) {
        let (path, at) = self.texts.place(&file.name, method);
        self.findings.push(Finding::new(severity, &path, at, text));
    }
}

/// Why a rule cannot be followed (`google/api/http.proto`): a variable binds a field that is neither repeated nor a message, and a body is
/// a field of the message itself.
fn unfit(types: &Types, input: MessageId, output: MessageId, rule: &Rule) -> Option<String> {
    for variable in &rule.template.variables {
        let path = variable.field.join(".");
        let fields = match types.resolve(input, &path) {
            Ok(fields) => fields,
            Err(e) => return Some(format!("the path's {{{path}}}: {e}")),
        };
        let field = fields.last()?;
        let what = match field.cardinality {
            Cardinality::Single => field.kind.message().map(|_| "a message"),
            Cardinality::Map { .. } => Some("a map"),
            _ => Some("a list"),
        };
        if let Some(what) = what {
            return Some(format!(
                "the path's {{{path}}} is {what}, which a path cannot carry"
            ));
        }
    }
    let bodies = [
        ("body", input, &rule.body),
        ("response_body", output, &rule.response_body),
    ];
    bodies.into_iter().find_map(|(key, message, name)| {
        let of = types.message(message);
        let unknown = !matches!(name.as_str(), "" | "*") && of.field(name).is_none();
        unknown.then(|| format!("its `{key}`: “{name}” is no field of {}", of.name))
    })
}
