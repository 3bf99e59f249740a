//! The plan's types as JSON Schema (draft 2020-12).

use std::collections::HashMap;

use serde_json::{Map, Value, json};

use crate::plan::{
    Derived, Member, MemberKind, ObjectPlan, Particle, Plan, TYPE_MEMBER, TypeId, TypePlan,
};

/// Writes JSON Schemas for types, each object type once.
pub struct JsonSchemas<'a> {
    plan: &'a Plan,
    names: HashMap<TypeId, String>,
    /// Families of types by the type at their head.
    families: HashMap<TypeId, String>,
    /// The schemas by name, ready for `components/schemas`.
    pub schemas: Map<String, Value>,
}

impl<'a> JsonSchemas<'a> {
    /// A writer for the types of a plan.
    pub fn new(plan: &'a Plan) -> Self {
        Self {
            plan,
            names: HashMap::new(),
            families: HashMap::new(),
            schemas: Map::new(),
        }
    }

    /// The schema of a type: a reference when an object, otherwise written out.
    pub fn of(&mut self, id: TypeId) -> Value {
        match self.plan.get(id) {
            TypePlan::Simple(simple) => simple.json_schema(),
            TypePlan::Any => {
                json!({ "description": "Any XML, in the generic mapping; or an object whose “xsi:type” names its type." })
            }
            TypePlan::List(item) => json!({ "type": "array", "items": self.value(item) }),
            TypePlan::Object(object)
                if object.is_abstract || object.derived.iter().any(|d| d.type_id != id) =>
            {
                self.family(id, object)
            }
            TypePlan::Object(object) => self.reference(id, object),
        }
    }

    fn reference(&mut self, id: TypeId, object: &ObjectPlan) -> Value {
        let name = match self.names.get(&id) {
            Some(name) => name.clone(),
            None => self.add(id, object),
        };
        json!({ "$ref": format!("#/components/schemas/{name}") })
    }

    /// One of several types; the member `xsi:type` says which (OpenAPI 3.1 §4.8.25).
    /// A wide one stands in many places, so it has a name of its own.
    fn family(&mut self, id: TypeId, head: &ObjectPlan) -> Value {
        let name = match self.families.get(&id) {
            Some(name) => name.clone(),
            None => {
                let name = self.unused_name(&format!("Any{}", head.name));
                self.families.insert(id, name.clone());
                self.schemas.insert(name.clone(), Value::Null);
                let schema = self.members_of_family(&head.derived);
                self.schemas.insert(name.clone(), schema);
                name
            }
        };
        json!({ "$ref": format!("#/components/schemas/{name}") })
    }

    fn members_of_family(&mut self, derived: &[Derived]) -> Value {
        let (mut one_of, mut mapping) = (Vec::new(), Map::new());
        for entry in derived {
            if let TypePlan::Object(object) = self.plan.get(entry.type_id) {
                let schema = self.reference(entry.type_id, object);
                mapping.insert(entry.json.clone(), schema["$ref"].clone());
                one_of.push(schema);
            }
        }
        json!({ "oneOf": one_of, "discriminator": { "propertyName": TYPE_MEMBER, "mapping": mapping } })
    }

    /// A name for a schema that no other has.
    fn unused_name(&self, wanted: &str) -> String {
        let clean: String = wanted
            .chars()
            .map(|c| {
                if c.is_ascii_alphanumeric() || "._-".contains(c) {
                    c
                } else {
                    '_'
                }
            })
            .collect();
        let mut name = clean.clone();
        let mut n = 1;
        while self.schemas.contains_key(&name) {
            n += 1;
            name = format!("{clean}_{n}");
        }
        name
    }

    fn add(&mut self, id: TypeId, object: &ObjectPlan) -> String {
        let name = self.unused_name(&object.name);
        self.names.insert(id, name.clone());
        self.schemas.insert(name.clone(), Value::Null);
        let schema = self.object(object);
        self.schemas.insert(name.clone(), schema);
        name
    }

