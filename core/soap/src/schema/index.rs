//! The index of global schema components.

use std::collections::{HashMap, HashSet};

use indexmap::IndexMap;
use roxmltree::{Node, NodeId};

use crate::xml::{XML, is_xsd};

/// Namespace and local name.
pub(crate) type QName = (String, String);

/// The kinds of global components; each has names of its own (XML Schema part 1 §2.5).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub(crate) enum Kind {
    Element,
    Type,
    Attribute,
    Group,
    AttributeGroup,
}

/// Where a schema node stands: what its unprefixed names and local elements mean.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct Source<'a> {
    pub(crate) target: &'a str,
    pub(crate) qualified_elements: bool,
    pub(crate) qualified_attributes: bool,
    pub(crate) file: &'a str,
}

/// A global component with its surroundings.
#[derive(Clone, Copy)]
pub(crate) struct Component<'a, 'i> {
    pub(crate) node: Node<'a, 'i>,
    pub(crate) source: Source<'a>,
}

impl<'a, 'i> Component<'a, 'i> {
    pub(crate) fn at(&self, node: Node<'a, 'i>) -> Self {
        Self {
            node,
            source: self.source,
        }
    }

    /// As it is written.
    fn text(&self) -> &'a str {
        self.node
            .document()
            .input_text()
            .get(self.node.range())
            .unwrap_or_default()
    }

    /// A node's name among all documents.
    pub(crate) fn key(&self) -> (usize, NodeId) {
        (
            std::ptr::from_ref(self.node.document()).addr(),
            self.node.id(),
        )
    }
}

/// All global components of all schemas.
#[derive(Default)]
pub(crate) struct Index<'a, 'i> {
    found: IndexMap<(Kind, QName), Component<'a, 'i>>,
    /// What a redefinition is made from (XML Schema part 1 §4.2.2), by the redefining node.
    originals: HashMap<(usize, NodeId), Component<'a, 'i>>,
    /// The elements that may stand in another's place, by that other's name.
    substitutes: HashMap<QName, Vec<QName>>,
    /// Components that stand somewhere else too and differently: the first is taken.
    pub(crate) twice: Vec<Component<'a, 'i>>,
    /// The types made from another, by that other's name.
    derived: HashMap<QName, Vec<QName>>,
}

impl<'a, 'i> Index<'a, 'i> {
    /// Takes in the global components of a schema element.
    ///
    /// `adopted` is the target namespace of the schema that includes this one; a schema without a target namespace takes
    /// it over (XML Schema part 1 §4.2.1, "chameleon").
    pub(crate) fn add(&mut self, schema: Node<'a, 'i>, file: &'a str, adopted: Option<&'a str>) {
        let source = Source {
            target: schema
                .attribute("targetNamespace")
                .or(adopted)
                .unwrap_or(""),
            qualified_elements: schema.attribute("elementFormDefault") == Some("qualified"),
            qualified_attributes: schema.attribute("attributeFormDefault") == Some("qualified"),
            file,
        };
        for node in schema.children().filter(Node::is_element) {
            self.add_one(node, source);
        }
    }

    fn add_one(&mut self, node: Node<'a, 'i>, source: Source<'a>) {
        if let (Some(kind), Some(name)) = (kind_of(node), node.attribute("name")) {
            let key = (kind, (source.target.to_owned(), name.trim().to_owned()));
            let here = Component { node, source };
            let first = self.found.entry(key).or_insert(here);
            if first.node != node && first.text() != here.text() {
                self.twice.push(here);
            }
        }
    }

    /// Takes in what a `redefine` changes; the file that it redefines was taken in before.
    pub(crate) fn redefine(&mut self, redefine: Node<'a, 'i>, source: Source<'a>) {
        for node in redefine.children().filter(Node::is_element) {
            let (Some(kind), Some(name)) = (kind_of(node), node.attribute("name")) else {
                continue;
            };
            let here = Component { node, source };
            if let Some(original) = self.found.insert(
                (kind, (source.target.to_owned(), name.trim().to_owned())),
                here,
            ) {
                self.originals.insert(here.key(), original);
            }
        }
    }

    /// Finds out what stands for what, when everything is taken in.
    pub(crate) fn connect(&mut self) {
        let (mut substitutes, mut derived): (
            HashMap<QName, Vec<QName>>,
            HashMap<QName, Vec<QName>>,
        ) = (HashMap::new(), HashMap::new());
        for ((kind, name), at) in &self.found {
            match kind {
                Kind::Element => {
                    if let Some(head) = at.node.attribute("substitutionGroup") {
                        substitutes
                            .entry(self.name_of(Kind::Element, *at, head))
                            .or_default()
                            .push(name.clone());
                    }
                }
                Kind::Type => {
                    let steps = at
                        .node
                        .children()
                        .filter(|n| {
                            matches!(n.tag_name().name(), "complexContent" | "simpleContent")
                        })
                        .flat_map(|n| n.children());
                    let base = steps
                        .filter(|n| matches!(n.tag_name().name(), "extension" | "restriction"))
                        .find_map(|n| Some((n, n.attribute("base")?)));
                    if let Some((node, base)) = base {
                        let base = self.name_of(Kind::Type, at.at(node), base);
                        if base != *name {
                            derived.entry(base).or_default().push(name.clone());
                        }
                    }
                }
                _ => {}
            }
        }
        (self.substitutes, self.derived) = (substitutes, derived);
    }

