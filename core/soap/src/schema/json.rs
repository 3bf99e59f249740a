//! The plan's types as JSON Schema (draft 2020-12).

use std::collections::HashMap;

use serde_json::{Map, Value, json};

use crate::plan::{Member, ObjectPlan, Plan, TypeId, TypePlan};

/// Writes JSON Schemas for types, each object type once.
pub struct JsonSchemas<'a> {
    plan: &'a Plan,
    names: HashMap<TypeId, String>,
    /// The schemas by name, ready for `components/schemas`.
    pub schemas: Map<String, Value>,
}

impl<'a> JsonSchemas<'a> {
    /// A writer for the types of a plan.
    pub fn new(plan: &'a Plan) -> Self {
        Self { plan, names: HashMap::new(), schemas: Map::new() }
    }

    /// The schema of a type: written out when simple, a reference when an object.
    pub fn of(&mut self, id: TypeId) -> Value {
        match self.plan.get(id) {
            TypePlan::Simple(simple) => simple.json_schema(),
            TypePlan::Object(object) => {
                let name = match self.names.get(&id) {
                    Some(name) => name.clone(),
                    None => self.add(id, object),
                };
                json!({ "$ref": format!("#/components/schemas/{name}") })
            }
        }
    }

    fn add(&mut self, id: TypeId, object: &ObjectPlan) -> String {
        let clean: String = object.name.chars().map(|c| if c.is_ascii_alphanumeric() || "._-".contains(c) { c } else { '_' }).collect();
        let mut name = clean.clone();
        let mut n = 1;
        while self.schemas.contains_key(&name) {
            n += 1;
            name = format!("{clean}_{n}");
        }
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
        schema["additionalProperties"] = json!(object.open);
        if !object.documentation.is_empty() {
            schema["description"] = json!(object.documentation);
        }
        schema
    }

    /// The schema of one member's value.
    pub fn member(&mut self, member: &Member) -> Value {
        let inner = member.items.as_deref().unwrap_or(member);
        let mut schema = self.of(inner.type_id);
        if inner.nillable {
            schema = nullable(schema);
        }
        if member.many || member.items.is_some() {
            schema = json!({ "type": "array", "items": schema });
            if inner.min > 1 || (inner.min == 1 && member.items.is_none()) {
                schema["minItems"] = json!(inner.min);
            }
            if let Some(max) = inner.max {
                schema["maxItems"] = json!(max);
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
