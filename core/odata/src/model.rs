//! What metadata says, apart from how it is written.

use indexmap::IndexMap;

/// Which words and literals a service has.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Version {
    /// OData v2 and v3.
    Two,
    /// OData v4 and later.
    Four,
}

/// A whole service.
#[derive(Debug)]
pub(crate) struct Model {
    pub(crate) version: Version,
    /// As it is written: `4.0`.
    pub(crate) number: String,
    /// Its entity container's name.
    pub(crate) title: String,
    pub(crate) documentation: String,
    /// Entity types and complex types by their qualified names.
    pub(crate) structures: IndexMap<String, Structure>,
    pub(crate) enums: IndexMap<String, Enum>,
    /// Names of types for other types.
    pub(crate) definitions: IndexMap<String, Property>,
    /// Functions and actions, overloads behind each other.
    pub(crate) operations: Vec<Operation>,
    pub(crate) sets: Vec<Set>,
    /// Function and action imports.
    pub(crate) imports: Vec<Import>,
}

/// An entity type or a complex type.
#[derive(Debug, Default)]
pub(crate) struct Structure {
    pub(crate) name: String,
    pub(crate) base: Option<String>,
    pub(crate) stream: bool,
    /// Names of the properties of its key.
    pub(crate) key: Vec<String>,
    pub(crate) properties: Vec<Property>,
    pub(crate) links: Vec<Link>,
    pub(crate) documentation: String,
}

/// The type of a value.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Type {
    /// Qualified, aliases replaced.
    pub(crate) name: String,
    pub(crate) collection: bool,
}

/// A property, a parameter or what is returned.
#[derive(Clone, Debug, Default)]
pub(crate) struct Property {
    pub(crate) name: String,
    pub(crate) of: Type,
    pub(crate) nullable: bool,
    pub(crate) max_length: Option<u64>,
    /// Whether a value comes about when none is given.
    pub(crate) has_default: bool,
    /// Whether the service sets it.
    pub(crate) computed: bool,
    /// Whether a call may leave it out.
    pub(crate) optional: bool,
    pub(crate) documentation: String,
}

/// A navigation property.
#[derive(Clone, Debug, Default)]
pub(crate) struct Link {
    pub(crate) name: String,
    pub(crate) to: Type,
    pub(crate) documentation: String,
}

#[derive(Debug, Default)]
pub(crate) struct Enum {
    pub(crate) members: Vec<String>,
    pub(crate) flags: bool,
}

/// A function or an action.
#[derive(Clone, Debug, Default)]
pub(crate) struct Operation {
    /// Qualified.
    pub(crate) full: String,
    pub(crate) name: String,
    pub(crate) action: bool,
    pub(crate) bound: bool,
    pub(crate) parameters: Vec<Property>,
    pub(crate) returns: Option<Property>,
    pub(crate) documentation: String,
    /// Where it is written: an offset in bytes.
    pub(crate) at: usize,
}

/// An entity set, or a singleton.
#[derive(Debug, Default)]
pub(crate) struct Set {
    pub(crate) name: String,
    pub(crate) of: String,
    pub(crate) single: bool,
    pub(crate) may: May,
    pub(crate) documentation: String,
    /// Where it is written: an offset in bytes.
    pub(crate) at: usize,
}

/// What may be done with the entities of a set (Org.OData.Capabilities.V1).
#[derive(Clone, Copy, Debug)]
pub(crate) struct May {
    pub(crate) list: bool,
    pub(crate) get: bool,
    pub(crate) insert: bool,
    pub(crate) update: bool,
    pub(crate) delete: bool,
}

impl Default for May {
    fn default() -> Self {
        Self {
            list: true,
            get: true,
            insert: true,
            update: true,
            delete: true,
        }
    }
}

/// What a container offers to be called.
#[derive(Debug, Default)]
pub(crate) struct Import {
    pub(crate) name: String,
    /// The operation's qualified name; in v2 it stands here as a whole.
    pub(crate) of: String,
    /// Its method in v2.
    pub(crate) method: Option<String>,
    /// Where it is written: an offset in bytes.
    pub(crate) at: usize,
}

/// An entity has at most so many properties in its key.
pub(crate) const MAX_KEY: usize = 12;

/// A chain of base types is followed so far.
const MAX_BASES: usize = 64;
/// So many properties of a structure are read.
pub(crate) const MAX_PROPERTIES: usize = 2000;

impl Model {
    /// A structure and those that it is derived from, itself first.
    fn chain(&self, name: &str) -> Vec<&Structure> {
        let mut chain: Vec<&Structure> = Vec::new();
        let mut next = self.structures.get(name);
        while let Some(one) = next {
            // A type that is derived from itself has the properties that it has.
            if chain.len() >= MAX_BASES || chain.iter().any(|s| std::ptr::eq(*s, one)) {
                break;
            }
            chain.push(one);
            next = one.base.as_ref().and_then(|b| self.structures.get(b));
        }
        chain
    }

    /// What a structure is derived from, unless that leads back to itself.
    pub(crate) fn base_of(&self, name: &str) -> Option<&str> {
        let chain = self.chain(name);
        let ends = |s: &Structure| {
            s.base
                .as_ref()
                .is_none_or(|b| !self.structures.contains_key(b))
        };
        let base = self.structures.get(name)?.base.as_deref()?;
        (chain.len() > 1 && chain.last().is_some_and(|s| ends(s))).then_some(base)
    }

    /// Its properties, inherited ones first.
    pub(crate) fn properties(&self, name: &str) -> impl Iterator<Item = &Property> {
        let chain = self.chain(name).into_iter();
        chain.rev().flat_map(|s| &s.properties).take(MAX_PROPERTIES)
    }

    /// Its navigation properties, inherited ones first.
    pub(crate) fn links(&self, name: &str) -> impl Iterator<Item = &Link> {
        let chain = self.chain(name).into_iter();
        chain.rev().flat_map(|s| &s.links).take(MAX_PROPERTIES)
    }

    /// The properties of its key.
    pub(crate) fn key(&self, name: &str) -> Vec<&Property> {
        let chain = self.chain(name);
        let Some(keyed) = chain.iter().find(|s| !s.key.is_empty()) else {
            return Vec::new();
        };
        let of = |name: &str| {
            let mut all = chain.iter().flat_map(|s| &s.properties);
            all.find(|p| p.name == name)
        };
        let found = keyed.key.iter().take(MAX_KEY).map(|k| of(k));
        found.collect::<Option<Vec<_>>>().unwrap_or_default()
    }

    /// The names of a type and of those that it is derived from.
    pub(crate) fn lineage<'m>(&'m self, name: &'m str) -> Vec<&'m str> {
        let bases = self
            .chain(name)
            .into_iter()
            .filter_map(|s| s.base.as_deref());
        std::iter::once(name).chain(bases).collect()
    }

    /// A type for which another one stands, followed.
    pub(crate) fn resolved<'m>(&'m self, of: &'m str) -> &'m str {
        let mut name = of;
        for _ in 0..MAX_BASES {
            match self.definitions.get(name) {
                Some(other) => name = &other.of.name,
                None => break,
            }
        }
        name
    }
}
