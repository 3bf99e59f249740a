//! Reading CSDL in XML.

mod names;
mod operations;

use std::collections::HashMap;

use porch_contract::{Finding, Position};
use porch_soap::wsdl::parse_xml;
use roxmltree::Node;

use crate::model::{
    Enum, Link, MAX_PROPERTIES, May, Model, Property, Set, Structure, Type, Version,
};
use names::Names;

/// Namespaces of the package around metadata: v4, and those before it.
pub(crate) const PACKAGES: [&str; 2] = [
    "http://docs.oasis-open.org/odata/ns/edmx",
    "http://schemas.microsoft.com/ado/2007/06/edmx",
];

/// Namespace of what says how a service before v4 is called (MC-CSDL §2.1.38, `HttpMethod`).
pub(super) const METADATA: &str = "http://schemas.microsoft.com/ado/2007/08/dataservices/metadata";

/// Reads metadata.
pub(crate) fn model(text: &str, file: &str) -> Result<Model, Box<Finding>> {
    let fail = |at: Position, message: String| Box::new(Finding::error(file, at, message));
    let document = parse_xml(text).map_err(|(at, message)| fail(at, message))?;
    let root = document.root_element();
    let package = root.tag_name().namespace().unwrap_or_default();
    let version = match package {
        p if p == PACKAGES[0] => Version::Four,
        p if p == PACKAGES[1] => Version::Two,
        _ => {
            return Err(fail(
                Position::default(),
                "this is no OData metadata".into(),
            ));
        }
    };
    let schemas: Vec<Node<'_, '_>> = root
        .children()
        .filter(|n| is(n, "DataServices"))
        .flat_map(|services| services.children())
        .filter(|n| is(n, "Schema"))
        .collect();
    let names = Names::of(&schemas);
    let reader = Reader {
        names,
        annotations: annotations(&schemas),
    };
    let mut model = Model {
        version,
        number: number(root, version),
        title: String::new(),
        documentation: String::new(),
        structures: Default::default(),
        enums: Default::default(),
        definitions: Default::default(),
        operations: Vec::new(),
        sets: Vec::new(),
        imports: Vec::new(),
    };
    let ends = reader.ends(&schemas);
    for schema in &schemas {
        reader.schema(*schema, &ends, &mut model);
    }
    Ok(model)
}

/// The version as it is written (OData CSDL XML 4.01 §3.1; MC-EDMX §2.2.1).
fn number(root: Node<'_, '_>, version: Version) -> String {
    let services = root.children().find(|n| is(n, "DataServices"));
    let of = |name: &str| services.and_then(|s| s.attribute((METADATA, name)));
    let written = match version {
        Version::Four => root.attribute("Version"),
        Version::Two => of("MaxDataServiceVersion").or_else(|| of("DataServiceVersion")),
    };
    let usual = match version {
        Version::Four => "4.0",
        Version::Two => "2.0",
    };
    let plain = |t: &&str| t.len() <= 8 && t.bytes().all(|b| b.is_ascii_digit() || b == b'.');
    written.map(str::trim).filter(plain).unwrap_or(usual).into()
}

/// Whether a node is an element of a name; whichever of its namespaces a schema has.
fn is(node: &Node<'_, '_>, name: &str) -> bool {
    node.is_element() && node.tag_name().name() == name
}

fn children<'a, 'i>(
    node: Node<'a, 'i>,
    name: &'static str,
) -> impl Iterator<Item = Node<'a, 'i>> + use<'a, 'i> {
    node.children().filter(move |n| is(n, name))
}

fn is_true(node: Node<'_, '_>, name: &str) -> bool {
    node.attribute(name) == Some("true")
}

fn named(node: Node<'_, '_>) -> String {
    node.attribute("Name").unwrap_or_default().to_owned()
}

/// Annotations that stand apart from what they are about, by their targets as they are written.
fn annotations<'a, 'i>(schemas: &[Node<'a, 'i>]) -> HashMap<&'a str, Vec<Node<'a, 'i>>> {
    let mut all: HashMap<&str, Vec<Node<'_, '_>>> = HashMap::new();
    for apart in schemas.iter().flat_map(|s| children(*s, "Annotations")) {
        if let Some(target) = apart.attribute("Target") {
            let known = all.entry(target).or_default();
            known.extend(children(apart, "Annotation"));
        }
    }
    all
}

