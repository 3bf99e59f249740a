//! Reading WSDL 1.1.

mod reader;
mod unusable;

use std::collections::{BTreeMap, HashMap, HashSet};

use porch_contract::{Finding, Position, Severity};
use roxmltree::{Document, Node, ParsingOptions};
use serde::Serialize;

use self::reader::{Parsed, WsdlReader};
pub use self::unusable::Unusable;
use crate::plan::{Member, Plan, TypeId, TypePlan};
use crate::schema::{Compiler, Component, Index, Source, documentation};
use crate::xml::{ENCODING_11, ENCODING_12, Scanner, Token, XML, entities_fit, is_xsd};

const WSDL: &str = "http://schemas.xmlsoap.org/wsdl/";
const SOAP: &str = "http://schemas.xmlsoap.org/wsdl/soap/";
const SOAP12: &str = "http://schemas.xmlsoap.org/wsdl/soap12/";
const HTTP: &str = "http://schemas.xmlsoap.org/wsdl/http/";
const MIME: &str = "http://schemas.xmlsoap.org/wsdl/mime/";

/// The files of a definition by name; the names are what `import` and `include` point at.
pub type Files = BTreeMap<String, String>;

/// The version of the envelope.
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
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
    /// The files that were read, the main one among them.
    pub used: Vec<String>,
}

/// A port of a service: a binding at an address.
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[derive(Clone, Debug, Serialize)]
pub struct Port {
    /// The service's name.
    pub service: String,
    /// Its own name.
    pub name: String,
    /// Its binding's name.
    pub binding: String,
    /// Version of the envelope; `None` when the binding is not of SOAP.
    pub version: Option<SoapVersion>,
    /// The address in the WSDL.
    pub address: String,
}

/// What a body holds.
#[derive(Clone, Debug)]
pub struct Message {
    /// The body's element; `None` when its parts stand in the body themselves.
    pub element: Option<Member>,
    /// Type of the element, or of an object with the parts.
    pub type_id: TypeId,
    /// Whether the element is the wrapper of an rpc message (WSDL 1.1 §3.5).
    pub rpc: bool,
}

