//! The plan: what a schema's types are in JSON, as a flat table that both converters work from.

use std::collections::HashMap;

use crate::simple::Simple;

/// Index of a type in its plan.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct TypeId(pub u32);

/// Index of a namespace in its plan.
pub type NamespaceId = u16;

/// A name with its namespace.
pub type TypeName = (NamespaceId, String);

/// All types that a definition's messages need.
#[derive(Debug, Default)]
pub struct Plan {
    /// The types.
    pub types: Vec<TypePlan>,
    /// The namespaces; the first is "no namespace".
    pub namespaces: Vec<String>,
    /// Named types that may stand in place of `anyType`, when a message can hold such.
    pub named: Vec<Derived>,
}

/// One type.
#[derive(Debug)]
#[expect(clippy::large_enum_variant, reason = "most types are objects")]
pub enum TypePlan {
    /// Text only.
    Simple(Simple),
    /// Elements, attributes, or text beside attributes.
    Object(ObjectPlan),
    /// An array of SOAP's encoding (SOAP 1.1 §5.4.2): elements of any name, one behind the other.
    List(Box<Member>),
    /// Whatever comes, in the generic mapping ([`crate::generic`]).
    Any,
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
    /// In which order and which combinations the elements are written.
    pub content: Particle,
    /// Member for text beside attributes: its JSON name and type.
    pub text: Option<(String, Simple)>,
    /// The types that `xsi:type` may name here, the type itself among them unless it is abstract; empty when it can only be itself.
    pub derived: Vec<Derived>,
    /// Whether `xsi:type` must name another type.
    pub is_abstract: bool,
    /// What it is called in JSON, when it can stand in place of others or others in its place: it then always says so.
    pub label: Option<String>,
    /// Whether it can stand in place of another.
    pub is_derived: bool,
    pub(crate) by_name: HashMap<String, usize>,
    /// When it is a row of elements and nothing else: for each, whether nothing is written where it is not given.
    pub(crate) row: Option<Box<[bool]>>,
    /// Attributes while the type is being taken in; they are put behind the elements then.
    pub(crate) attributes: Vec<Member>,
}

/// A type that `xsi:type` may name.
#[derive(Clone, Debug)]
pub struct Derived {
    /// What it is called in JSON.
    pub json: String,
    /// Its name in the schema.
    pub name: TypeName,
    /// The type.
    pub type_id: TypeId,
}

/// The structure of an object's elements (XML Schema part 1 §3.8).
#[derive(Clone, Debug)]
pub enum Particle {
    /// A member, and whether it must be there when its surroundings are.
    Member(usize, bool),
    /// All of these, in this order; with whether that must be.
    Sequence(Vec<Particle>, bool),
    /// One of these; with whether one must be.
    Choice(Vec<Particle>, bool),
}

impl Default for Particle {
    fn default() -> Self {
        Self::Sequence(Vec::new(), true)
    }
}

impl Particle {
    /// The indexes of its members.
    pub fn members(&self) -> Vec<usize> {
        match self {
            Particle::Member(i, _) => vec![*i],
            Particle::Sequence(parts, _) | Particle::Choice(parts, _) => {
                parts.iter().flat_map(Particle::members).collect()
            }
        }
    }

    /// Whether it is one member behind the other, each of them once, in the order of their indexes; appends for each whether it
    /// must be there.
    fn is_row(&self, required: &mut Vec<bool>) -> bool {
        match self {
            Particle::Member(i, needed) => {
                required.push(*needed);
                *i + 1 == required.len()
            }
            Particle::Sequence(parts, true) => parts.iter().all(|p| p.is_row(required)),
            Particle::Sequence(..) | Particle::Choice(..) => false,
        }
    }

    fn holds(&self, index: usize) -> bool {
        match self {
            Particle::Member(i, _) => *i == index,
            Particle::Sequence(parts, _) | Particle::Choice(parts, _) => {
                parts.iter().any(|p| p.holds(index))
            }
        }
    }

    /// Whether a member can stand behind another one in the same instance.
    pub fn follows(&self, before: usize, after: usize) -> bool {
        match self {
            Particle::Member(..) => false,
            Particle::Sequence(parts, _) => {
                let place = |index: usize| parts.iter().position(|p| p.holds(index));
                match (place(before), place(after)) {
                    (Some(a), Some(b)) if a == b => parts[a].follows(before, after),
                    (Some(a), Some(b)) => a < b,
                    _ => false,
                }
            }
            Particle::Choice(parts, _) => parts
                .iter()
                .any(|p| p.holds(before) && p.holds(after) && p.follows(before, after)),
        }
    }

