//! The schemas that two contracts have alike, with all that they refer to: nothing inside them need be compared.

use std::collections::{HashMap, HashSet};

use serde_json::{Map, Value};

/// Named schemas of the older contract, with their counterparts of the newer one.
#[derive(Default)]
pub(super) struct Unchanged(HashMap<*const Value, *const Value>);

/// The schemas of a document that have names (OpenAPI 3.1 §4.8.7).
const SCHEMAS: &str = "/components/schemas";

impl Unchanged {
    /// Each schema of both documents is gone through once.
    pub(super) fn of(old: &Value, new: &Value) -> Self {
        let named = |of| Value::pointer(of, SCHEMAS).and_then(Value::as_object);
        let (Some(old), Some(new)) = (named(old), named(new)) else {
            return Self::default();
        };
        let changed = changed(old, new);
        let alike = old
            .iter()
            .filter(|(name, _)| !changed.contains(name.as_str()));
        let pairs = alike.filter_map(|(name, was)| {
            let is = new.get(name)?;
            Some((std::ptr::from_ref(was), std::ptr::from_ref(is)))
        });
        Self(pairs.collect())
    }

    /// Whether both are one schema that did not change.
    pub(super) fn has(&self, old: &Value, new: &Value) -> bool {
        self.0
            .get(&std::ptr::from_ref(old))
            .is_some_and(|is| std::ptr::eq(*is, new))
    }
}

/// Names whose schemas differ, or refer to one that does at whatever distance.
fn changed<'a>(old: &'a Map<String, Value>, new: &Map<String, Value>) -> HashSet<&'a str> {
    let mut users: HashMap<&str, Vec<&str>> = HashMap::new();
    let (mut changed, mut open) = (HashSet::new(), Vec::new());
    for (name, was) in old {
        let mut of = Vec::new();
        let known = references(was, &mut of);
        let known = known && of.iter().all(|n| old.contains_key(*n));
        for other in of {
            users.entry(other).or_default().push(name);
        }
        if (!known || new.get(name) != Some(was)) && changed.insert(name.as_str()) {
            open.push(name.as_str());
        }
    }
    while let Some(name) = open.pop() {
        for user in users.remove(name).unwrap_or_default() {
            if changed.insert(user) {
                open.push(user);
            }
        }
    }
    changed
}

/// Names of the schemas that one refers to. Gives whether it refers to nothing else.
fn references<'a>(schema: &'a Value, found: &mut Vec<&'a str>) -> bool {
    let mut known = true;
    match schema {
        Value::Object(members) => {
            for (name, value) in members {
                let Some(target) = value.as_str().filter(|_| name == "$ref") else {
                    known &= references(value, found);
                    continue;
                };
                let target = target.strip_prefix("#/components/schemas/");
                match target.filter(|t| !t.contains(['/', '~', '%'])) {
                    Some(target) => found.push(target),
                    None => known = false,
                }
            }
        }
        Value::Array(items) => {
            for item in items {
                known &= references(item, found);
            }
        }
        _ => {}
    }
    known
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    #[test]
    fn what_refers_to_something_changed_is_changed_at_any_distance() {
        let document = |leaf: &str| {
            json!({ "components": { "schemas": {
                "Leaf": { "type": leaf },
                "Branch": { "items": { "$ref": "#/components/schemas/Leaf" } },
                "Tree": { "properties": { "b": { "$ref": "#/components/schemas/Branch" } } },
                "Loop": { "properties": { "l": { "$ref": "#/components/schemas/Loop" } } },
                "Stone": { "type": "object" },
                "Elsewhere": { "$ref": "#/paths/~1a/x" },
                "Nowhere": { "$ref": "#/components/schemas/None" },
            } } })
        };
        let (old, new) = (document("string"), document("integer"));
        let unchanged = Unchanged::of(&old, &new);
        let has = |a: &str, b: &str| {
            let old = old.pointer(&format!("{SCHEMAS}/{a}")).unwrap();
            let new = new.pointer(&format!("{SCHEMAS}/{b}")).unwrap();
            unchanged.has(old, new)
        };
        for name in ["Leaf", "Branch", "Tree", "Elsewhere", "Nowhere"] {
            assert!(!has(name, name), "{name}");
        }
        assert!(has("Loop", "Loop") && has("Stone", "Stone"));
        assert!(!has("Loop", "Stone"), "they are not the same one");
    }
}
