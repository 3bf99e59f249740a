//! Primitive types: their JSON Schemas (OData JSON Format 4.01 §7.1; MS-ODATA §2.2.6.3 before v4), and how their values are
//! written in an address (OData URL Conventions 4.01 §5.1.1.6; MS-ODATA §2.2.2).

use serde_json::{Value, json};

use crate::model::{Model, Version};

/// The schema of a primitive type; `None` when there is no such type.
pub(crate) fn schema(name: &str, version: Version) -> Option<Value> {
    let four = version == Version::Four;
    let whole = |low: i64, high: i64| json!({ "type": "integer", "minimum": low, "maximum": high });
    let text = || json!({ "type": "string" });
    Some(match name.strip_prefix("Edm.")? {
        "String" => text(),
        "Boolean" => json!({ "type": "boolean" }),
        "Byte" => whole(0, 255),
        "SByte" => whole(-128, 127),
        "Int16" => whole(-32768, 32767),
        "Int32" => json!({ "type": "integer", "format": "int32" }),
        "Int64" if four => json!({ "type": "integer", "format": "int64" }),
        "Decimal" if four => json!({ "type": "number", "format": "decimal" }),
        // Their digits are kept in texts.
        "Int64" => json!({ "type": "string", "pattern": "^-?[0-9]+$" }),
        "Decimal" => json!({ "type": "string", "pattern": "^-?[0-9]+([.][0-9]+)?$" }),
        "Double" | "Single" => json!({ "type": ["number", "string"] }),
        "Guid" => json!({ "type": "string", "format": "uuid" }),
        "Binary" => {
            json!({ "type": "string", "contentEncoding": if four { "base64url" } else { "base64" } })
        }
        "Date" => json!({ "type": "string", "format": "date" }),
        "TimeOfDay" => {
            json!({ "type": "string", "pattern": "^[0-9]{2}:[0-9]{2}(:[0-9]{2}([.][0-9]+)?)?$" })
        }
        "Duration" | "Time" => json!({ "type": "string", "format": "duration" }),
        "DateTimeOffset" if four => json!({ "type": "string", "format": "date-time" }),
        "DateTime" | "DateTimeOffset" => json!({
            "type": "string", "pattern": r"^/Date\(-?[0-9]+([+-][0-9]+)?\)/$",
            "description": "Milliseconds since 1970: /Date(1810252800000)/",
        }),
        "Stream" => text(),
        "PrimitiveType" | "Untyped" | "AnyPropertyPath" => json!({}),
        "ComplexType" | "EntityType" => json!({ "type": "object" }),
        spatial if spatial.starts_with("Geography") || spatial.starts_with("Geometry") => {
            json!({ "type": "object" })
        }
        _ => return None,
    })
}

/// How a value is written in an address.
#[derive(Debug, PartialEq, Eq)]
pub(crate) struct Literal {
    /// What stands before it.
    pub(crate) before: String,
    /// What stands behind it.
    pub(crate) after: &'static str,
    /// Whether it is a text, whose quotes are doubled.
    pub(crate) text: bool,
    /// The schema of the value as callers give it.
    pub(crate) schema: Value,
}

/// How values of a type are written in an address; `None` for those that cannot be.
pub(crate) fn literal(model: &Model, name: &str) -> Option<Literal> {
    let name = model.resolved(name);
    let of = |before: &str, after, text, schema| {
        let before = before.to_owned();
        Some(Literal {
            before,
            after,
            text,
            schema,
        })
    };
    if let Some(one) = model.enums.get(name) {
        let schema = match one.flags {
            true => json!({ "type": "string" }),
            false => json!({ "type": "string", "enum": one.members }),
        };
        // Of v4.01 the type's name may be left out; those before demand it.
        return of(&format!("{name}'"), "'", true, schema);
    }
    let schema = schema(name, model.version)?;
    let number = |kind: &str| json!({ "type": kind });
    let moment = |pattern: &str| json!({ "type": "string", "pattern": pattern });
    let four = model.version == Version::Four;
    match name.strip_prefix("Edm.")? {
        "String" => of("'", "'", true, schema),
        "Duration" if four => of("duration'", "'", false, schema),
        "Binary" if four => of("binary'", "'", true, schema),
        "Date" | "DateTimeOffset" | "TimeOfDay" | "Guid" if four => of("", "", false, schema),
        "Boolean" | "Byte" | "SByte" | "Int16" | "Int32" => of("", "", false, schema),
        "Int64" | "Decimal" if four => of("", "", false, schema),
        "Double" | "Single" if four => of("", "", false, number("number")),
        "Int64" => of("", "L", false, number("integer")),
        "Decimal" => of("", "M", false, number("number")),
        "Double" => of("", "d", false, number("number")),
        "Single" => of("", "f", false, number("number")),
        "Guid" => of("guid'", "'", false, schema),
        "Time" => of("time'", "'", false, schema),
        "DateTime" => {
            let pattern = "^[0-9]{4}-[0-9]{2}-[0-9]{2}T[0-9]{2}:[0-9]{2}(:[0-9]{2}([.][0-9]+)?)?$";
            of("datetime'", "'", false, moment(pattern))
        }
        "DateTimeOffset" => {
            let schema = json!({ "type": "string", "format": "date-time" });
            of("datetimeoffset'", "'", false, schema)
        }
        _ => None,
    }
}