    /// Whether nothing at all fits it.
    pub fn may_be_empty(&self) -> bool {
        match self {
            Particle::Member(_, required) => !required,
            Particle::Sequence(parts, required) => {
                !required || parts.iter().all(Particle::may_be_empty)
            }
            Particle::Choice(parts, required) => {
                !required || parts.is_empty() || parts.iter().any(Particle::may_be_empty)
            }
        }
    }
}

/// What a member stands for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum MemberKind {
    /// An element.
    Element,
    /// An attribute.
    Attribute,
    /// A repeated group of elements: an array of objects, without an element of its own.
    Group,
    /// Elements that the schema leaves open (`xsd:any`): an array in the generic mapping.
    Any,
    /// Attributes that the schema leaves open (`xsd:anyAttribute`): an object of texts.
    AnyAttribute,
}

/// One member of an object: an element or an attribute.
#[derive(Clone, Debug)]
pub struct Member {
    /// Its name in JSON.
    pub json: String,
    /// `"name":`, ready to be written.
    pub json_key: Vec<u8>,
    /// Its end tag, ready to be written.
    pub(crate) tag: Box<[u8]>,
    /// Namespace, 0 for none.
    pub namespace: NamespaceId,
    /// Local name.
    pub local: String,
    /// What it stands for.
    pub kind: MemberKind,
    /// Whether it is an array.
    pub many: bool,
    /// Least number of times.
    pub min: u32,
    /// Greatest number of times; `None`: no bound.
    pub max: Option<u32>,
    /// Whether it stands in a choice: an empty array is then shown only when its branch was taken.
    pub in_choice: bool,
    /// Whether `xsi:nil` may stand in place of the content.
    pub nillable: bool,
    /// Type of the content.
    pub type_id: TypeId,
    /// The name of that type, if it has one.
    pub type_name: Option<TypeName>,
    /// When the element only holds a list, the list's items: the element is then not shown in JSON.
    pub items: Option<Box<Member>>,
    /// The text that the schema gives an empty or absent one (`default`, `fixed`).
    pub default: Option<String>,
    /// Whether it can have no other text than that (`fixed`).
    pub fixed: bool,
    /// For a group: the elements that it may hold.
    pub starts: Vec<TypeName>,
    /// Its `xsd:documentation`.
    pub documentation: String,
}

/// The member that says which type stands in place of the declared one (XML Schema part 1 §2.6.1).
///
/// No element or attribute without a prefix can have this name, so it never clashes.
pub const TYPE_MEMBER: &str = "xsi:type";

impl ObjectPlan {
    /// The member of a JSON name.
    pub fn member(&self, json: &str) -> Option<&Member> {
        self.by_name.get(json).map(|i| &self.members[*i])
    }

    /// Gives every member its JSON name: what is made of the local name, and where it is taken already, the name with `_2`, `_3` …
    /// behind it, in the order elements, attributes, text.
    pub(crate) fn name_members(&mut self, named: &dyn Fn(&str) -> String) {
        let mut taken: HashMap<String, usize> = HashMap::new();
        for (i, member) in self.members.iter_mut().enumerate() {
            let own = named(&member.local);
            let mut name = own.clone();
            let mut n = 1;
            while taken.contains_key(&name) {
                n += 1;
                name = format!("{own}_{n}");
            }
            taken.insert(name.clone(), i);
            member.set_json(name);
        }
        if let Some((name, _)) = &mut self.text {
            let mut n = 1;
            "value".clone_into(name);
            while taken.contains_key(name.as_str()) {
                n += 1;
                *name = format!("value_{n}");
            }
        }
        self.by_name = taken;
        self.row = self.as_row();
    }

    fn as_row(&self) -> Option<Box<[bool]>> {
        let mut required = Vec::with_capacity(self.members.len());
        let alike = self.content.is_row(&mut required)
            && required.len() == self.members.len()
            && self.text.is_none()
            && !self.members.iter().any(Member::is_attribute);
        let may_lack = |(required, member): (&bool, &Member)| {
            !required || (member.many && member.min == 0 && member.default.is_none())
        };
        let all = required.iter().zip(&self.members);
        alike.then(|| all.map(may_lack).collect())
    }
}

