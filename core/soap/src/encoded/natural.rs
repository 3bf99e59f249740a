//! Encoded values of no declared type, as JSON has them: arrays as arrays, maps as objects, numbers as numbers.

use serde_json::{Map, Value};

use crate::simple::Simple;

/// Whether the JSON of a built-in type tells the type, near enough to write it again: texts, numbers and booleans.
pub(crate) fn tells_itself(name: &str) -> bool {
    matches!(
        name,
        "string"
            | "boolean"
            | "decimal"
            | "float"
            | "double"
            | "integer"
            | "long"
            | "int"
            | "short"
            | "byte"
            | "unsignedInt"
            | "unsignedShort"
            | "unsignedByte"
            | "nonNegativeInteger"
            | "positiveInteger"
    )
}

/// The type of an array's items: `xsd:int` of `xsd:int[2]` (SOAP 1.1 §5.4.2); `None` when they are arrays themselves.
pub(crate) fn item_type(array_type: &str) -> Option<&str> {
    let of = array_type.trim();
    let of = of.rfind('[').map_or(of, |at| &of[..at]);
    (!of.is_empty() && !of.ends_with(']')).then_some(of)
}

/// A value in the generic mapping without what only its encoding needs.
pub(crate) fn natural(value: Value) -> Value {
    typed(value, None)
}

fn local(name: &str) -> &str {
    name.rsplit(':').next().unwrap_or(name)
}

/// The same of a value whose type is known from around it.
fn typed(value: Value, outer: Option<&str>) -> Value {
    let object = match value {
        Value::Object(object) => object,
        Value::Array(items) => return items.into_iter().map(natural).collect(),
        Value::String(text) => return simple(text, outer),
        other => return other,
    };
    let (mut own, mut array, mut text) = (None, None, None);
    let mut members = Vec::new();
    for (name, value) in object {
        match (name.strip_prefix('@'), value) {
            (Some(mark), _) if mark.starts_with("xmlns") => {}
            (Some(mark), Value::String(value)) if mark.contains(':') => match local(mark) {
                "type" => own = Some(local(&value).to_owned()),
                "arrayType" | "itemType" => {
                    array = Some(item_type(&value).map(|t| local(t).to_owned()));
                }
                "arraySize" => array = array.or(Some(None)),
                "encodingStyle" | "root" | "offset" | "position" => {}
                _ => members.push((name, Value::String(value))),
            },
            (Some("id" | "href"), _) => {}
            (None, Value::String(value)) if name == "#text" => text = Some(value),
            (_, value) => members.push((name, value)),
        }
    }
    if own.as_deref() == Some("Array") || array.is_some() {
        return items(members, array.flatten().as_deref());
    }
    if members.is_empty() {
        let own = own.as_deref().or(outer);
        return simple(text.unwrap_or_default(), own);
    }
    if let Some(map) = as_map(&members) {
        return map;
    }
    let plain = members
        .into_iter()
        .map(|(name, value)| (name, natural(value)));
    let mut object: Map<String, Value> = plain.collect();
    if let Some(text) = text {
        object.insert("#text".into(), Value::String(text));
    }
    Value::Object(object)
}

fn simple(text: String, of: Option<&str>) -> Value {
    match of
        .filter(|name| tells_itself(name))
        .and_then(Simple::built_in)
    {
        Some(simple) => simple.json_of(&text),
        None => Value::String(text),
    }
}

/// The items of an array, whatever they are called.
fn items(members: Vec<(String, Value)>, of: Option<&str>) -> Value {
    let mut all = Vec::new();
    for (name, value) in members {
        match value {
            // Of several names: each in an object of its own.
            Value::Array(parts) if name == "#content" => {
                let each = parts.into_iter().filter_map(|part| match part {
                    Value::Object(one) => one.into_iter().next().map(|(_, value)| value),
                    _ => None,
                });
                all.extend(each.map(|value| typed(value, of)));
            }
            Value::Array(parts) => all.extend(parts.into_iter().map(|v| typed(v, of))),
            value => all.push(typed(value, of)),
        }
    }
    Value::Array(all)
}

/// Entries of a key and a value, as some servers write maps.
fn as_map(members: &[(String, Value)]) -> Option<Value> {
    let [(name, entries)] = members else {
        return None;
    };
    let one;
    let entries = match entries {
        Value::Array(entries) => entries,
        single => {
            one = vec![single.clone()];
            &one
        }
    };
    if local(name) != "item" {
        return None;
    }
    let mut map = Map::new();
    for entry in entries {
        let entry = entry.as_object()?;
        let named = |wanted: &str| entry.iter().find(|(n, _)| local(n) == wanted);
        let others = entry.keys().filter(|n| !n.starts_with('@'));
        let key = match natural(named("key")?.1.clone()) {
            Value::String(key) => key,
            Value::Object(_) | Value::Array(_) | Value::Null => return None,
            scalar => scalar.to_string(),
        };
        if others.count() != 2 || map.contains_key(&key) {
            return None;
        }
        map.insert(key, natural(named("value")?.1.clone()));
    }
    Some(Value::Object(map))
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used)]

    use serde_json::json;

    use super::*;

    #[test]
    fn marks_of_the_encoding_are_gone_and_nothing_else() {
        let text = |kind: &str, text: &str| json!({ "@xsi:type": kind, "#text": text });
        let cases = [
            (text("xsd:int", "5"), json!(5)),
            (text("xsd:boolean", "1"), json!(true)),
            (text("xsd:string", "5"), json!("5")),
            (text("xsd:int", "five"), json!("five")),
            (
                text("xsd:dateTime", "2027-05-14T08:30:00Z"),
                json!("2027-05-14T08:30:00Z"),
            ),
            (json!({ "@xsi:type": "xsd:string" }), json!("")),
            (json!("plain"), json!("plain")),
            (Value::Null, Value::Null),
            (
                json!({ "@xsi:type": "enc:Array", "@enc:arrayType": "xsd:int[2]", "item": ["1", "2"] }),
                json!([1, 2]),
            ),
            (
                json!({ "@enc:arrayType": "xsd:int[][1]", "item": { "@enc:arrayType": "xsd:int[1]", "i": "7" } }),
                json!([[7]]),
            ),
            (json!({ "@enc:arrayType": "xsd:int[0]" }), json!([])),
            (
                json!({ "@enc:arrayType": "xsd:anyType[2]", "#content": [{ "a": text("xsd:int", "1") }, { "b": "x" }] }),
                json!([1, "x"]),
            ),
            (
                json!({ "@xsi:type": "m:Map", "item": [
                    { "key": text("xsd:string", "berth"), "value": text("xsd:int", "4") },
                    { "key": "quay", "value": { "@enc:arrayType": "xsd:string[1]", "item": "north" } },
                ] }),
                json!({ "berth": 4, "quay": ["north"] }),
            ),
            // Not a map: a key stands twice.
            (
                json!({ "item": [{ "key": "a", "value": "1" }, { "key": "a", "value": "2" }] }),
                json!({ "item": [{ "key": "a", "value": "1" }, { "key": "a", "value": "2" }] }),
            ),
            (
                json!({ "@xsi:type": "t:Leg", "@xmlns:t": "urn:t", "from": text("xsd:string", "Farholt"), "@kind": "a" }),
                json!({ "from": "Farholt", "@kind": "a" }),
            ),
        ];
        for (given, wanted) in cases {
            assert_eq!(natural(given.clone()), wanted, "{given}");
        }
    }
}
