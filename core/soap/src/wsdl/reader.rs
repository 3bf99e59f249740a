//! From documents to operations.

use super::*;
use crate::plan::TypePlan;

/// A node with the file and the target namespace it stands in.
#[derive(Clone, Copy)]
pub(super) struct At<'a, 'i> {
    node: Node<'a, 'i>,
    file: &'a str,
    target: &'a str,
}

impl<'a, 'i> At<'a, 'i> {
    fn to(self, node: Node<'a, 'i>) -> Self {
        Self { node, ..self }
    }

    fn component(self) -> Component<'a, 'i> {
        Component {
            node: self.node,
            source: Source {
                target: self.target,
                file: self.file,
                ..Default::default()
            },
        }
    }

    fn text(&self, name: &str) -> &'a str {
        self.node.attribute(name).unwrap_or_default().trim()
    }
}

pub(super) type Parsed<'i> = (&'i str, Result<Document<'i>, (Position, String)>);

pub(super) struct Reader<'a, 'i> {
    pub(super) parsed: &'a [Parsed<'i>],
    pub(super) findings: Vec<Finding>,
    /// The `definitions` elements, the main one first.
    pub(super) documents: Vec<At<'a, 'i>>,
    pub(super) components: HashMap<(&'static str, String, String), At<'a, 'i>>,
    pub(super) used: Vec<String>,
    /// Schema elements with the file they stand in and the namespace that they take over.
    pub(super) schemas: Vec<(Node<'a, 'i>, &'a str, Option<&'a str>)>,
}

const KINDS: [&str; 4] = ["message", "portType", "binding", "service"];

impl<'a, 'i> Reader<'a, 'i> {
    fn warn(&mut self, at: At<'_, '_>, message: String, help: &str) {
        self.findings
            .push(Finding::new(Severity::Warning, at.file, place(at.node), message).help(help));
    }

    fn tell(&mut self, at: At<'_, '_>, message: String, help: &str) {
        self.findings
            .push(Finding::new(Severity::Note, at.file, place(at.node), message).help(help));
    }

    /// Takes in a WSDL and those it imports, circles and all.
    pub(super) fn load(&mut self, file: &'a str, root: Node<'a, 'i>) {
        let mut seen = HashSet::from([file]);
        let mut open = vec![(file, root)];
        while let Some((file, root)) = open.pop() {
            let at = At {
                node: root,
                file,
                target: root.attribute("targetNamespace").unwrap_or(""),
            };
            self.documents.push(at);
            for node in root
                .children()
                .filter(|n| n.tag_name().namespace() == Some(WSDL))
            {
                let here = at.to(node);
                if let Some(kind) = KINDS.iter().find(|k| **k == node.tag_name().name()) {
                    self.components
                        .entry((kind, at.target.to_owned(), here.text("name").to_owned()))
                        .or_insert(here);
                    continue;
                }
                if node.tag_name().name() == "types" {
                    let schemas: Vec<_> = node
                        .children()
                        .filter(|n| is_schema(*n))
                        .map(|n| (n, file, None))
                        .collect();
                    self.schemas.extend(schemas);
                }
                if node.tag_name().name() != "import" || here.text("location").is_empty() {
                    continue;
                }
                let Some((name, document)) = self.find_file(here, here.text("location")) else {
                    continue;
                };
                if !seen.insert(name) {
                    continue;
                }
                let found = document.root_element();
                if found.has_tag_name((WSDL, "definitions")) {
                    open.insert(0, (name, found));
                } else if is_schema(found) {
                    // Some import their schemas this way.
                    self.schemas.push((found, name, None));
                } else {
                    self.warn(
                        here,
                        format!(
                            "“{}” is neither a WSDL nor a schema, and is passed by",
                            here.text("location")
                        ),
                        "",
                    );
                }
            }
        }
    }

