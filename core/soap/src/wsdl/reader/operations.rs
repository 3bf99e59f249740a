//! Operations of a binding: what they take, give and declare.

use super::messages::tell_apart;
use super::*;

impl<'a, 'i> WsdlReader<'a, 'i> {
    pub(in crate::wsdl) fn operations(
        &mut self,
        compiler: &mut Compiler<'a, 'i>,
        ports: &[Port],
        port: Option<&str>,
    ) -> Vec<Operation> {
        let mut bindings = self.all("binding");
        // Those that can be called come first, the chosen one before all.
        let chosen = port
            .and_then(|p| ports.iter().find(|x| x.name == p))
            .map(|p| p.binding.as_str());
        let rank = |at: &At<'_, '_>| {
            let name = at.text("name");
            match ports.iter().position(|p| p.binding == name) {
                _ if chosen == Some(name) => 0,
                Some(i) => i + 1,
                None => usize::MAX,
            }
        };
        bindings.sort_by_key(rank);
        let called: HashSet<&str> = ports.iter().map(|p| p.binding.as_str()).collect();
        let mut operations: Vec<Operation> = Vec::new();
        let mut taken: HashSet<(String, String, String, String)> = HashSet::new();
        let mut bound_types = HashSet::new();
        for binding in bindings {
            let name = binding.text("name").to_owned();
            let Some(port_type) = self.named("portType", binding, binding.text("type")) else {
                self.warn(
                    binding,
                    format!("the binding “{name}” names a port type that is not there"),
                    "",
                );
                continue;
            };
            bound_types.insert((port_type.target, port_type.text("name").to_owned()));
            let Some((soap, version)) = soap_binding(binding.node) else {
                let http = binding
                    .node
                    .children()
                    .any(|n| n.tag_name().namespace() == Some(HTTP));
                let what = if http {
                    "an HTTP binding"
                } else {
                    "not a SOAP binding"
                };
                self.tell(
                    binding,
                    format!("“{name}” is {what}, and is passed by"),
                    "its operations are offered where a SOAP binding has them",
                );
                continue;
            };
            let transport = soap.attribute("transport").unwrap_or_default();
            if !transport.is_empty()
                && !transport.to_ascii_lowercase().contains("/http")
                && !transport.to_ascii_lowercase().contains("bindings/http")
            {
                self.warn(binding, format!("the binding “{name}” is carried by {transport}, not by HTTP, and is passed by"), "");
                continue;
            }
            if !ports.is_empty() && !called.contains(name.as_str()) {
                self.tell(
                    binding,
                    format!("no service offers the binding “{name}”"),
                    "its operations are called at the address that the backend gives",
                );
            }
            for bound in binding
                .node
                .children()
                .filter(|n| n.has_tag_name((WSDL, "operation")))
            {
                let bound = binding.to(bound);
                let Some(abstract_op) = self.abstract_operation(port_type, bound) else {
                    self.warn(
                        bound,
                        format!(
                            "the port type “{}” has no operation “{}”",
                            port_type.text("name"),
                            bound.text("name")
                        ),
                        "",
                    );
                    continue;
                };
                let input = abstract_op
                    .node
                    .children()
                    .find(|n| n.has_tag_name((WSDL, "input")));
                let input = input
                    .and_then(|n| n.attribute("name").or(n.attribute("message")))
                    .unwrap_or_default();
                let logical = (
                    port_type.target.to_owned(),
                    port_type.text("name").to_owned(),
                    bound.text("name").to_owned(),
                    input.to_owned(),
                );
                if !taken.insert(logical) {
                    // One logical operation on several ports is offered once.
                    continue;
                }
                let mut operation =
                    self.operation(compiler, bound, abstract_op, soap, version, &name);
                operation.name =
                    unique_name(&operations, &operation.name, input, port_type.text("name"));
                operations.push(operation);
            }
        }
        for port_type in self.all("portType") {
            if !bound_types.contains(&(port_type.target, port_type.text("name").to_owned())) {
                self.tell(
                    port_type,
                    format!(
                        "no binding says how the port type “{}” is called; it is passed by",
                        port_type.text("name")
                    ),
                    "",
                );
            }
        }
        operations
    }

