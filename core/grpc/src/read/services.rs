//! Services, their methods and their HTTP rules.

use std::collections::HashMap;

use porch_contract::{Finding, Position, Severity};

use super::{Method, Service};
use crate::build::Comments;
use crate::descriptor::{self, File, HttpRule};
use crate::rule::rules;
use crate::types::Types;

/// The services of all files. Rules of service configurations win over those in the files.
pub(super) fn services(
    all: &[File],
    types: &Types,
    own_rules: HashMap<String, HttpRule>,
    findings: &mut Vec<Finding>,
) -> Vec<Service> {
    let mut reading = Reading {
        types,
        own_rules,
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
            self.warn(
                file,
                format!("{full}: its messages are nowhere to be found, so it is left out"),
            );
            return None;
        };
        let options = method.options.as_ref();
        let own = self.own_rules.remove(&full.replace('/', "."));
        let http = own
            .as_ref()
            .or_else(|| options.and_then(|o| o.http.as_ref()));
        let (rules, wrong) = http.map_or_else(Default::default, rules);
        for w in wrong {
            self.warn(file, format!("{full}: its HTTP rule: {w}"));
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

    fn warn(&mut self, file: &File, text: String) {
        self.findings.push(Finding::new(
            Severity::Warning,
            &file.name,
            Position::default(),
            text,
        ));
    }
}