impl Member {
    /// An element that must be there once.
    pub(crate) fn element(namespace: NamespaceId, local: &str, type_id: TypeId) -> Self {
        let mut member = Self {
            json: String::new(),
            json_key: Vec::new(),
            tag: Box::default(),
            namespace,
            local: local.to_owned(),
            kind: MemberKind::Element,
            many: false,
            min: 1,
            max: Some(1),
            in_choice: false,
            nillable: false,
            type_id,
            type_name: None,
            items: None,
            default: None,
            fixed: false,
            starts: Vec::new(),
            documentation: String::new(),
        };
        member.set_json(local.to_owned());
        member
    }

    pub(crate) fn set_json(&mut self, name: String) {
        let mut key = Vec::new();
        crate::simple::push_json_string(&mut key, &name);
        key.push(b':');
        self.json_key = key;
        self.json = name;
        self.set_tag();
        if let Some(item) = &mut self.items {
            item.set_tag();
        }
    }

    fn set_tag(&mut self) {
        let name = match self.namespace {
            0 => format!("</{}>", self.local),
            n => format!("</n{n}:{}>", self.local),
        };
        self.tag = name.into_bytes().into();
    }

    /// Whether it is an attribute of the object's element.
    pub fn is_attribute(&self) -> bool {
        matches!(self.kind, MemberKind::Attribute | MemberKind::AnyAttribute)
    }

    /// Whether an object must have it.
    pub fn required(&self) -> bool {
        self.min > 0 && self.default.is_none()
    }
}

impl Plan {
    /// The type of an index.
    pub fn get(&self, id: TypeId) -> &TypePlan {
        &self.types[id.0 as usize]
    }

    /// The number of a namespace, if a message can hold it.
    pub fn namespace(&self, uri: &str) -> Option<NamespaceId> {
        self.namespaces
            .iter()
            .position(|n| n == uri)
            .map(|i| i as NamespaceId)
    }

    /// The types that a value of a type can hold, itself first.
    pub fn below(&self, root: TypeId) -> Vec<TypeId> {
        let mut seen = vec![false; self.types.len()];
        let (mut open, mut all) = (vec![root], Vec::new());
        while let Some(id) = open.pop() {
            if std::mem::replace(&mut seen[id.0 as usize], true) {
                continue;
            }
            all.push(id);
            match self.get(id) {
                TypePlan::Object(object) => {
                    open.extend(
                        object
                            .members
                            .iter()
                            .flat_map(|m| std::iter::once(m).chain(m.items.as_deref()))
                            .map(|m| m.type_id),
                    );
                    open.extend(object.derived.iter().map(|d| d.type_id));
                }
                TypePlan::List(item) => open.push(item.type_id),
                TypePlan::Any => open.extend(self.named.iter().map(|d| d.type_id)),
                TypePlan::Simple(_) => {}
            }
        }
        all
    }

    /// The namespaces that a message of this type can use; those of types' names only matter to encoded messages.
    pub fn namespaces_below(&self, root: TypeId, encoded: bool) -> Vec<NamespaceId> {
        let mut used = vec![false; self.namespaces.len()];
        let mut take = |member: &Member| {
            used[member.namespace as usize] = true;
            if let Some((namespace, _)) = member.type_name.as_ref().filter(|_| encoded) {
                used[*namespace as usize] = true;
            }
            member
                .starts
                .iter()
                .for_each(|(namespace, _)| used[*namespace as usize] = true);
        };
        for id in self.below(root) {
            match self.get(id) {
                TypePlan::Object(object) => object
                    .members
                    .iter()
                    .flat_map(|m| std::iter::once(m).chain(m.items.as_deref()))
                    .for_each(&mut take),
                TypePlan::List(item) => take(item),
                _ => {}
            }
        }
        for id in self.below(root) {
            match self.get(id) {
                TypePlan::Object(object) => object
                    .derived
                    .iter()
                    .for_each(|d| used[d.name.0 as usize] = true),
                TypePlan::Any => self
                    .named
                    .iter()
                    .for_each(|d| used[d.name.0 as usize] = true),
                _ => {}
            }
        }
        (1..self.namespaces.len())
            .filter(|i| used[*i])
            .map(|i| i as NamespaceId)
            .collect()
    }

    /// Whether a value of a type can be of any shape somewhere inside.
    pub fn holds_any(&self, root: TypeId) -> bool {
        self.below(root)
            .into_iter()
            .any(|id| matches!(self.get(id), TypePlan::Any))
    }
}