    pub(super) fn index(&mut self) -> Index<'a, 'i> {
        let mut index = Index::default();
        let mut seen = HashSet::new();
        let mut redefined = Vec::new();
        let mut open: Vec<(Node<'a, 'i>, &'a str, Option<&'a str>)> = self.schemas.clone();
        open.reverse();
        for (_, file, _) in &open {
            seen.insert(((*file).to_owned(), String::new()));
        }
        while let Some((schema, file, adopted)) = open.pop() {
            index.add(schema, file, adopted);
            let target = schema
                .attribute("targetNamespace")
                .or(adopted)
                .unwrap_or("");
            for node in schema
                .children()
                .filter(|n| n.tag_name().namespace().is_some_and(is_xsd))
            {
                let kind = node.tag_name().name();
                if !matches!(kind, "import" | "include" | "redefine") {
                    continue;
                }
                let here = At { node, file, target };
                if kind == "redefine" {
                    redefined.push(here);
                }
                if here.text("schemaLocation").is_empty() || built_in(here) {
                    continue;
                }
                let Some((name, document)) = self.find_file(here, here.text("schemaLocation"))
                else {
                    continue;
                };
                let takes = (kind != "import").then_some(target);
                if !seen.insert((name.to_owned(), takes.unwrap_or("").to_owned())) {
                    continue;
                }
                let found = document.root_element();
                if is_schema(found) {
                    open.push((found, name, takes));
                } else if found.has_tag_name((WSDL, "definitions")) {
                    let inside = found
                        .children()
                        .filter(|n| n.has_tag_name((WSDL, "types")))
                        .flat_map(|t| t.children())
                        .filter(|n| is_schema(*n));
                    open.extend(inside.map(|n| (n, name, None)));
                } else {
                    self.warn(
                        here,
                        format!(
                            "“{}” is no schema, and is passed by",
                            here.text("schemaLocation")
                        ),
                        "",
                    );
                }
            }
        }
        for at in redefined {
            let schema = at.node.parent_element().unwrap_or(at.node);
            let source = Source {
                target: at.target,
                qualified_elements: schema.attribute("elementFormDefault") == Some("qualified"),
                qualified_attributes: schema.attribute("attributeFormDefault") == Some("qualified"),
                file: at.file,
            };
            index.redefine(at.node, source);
        }
        index.connect();
        index
    }

    /// The file that a location means, relative to the file that names it; a finding when there is none.
    fn find_file(&mut self, at: At<'_, '_>, location: &str) -> Option<(&'a str, &'a Document<'i>)> {
        let found = find_name(self.parsed.iter().map(|(n, _)| *n), at.file, location);
        let Some(name) = found else {
            let kind = at.node.tag_name().name();
            self.warn(at, format!("“{location}” ({kind}) is not among the files given"), "operations that need nothing of it still work; give the folder or ZIP that holds it");
            return None;
        };
        if !self.used.iter().any(|u| u == name) {
            self.used.push(name.to_owned());
        }
        match self.parsed.iter().find(|(n, _)| *n == name)? {
            (name, Ok(document)) => Some((name, document)),
            (name, Err((position, message))) => {
                let finding = Finding::new(
                    Severity::Warning,
                    name,
                    *position,
                    format!("{message}; the file is passed by"),
                );
                if !self
                    .findings
                    .iter()
                    .any(|f| f.file == finding.file && f.message == finding.message)
                {
                    self.findings
                        .push(finding.help("operations that need nothing of it still work"));
                }
                None
            }
        }
    }

    /// A message, port type or binding by a reference to it; a missing prefix is forgiven and reported.
    fn named(&mut self, kind: &'static str, at: At<'a, 'i>, text: &str) -> Option<At<'a, 'i>> {
        let text = text.trim();
        let (prefix, local) = text.split_once(':').unwrap_or(("", text));
        let uri = at
            .node
            .lookup_namespace_uri((!prefix.is_empty()).then_some(prefix));
        let exact =
            self.components
                .get(&(kind, uri.unwrap_or(at.target).to_owned(), local.to_owned()));
        if let Some(found) = exact.filter(|_| prefix.is_empty() || uri.is_some()) {
            return Some(*found);
        }
        let mut others = self
            .components
            .iter()
            .filter(|((k, _, name), _)| *k == kind && name == local)
            .map(|(_, at)| *at);
        let (first, second) = (others.next(), others.next());
        let found = first.filter(|_| second.is_none())?;
        self.tell(
            at,
            format!(
                "“{text}” has no prefix that leads to it; the {kind} “{local}” of “{}” is taken",
                found.target
            ),
            "give the reference the prefix of its namespace",
        );
        Some(found)
    }

    fn all(&self, kind: &'static str) -> Vec<At<'a, 'i>> {
        self.documents
            .iter()
            .flat_map(|d| {
                d.node
                    .children()
                    .filter(|n| n.has_tag_name((WSDL, kind)))
                    .map(|n| d.to(n))
            })
            .collect()
    }