/// Ends of associations: by the association's qualified name, roles and the types there (MC-CSDL §2.1.6).
pub(super) type Ends = HashMap<String, Vec<(String, Type)>>;

pub(super) struct Reader<'a, 'i> {
    pub(super) names: Names<'a>,
    annotations: HashMap<&'a str, Vec<Node<'a, 'i>>>,
}

impl<'a, 'i> Reader<'a, 'i> {
    fn schema(&self, schema: Node<'a, 'i>, ends: &Ends, model: &mut Model) {
        let space = schema.attribute("Namespace").unwrap_or_default();
        for node in schema.children().filter(Node::is_element) {
            let full = format!("{space}.{}", named(node));
            match node.tag_name().name() {
                "EntityType" | "ComplexType" => {
                    let structure = self.structure(node, &full, ends);
                    model.structures.entry(full).or_insert(structure);
                }
                "EnumType" => {
                    let one = Enum {
                        members: children(node, "Member").map(named).collect(),
                        flags: is_true(node, "IsFlags"),
                    };
                    model.enums.entry(full).or_insert(one);
                }
                "TypeDefinition" => {
                    let mut one = self.property(node, &full);
                    one.of = self.typed(node.attribute("UnderlyingType").unwrap_or_default());
                    model.definitions.entry(full).or_insert(one);
                }
                "Function" | "Action" => {
                    let operation = self.operation(node, &full);
                    model.operations.push(operation);
                }
                "EntityContainer" => self.container(node, &full, model),
                _ => {}
            }
        }
    }

    fn structure(&self, node: Node<'a, 'i>, full: &str, ends: &Ends) -> Structure {
        let key = children(node, "Key").flat_map(|k| children(k, "PropertyRef"));
        let properties = children(node, "Property");
        let links = children(node, "NavigationProperty");
        Structure {
            name: named(node),
            base: node.attribute("BaseType").map(|b| self.names.full(b)),
            stream: is_true(node, "HasStream")
                || node.attribute((METADATA, "HasStream")) == Some("true"),
            key: key.map(named).collect(),
            properties: properties
                .take(MAX_PROPERTIES)
                .map(|p| self.property(p, &format!("{full}/{}", named(p))))
                .collect(),
            links: links
                .take(MAX_PROPERTIES)
                .filter_map(|l| self.link(l, ends))
                .collect(),
            documentation: self.documentation(node, full),
        }
    }

    pub(super) fn property(&self, node: Node<'a, 'i>, target: &str) -> Property {
        let facet = |name: &str| node.attribute(name)?.trim().parse().ok();
        let tagged = |term: &str| {
            let mut about = self.about(node, target).filter(|a| is_term(a, term));
            about.any(|a| a.attribute("Bool") != Some("false"))
        };
        let generated = node
            .attributes()
            .any(|a| a.name() == "StoreGeneratedPattern" && a.value() != "None");
        Property {
            name: named(node),
            of: self.typed(node.attribute("Type").unwrap_or("Edm.String")),
            nullable: node.attribute("Nullable") != Some("false"),
            max_length: facet("MaxLength"),
            has_default: node.attribute("DefaultValue").is_some() || tagged("ComputedDefaultValue"),
            computed: tagged("Computed") || generated,
            optional: self
                .about(node, target)
                .any(|a| is_term(&a, "OptionalParameter")),
            documentation: self.documentation(node, target),
        }
    }

    fn link(&self, node: Node<'a, 'i>, ends: &Ends) -> Option<Link> {
        let to = match node.attribute("Type") {
            Some(written) => self.typed(written),
            None => {
                let relation = self.names.full(node.attribute("Relationship")?);
                let role = node.attribute("ToRole")?;
                let mut roles = ends.get(&relation)?.iter();
                roles.find(|(name, _)| name == role)?.1.clone()
            }
        };
        Some(Link {
            name: named(node),
            to,
            documentation: self.documentation(node, ""),
        })
    }

    fn ends(&self, schemas: &[Node<'a, 'i>]) -> Ends {
        let mut all = Ends::new();
        for schema in schemas {
            let space = schema.attribute("Namespace").unwrap_or_default();
            for association in children(*schema, "Association") {
                let roles = children(association, "End").map(|end| {
                    let mut of = self.typed(end.attribute("Type").unwrap_or_default());
                    of.collection = end.attribute("Multiplicity") == Some("*");
                    (end.attribute("Role").unwrap_or_default().to_owned(), of)
                });
                all.insert(format!("{space}.{}", named(association)), roles.collect());
            }
        }
        all
    }

