//! Reading WSDL 1.1.

use std::collections::{BTreeMap, HashSet};

use porch_contract::{Finding, Position, Severity};
use roxmltree::{Document, Node, ParsingOptions};
use serde::Serialize;

use crate::plan::{Member, Plan};
use crate::schema::{Compiler, Index, QName, documentation};
use crate::xml::{Scanner, Token, XSD};

const WSDL: &str = "http://schemas.xmlsoap.org/wsdl/";
const SOAP: &str = "http://schemas.xmlsoap.org/wsdl/soap/";
const SOAP12: &str = "http://schemas.xmlsoap.org/wsdl/soap12/";

/// The files of a definition by name; the names are what `import` and `include` point at.
pub type Files = BTreeMap<String, String>;

/// The version of the envelope.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub enum SoapVersion {
    /// SOAP 1.1.
    #[serde(rename = "1.1")]
    V11,
    /// SOAP 1.2.
    #[serde(rename = "1.2")]
    V12,
}

/// A SOAP service, read from its WSDL.
#[derive(Debug)]
pub struct Definition {
    /// Name of the service, or of the definitions.
    pub title: String,
    /// What the WSDL says of itself.
    pub documentation: String,
    /// Where it can be called.
    pub ports: Vec<Port>,
    /// What can be called.
    pub operations: Vec<Operation>,
    /// The types of all messages.
    pub plan: Plan,
    /// What was found on the way.
    pub findings: Vec<Finding>,
}

/// A port of a service: a binding at an address.
#[derive(Clone, Debug)]
pub struct Port {
    /// The service's name.
    pub service: String,
    /// Its own name.
    pub name: String,
    /// The address in the WSDL.
    pub address: String,
}

/// One operation of a SOAP binding.
#[derive(Debug)]
pub struct Operation {
    /// Name in the WSDL.
    pub name: String,
    /// Version of the envelope.
    pub version: SoapVersion,
    /// `SOAPAction`.
    pub action: String,
    /// What the WSDL says of it.
    pub documentation: String,
    /// Element of the request's body.
    pub input: Option<Member>,
    /// Element of the answer's body; `None` for one-way operations.
    pub output: Option<Member>,
    /// Header elements that a request carries.
    pub headers: Vec<Member>,
    /// Declared faults: name and element of the detail.
    pub faults: Vec<(String, Member)>,
    /// Why it cannot be called, when it cannot.
    pub unavailable: Option<String>,
    /// What JSON cannot carry.
    pub losses: Vec<String>,
}

impl Definition {
    /// The operation of a name.
    pub fn operation(&self, name: &str) -> Option<&Operation> {
        self.operations.iter().find(|o| o.name == name)
    }
}

/// Reads a WSDL with the schemas it imports.
///
/// # Errors
/// When the main file is no WSDL at all: one finding that says so. Everything else is a finding of the definition.
pub fn read_definition(files: &Files, main: &str) -> Result<Definition, Box<Finding>> {
    let mut parsed: Vec<(&str, Document<'_>)> = Vec::new();
    let mut findings = Vec::new();
    for (name, text) in files {
        match parse_xml(text) {
            Ok(document) => parsed.push((name, document)),
            Err((at, message)) => {
                let finding = Finding::error(name, at, message);
                if name == main {
                    return Err(Box::new(finding));
                }
                findings.push(Finding { severity: Severity::Warning, ..finding });
            }
        }
    }
    let Some((file, document)) = parsed.iter().find(|(name, _)| *name == main) else {
        return Err(Box::new(Finding::error(main, Position::default(), "there is no such file")));
    };
    let root = document.root_element();
    if !root.has_tag_name((WSDL, "definitions")) {
        let message = format!("this is no WSDL 1.1: its first element is <{}>", root.tag_name().name());
        return Err(Box::new(Finding::error(file, place(root), message).help("give the file whose first element is <definitions>")));
    }
    let mut reader = Reader { file, root, parsed: &parsed, findings, target: root.attribute("targetNamespace").unwrap_or("") };
    let index = reader.schemas();
    let mut compiler = Compiler::new(index);
    let operations = reader.operations(&mut compiler);
    let ports = reader.ports();
    let title = ports.first().map(|p| p.service.clone()).or_else(|| root.attribute("name").map(str::to_owned)).unwrap_or_else(|| "service".into());
    Ok(Definition { title, documentation: documentation(root), ports, operations, plan: compiler.finish(), findings: reader.findings })
}

/// Parses an XML file of a definition; its depth is checked first, so that nothing recursive meets a bomb.
fn parse_xml(text: &str) -> Result<Document<'_>, (Position, String)> {
    let at = |offset: usize| {
        let before = &text[..text.floor_char_boundary(offset.min(text.len()))];
        Position { line: before.matches('\n').count() + 1, column: before.chars().rev().take_while(|c| *c != '\n').count() + 1 }
    };
    let mut scanner = Scanner::new();
    loop {
        match scanner.next(text, true) {
            Ok(Token::Eof | Token::More) => break,
            Ok(_) => {}
            Err(e) => return Err((at(e.offset as usize), e.message)),
        }
    }
    let options = ParsingOptions { allow_dtd: false, nodes_limit: 4_000_000, ..ParsingOptions::default() };
    Document::parse_with_options(text, options).map_err(|e| (Position { line: e.pos().row as usize, column: e.pos().col as usize }, e.to_string()))
}