/// One operation of a SOAP binding.
#[derive(Debug)]
pub struct Operation {
    /// Name: that of the WSDL, with something to tell it apart where several have it.
    pub name: String,
    /// Version of the envelope.
    pub version: SoapVersion,
    /// `document` or `rpc`, and `literal` or `encoded`, for people.
    pub style: String,
    /// Whether its messages are encoded by SOAP's rules (SOAP 1.1 §5).
    pub encoded: bool,
    /// Its binding's name.
    pub binding: String,
    /// `SOAPAction`.
    pub action: String,
    /// What the WSDL says of it.
    pub documentation: String,
    /// The request's body.
    pub input: Option<Message>,
    /// The answer's body; `None` when it is empty, or when no answer comes.
    pub output: Option<Message>,
    /// Whether no answer comes.
    pub one_way: bool,
    /// Header elements that a request carries.
    pub headers: Vec<Member>,
    /// Header elements that an answer carries.
    pub output_headers: Vec<Member>,
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

/// A name in lower camel case, where something of it is left.
fn camel(name: &str) -> String {
    let made = crate::propose::lower_camel(name);
    match made.starts_with(|c: char| c.is_alphabetic()) {
        true => made,
        false => name.to_owned(),
    }
}

impl Definition {
    /// Gives members and header elements names in lower camel case: `RouteCode` becomes `routeCode`. Names that become the same
    /// are numbered, `name_2`; those of types, which `xsi:type` names, stay.
    pub fn in_camel(&mut self) {
        for plan in &mut self.plan.types {
            if let TypePlan::Object(object) = plan {
                object.name_members(&camel);
            }
        }
        for operation in &mut self.operations {
            for list in [&mut operation.headers, &mut operation.output_headers] {
                reader::tell_apart(list, &camel);
            }
        }
    }
}

impl Operation {
    /// Whether its answer, although it has an element, never says anything: a wrapper without members.
    pub fn answers_nothing(&self, plan: &Plan) -> bool {
        let output = self.output.as_ref().map(|o| plan.get(o.type_id));
        matches!(output, Some(TypePlan::Object(o))
            if o.members.is_empty() && o.text.is_none() && !o.is_abstract && o.derived.len() < 2)
            && self.output_headers.is_empty()
    }
}

/// Reads a WSDL with the files it imports.
///
/// # Errors
/// When the main file is no WSDL at all: one finding that says so. Everything else is a finding of the definition.
pub fn read_definition(files: &Files, main: &str) -> Result<Definition, Box<Finding>> {
    read_port(files, main, None)
}

/// What a document is that is no WSDL 1.1, and what to give in its place.
fn not_wsdl(file: &str, root: roxmltree::Node<'_, '_>) -> Finding {
    let message = format!(
        "this is no WSDL 1.1: its first element is <{}>",
        root.tag_name().name()
    );
    let help = match (root.tag_name().name(), root.tag_name().namespace()) {
        ("description", Some("http://www.w3.org/ns/wsdl")) => {
            "this is WSDL 2.0, which is not read; ask for the WSDL 1.1"
        }
        ("schema", _) => {
            "this is a schema; give the WSDL that imports it, or the folder or ZIP with both"
        }
        _ => "give the file whose first element is <definitions>",
    };
    Finding::error(file, place(root), message).help(help)
}

fn no_port(main: &str, root: roxmltree::Node<'_, '_>, port: &str, ports: &[Port]) -> Finding {
    let near = porch_contract::suggest(port, ports.iter().map(|p| p.name.as_str()))
        .map_or_else(String::new, |n| format!("did you mean “{n}”?"));
    Finding::error(
        main,
        place(root),
        format!("the definition has no port “{port}”"),
    )
    .help(near)
}

/// The same for one port, by its name: where an operation can be called through several, this one is taken.
///
/// # Errors
/// As [`read_definition`], and when there is no such port.
pub fn read_port(
    files: &Files,
    main: &str,
    port: Option<&str>,
) -> Result<Definition, Box<Finding>> {
    let parsed: Vec<Parsed<'_>> = files
        .iter()
        .map(|(name, text)| (name.as_str(), parse_xml(text)))
        .collect();
    let (file, root) = main_of(&parsed, main)?;
    let mut reader = WsdlReader {
        parsed: &parsed,
        findings: Vec::new(),
        documents: Vec::new(),
        components: HashMap::new(),
        used: vec![main.to_owned()],
        schemas: Vec::new(),
    };
    reader.load(file, root);
    let index = reader.index();
    let mut compiler = Compiler::new(index);
    let ports = reader.ports();
    if let Some(port) = port
        && !ports.iter().any(|p| p.name == port)
    {
        return Err(Box::new(no_port(main, root, port, &ports)));
    }
    let mut operations = reader.operations(&mut compiler, &ports, port);
    compiler.complete();
    for operation in &mut operations {
        add_losses(&compiler, operation);
    }
    let title = ports
        .first()
        .map(|p| p.service.clone())
        .or_else(|| root.attribute("name").map(str::to_owned))
        .unwrap_or_else(|| "service".into());
    let (plan, found) = compiler.finish();
    let mut findings = reader.findings;
    findings.extend(found);
    if ports.iter().all(|p| p.address.is_empty())
        && operations.iter().any(|o| o.unavailable.is_none())
    {
        let message = "the definition names no address to call its operations at";
        findings.push(
            Finding::new(Severity::Warning, file, place(root), message)
                .help("give one with --address"),
        );
    }
    Ok(Definition {
        title,
        documentation: documentation(root),
        ports,
        operations,
        plan,
        findings,
        used: reader.used,
    })
}

/// The element of the file that a definition begins with.
fn main_of<'a, 'i>(
    parsed: &'a [Parsed<'i>],
    main: &str,
) -> Result<(&'a str, Node<'a, 'i>), Box<Finding>> {
    let fail = |at: Position, message: &str| Box::new(Finding::error(main, at, message));
    match parsed.iter().find(|(name, _)| *name == main) {
        None => Err(fail(Position::default(), "there is no such file")),
        Some((_, Err((at, message)))) => Err(fail(*at, message)),
        Some((file, Ok(document))) => {
            let root = document.root_element();
            if root.has_tag_name((WSDL, "definitions")) {
                Ok((file, root))
            } else {
                Err(Box::new(not_wsdl(file, root)))
            }
        }
    }
}