    /// The schema of an object type, written out.
    pub fn object(&mut self, object: &ObjectPlan) -> Value {
        let mut properties = Map::new();
        let mut required = Vec::new();
        if let Some(label) = &object.label {
            properties.insert(
                TYPE_MEMBER.to_owned(),
                json!({ "type": "string", "enum": [label] }),
            );
            if object.is_derived {
                required.push(TYPE_MEMBER.to_owned());
            }
        }
        for member in &object.members {
            properties.insert(member.json.clone(), self.member(member));
            if member.required() {
                required.push(member.json.clone());
            }
        }
        if let Some((name, simple)) = &object.text {
            properties.insert(name.clone(), simple.json_schema());
            required.push(name.clone());
        }
        let mut schema = json!({ "type": "object", "properties": properties });
        if !required.is_empty() {
            schema["required"] = json!(required);
        }
        schema["additionalProperties"] = json!(false);
        let mut choices = Vec::new();
        collect_choices(object, &object.content, &mut choices);
        match choices.len() {
            0 => {}
            1 => schema["oneOf"] = choices.remove(0),
            _ => schema["allOf"] = choices.into_iter().map(|c| json!({ "oneOf": c })).collect(),
        }
        if !object.documentation.is_empty() {
            schema["description"] = json!(object.documentation);
        }
        schema
    }

    fn value(&mut self, member: &Member) -> Value {
        let schema = self.of(member.type_id);
        if member.nillable {
            nullable(schema)
        } else {
            schema
        }
    }

    /// The schema of one member's value.
    pub fn member(&mut self, member: &Member) -> Value {
        let inner = member.items.as_deref().unwrap_or(member);
        let mut schema = match member.kind {
            MemberKind::AnyAttribute => {
                json!({ "type": "object", "additionalProperties": { "type": "string" } })
            }
            MemberKind::Any => {
                json!({ "type": "object", "minProperties": 1, "maxProperties": 1, "description": "An element in the generic mapping." })
            }
            _ => self.value(inner),
        };
        if let (Some(text), TypePlan::Simple(simple)) =
            (&member.default, self.plan.get(member.type_id))
        {
            schema[if member.fixed { "const" } else { "default" }] = simple.json_of(text);
        }
        if member.many || member.items.is_some() {
            schema = json!({ "type": "array", "items": schema });
            if inner.min > 1 || (inner.min == 1 && member.items.is_none()) {
                schema["minItems"] = json!(inner.min);
            }
            if let Some(max) = inner.max {
                schema["maxItems"] = json!(max);
            }
            if member.items.is_some() && member.nillable {
                schema = nullable(schema);
            }
        }
        if !member.documentation.is_empty()
            && let Value::Object(map) = &mut schema
        {
            map.insert("description".into(), json!(member.documentation));
        }
        schema
    }
}

/// Choices, each as the members that each of its branches needs; only where those are told apart by
/// what they need.
fn collect_choices(object: &ObjectPlan, particle: &Particle, into: &mut Vec<Value>) {
    match particle {
        Particle::Sequence(parts, true) => {
            parts.iter().for_each(|p| collect_choices(object, p, into))
        }
        Particle::Choice(parts, must) => {
            let needs: Vec<Vec<&str>> = parts.iter().map(|p| needed(object, p)).collect();
            let mut members: Vec<usize> = parts.iter().flat_map(Particle::members).collect();
            let all = members.len();
            members.sort_unstable();
            members.dedup();
            if parts.len() > 1 && all == members.len() && needs.iter().all(|n| !n.is_empty()) {
                let mut branches: Vec<Value> =
                    needs.iter().map(|n| json!({ "required": n })).collect();
                if !must {
                    let none: Vec<Value> = members
                        .iter()
                        .map(|i| json!({ "required": [object.members[*i].json] }))
                        .collect();
                    branches.push(json!({ "not": { "anyOf": none } }));
                }
                into.push(Value::Array(branches));
            }
        }
        _ => {}
    }
}

fn needed<'o>(object: &'o ObjectPlan, particle: &Particle) -> Vec<&'o str> {
    match particle {
        Particle::Member(i, true) if object.members[*i].default.is_none() => {
            vec![&object.members[*i].json]
        }
        Particle::Sequence(parts, true) => parts.iter().flat_map(|p| needed(object, p)).collect(),
        _ => Vec::new(),
    }
}

fn nullable(schema: Value) -> Value {
    match schema.get("type").and_then(Value::as_str) {
        Some(one) if schema.get("enum").is_none() => {
            let types = json!([one, "null"]);
            let mut schema = schema;
            schema["type"] = types;
            schema
        }
        _ => json!({ "anyOf": [schema, { "type": "null" }] }),
    }
}
