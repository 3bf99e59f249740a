//! How operations are called: keys and parameters as literals in the address.

use serde_json::{Map, Value, json};

use crate::model::{Model, Property, Version};
use crate::names::{encoded, is_identifier, variable};
use crate::types::{Literal, literal};

/// A key in the facade's path and in the service's.
#[derive(Debug, Default)]
pub(crate) struct Key {
    /// Behind the set in the facade's path: `/{route}/{fareClass}`.
    pub(crate) ours: String,
    /// Behind the set in the service's: `(route='{route}',fareClass='{fareClass}')`.
    pub(crate) theirs: String,
    /// Parameters of the path.
    pub(crate) parameters: Vec<Value>,
    /// Values that are not passed on as they are.
    pub(crate) path: Map<String, Value>,
}

/// The key of an entity type; `None` when it has none that can be written in an address.
pub(crate) fn key(model: &Model, of: &str) -> Option<Key> {
    let properties = model.key(of);
    if properties.is_empty() {
        return None;
    }
    let mut key = Key::default();
    let mut written = Vec::new();
    for (i, property) in properties.iter().enumerate() {
        let literal = literal(model, &property.of.name)?;
        let mut name = variable(&property.name, i + 1);
        if key.path_has(&name) {
            name = format!("key{}", i + 1);
        }
        key.ours.push_str(&format!("/{{{name}}}"));
        let value = placed(&literal, &name, &format!("path.{name}"), &mut key.path);
        written.push(match properties.len() {
            1 => value,
            _ => format!("{}={value}", encoded(&property.name)),
        });
        let mut schema = literal.schema;
        if let (Some(most), true) = (property.max_length, literal.text) {
            schema["maxLength"] = json!(most);
        }
        let mut parameter =
            json!({ "name": name, "in": "path", "required": true, "schema": schema });
        if !property.documentation.is_empty() {
            parameter["description"] = json!(property.documentation);
        }
        key.parameters.push(parameter);
    }
    key.theirs = format!("({})", written.join(","));
    Some(key)
}

impl Key {
    fn path_has(&self, name: &str) -> bool {
        self.parameters.iter().any(|p| p["name"] == name)
    }
}

/// A literal with a variable in it, and where its value comes from, unless it is passed on as it is. Quotes in a text are doubled
/// (OData URL Conventions 4.01 §5.1.1.6.1).
fn placed(literal: &Literal, name: &str, from: &str, path: &mut Map<String, Value>) -> String {
    if literal.text {
        path.insert(name.into(), json!(format!("={}", doubled(from))));
    } else if from != format!("path.{name}") {
        path.insert(name.into(), json!(format!("={from}")));
    }
    format!("{}{{{name}}}{}", literal.before, literal.after)
}

fn doubled(from: &str) -> String {
    format!(r#"{from}.replace("'", "''")"#)
}

/// Parameters of a function as they stand in the address.
#[derive(Debug, Default)]
pub(crate) struct Arguments {
    /// Behind the function in the service's path, v4.
    pub(crate) theirs: String,
    /// Parameters of the facade's query.
    pub(crate) parameters: Vec<Value>,
    /// Values of variables of the path.
    pub(crate) path: Map<String, Value>,
    /// The query, by name.
    pub(crate) query: Map<String, Value>,
    /// Parameters that are not taken.
    pub(crate) left_out: Vec<String>,
}

/// The parameters of a function, which callers give in the query; `taken` are variables of the path already. `None` when one
/// that must be there cannot be written.
pub(crate) fn arguments(model: &Model, given: &[Property], taken: &[Value]) -> Option<Arguments> {
    let mut arguments = Arguments::default();
    let mut written = Vec::new();
    for (i, parameter) in given.iter().enumerate() {
        let needed = !parameter.optional;
        let literal = match parameter.of.collection {
            true => None,
            false => literal(model, &parameter.of.name),
        };
        let Some(literal) = literal.filter(|_| needed) else {
            // An optional one that cannot always be there is never there.
            if needed {
                return None;
            }
            arguments.left_out.push(parameter.name.clone());
            continue;
        };
        let from = match is_identifier(&parameter.name) {
            true => format!("query.{}", parameter.name),
            false => format!("query[{}]", json!(parameter.name)),
        };
        match model.version {
            Version::Four => {
                let mut name = variable(&parameter.name, i + 1);
                while taken
                    .iter()
                    .chain(&arguments.parameters)
                    .any(|p| p["name"] == name.as_str())
                {
                    name.push('_');
                }
                let value = placed(&literal, &name, &from, &mut arguments.path);
                written.push(format!("{}={value}", encoded(&parameter.name)));
            }
            Version::Two => {
                let value = match literal.text {
                    true => doubled(&from),
                    false => format!("string({from})"),
                };
                let quoted = |text: &str| json!(text).to_string();
                let (before, after) = (quoted(&literal.before), quoted(literal.after));
                let value = format!("={before} + {value} + {after}");
                arguments.query.insert(parameter.name.clone(), json!(value));
            }
        }
        arguments.parameters.push(json!({
            "name": parameter.name, "in": "query", "required": true, "schema": literal.schema,
        }));
    }
    arguments.theirs = format!("({})", written.join(","));
    Some(arguments)
}