    pub(crate) fn get(&self, kind: Kind, name: &QName) -> Option<Component<'a, 'i>> {
        self.found.get(&(kind, name.clone())).copied()
    }

    /// What a redefining component is made from.
    pub(crate) fn original(&self, of: Component<'a, 'i>) -> Option<Component<'a, 'i>> {
        self.originals.get(&of.key()).copied()
    }

    /// The elements that may stand in place of one, and in place of those in turn.
    pub(crate) fn substitutes(&self, head: &QName) -> Vec<QName> {
        closure(&self.substitutes, head)
    }

    /// The types made from one, and from those in turn.
    pub(crate) fn derived(&self, base: &QName) -> Vec<QName> {
        closure(&self.derived, base)
    }

    /// Local names of a kind, for suggestions.
    pub(crate) fn names(&self, kind: Kind) -> impl Iterator<Item = &str> {
        self.found
            .keys()
            .filter(move |(k, _)| *k == kind)
            .map(|(_, (_, name))| name.as_str())
    }

    /// All names of a kind, in the order they were taken in.
    pub(crate) fn all(&self, kind: Kind) -> impl Iterator<Item = &QName> {
        self.found
            .keys()
            .filter(move |(k, _)| *k == kind)
            .map(|(_, name)| name)
    }

    /// The name that a reference means: by its prefix, and where that leads nowhere, by the only thing of that local name.
    pub(crate) fn name_of(&self, kind: Kind, at: Component<'a, 'i>, text: &str) -> QName {
        let exact = exact_name(at, text);
        if is_xsd(&exact.0) || self.found.contains_key(&(kind, exact.clone())) {
            return exact;
        }
        let mut others = self.all(kind).filter(|n| n.1 == exact.1);
        match (others.next(), others.next()) {
            (Some(only), None) if prefix_is_amiss(at, text) => only.clone(),
            _ => exact,
        }
    }
}

/// Whether a reference's prefix is missing or bound to nothing.
pub(crate) fn prefix_is_amiss(at: Component<'_, '_>, text: &str) -> bool {
    match text.trim().split_once(':') {
        Some(("xml", _)) => false,
        Some((prefix, _)) => at.node.lookup_namespace_uri(Some(prefix)).is_none(),
        None => true,
    }
}

/// The name that a reference means by its prefix.
pub(crate) fn exact_name(at: Component<'_, '_>, text: &str) -> QName {
    let text = text.trim();
    let (prefix, local) = text.split_once(':').unwrap_or(("", text));
    if prefix == "xml" {
        return (XML.to_owned(), local.to_owned());
    }
    let uri = at
        .node
        .lookup_namespace_uri((!prefix.is_empty()).then_some(prefix));
    // An unprefixed name without a default namespace has none, but in a chameleon schema it means the adopted one
    // (XML Schema part 1 §4.2.1).
    let chameleon = || {
        !at.node
            .ancestors()
            .any(|n| n.tag_name().name() == "schema" && n.has_attribute("targetNamespace"))
    };
    (
        uri.unwrap_or_else(|| {
            if prefix.is_empty() && chameleon() {
                at.source.target
            } else {
                ""
            }
        })
        .to_owned(),
        local.to_owned(),
    )
}

fn closure(edges: &HashMap<QName, Vec<QName>>, from: &QName) -> Vec<QName> {
    let (mut all, mut seen, mut open) = (Vec::new(), HashSet::from([from.clone()]), vec![from]);
    while let Some(name) = open.pop() {
        for next in edges.get(name).into_iter().flatten() {
            if seen.insert(next.clone()) {
                all.push(next.clone());
                open.push(next);
            }
        }
    }
    all.sort();
    all
}

fn kind_of(node: Node<'_, '_>) -> Option<Kind> {
    Some(match node.tag_name().name() {
        "element" => Kind::Element,
        "complexType" | "simpleType" => Kind::Type,
        "attribute" => Kind::Attribute,
        "group" => Kind::Group,
        "attributeGroup" => Kind::AttributeGroup,
        _ => return None,
    })
}

/// The text of `xsd:annotation/xsd:documentation` (or `wsdl:documentation`), white space collapsed.
pub(crate) fn documentation(node: Node<'_, '_>) -> String {
    let text: Vec<&str> = node
        .children()
        .filter(|n| {
            (n.tag_name().name() == "annotation" && n.tag_name().namespace().is_some_and(is_xsd))
                || n.tag_name().name() == "documentation"
        })
        .flat_map(|n| {
            if n.tag_name().name() == "documentation" {
                vec![n]
            } else {
                n.children()
                    .filter(|c| c.tag_name().name() == "documentation")
                    .collect()
            }
        })
        .flat_map(|n| n.descendants())
        .filter(Node::is_text)
        .filter_map(|n| n.text())
        .flat_map(str::split_ascii_whitespace)
        .collect();
    text.join(" ")
}