    pub(super) fn ports(&mut self) -> Vec<Port> {
        let mut ports = Vec::new();
        // Services that only come along with an import are another's; they count when the main file has none.
        let mut services = self.all("service");
        let own: Vec<_> = services
            .iter()
            .filter(|s| s.file == self.documents[0].file)
            .copied()
            .collect();
        if !own.is_empty() {
            services = own;
        }
        for service in services {
            for port in service
                .node
                .children()
                .filter(|n| n.has_tag_name((WSDL, "port")))
            {
                let at = service.to(port);
                let address = port.children().find(|n| {
                    n.tag_name().name() == "address"
                        && matches!(n.tag_name().namespace(), Some(SOAP | SOAP12 | HTTP))
                });
                let address = address
                    .and_then(|a| a.attribute("location"))
                    .unwrap_or_default()
                    .trim();
                let Some(binding) = self.named("binding", at, at.text("binding")) else {
                    self.warn(
                        at,
                        format!(
                            "the port “{}” names a binding that is not there",
                            at.text("name")
                        ),
                        "",
                    );
                    continue;
                };
                let version = soap_binding(binding.node).map(|(_, v)| v);
                if version.is_none() {
                    continue;
                }
                ports.push(Port {
                    service: service.text("name").to_owned(),
                    name: at.text("name").to_owned(),
                    binding: binding.text("name").to_owned(),
                    version,
                    address: address.to_owned(),
                });
            }
        }
        ports
    }