    /// The operation of a port type that a bound one means; several may have its name (WSDL 1.1 §2.5).
    pub(super) fn abstract_operation(
        &self,
        port_type: At<'a, 'i>,
        bound: At<'a, 'i>,
    ) -> Option<At<'a, 'i>> {
        let name = bound.text("name");
        let all: Vec<_> = port_type
            .node
            .children()
            .filter(|n| {
                n.has_tag_name((WSDL, "operation"))
                    && n.attribute("name").map(str::trim) == Some(name)
            })
            .collect();
        if all.len() > 1 {
            let message = |of: Node<'a, 'i>, kind: &str| {
                of.children()
                    .find(|n| n.has_tag_name((WSDL, kind)))
                    .and_then(|n| n.attribute("name"))
                    .map(str::trim)
            };
            let fits = |n: &&Node<'a, 'i>| {
                ["input", "output"].iter().all(|kind| {
                    message(bound.node, kind)
                        .is_none_or(|m| message(**n, kind).is_none_or(|o| o == m))
                })
            };
            // The same number of namesakes stand before both, when their messages have no names.
            let before = bound
                .node
                .prev_siblings()
                .skip(1)
                .filter(|n| {
                    n.has_tag_name((WSDL, "operation"))
                        && n.attribute("name").map(str::trim) == Some(name)
                })
                .count();
            let fitting: Vec<_> = all.iter().filter(fits).collect();
            let found = if fitting.len() == 1 {
                fitting.first().copied()
            } else {
                all.get(before)
            };
            return found.map(|n| port_type.to(*n));
        }
        all.first().map(|n| port_type.to(*n))
    }

    pub(super) fn operation(
        &mut self,
        compiler: &mut Compiler<'a, 'i>,
        bound: At<'a, 'i>,
        abstract_op: At<'a, 'i>,
        soap: Node<'a, 'i>,
        version: SoapVersion,
        binding: &str,
    ) -> Operation {
        let name = bound.text("name").to_owned();
        let detail = bound.node.children().find(|n| is_soap(*n, "operation"));
        let style = detail
            .and_then(|d| d.attribute("style"))
            .or(soap.attribute("style"))
            .unwrap_or("document")
            .trim();
        if !matches!(style, "document" | "rpc") {
            self.warn(
                bound,
                format!("“{style}” is no style; document is taken"),
                "style is document or rpc (WSDL 1.1 §3.3)",
            );
        }
        let rpc = style == "rpc";
        let mut encoded = false;
        for body in bound.node.descendants().filter(|n| is_soap(*n, "body")) {
            match body.attribute("use").map(str::trim) {
                Some("encoded") => encoded = true,
                Some("literal") | None => {}
                Some(other) => self.warn(
                    bound.to(body),
                    format!("“{other}” is no use; literal is taken"),
                    "use is literal or encoded (WSDL 1.1 §3.5)",
                ),
            }
        }
        let mut operation = Operation {
            name: name.clone(),
            version,
            style: format!(
                "{}/{}",
                if rpc { "rpc" } else { "document" },
                if encoded { "encoded" } else { "literal" }
            ),
            encoded,
            binding: binding.to_owned(),
            action: detail
                .and_then(|d| d.attribute("soapAction"))
                .unwrap_or_default()
                .trim()
                .to_owned(),
            documentation: documentation(abstract_op.node),
            input: None,
            output: None,
            one_way: false,
            headers: Vec::new(),
            output_headers: Vec::new(),
            faults: Vec::new(),
            unavailable: None,
            losses: Vec::new(),
        };
        let result = self
            .messages(compiler, &mut operation, bound, abstract_op, rpc)
            .and_then(|()| {
                compiler.settle();
                let needed = operation
                    .input
                    .iter()
                    .chain(&operation.output)
                    .map(|m| m.type_id);
                needed
                    .into_iter()
                    .find_map(|id| compiler.broken_below(id))
                    .map_or(Ok(()), |why| Err(why.to_owned()))
            });
        if let (Err(why), None) = (result, &operation.unavailable) {
            self.warn(
                bound,
                format!("{name} cannot be called: {why}"),
                "the other operations are not affected",
            );
            operation.unavailable = Some(why);
        }
        operation
    }

