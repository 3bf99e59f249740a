//! JSON Schemas of messages, as contracts have them.

use std::collections::{HashMap, HashSet};

use serde_json::{Map, Value, json};

use crate::types::*;

/// Makes schemas; messages become named ones that refer to one another.
pub struct Schemas<'t> {
    types: &'t Types,
    /// What was named so far, by name.
    pub schemas: Map<String, Value>,
    /// Whether everything that is understood is described, not only what is sent: 64-bit integers as numbers too.
    lenient: bool,
    names: HashMap<&'t str, String>,
}

const INT64: &str = "^-?[0-9]+$";
const UINT64: &str = "^[0-9]+$";

fn described(mut schema: Value, field: &Field) -> Value {
    let object = schema.as_object_mut();
    if let Some(object) = object {
        if !field.documentation.is_empty() {
            object.insert("description".into(), json!(field.documentation));
        }
        if field.output_only {
            object.insert("readOnly".into(), json!(true));
        }
        if field.deprecated {
            object.insert("deprecated".into(), json!(true));
        }
    }
    schema
}

impl<'t> Schemas<'t> {
    /// For the types of a definition.
    pub fn new(types: &'t Types) -> Self {
        // A message has its short name, unless another one has it too.
        let short = |name: &'t str| name.rsplit('.').next().unwrap_or(name);
        let (mut seen, mut twice) = (HashSet::new(), HashSet::new());
        for message in &types.messages {
            if !seen.insert(short(&message.name)) {
                twice.insert(short(&message.name));
            }
        }
        let names = types.messages.iter().map(|m| {
            (
                &*m.name,
                if twice.contains(short(&m.name)) {
                    m.name.to_string()
                } else {
                    short(&m.name).to_owned()
                },
            )
        });
        Self {
            types,
            schemas: Map::new(),
            lenient: false,
            names: names.collect(),
        }
    }

    /// The same, describing everything that is understood.
    pub fn lenient(types: &'t Types) -> Self {
        Self {
            lenient: true,
            ..Self::new(types)
        }
    }

    /// The schema of a message.
    pub fn of(&mut self, id: MessageId) -> Value {
        let types = self.types;
        let of = types.message(id);
        if let Some(known) = of.well_known {
            return self.known(known, of);
        }
        let name = self
            .names
            .get(&*of.name)
            .cloned()
            .unwrap_or_else(|| of.name.to_string());
        let reference = json!({ "$ref": format!("#/components/schemas/{name}") });
        if self.schemas.contains_key(&name) {
            return reference;
        }
        self.schemas.insert(name.clone(), Value::Null);
        let (mut properties, mut required) = (Map::new(), Vec::new());
        for field in &of.fields {
            properties.insert(field.json.to_string(), self.field(field));
            if (field.required || field.must) && !field.output_only {
                required.push(json!(field.json));
            }
        }
        let mut schema = json!({ "type": "object" });
        if !of.documentation.is_empty() {
            schema["description"] = json!(of.documentation);
        }
        schema["properties"] = Value::Object(properties);
        if !required.is_empty() {
            schema["required"] = Value::Array(required);
        }
        schema["additionalProperties"] = json!(false);
        self.choices(of, &mut schema);
        self.schemas.insert(name, schema);
        reference
    }

    /// At most one member of each choice.
    fn choices(&self, of: &MessageType, schema: &mut Value) {
        let mut all = Vec::new();
        for i in 0..of.oneofs.len() {
            let members: Vec<Value> = of
                .fields
                .iter()
                .filter(|f| f.oneof == Some(i as u16))
                .map(|f| json!({ "required": [f.json] }))
                .collect();
            if members.len() > 1 {
                let none = json!({ "not": { "anyOf": members } });
                all.push(json!({ "oneOf": members.into_iter().chain([none]).collect::<Vec<_>>() }));
            }
        }
        match all.len() {
            0 => {}
            1 => schema["oneOf"] = all[0]["oneOf"].take(),
            _ => schema["allOf"] = Value::Array(all),
        }
    }