fn place(node: Node<'_, '_>) -> Position {
    let at = node.document().text_pos_at(node.range().start);
    Position { line: at.row as usize, column: at.col as usize }
}

struct Reader<'a, 'i> {
    file: &'a str,
    root: Node<'a, 'i>,
    parsed: &'a [(&'a str, Document<'i>)],
    findings: Vec<Finding>,
    target: &'a str,
}

impl<'a, 'i> Reader<'a, 'i> {
    fn warn(&mut self, node: Node<'_, '_>, message: String, help: &str) {
        self.findings.push(Finding::new(Severity::Warning, self.file, place(node), message).help(help));
    }

    fn schemas(&mut self) -> Index<'a, 'i> {
        let mut index = Index::default();
        let mut seen = HashSet::new();
        let inline: Vec<Node<'a, 'i>> = self.root.children().filter(|n| n.has_tag_name((WSDL, "types"))).flat_map(|t| t.children()).filter(|n| n.has_tag_name((XSD, "schema"))).collect();
        for schema in inline {
            index.add(schema, None);
            self.follow(&mut index, &mut seen, schema, self.file);
        }
        index
    }

    /// Takes in what a schema imports and includes, circles and all.
    fn follow(&mut self, index: &mut Index<'a, 'i>, seen: &mut HashSet<(String, String)>, schema: Node<'a, 'i>, file: &'a str) {
        let mut open = vec![(schema, file, schema.attribute("targetNamespace").unwrap_or(""))];
        while let Some((schema, file, target)) = open.pop() {
            for node in schema.children().filter(|n| n.has_tag_name((XSD, "import")) || n.has_tag_name((XSD, "include"))) {
                let Some(location) = node.attribute("schemaLocation") else {
                    continue;
                };
                let include = node.tag_name().name() == "include";
                let adopted = if include { target } else { "" };
                let Some((name, document)) = self.find_file(file, location) else {
                    let finding = Finding::new(Severity::Warning, file, place(node), format!("“{location}” is not among the files given"));
                    self.findings.push(finding.help("operations that need nothing of it still work; give the folder or ZIP that holds it"));
                    continue;
                };
                if !seen.insert((name.to_owned(), adopted.to_owned())) {
                    continue;
                }
                let found = document.root_element();
                if found.has_tag_name((XSD, "schema")) {
                    index.add(found, include.then_some(target));
                    open.push((found, name, found.attribute("targetNamespace").unwrap_or(adopted)));
                }
            }
        }
    }

    /// The file that a location means, relative to the file that names it.
    fn find_file(&self, from: &str, location: &str) -> Option<(&'a str, &'a Document<'i>)> {
        let mut parts: Vec<&str> = from.split('/').collect();
        parts.pop();
        for part in location.split('/') {
            match part {
                "." | "" => {}
                ".." => {
                    parts.pop();
                }
                other => parts.push(other),
            }
        }
        let path = parts.join("/");
        let last = location.rsplit('/').next().unwrap_or(location);
        let by = |test: &dyn Fn(&str) -> bool| self.parsed.iter().find(|(n, _)| test(n)).map(|(n, d)| (*n, d));
        by(&|n| n == path || n == location).or_else(|| by(&|n| n.rsplit('/').next() == Some(last)))
    }

