//! The JSON Schema of simple types.

use serde_json::{Map, Number, Value, json};

use super::{Base, Simple, Temporal, regex_of, temporal};
use crate::tree::Json;

impl Simple {
    /// The JSON Schema of the values this type has in JSON.
    pub fn json_schema(&self) -> Value {
        let Value::Object(mut schema) = self.base_schema() else {
            return Value::Bool(true);
        };
        if !self.enumeration.is_empty() {
            let values = self.enumeration.iter().map(|e| self.json_of(e));
            schema.insert("enum".into(), values.collect());
        }
        if let [(_, source)] = self.patterns.as_slice() {
            let pattern = format!("^({})$", regex_of(source));
            schema.insert("pattern".into(), json!(pattern));
        }
        self.put_length(&mut schema);
        self.put_bounds(&mut schema);
        Value::Object(schema)
    }

    /// What the primitive says.
    fn base_schema(&self) -> Value {
        match &self.base {
            Base::List(item) => json!({ "type": "array", "items": item.json_schema() }),
            Base::Union(kinds) => {
                let kinds: Vec<Value> = kinds.iter().map(Simple::json_schema).collect();
                json!({ "anyOf": kinds })
            }
            Base::Boolean => json!({ "type": "boolean" }),
            Base::Integer => match self.integer_format() {
                Some(format) => json!({ "type": "integer", "format": format }),
                None => json!({ "type": "integer" }),
            },
            Base::Decimal => json!({ "type": "number" }),
            Base::Float => json!({
                "type": ["number", "string"],
                "description": "A floating-point number; INF, -INF and NaN arrive as strings.",
            }),
            Base::Temporal(kind) => self.temporal(*kind),
            Base::Base64 | Base::Hex => json!({ "type": "string", "contentEncoding": "base64" }),
            Base::Text | Base::Normalized | Base::Token => json!({ "type": "string" }),
        }
    }

    /// A date or time. No `format` says what it is: those of JSON Schema (validation §7.3.1, by RFC 3339) have a time zone, or
    /// never have one, and know no year before 0; in XML Schema (part 2 §3.2.7 to §3.2.14) a zone may be there or not.
    fn temporal(&self, kind: Temporal) -> Value {
        let example = temporal::example(kind);
        let named = temporal::name(kind);
        let kind = named.split(" (").next();
        let mut schema = json!({ "type": "string", "description": format!("A {named}, as XML Schema has it."), "x-xsd-type": kind });
        let fits = self.to_text(&Json::String(example.into())).is_ok();
        if fits && self.patterns.is_empty() && self.enumeration.is_empty() {
            schema["examples"] = json!([example]);
        }
        schema
    }

    /// Formats of the OpenAPI Format Registry.
    fn integer_format(&self) -> Option<&'static str> {
        let bound = |b: &'_ Option<(String, bool)>| b.as_ref().map(|(text, _)| text.clone());
        match (bound(&self.min)?.as_str(), bound(&self.max)?.as_str()) {
            ("-9223372036854775808", "9223372036854775807") => Some("int64"),
            ("-2147483648", "2147483647") => Some("int32"),
            _ => None,
        }
    }

    fn put_length(&self, schema: &mut Map<String, Value>) {
        let (least, most) = match self.base {
            // Of octets, not of the characters that stand for them.
            Base::Base64 | Base::Hex => return,
            Base::List(_) => ("minItems", "maxItems"),
            _ => ("minLength", "maxLength"),
        };
        for (name, length) in [(least, self.length.0), (most, self.length.1)] {
            if let Some(length) = length {
                schema.insert(name.into(), json!(length));
            }
        }
    }

    fn put_bounds(&self, schema: &mut Map<String, Value>) {
        if !matches!(self.base, Base::Decimal | Base::Integer) {
            return;
        }
        for (bound, inclusive, exclusive) in [
            (&self.min, "minimum", "exclusiveMinimum"),
            (&self.max, "maximum", "exclusiveMaximum"),
        ] {
            if let Some((text, is_exclusive)) = bound
                && let Ok(number) = text.parse::<Number>()
            {
                let name = if *is_exclusive { exclusive } else { inclusive };
                schema.insert(name.into(), Value::Number(number));
            }
        }
    }
}