    /// The schema of a field, with what is said of it.
    pub fn field(&mut self, field: &Field) -> Value {
        let one = self.kind(field.kind);
        let schema = match field.cardinality {
            Cardinality::Single => one,
            Cardinality::Repeated => json!({ "type": "array", "items": one }),
            Cardinality::Map { key } => {
                let mut map = json!({ "type": "object", "additionalProperties": one });
                match key {
                    Kind::String => {}
                    Kind::Bool => map["propertyNames"] = json!({ "enum": ["true", "false"] }),
                    Kind::Uint32 | Kind::Uint64 | Kind::Fixed32 | Kind::Fixed64 => {
                        map["propertyNames"] = json!({ "pattern": UINT64 })
                    }
                    _ => map["propertyNames"] = json!({ "pattern": INT64 }),
                }
                map
            }
        };
        described(schema, field)
    }

    fn kind(&mut self, kind: Kind) -> Value {
        let long = |format: &str, pattern: &str| {
            if self.lenient {
                json!({ "type": ["string", "integer"], "format": format })
            } else {
                json!({ "type": "string", "format": format, "pattern": pattern, "examples": ["1"] })
            }
        };
        match kind {
            // NaN and the infinities are texts.
            Kind::Double => {
                json!({ "type": ["number", "string"], "format": "double", "pattern": "^(NaN|-?Infinity)$" })
            }
            Kind::Float => {
                json!({ "type": ["number", "string"], "format": "float", "pattern": "^(NaN|-?Infinity)$" })
            }
            Kind::Int64 | Kind::Sint64 | Kind::Sfixed64 => long("int64", INT64),
            Kind::Uint64 | Kind::Fixed64 => long("uint64", UINT64),
            Kind::Int32 | Kind::Sint32 | Kind::Sfixed32 => {
                json!({ "type": "integer", "format": "int32", "minimum": i32::MIN, "maximum": i32::MAX })
            }
            Kind::Uint32 | Kind::Fixed32 => {
                json!({ "type": "integer", "format": "uint32", "minimum": 0, "maximum": u32::MAX })
            }
            Kind::Bool => json!({ "type": "boolean" }),
            Kind::String => json!({ "type": "string" }),
            Kind::Bytes => {
                json!({ "type": "string", "contentEncoding": "base64", "examples": ["c2tlcnJ5"] })
            }
            Kind::Message(id) | Kind::Group(id) => self.of(id),
            Kind::Enum(id) => {
                let e = self.types.enumeration(id);
                if e.null {
                    return json!({ "type": "null" });
                }
                let names: Vec<&str> = e.values.iter().map(|v| &*v.0).collect();
                let sample = e
                    .values
                    .iter()
                    .find(|v| v.1 != 0)
                    .or(e.values.first())
                    .map(|v| &*v.0);
                let mut schema = if self.lenient {
                    json!({ "type": ["string", "integer"], "enum": names })
                } else {
                    json!({ "type": "string", "enum": names, "examples": [sample] })
                };
                if !e.documentation.is_empty() {
                    schema["description"] = json!(e.documentation);
                }
                schema
            }
        }
    }

    fn known(&mut self, known: WellKnown, of: &MessageType) -> Value {
        match known {
            WellKnown::Timestamp => json!({ "type": "string", "format": "date-time" }),
            WellKnown::Duration => {
                json!({ "type": "string", "pattern": "^-?[0-9]+(\\.[0-9]{1,9})?s$", "examples": ["90s"] })
            }
            WellKnown::FieldMask => {
                json!({ "type": "string", "description": "Names of fields in lower camel case, with commas between them.", "examples": [""] })
            }
            WellKnown::Struct => {
                json!({ "type": "object", "additionalProperties": true, "examples": [{}] })
            }
            WellKnown::Value => json!({}),
            WellKnown::ListValue => json!({ "type": "array", "items": {} }),
            WellKnown::Empty => {
                json!({ "type": "object", "properties": {}, "additionalProperties": false })
            }
            WellKnown::Wrapper => match of.fields.first() {
                Some(field) => {
                    let mut inner = self.kind(field.kind);
                    let types: Vec<Value> = match inner["type"].take() {
                        Value::Array(all) => all,
                        one => vec![one],
                    };
                    inner["type"] = types.into_iter().chain([json!("null")]).collect();
                    inner
                }
                None => json!({}),
            },
            WellKnown::Any => {
                json!({ "type": "object", "properties": { "@type": { "type": "string" } }, "required": ["@type"], "additionalProperties": true, "examples": [{ "@type": "type.googleapis.com/google.protobuf.Empty", "value": {} }] })
            }
            WellKnown::HttpBody => {
                json!({ "type": "object", "properties": { "contentType": { "type": "string" }, "data": { "type": "string", "contentEncoding": "base64" } }, "additionalProperties": true })
            }
        }
    }
}