    fn children(&self, name: &'static str) -> impl Iterator<Item = Node<'a, 'i>> + use<'a, 'i> {
        self.root.children().filter(move |n| n.has_tag_name((WSDL, name)))
    }

    fn named(&self, kind: &'static str, name: &str) -> Option<Node<'a, 'i>> {
        let local = name.rsplit(':').next().unwrap_or(name);
        self.children(kind).find(|n| n.attribute("name") == Some(local))
    }

    fn ports(&self) -> Vec<Port> {
        let mut ports = Vec::new();
        for service in self.children("service") {
            for port in service.children().filter(|n| n.has_tag_name((WSDL, "port"))) {
                let Some(address) = port.children().find(|n| n.has_tag_name((SOAP, "address")) || n.has_tag_name((SOAP12, "address"))) else {
                    continue;
                };
                let text = |node: Node<'_, '_>, name: &str| node.attribute(name).unwrap_or_default().to_owned();
                ports.push(Port { service: text(service, "name"), name: text(port, "name"), address: text(address, "location") });
            }
        }
        ports
    }

    fn operations(&mut self, compiler: &mut Compiler<'a, 'i>) -> Vec<Operation> {
        let mut operations: Vec<Operation> = Vec::new();
        let bindings: Vec<Node<'a, 'i>> = self.children("binding").collect();
        for binding in bindings {
            let soap = binding.children().find_map(|n| match n.tag_name().namespace() {
                Some(SOAP) if n.tag_name().name() == "binding" => Some((n, SoapVersion::V11)),
                Some(SOAP12) if n.tag_name().name() == "binding" => Some((n, SoapVersion::V12)),
                _ => None,
            });
            let name = binding.attribute("name").unwrap_or_default();
            let Some((soap, version)) = soap else {
                self.warn(binding, format!("the binding “{name}” is not a SOAP binding and is passed by"), "");
                continue;
            };
            let Some(port_type) = binding.attribute("type").and_then(|t| self.named("portType", t)) else {
                self.warn(binding, format!("the binding “{name}” names a port type that is not there"), "");
                continue;
            };
            for bound in binding.children().filter(|n| n.has_tag_name((WSDL, "operation"))) {
                let name = bound.attribute("name").unwrap_or_default();
                if operations.iter().any(|o| o.name == name) {
                    // One logical operation on several ports is offered once.
                    continue;
                }
                operations.push(self.operation(compiler, bound, port_type, soap, version));
            }
        }
        operations
    }

    fn operation(&mut self, compiler: &mut Compiler<'a, 'i>, bound: Node<'a, 'i>, port_type: Node<'a, 'i>, soap: Node<'a, 'i>, version: SoapVersion) -> Operation {
        let name = bound.attribute("name").unwrap_or_default().to_owned();
        let is_soap = |n: &Node<'_, '_>, local: &str| matches!(n.tag_name().namespace(), Some(SOAP | SOAP12)) && n.tag_name().name() == local;
        let detail = bound.children().find(|n| is_soap(n, "operation"));
        let mut operation = Operation {
            name: name.clone(),
            version,
            action: detail.and_then(|d| d.attribute("soapAction")).unwrap_or_default().to_owned(),
            documentation: String::new(),
            input: None,
            output: None,
            headers: Vec::new(),
            faults: Vec::new(),
            unavailable: None,
            losses: Vec::new(),
        };
        let style = detail.and_then(|d| d.attribute("style")).or(soap.attribute("style")).unwrap_or("document");
        let encoded = bound.descendants().any(|n| is_soap(&n, "body") && n.attribute("use") == Some("encoded"));
        if style != "document" || encoded {
            operation.unavailable = Some(format!("{style}/{} bindings cannot be called yet", if encoded { "encoded" } else { "literal" }));
        }
        let Some(abstract_op) = port_type.children().find(|n| n.has_tag_name((WSDL, "operation")) && n.attribute("name") == Some(name.as_str())) else {
            operation.unavailable = Some("the port type has no such operation".into());
            return operation;
        };
        operation.documentation = documentation(abstract_op);
        let result = self.messages(compiler, &mut operation, bound, abstract_op);
        if let (Err(why), None) = (result, &operation.unavailable) {
            self.warn(bound, format!("{name} cannot be called: {why}"), "the other operations are not affected");
            operation.unavailable = Some(why);
        }
        let ids = operation.input.iter().chain(&operation.output).map(|m| m.type_id);
        operation.losses = ids.flat_map(|id| compiler.losses_below(id)).collect();
        operation.losses.sort();
        operation.losses.dedup();
        operation
    }