    pub(super) fn messages(
        &mut self,
        compiler: &mut Compiler<'a, 'i>,
        operation: &mut Operation,
        bound: At<'a, 'i>,
        abstract_op: At<'a, 'i>,
        rpc: bool,
    ) -> Result<(), String> {
        let mut no_output = true;
        for part in abstract_op
            .node
            .children()
            .filter(|n| n.tag_name().namespace() == Some(WSDL))
        {
            let kind = part.tag_name().name();
            if !matches!(kind, "input" | "output" | "fault") {
                continue;
            }
            let part = abstract_op.to(part);
            let message = self.named("message", part, part.text("message"));
            let name = part.text("name");
            let concrete = bound.node.children().find(|n| {
                n.has_tag_name((WSDL, kind))
                    && (kind != "fault" || n.attribute("name").map(str::trim) == Some(name))
            });
            if kind == "fault" {
                let Some(message) = message else { continue };
                self.fault(compiler, operation, name, message);
                continue;
            }
            let message =
                message.ok_or_else(|| format!("there is no message “{}”", part.text("message")))?;
            let concrete = concrete.map(|n| bound.to(n));
            let headers = self.headers(compiler, operation, concrete)?;
            let taken: Vec<String> = headers
                .iter()
                .filter(|(m, _, _)| m.node == message.node)
                .map(|(_, p, _)| p.clone())
                .collect();
            let members = tell_apart(headers.into_iter().map(|(_, _, m)| m).collect());
            let wrapper = format!(
                "{}{}",
                bound.text("name"),
                if kind == "output" { "Response" } else { "" }
            );
            let made = self.message(
                compiler,
                operation,
                (message, &taken),
                concrete,
                rpc.then_some((bound, wrapper.as_str())),
            )?;
            if kind == "output" {
                no_output = false;
                (operation.output, operation.output_headers) = (Some(made), members);
            } else {
                (operation.input, operation.headers) = (Some(made), members);
            }
        }
        if operation.input.is_none() {
            if no_output {
                return Err("it takes no input and gives no output".into());
            }
            self.warn(
                bound,
                format!(
                    "{} takes no input: it is called with an empty body",
                    operation.name
                ),
                "the definition means a notification, which HTTP has no way for",
            );
            let type_id = compiler.parts_type(&operation.name, Vec::new());
            operation.input = Some(Message {
                element: None,
                type_id,
                rpc: false,
            });
        }
        operation.one_way = no_output;
        // An answer without anything is none.
        if let Some(output) = &operation.output
            && output.element.is_none()
            && operation.output_headers.is_empty()
            && compiler.is_empty(output.type_id)
        {
            operation.output = None;
        }
        Ok(())
    }

    pub(super) fn fault(
        &mut self,
        compiler: &mut Compiler<'a, 'i>,
        operation: &mut Operation,
        name: &str,
        message: At<'a, 'i>,
    ) {
        for part in parts_of(message) {
            match self.part_member(compiler, part) {
                Ok(member) => operation.faults.push((name.to_owned(), member)),
                Err(why) => self.warn(
                    part,
                    format!("the detail of the fault “{name}” is not typed: {why}"),
                    "it is shown in the generic mapping",
                ),
            }
        }
    }

    /// The header elements of a message: where their part comes from, its name, and the element.
    pub(super) fn headers(
        &mut self,
        compiler: &mut Compiler<'a, 'i>,
        operation: &mut Operation,
        concrete: Option<At<'a, 'i>>,
    ) -> Result<Vec<(At<'a, 'i>, String, Member)>, String> {
        let Some(concrete) = concrete else {
            return Ok(Vec::new());
        };
        let mut headers: Vec<(At<'a, 'i>, String, Member)> = Vec::new();
        for node in concrete
            .node
            .descendants()
            .filter(|n| is_soap(*n, "header"))
        {
            let at = concrete.to(node);
            let found = self.named("message", at, at.text("message"));
            let part = found.and_then(|m| parts_of(m).find(|p| p.text("name") == at.text("part")));
            let (Some(message), Some(part)) = (found, part) else {
                self.warn(
                    at,
                    format!(
                        "the header “{}” of the message “{}” is not there, and is left out",
                        at.text("part"),
                        at.text("message")
                    ),
                    "",
                );
                continue;
            };
            match self.part_member(compiler, part) {
                Ok(mut member) => {
                    if part.text("element").is_empty() {
                        member.namespace = compiler.namespace(at.text("namespace"));
                    }
                    member.min = 0;
                    headers.push((message, at.text("part").to_owned(), member));
                }
                Err(why) => self.warn(
                    at,
                    format!("the header “{}” is left out: {why}", at.text("part")),
                    "",
                ),
            }
            for fault in node.children().filter(|n| is_soap(*n, "headerfault")) {
                let at = concrete.to(fault);
                let part = self
                    .named("message", at, at.text("message"))
                    .and_then(|m| parts_of(m).find(|p| p.text("name") == at.text("part")));
                if let Some(Ok(member)) = part.map(|p| self.part_member(compiler, p)) {
                    operation.faults.push((at.text("part").to_owned(), member));
                }
            }
        }
        Ok(headers)
    }
}
