//! The index of global schema components.

use std::collections::HashMap;

use roxmltree::Node;

use crate::xml::XSD;

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
}

/// A global component with its surroundings.
#[derive(Clone, Copy)]
pub(crate) struct Component<'a, 'i> {
    pub(crate) node: Node<'a, 'i>,
    pub(crate) source: Source<'a>,
}

/// All global components of all schemas.
#[derive(Default)]
pub(crate) struct Index<'a, 'i> {
    found: HashMap<(Kind, QName), Component<'a, 'i>>,
}

impl<'a, 'i> Index<'a, 'i> {
    /// Takes in the global components of a schema element.
    ///
    /// `adopted` is the target namespace of the schema that includes this one; a schema without a target namespace takes
    /// it over (XML Schema part 1 §4.2.1, "chameleon").
    pub(crate) fn add(&mut self, schema: Node<'a, 'i>, adopted: Option<&'a str>) {
        let source = Source {
            target: schema.attribute("targetNamespace").or(adopted).unwrap_or(""),
            qualified_elements: schema.attribute("elementFormDefault") == Some("qualified"),
            qualified_attributes: schema.attribute("attributeFormDefault") == Some("qualified"),
        };
        for node in schema.children().filter(Node::is_element) {
            let kind = match node.tag_name().name() {
                "element" => Kind::Element,
                "complexType" | "simpleType" => Kind::Type,
                "attribute" => Kind::Attribute,
                "group" => Kind::Group,
                "attributeGroup" => Kind::AttributeGroup,
                _ => continue,
            };
            if let Some(name) = node.attribute("name") {
                let key = (kind, (source.target.to_owned(), name.to_owned()));
                self.found.entry(key).or_insert(Component { node, source });
            }
        }
    }

    pub(crate) fn get(&self, kind: Kind, name: &QName) -> Option<Component<'a, 'i>> {
        self.found.get(&(kind, name.clone())).copied()
    }

    /// Local names of a kind, for suggestions.
    pub(crate) fn names(&self, kind: Kind) -> impl Iterator<Item = &str> {
        self.found.keys().filter(move |(k, _)| *k == kind).map(|(_, (_, name))| name.as_str())
    }
}

/// The text of `xsd:annotation/xsd:documentation` (or `wsdl:documentation`), white space collapsed.
pub(crate) fn documentation(node: Node<'_, '_>) -> String {
    let text: Vec<&str> = node
        .children()
        .filter(|n| n.has_tag_name((XSD, "annotation")) || n.tag_name().name() == "documentation")
        .flat_map(|n| n.descendants())
        .filter(Node::is_text)
        .filter_map(|n| n.text())
        .flat_map(str::split_ascii_whitespace)
        .collect();
    text.join(" ")
}