    fn messages(&mut self, compiler: &mut Compiler<'a, 'i>, operation: &mut Operation, bound: Node<'a, 'i>, abstract_op: Node<'a, 'i>) -> Result<(), String> {
        for part in abstract_op.children().filter(|n| n.tag_name().namespace() == Some(WSDL)) {
            let kind = part.tag_name().name();
            if !matches!(kind, "input" | "output" | "fault") {
                continue;
            }
            let message_name = part.attribute("message").unwrap_or_default();
            let message = self.named("message", message_name).ok_or_else(|| format!("there is no message “{message_name}”"))?;
            let name = part.attribute("name").unwrap_or_default();
            let concrete = bound.children().find(|n| n.has_tag_name((WSDL, kind)) && (kind != "fault" || n.attribute("name") == Some(name)));
            let headers: Vec<(String, String)> = concrete
                .into_iter()
                .flat_map(|c| c.children())
                .filter(|n| matches!(n.tag_name().namespace(), Some(SOAP | SOAP12)) && n.tag_name().name() == "header")
                .map(|n| (n.attribute("message").unwrap_or_default().to_owned(), n.attribute("part").unwrap_or_default().to_owned()))
                .collect();
            if kind == "fault" {
                if let Ok(member) = self.part_element(compiler, message, None) {
                    operation.faults.push((name.to_owned(), member));
                }
                continue;
            }
            // A part that a header takes is not the body's.
            let taken = headers.iter().find(|(m, _)| self.named("message", m) == Some(message)).map(|(_, p)| p.as_str());
            let member = self.part_element(compiler, message, taken)?;
            if kind == "output" {
                operation.output = Some(member);
                continue;
            }
            operation.input = Some(member);
            for (message, part) in headers {
                let from = self.named("message", &message).ok_or_else(|| format!("there is no message “{message}”"))?;
                let node = from.children().find(|n| n.has_tag_name((WSDL, "part")) && n.attribute("name") == Some(part.as_str()));
                let node = node.ok_or_else(|| format!("the message “{message}” has no part “{part}”"))?;
                operation.headers.push(self.element_of(compiler, node)?);
            }
        }
        if operation.input.is_none() && operation.unavailable.is_none() {
            return Err("it takes no input, and output-only operations cannot be called".into());
        }
        Ok(())
    }

    fn part_element(&mut self, compiler: &mut Compiler<'a, 'i>, message: Node<'a, 'i>, except: Option<&str>) -> Result<Member, String> {
        let parts: Vec<_> = message.children().filter(|n| n.has_tag_name((WSDL, "part")) && (except.is_none() || n.attribute("name") != except)).collect();
        match parts.as_slice() {
            [one] => self.element_of(compiler, *one),
            [] => Err("a message without parts cannot be sent yet".into()),
            _ => Err("a message of several parts cannot be sent yet".into()),
        }
    }

    fn element_of(&mut self, compiler: &mut Compiler<'a, 'i>, part: Node<'a, 'i>) -> Result<Member, String> {
        let text = part.attribute("element").ok_or("a part given by a type, not an element, cannot be sent yet")?;
        let (prefix, local) = text.split_once(':').unwrap_or(("", text));
        let uri = part.lookup_namespace_uri((!prefix.is_empty()).then_some(prefix)).unwrap_or(self.target);
        let name: QName = (uri.to_owned(), local.to_owned());
        compiler.element(&name)
    }
}
