//! From documents to operations.

mod bindings;
mod messages;
mod operations;

pub(super) use self::messages::tell_apart;
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

/// A schema, its file, and the namespace that it takes over.
type OpenSchema<'a, 'i> = (Node<'a, 'i>, &'a str, Option<&'a str>);

pub(super) struct WsdlReader<'a, 'i> {
    pub(super) parsed: &'a [Parsed<'i>],
    pub(super) findings: Vec<Finding>,
    /// The `definitions` elements, the main one first.
    pub(super) documents: Vec<At<'a, 'i>>,
    pub(super) components: HashMap<(&'static str, String, String), At<'a, 'i>>,
    pub(super) used: Vec<String>,
    /// Schema elements that files of the definition begin with.
    pub(super) schemas: Vec<OpenSchema<'a, 'i>>,
}

const KINDS: [&str; 4] = ["message", "portType", "binding", "service"];

impl<'a, 'i> WsdlReader<'a, 'i> {
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
        let mut redefined = Vec::new();
        let mut open: Vec<OpenSchema<'a, 'i>> = self.schemas.clone();
        open.reverse();
        // Files, and the namespace that each was taken in for: several may include one without any.
        let mut seen: HashSet<(String, String)> = open
            .iter()
            .map(|(_, file, _)| ((*file).to_owned(), String::new()))
            .collect();
        while let Some((schema, file, adopted)) = open.pop() {
            index.add(schema, file, adopted);
            let target = schema.attribute("targetNamespace").or(adopted);
            let target = target.unwrap_or("");
            let declarations = schema.children();
            for node in declarations.filter(|n| n.tag_name().namespace().is_some_and(is_xsd)) {
                let kind = node.tag_name().name();
                if !matches!(kind, "import" | "include" | "redefine") {
                    continue;
                }
                let here = At { node, file, target };
                if kind == "redefine" {
                    redefined.push(here);
                }
                let takes = (kind != "import").then_some(target);
                self.follow(here, takes, &mut seen, &mut open);
            }
        }
        for twice in index.twice.iter().take(MAX_TWICE) {
            let (node, file) = (twice.node, twice.source.file);
            let (kind, name) = (
                node.tag_name().name(),
                node.attribute("name").unwrap_or_default(),
            );
            let what = format!(
                "{kind} “{name}” is declared twice in {}, and differently; the first is taken",
                namespace_text(twice.source.target)
            );
            let at = At {
                node,
                file,
                target: twice.source.target,
            };
            self.warn(at, what, "leave one of them out");
        }
        for at in redefined {
            let schema = at.node.parent_element().unwrap_or(at.node);
            let qualified = |name: &str| schema.attribute(name) == Some("qualified");
            let source = Source {
                target: at.target,
                qualified_elements: qualified("elementFormDefault"),
                qualified_attributes: qualified("attributeFormDefault"),
                file: at.file,
            };
            index.redefine(at.node, source);
        }
        index.connect();
        index
    }

    /// Opens the schemas of a file that another names, each once for each namespace that takes it in.
    fn follow(
        &mut self,
        here: At<'a, 'i>,
        takes: Option<&'a str>,
        seen: &mut HashSet<(String, String)>,
        open: &mut Vec<OpenSchema<'a, 'i>>,
    ) {
        let location = here.text("schemaLocation");
        if location.is_empty() || built_in(here) {
            return;
        }
        let Some((name, document)) = self.find_file(here, location) else {
            return;
        };
        if !seen.insert((name.to_owned(), takes.unwrap_or("").to_owned())) {
            return;
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
            let what = format!("“{location}” is no schema, and is passed by");
            self.warn(here, what, "");
        }
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

/// So many components that are declared twice are told.
const MAX_TWICE: usize = 50;

fn namespace_text(namespace: &str) -> String {
    match namespace {
        "" => "no namespace".to_owned(),
        some => format!("the namespace {some}"),
    }
}
