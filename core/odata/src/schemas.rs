//! Schemas of entities, complex types and enumerations.

use std::collections::{BTreeSet, HashMap, HashSet};

use serde_json::{Map, Value, json};

use crate::model::{Model, Property, Type, Version};
use crate::types;

/// So many properties are demanded of a new entity.
const MAX_NEEDED: usize = 100;

/// The components of a description; each is made when something refers to it.
pub(crate) struct Schemas<'m> {
    model: &'m Model,
    names: HashMap<String, String>,
    known: HashSet<String>,
    open: Vec<String>,
    made: Map<String, Value>,
    /// Types that nothing says anything of.
    pub(crate) unknown: BTreeSet<String>,
}

impl<'m> Schemas<'m> {
    pub(crate) fn of(model: &'m Model) -> Self {
        Self {
            model,
            names: crate::names::components(model),
            known: HashSet::new(),
            open: Vec::new(),
            made: Map::new(),
            unknown: BTreeSet::new(),
        }
    }

    /// What the component of a type is called.
    pub(crate) fn name_of(&self, full: &str) -> Option<String> {
        self.names.get(full).cloned()
    }

    /// A reference to the component of a type.
    pub(crate) fn reference(&mut self, full: &str) -> Option<Value> {
        let name = self.names.get(full)?;
        if self.known.insert(full.to_owned()) {
            self.open.push(full.to_owned());
        }
        Some(json!({ "$ref": format!("#/components/schemas/{name}") }))
    }

    /// The schema of one value of a type.
    fn one(&mut self, name: &str) -> Value {
        let name = self.model.resolved(name);
        if let Some(reference) = self.reference(name) {
            return reference;
        }
        types::schema(name, self.model.version).unwrap_or_else(|| {
            if self.unknown.len() < 20 {
                self.unknown.insert(name.to_owned());
            }
            json!({})
        })
    }

    /// The schema of a type.
    pub(crate) fn typed(&mut self, of: &Type) -> Value {
        match of.collection {
            true => self.list(&of.name),
            false => self.one(&of.name),
        }
    }

    /// Several of a type; before v4 they may stand below `results` (MS-ODATA §2.2.6.3.7).
    pub(crate) fn list(&mut self, name: &str) -> Value {
        let items = json!({ "type": "array", "items": self.one(name) });
        match self.model.version {
            Version::Four => items,
            Version::Two => {
                let below = json!({ "type": "object", "properties": { "results": items } });
                json!({ "anyOf": [below, items] })
            }
        }
    }

    /// The schema of a property.
    pub(crate) fn property(&mut self, property: &Property) -> Value {
        let mut schema = self.typed(&property.of);
        if let (Some(most), Some("string")) = (property.max_length, schema["type"].as_str()) {
            schema["maxLength"] = json!(most);
        }
        if property.nullable && !property.of.collection {
            schema = nullable(schema);
        }
        if property.computed {
            schema["readOnly"] = json!(true);
        }
        if !property.documentation.is_empty() {
            schema["description"] = json!(property.documentation);
        }
        schema
    }

    /// All components that something refers to.
    pub(crate) fn finish(mut self) -> (Map<String, Value>, BTreeSet<String>) {
        while let Some(full) = self.open.pop() {
            let schema = match self.model.enums.get(&full) {
                Some(one) if one.flags => {
                    let all = one.members.join(", ");
                    json!({ "type": "string", "description": format!("One or several, with commas between them: {all}") })
                }
                Some(one) => json!({ "type": "string", "enum": one.members }),
                None => self.structure(&full),
            };
            let name = self.names[&full].clone();
            self.made.insert(name, schema);
        }
        (self.made, self.unknown)
    }

    fn structure(&mut self, full: &str) -> Value {
        let model = self.model;
        let Some(structure) = model.structures.get(full) else {
            return json!({});
        };
        let mut properties = Map::new();
        for property in &structure.properties {
            let schema = self.property(property);
            properties.insert(property.name.clone(), schema);
        }
        for link in &structure.links {
            let schema = self.typed(&link.to);
            let mut schema = if link.to.collection {
                schema
            } else {
                nullable(schema)
            };
            if !link.documentation.is_empty() {
                schema["description"] = json!(link.documentation);
            }
            properties.insert(link.name.clone(), schema);
        }
        let mut schema = json!({ "type": "object", "properties": properties });
        // What is inherited is referred to, so that many derived types are no more than what they add.
        if let Some(base) = model.base_of(full).and_then(|b| self.reference(b)) {
            schema["allOf"] = json!([base]);
        }
        if !structure.documentation.is_empty() {
            schema["description"] = json!(structure.documentation);
        }
        schema
    }

    /// The body that makes an entity: what may not be left out is there (OData Protocol 4.01 §11.4.2). Keys may be the service's.
    pub(crate) fn new_entity(&mut self, full: &str) -> Value {
        let key = self.model.key(full);
        let needed: Vec<&str> = self
            .model
            .properties(full)
            .filter(|p| !p.nullable && !p.has_default && !p.computed && !p.of.collection)
            .filter(|p| key.iter().all(|k| k.name != p.name))
            .map(|p| p.name.as_str())
            .take(MAX_NEEDED)
            .collect();
        let reference = self.reference(full).unwrap_or_else(|| json!({}));
        match needed.is_empty() {
            true => reference,
            false => json!({ "allOf": [reference, { "required": needed }] }),
        }
    }
}

/// A schema that takes null too.
pub(crate) fn nullable(mut schema: Value) -> Value {
    match &mut schema["type"] {
        Value::String(one) => {
            let one = std::mem::take(one);
            schema["type"] = json!([one, "null"]);
            schema
        }
        Value::Array(several) => {
            several.push(json!("null"));
            schema
        }
        _ => match schema
            .as_object()
            .is_some_and(|s| s.keys().all(|k| k == "type"))
        {
            // Anything.
            true => json!({}),
            false => {
                if let Some(members) = schema.as_object_mut() {
                    members.remove("type");
                }
                json!({ "anyOf": [schema, { "type": "null" }] })
            }
        },
    }
}