    pub(super) fn operations(
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
    fn abstract_operation(&self, port_type: At<'a, 'i>, bound: At<'a, 'i>) -> Option<At<'a, 'i>> {
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

    fn operation(
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

    fn messages(
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

    fn fault(
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
    fn headers(
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

    fn message(
        &mut self,
        compiler: &mut Compiler<'a, 'i>,
        operation: &mut Operation,
        (message, taken): (At<'a, 'i>, &[String]),
        concrete: Option<At<'a, 'i>>,
        rpc: Option<(At<'a, 'i>, &str)>,
    ) -> Result<Message, String> {
        let body = concrete.and_then(|c| {
            c.node
                .descendants()
                .find(|n| is_soap(*n, "body"))
                .map(|n| c.to(n))
        });
        let listed: Option<Vec<&str>> = body
            .and_then(|b| b.node.attribute("parts"))
            .map(|p| p.split_ascii_whitespace().collect());
        let attached: Vec<&str> = concrete
            .into_iter()
            .flat_map(|c| c.node.descendants())
            .filter(|n| n.has_tag_name((MIME, "content")))
            .filter_map(|n| n.attribute("part"))
            .collect();
        for part in &attached {
            operation.losses.push(format!(
                "the part “{part}” travels as an attachment; it is not among the members"
            ));
        }
        let parts: Vec<At<'a, 'i>> = parts_of(message)
            .filter(|p| {
                !taken.iter().any(|t| t == p.text("name"))
                    && !attached.contains(&p.text("name"))
                    && listed.as_ref().is_none_or(|l| l.contains(&p.text("name")))
            })
            .collect();
        if let Some((bound, wrapper)) = rpc {
            return self.rpc_message(compiler, operation.encoded, &parts, body, bound, wrapper);
        }
        match parts.as_slice() {
            [one] if !one.text("element").is_empty() => {
                let element = compiler.element_at(one.component(), one.text("element"))?;
                Ok(Message {
                    type_id: element.type_id,
                    element: Some(element),
                    rpc: false,
                })
            }
            // The body is the type itself (WSDL 1.1 §3.5), which only works when it is made of elements.
            [one] if !one.text("type").is_empty() => {
                let (type_id, _) = compiler.type_at(one.component(), one.text("type"))?;
                compiler.settle();
                if compiler.is_object(type_id) {
                    return Ok(Message {
                        element: None,
                        type_id,
                        rpc: false,
                    });
                }
                let help =
                    "a body of document style holds elements; the part's name is taken for one";
                self.warn(
                    *one,
                    format!(
                        "the part “{}” is of a type without elements",
                        one.text("name")
                    ),
                    help,
                );
                let member = self.part_member(compiler, *one)?;
                Ok(Message {
                    type_id,
                    element: Some(member),
                    rpc: false,
                })
            }
            several => {
                let members = several
                    .iter()
                    .map(|p| self.part_member(compiler, *p))
                    .collect::<Result<Vec<_>, _>>()?;
                Ok(Message {
                    element: None,
                    type_id: compiler.parts_type(message.text("name"), members),
                    rpc: false,
                })
            }
        }
    }

    /// The wrapper of an rpc message with an element for each part, which has no namespace (WSDL 1.1 §3.5, SOAP 1.1 §7.1).
    fn rpc_message(
        &mut self,
        compiler: &mut Compiler<'a, 'i>,
        encoded: bool,
        parts: &[At<'a, 'i>],
        body: Option<At<'a, 'i>>,
        bound: At<'a, 'i>,
        wrapper: &str,
    ) -> Result<Message, String> {
        let mut members = Vec::new();
        for part in parts {
            let mut member = self.part_member(compiler, *part)?;
            if !part.text("element").is_empty() {
                self.tell(
                    *part,
                    format!(
                        "the part “{}” of an rpc message is given by an element; its type is taken",
                        part.text("name")
                    ),
                    "",
                );
            }
            member.namespace = 0;
            part.text("name").clone_into(&mut member.local);
            if encoded {
                (member.nillable, member.min) = (true, 0);
            }
            members.push(member);
        }
        let namespace = body
            .and_then(|b| b.node.attribute("namespace"))
            .unwrap_or(bound.target);
        if body.is_some_and(|b| b.node.attribute("namespace").is_none()) {
            self.tell(
                bound,
                format!(
                    "the messages of {} have no namespace of their own; the definition's is taken",
                    bound.text("name")
                ),
                "",
            );
        }
        let type_id = compiler.parts_type(wrapper, members);
        let element = Member::element(compiler.namespace(namespace), wrapper, type_id);
        Ok(Message {
            element: Some(element),
            type_id,
            rpc: true,
        })
    }

    /// A part as an element: the one it names, or one of its own name for a part that gives a type.
    fn part_member(
        &mut self,
        compiler: &mut Compiler<'a, 'i>,
        part: At<'a, 'i>,
    ) -> Result<Member, String> {
        if !part.text("element").is_empty() {
            return compiler.element_at(part.component(), part.text("element"));
        }
        if part.text("type").is_empty() {
            return Err(format!(
                "the part “{}” names neither an element nor a type",
                part.text("name")
            ));
        }
        let (type_id, name) = compiler.type_at(part.component(), part.text("type"))?;
        let mut member = Member::element(0, part.text("name"), type_id);
        member.type_name = Some((compiler.namespace(&name.0), name.1));
        Ok(member)
    }
}

/// Header elements of one name get names of their own in JSON.
fn tell_apart(mut members: Vec<Member>) -> Vec<Member> {
    for i in 0..members.len() {
        let mut name = members[i].local.clone();
        let mut n = 1;
        while members[..i].iter().any(|m| m.json == name) {
            n += 1;
            name = format!("{}_{n}", members[i].local);
        }
        members[i].set_json(name);
    }
    members
}

/// A name that no other operation has: the operation's own, with its message's name, its port type's, or a number.
fn unique_name(others: &[Operation], name: &str, input: &str, port_type: &str) -> String {
    let free = |n: &str| !others.iter().any(|o| o.name == n);
    let input = input.rsplit(':').next().unwrap_or(input);
    let tries = [
        name.to_owned(),
        format!("{name}.{input}"),
        format!("{port_type}.{name}"),
    ];
    if let Some(found) = tries.into_iter().find(|t| free(t)) {
        return found;
    }
    (2..)
        .map(|n| format!("{name}_{n}"))
        .find(|t| free(t))
        .unwrap_or_default()
}

fn parts_of<'a, 'i>(message: At<'a, 'i>) -> impl Iterator<Item = At<'a, 'i>> {
    message
        .node
        .children()
        .filter(|n| n.has_tag_name((WSDL, "part")))
        .map(move |n| message.to(n))
}

fn is_soap(node: Node<'_, '_>, local: &str) -> bool {
    matches!(node.tag_name().namespace(), Some(SOAP | SOAP12)) && node.tag_name().name() == local
}

fn soap_binding<'a, 'i>(binding: Node<'a, 'i>) -> Option<(Node<'a, 'i>, SoapVersion)> {
    binding
        .children()
        .find_map(|n| match n.tag_name().namespace() {
            Some(SOAP) if n.tag_name().name() == "binding" => Some((n, SoapVersion::V11)),
            Some(SOAP12) if n.tag_name().name() == "binding" => Some((n, SoapVersion::V12)),
            _ => None,
        })
}

fn is_schema(node: Node<'_, '_>) -> bool {
    node.is_element()
        && node.tag_name().name() == "schema"
        && node.tag_name().namespace().is_some_and(is_xsd)
}

/// Whether an import is of something that everybody knows: SOAP's encoding, `xml:lang` and its kin, XML Schema itself.
fn built_in(import: At<'_, '_>) -> bool {
    let namespace = import.text("namespace");
    namespace == ENCODING_11 || namespace == ENCODING_12 || namespace == XML || is_xsd(namespace)
}

impl Compiler<'_, '_> {
    fn is_object(&self, id: TypeId) -> bool {
        matches!(self.type_plan(id), TypePlan::Object(o) if o.text.is_none())
    }

    fn is_empty(&self, id: TypeId) -> bool {
        matches!(self.type_plan(id), TypePlan::Object(o) if o.members.is_empty() && o.text.is_none())
    }
}