    /// A type as it is written: `Collection(Edm.String)`.
    pub(super) fn typed(&self, written: &str) -> Type {
        let written = written.trim();
        let inner = written
            .strip_prefix("Collection(")
            .and_then(|w| w.strip_suffix(')'));
        Type {
            name: self.names.full(inner.unwrap_or(written)),
            collection: inner.is_some(),
        }
    }

    fn container(&self, node: Node<'a, 'i>, full: &str, model: &mut Model) {
        if model.title.is_empty() {
            model.title = named(node);
            model.documentation = self.documentation(node, full);
        }
        for child in node.children().filter(Node::is_element) {
            let target = format!("{full}/{}", named(child));
            match child.tag_name().name() {
                "EntitySet" => model.sets.push(self.set(child, &target, "EntityType")),
                "Singleton" => model.sets.push(self.set(child, &target, "Type")),
                "FunctionImport" | "ActionImport" => self.import(child, &target, model),
                _ => {}
            }
        }
    }

    fn set(&self, node: Node<'a, 'i>, target: &str, of: &str) -> Set {
        let mut may = May::default();
        for about in self.about(node, target) {
            let refused = |name: &str| is_refused(about, name);
            if is_term(&about, "InsertRestrictions") {
                may.insert &= !refused("Insertable");
            } else if is_term(&about, "UpdateRestrictions") {
                may.update &= !refused("Updatable");
            } else if is_term(&about, "DeleteRestrictions") {
                may.delete &= !refused("Deletable");
            } else if is_term(&about, "ReadRestrictions") {
                may.list &= !refused("Readable");
                may.get &= !by_key(about).unwrap_or_else(|| refused("Readable"));
            }
        }
        Set {
            name: named(node),
            of: self.names.full(node.attribute(of).unwrap_or_default()),
            single: of == "Type",
            may,
            documentation: self.documentation(node, target),
            at: node.range().start,
        }
    }

    /// What is annotated of something: inside of it, and apart (OData CSDL XML 4.01 §14.2).
    fn about<'s>(
        &'s self,
        node: Node<'a, 'i>,
        target: &str,
    ) -> impl Iterator<Item = Node<'a, 'i>> + use<'s, 'a, 'i> {
        let apart = self.names.spellings(target).into_iter();
        let apart = apart.flat_map(|t| self.annotations.get(t.as_str()).into_iter().flatten());
        children(node, "Annotation").chain(apart.copied())
    }

    pub(super) fn documentation(&self, node: Node<'a, 'i>, target: &str) -> String {
        let mut described = self.about(node, target);
        let described = described.find(|a| is_term(a, "Description"));
        if let Some(text) = described.and_then(text_of) {
            return text;
        }
        let older = children(node, "Documentation").flat_map(|d| children(d, "Summary"));
        let text = older.filter_map(|s| s.text()).next().unwrap_or_default();
        text.trim().to_owned()
    }
}

/// A term of one of OASIS' vocabularies, under its namespace or an alias.
fn is_term(node: &Node<'_, '_>, term: &str) -> bool {
    let written = node.attribute("Term").unwrap_or_default();
    written.rsplit('.').next() == Some(term)
}

/// The text of an annotation.
fn text_of(node: Node<'_, '_>) -> Option<String> {
    let inner = children(node, "String").next().and_then(|s| s.text());
    Some(node.attribute("String").or(inner)?.trim().to_owned())
}

/// Whether a restriction says that something may not be done.
fn is_refused(node: Node<'_, '_>, property: &str) -> bool {
    let values = children(node, "Record").flat_map(|r| children(r, "PropertyValue"));
    let mut values = values.filter(|v| v.attribute("Property") == Some(property));
    values.any(|v| {
        let inner = children(v, "Bool").next().and_then(|b| b.text());
        v.attribute("Bool").or(inner).map(str::trim) == Some("false")
    })
}

/// Whether a restriction on reading says of reading by key that it may not be done, where it speaks of that.
fn by_key(node: Node<'_, '_>) -> Option<bool> {
    let values = children(node, "Record").flat_map(|r| children(r, "PropertyValue"));
    let mut values = values.filter(|v| v.attribute("Property") == Some("ReadByKeyRestrictions"));
    values.next().map(|v| is_refused(v, "Readable"))
}