/// What an operation's messages cannot carry.
fn add_losses(compiler: &Compiler<'_, '_>, operation: &mut Operation) {
    let messages = operation.input.iter().chain(&operation.output);
    let others = operation
        .headers
        .iter()
        .chain(&operation.output_headers)
        .chain(operation.faults.iter().map(|(_, m)| m));
    let types = messages.map(|m| m.type_id).chain(others.map(|m| m.type_id));
    let losses: Vec<String> = types.flat_map(|id| compiler.losses_below(id)).collect();
    operation.losses.extend(losses);
    operation.losses.sort();
    operation.losses.dedup();
}

/// Parses an XML file of a definition; its depth is checked first, so that nothing recursive meets a bomb.
///
/// A document type declaration may stand there, as in some old schemas: its own entities are replaced, within the
/// parser's bounds, and nothing is fetched.
///
/// # Errors
/// What is wrong with it, and where.
pub fn parse_xml(text: &str) -> Result<Document<'_>, (Position, String)> {
    let at = |offset: usize| {
        let before = &text[..text.floor_char_boundary(offset.min(text.len()))];
        Position {
            line: before.matches('\n').count() + 1,
            column: before.chars().rev().take_while(|c| *c != '\n').count() + 1,
        }
    };
    let mut scanner = Scanner::new().with_doctype();
    loop {
        match scanner.next(text, true) {
            Ok(Token::Eof | Token::More) => break,
            Ok(_) => {}
            Err(e) => return Err((at(e.offset as usize), e.message)),
        }
    }
    if let Err((offset, message)) = entities_fit(text) {
        return Err((at(offset), message));
    }
    let options = ParsingOptions {
        allow_dtd: true,
        nodes_limit: 4_000_000,
        ..ParsingOptions::default()
    };
    Document::parse_with_options(text, options).map_err(|e| {
        (
            Position {
                line: e.pos().row as usize,
                column: e.pos().col as usize,
            },
            e.to_string(),
        )
    })
}

fn place(node: Node<'_, '_>) -> Position {
    let at = node.document().text_pos_at(node.range().start);
    Position {
        line: at.row as usize,
        column: at.col as usize,
    }
}

/// The file that a location means, relative to the file that names it: by its path, else by its last segment.
pub fn find_name<'n>(
    names: impl Iterator<Item = &'n str> + Clone,
    from: &str,
    location: &str,
) -> Option<&'n str> {
    let location = location.trim();
    if location.starts_with('?') {
        // Only another query at the same place (RFC 3986 §5.2.2).
        let whole = format!("{}{location}", from.split('?').next().unwrap_or(from));
        return names.clone().find(|n| *n == whole);
    }
    let path = beside(from, location);
    let last = location.rsplit('/').next().unwrap_or(location);
    let by = |test: &dyn Fn(&str) -> bool| names.clone().find(|n| test(n));
    by(&|n| n == path)
        .or_else(|| by(&|n| n == location))
        .or_else(|| by(&|n| n.rsplit('/').next() == Some(last)))
        .or_else(|| {
            by(&|n| {
                n.rsplit('/')
                    .next()
                    .is_some_and(|n| n.eq_ignore_ascii_case(last))
            })
        })
}

/// A path relative to the folder of another file.
pub fn beside(file: &str, name: &str) -> String {
    let mut parts: Vec<&str> = file.split('/').collect();
    parts.pop();
    for part in name.split('/') {
        match part {
            "." | "" => {}
            ".." => {
                parts.pop();
            }
            other => parts.push(other),
        }
    }
    parts.join("/")
}
