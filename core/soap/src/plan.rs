//! The plan: what a schema's types are in JSON, as a flat table that both converters work from.

use std::collections::HashMap;

use crate::simple::Simple;

/// Index of a type in its plan.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct TypeId(pub u32);

/// Index of a namespace in its plan.
pub type NamespaceId = u16;

/// All types that a definition's messages need.
#[derive(Debug, Default)]
pub struct Plan {
    /// The types.
    pub types: Vec<TypePlan>,
    /// The namespaces; the first is "no namespace".
    pub namespaces: Vec<String>,
}

/// One type.
#[derive(Debug)]
pub enum TypePlan {
    /// Text only.
    Simple(Simple),
    /// Elements, attributes, or text beside attributes.
    Object(ObjectPlan),
}

/// A type that becomes a JSON object.
#[derive(Debug, Default)]
pub struct ObjectPlan {
    /// The type's name in the schema, or of the element that holds it.
    pub name: String,
    /// Its `xsd:documentation`.
    pub documentation: String,
    /// Elements in schema order, then attributes.
    pub members: Vec<Member>,
    /// Member for text beside attributes: its JSON name and type.
    pub text: Option<(String, Simple)>,
    /// Choices: the branches, each a list of member indexes, and whether one must be taken.
    pub choices: Vec<Choice>,
    /// Whether elements that the schema does not name may stand inside.
    pub open: bool,
    pub(crate) by_name: HashMap<String, usize>,
}

/// An `xsd:choice`.
#[derive(Debug)]
pub struct Choice {
    /// The members of each branch.
    pub branches: Vec<Vec<usize>>,
    /// Whether a branch must be taken.
    pub required: bool,
}

/// One member of an object: an element or an attribute.
#[derive(Clone, Debug)]
pub struct Member {
    /// Its name in JSON.
    pub json: String,
    /// `"name":`, ready to be written.
    pub json_key: Vec<u8>,
    /// Namespace, 0 for none.
    pub namespace: NamespaceId,
    /// Local name.
    pub local: String,
    /// Whether it is an attribute.
    pub attribute: bool,
    /// Whether it is an array.
    pub many: bool,
    /// Least number of times.
    pub min: u32,
    /// Greatest number of times; `None`: no bound.
    pub max: Option<u32>,
    /// Whether `xsi:nil` may stand in place of the content.
    pub nillable: bool,
    /// Type of the content.
    pub type_id: TypeId,
    /// When the element only holds a list, the list's items: the element is then not shown in JSON.
    pub items: Option<Box<Member>>,
    /// The text that the schema gives an empty or absent one (`default`, `fixed`).
    pub default: Option<String>,
    /// Its `xsd:documentation`.
    pub documentation: String,
}

impl ObjectPlan {
    /// The member of a JSON name.
    pub fn member(&self, json: &str) -> Option<&Member> {
        self.by_name.get(json).map(|i| &self.members[*i])
    }

    /// Gives every member its JSON name: the local name, and where it is taken already, the name with `_2`, `_3` …
    /// behind it, in the order elements, attributes, text.
    pub(crate) fn name_members(&mut self) {
        let mut taken: HashMap<String, usize> = HashMap::new();
        for (i, member) in self.members.iter_mut().enumerate() {
            let mut name = member.local.clone();
            let mut n = 1;
            while taken.contains_key(&name) {
                n += 1;
                name = format!("{}_{n}", member.local);
            }
            taken.insert(name.clone(), i);
            member.set_json(name);
        }
        if let Some((name, _)) = &mut self.text {
            let mut n = 1;
            while taken.contains_key(name.as_str()) {
                n += 1;
                *name = format!("value_{n}");
            }
        }
        self.by_name = taken;
    }
}

impl Member {
    pub(crate) fn set_json(&mut self, name: String) {
        let mut key = Vec::new();
        crate::simple::push_json_string(&mut key, &name);
        key.push(b':');
        self.json_key = key;
        self.json = name;
    }

    /// Whether an object must have it.
    pub fn required(&self) -> bool {
        self.min > 0 && self.default.is_none() && !(self.many && self.items.is_none() && self.min == 0)
    }
}

impl Plan {
    /// The type of an index.
    pub fn get(&self, id: TypeId) -> &TypePlan {
        &self.types[id.0 as usize]
    }

    /// The number of a namespace, if a message can hold it.
    pub fn namespace(&self, uri: &str) -> Option<NamespaceId> {
        self.namespaces.iter().position(|n| n == uri).map(|i| i as NamespaceId)
    }

    /// The namespaces that a message of this type can use.
    pub fn namespaces_below(&self, root: TypeId) -> Vec<NamespaceId> {
        let mut seen = vec![false; self.types.len()];
        let mut used = vec![false; self.namespaces.len()];
        let mut open = vec![root];
        while let Some(id) = open.pop() {
            if std::mem::replace(&mut seen[id.0 as usize], true) {
                continue;
            }
            if let TypePlan::Object(object) = self.get(id) {
                for member in object.members.iter().flat_map(|m| std::iter::once(m).chain(m.items.as_deref())) {
                    used[member.namespace as usize] = true;
                    open.push(member.type_id);
                }
            }
        }
        (1..self.namespaces.len()).filter(|i| used[*i]).map(|i| i as NamespaceId).collect()
    }
}
