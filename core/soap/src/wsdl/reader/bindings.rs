//! Bindings: which operations can be called, and where.

use super::*;

/// A binding that can be called: its SOAP extension and its port type.
#[derive(Clone, Copy)]
pub(super) struct SoapBinding<'a, 'i> {
    pub(super) binding: At<'a, 'i>,
    pub(super) port_type: At<'a, 'i>,
    pub(super) soap: Node<'a, 'i>,
    pub(super) version: SoapVersion,
}

/// What was taken so far.
#[derive(Default)]
struct Offered {
    operations: Vec<Operation>,
    /// Port type, operation and input: one logical operation on several ports is offered once.
    taken: HashSet<(String, String, String, String)>,
}

impl<'a, 'i> WsdlReader<'a, 'i> {
    pub(in crate::wsdl) fn operations(
        &mut self,
        compiler: &mut Compiler<'a, 'i>,
        ports: &[Port],
        port: Option<&str>,
    ) -> Vec<Operation> {
        let mut offered = Offered::default();
        let mut bound_types = HashSet::new();
        for binding in self.bindings(ports, port) {
            let Some(port_type) = self.named("portType", binding, binding.text("type")) else {
                let name = binding.text("name");
                let what = format!("the binding “{name}” names a port type that is not there");
                self.warn(binding, what, "");
                continue;
            };
            bound_types.insert((port_type.target, port_type.text("name").to_owned()));
            if let Some(binding) = self.soap_binding(binding, port_type, ports) {
                self.bound_operations(compiler, binding, &mut offered);
            }
        }
        for port_type in self.all("portType") {
            if !bound_types.contains(&(port_type.target, port_type.text("name").to_owned())) {
                let what = format!(
                    "no binding says how the port type “{}” is called; it is passed by",
                    port_type.text("name")
                );
                self.tell(port_type, what, "");
            }
        }
        offered.operations
    }

    /// All bindings; those that can be called come first, the chosen port's before all.
    fn bindings(&self, ports: &[Port], port: Option<&str>) -> Vec<At<'a, 'i>> {
        let mut bindings = self.all("binding");
        let chosen = port
            .and_then(|p| ports.iter().find(|x| x.name == p))
            .map(|p| p.binding.as_str());
        bindings.sort_by_key(|at| {
            let name = at.text("name");
            match ports.iter().position(|p| p.binding == name) {
                _ if chosen == Some(name) => 0,
                Some(i) => i + 1,
                None => usize::MAX,
            }
        });
        bindings
    }

    /// A binding as SOAP carried by HTTP; of others it is told why they are passed by.
    fn soap_binding(
        &mut self,
        binding: At<'a, 'i>,
        port_type: At<'a, 'i>,
        ports: &[Port],
    ) -> Option<SoapBinding<'a, 'i>> {
        let name = binding.text("name");
        let Some((soap, version)) = soap_binding(binding.node) else {
            let mut children = binding.node.children();
            let what = if children.any(|n| n.tag_name().namespace() == Some(HTTP)) {
                "an HTTP binding"
            } else {
                "not a SOAP binding"
            };
            let operations = listed(binding.node);
            self.tell(
                binding,
                format!("“{name}” is {what}, and is passed by with its operations{operations}"),
                "its operations are offered where a SOAP binding has them",
            );
            return None;
        };
        let transport = soap.attribute("transport").unwrap_or_default();
        let lower = transport.to_ascii_lowercase();
        if !transport.is_empty() && !lower.contains("/http") && !lower.contains("bindings/http") {
            self.warn(
                binding,
                format!(
                    "the binding “{name}” is carried by {transport}, not by HTTP, and is passed by"
                ),
                "",
            );
            return None;
        }
        if !ports.is_empty() && !ports.iter().any(|p| p.binding == name) {
            self.tell(
                binding,
                format!("no service offers the binding “{name}”"),
                "its operations are called at the address that the backend gives",
            );
        }
        Some(SoapBinding {
            binding,
            port_type,
            soap,
            version,
        })
    }

    fn bound_operations(
        &mut self,
        compiler: &mut Compiler<'a, 'i>,
        of: SoapBinding<'a, 'i>,
        offered: &mut Offered,
    ) {
        let port_type = of.port_type.text("name");
        let operations = of.binding.node.children();
        for bound in operations.filter(|n| n.has_tag_name((WSDL, "operation"))) {
            let bound = of.binding.to(bound);
            let name = bound.text("name");
            let Some(abstract_op) = self.abstract_operation(of.port_type, bound) else {
                let what = format!("the port type “{port_type}” has no operation “{name}”");
                self.warn(bound, what, "");
                continue;
            };
            let mut parts = abstract_op.node.children();
            let input = parts
                .find(|n| n.has_tag_name((WSDL, "input")))
                .and_then(|n| n.attribute("name").or(n.attribute("message")))
                .unwrap_or_default();
            let logical = [of.port_type.target, port_type, name, input].map(str::to_owned);
            if !offered.taken.insert(logical.into()) {
                continue;
            }
            let mut operation = self.operation(compiler, of, bound, abstract_op);
            operation.name = unique_name(&offered.operations, &operation.name, input, port_type);
            offered.operations.push(operation);
        }
    }
}

/// The names of a binding's operations, of which eight at most are spelt out.
fn listed(binding: Node<'_, '_>) -> String {
    const MOST: usize = 8;
    let operations = binding.children();
    let names: Vec<&str> = operations
        .filter(|n| n.has_tag_name((WSDL, "operation")))
        .filter_map(|n| n.attribute("name").map(str::trim))
        .collect();
    match names.len() {
        0 => String::new(),
        n if n <= MOST => format!(": {}", names.join(", ")),
        n => format!(": {} and {} more", names[..MOST].join(", "), n - MOST),
    }
}
