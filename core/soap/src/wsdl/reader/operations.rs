//! Operations of a binding: what they take, give and declare.

use super::bindings::SoapBinding;
use super::*;

impl<'a, 'i> WsdlReader<'a, 'i> {
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
        of: SoapBinding<'a, 'i>,
        bound: At<'a, 'i>,
        abstract_op: At<'a, 'i>,
    ) -> Operation {
        let detail = bound.node.children().find(|n| is_soap(*n, "operation"));
        let rpc = self.is_rpc(of, bound, detail);
        let encoded = self.is_encoded(bound);
        let mut operation = Operation {
            name: bound.text("name").to_owned(),
            version: of.version,
            style: format!(
                "{}/{}",
                if rpc { "rpc" } else { "document" },
                if encoded { "encoded" } else { "literal" }
            ),
            encoded,
            binding: of.binding.text("name").to_owned(),
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
                let messages = operation.input.iter().chain(&operation.output);
                let mut needed = messages.map(|m| m.type_id);
                let broken = needed.find_map(|id| compiler.broken_below(id));
                broken.map_or(Ok(()), |why| Err(why.clone().into()))
            });
        if let (Err(why), None) = (result, &operation.unavailable) {
            self.warn(
                bound,
                format!("{} cannot be called: {why}", operation.name),
                "the other operations are not affected",
            );
            operation.unavailable = Some(why.to_string());
        }
        operation
    }

    fn is_rpc(
        &mut self,
        of: SoapBinding<'a, 'i>,
        bound: At<'a, 'i>,
        detail: Option<Node<'a, 'i>>,
    ) -> bool {
        let style = detail
            .and_then(|d| d.attribute("style"))
            .or(of.soap.attribute("style"))
            .unwrap_or("document")
            .trim();
        if !matches!(style, "document" | "rpc") {
            self.warn(
                bound,
                format!("“{style}” is no style; document is taken"),
                "style is document or rpc (WSDL 1.1 §3.3)",
            );
        }
        style == "rpc"
    }

    fn is_encoded(&mut self, bound: At<'a, 'i>) -> bool {
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
        encoded
    }

    fn messages(
        &mut self,
        compiler: &mut Compiler<'a, 'i>,
        operation: &mut Operation,
        bound: At<'a, 'i>,
        abstract_op: At<'a, 'i>,
        rpc: bool,
    ) -> Result<(), Unusable> {
        let mut no_output = true;
        let parts = abstract_op.node.children();
        for part in parts.filter(|n| n.tag_name().namespace() == Some(WSDL)) {
            let kind = part.tag_name().name();
            if !matches!(kind, "input" | "output" | "fault") {
                continue;
            }
            let part = abstract_op.to(part);
            let message = self.named("message", part, part.text("message"));
            match (kind, message) {
                ("fault", Some(message)) => {
                    self.fault(compiler, operation, part.text("name"), message);
                }
                ("input" | "output", Some(message)) => {
                    no_output &= kind == "input";
                    self.whole_message(compiler, operation, bound, (kind, message), rpc)?;
                }
                ("input" | "output", None) => {
                    return Err(Unusable::NoMessage(part.text("message").to_owned()));
                }
                _ => {}
            }
        }
        if operation.input.is_none() {
            if no_output {
                return Err(Unusable::NothingToSay);
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

    /// An input or output with its header elements.
    fn whole_message(
        &mut self,
        compiler: &mut Compiler<'a, 'i>,
        operation: &mut Operation,
        bound: At<'a, 'i>,
        (kind, message): (&str, At<'a, 'i>),
        rpc: bool,
    ) -> Result<(), Unusable> {
        let mut children = bound.node.children();
        let concrete = children.find(|n| n.has_tag_name((WSDL, kind)));
        let concrete = concrete.map(|n| bound.to(n));
        let headers = self.headers(compiler, operation, concrete)?;
        let taken: Vec<String> = headers
            .iter()
            .filter(|(m, _, _)| m.node == message.node)
            .map(|(_, p, _)| p.clone())
            .collect();
        let mut members: Vec<Member> = headers.into_iter().map(|(_, _, m)| m).collect();
        tell_apart(&mut members, &str::to_owned);
        let end = if kind == "output" { "Response" } else { "" };
        let wrapper = format!("{}{end}", bound.text("name"));
        let made = self.message(
            compiler,
            operation,
            (message, &taken),
            concrete,
            rpc.then_some((bound, wrapper.as_str())),
        )?;
        if kind == "output" {
            (operation.output, operation.output_headers) = (Some(made), members);
        } else {
            (operation.input, operation.headers) = (Some(made), members);
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
    ) -> Result<Vec<(At<'a, 'i>, String, Member)>, Unusable> {
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
