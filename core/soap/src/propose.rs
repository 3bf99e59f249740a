//! Proposing a REST shape for an operation, from its name and its input.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};

use porch_contract::plural;

use crate::plan::{Plan, TypePlan};
use crate::wsdl::{Definition, Operation};

/// A proposed REST shape; publishers change it as they like.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Shape {
    /// `operationId`.
    pub id: String,
    /// Method.
    pub method: &'static str,
    /// Path template.
    pub path: String,
    /// Input members that become path variables: member name, variable name.
    pub in_path: Vec<(String, String)>,
    /// Input members that become query parameters: member name, parameter name.
    pub in_query: Vec<(String, String)>,
    /// Why this shape.
    pub why: String,
}

/// The shapes of all operations of a definition; no two share an id, or method and path.
pub fn shapes(definition: &Definition) -> Vec<Shape> {
    shapes_after(definition, &[])
}

/// The same, where operations of these names come before all others: what came later takes nothing from them.
pub fn shapes_after(definition: &Definition, first: &[String]) -> Vec<Shape> {
    let first: HashSet<&str> = first.iter().map(String::as_str).collect();
    let ids = ids(definition.operations.iter().map(|o| o.name.as_str()));
    let mut taken: HashSet<(&'static str, String)> = HashSet::new();
    let mut order: Vec<usize> = (0..definition.operations.len()).collect();
    order.sort_by_key(|i| !first.contains(definition.operations[*i].name.as_str()));
    let mut shapes: Vec<(usize, Shape)> = Vec::with_capacity(order.len());
    for index in order {
        let operation = &definition.operations[index];
        let mut shape = shape(&definition.plan, operation);
        if taken.contains(&(shape.method, pattern(&shape.path))) {
            shape = whole_name(operation, "another operation has the shorter path already");
        }
        let (short, mut n) = (shape.path.clone(), 1);
        while !taken.insert((shape.method, pattern(&shape.path))) {
            n += 1;
            shape.path = format!("{short}-{n}");
            "another operation has nearly the same name".clone_into(&mut shape.why);
        }
        if let Some(id) = ids.get(operation.name.as_str()) {
            shape.id.clone_from(id);
        }
        shapes.push((index, shape));
    }
    shapes.sort_by_key(|(index, _)| *index);
    shapes.into_iter().map(|(_, shape)| shape).collect()
}

/// An `operationId` for each name. Names that are told apart by their case or marks alone are numbered by their own order, so
/// that the order in which a definition has them does not matter.
fn ids<'d>(names: impl Iterator<Item = &'d str>) -> HashMap<&'d str, String> {
    let mut by_id: BTreeMap<String, BTreeSet<&str>> = BTreeMap::new();
    for name in names {
        by_id.entry(lower_camel(name)).or_default().insert(name);
    }
    let plain: HashSet<String> = by_id.keys().cloned().collect();
    let (mut ids, mut numbered) = (HashMap::new(), HashSet::new());
    for (id, names) in by_id {
        let mut n = 1;
        for (i, name) in names.into_iter().enumerate() {
            let mut own = id.clone();
            while i > 0 && (plain.contains(&own) || !numbered.insert(own.clone())) {
                n += 1;
                own = format!("{id}{n}");
            }
            ids.insert(name, own);
        }
    }
    ids
}

/// Names of parameters for members: those that would be the same are numbered in the members' order.
fn told_apart(members: &mut [(String, String)], taken: &mut HashSet<String>) {
    for (_, parameter) in members {
        let (plain, mut n) = (parameter.clone(), 1);
        while !taken.insert(parameter.clone()) {
            n += 1;
            *parameter = format!("{plain}{n}");
        }
    }
}

/// A path with its variables' names left out, since names do not tell paths apart.
fn pattern(path: &str) -> String {
    path.split('/')
        .map(|s| if s.starts_with('{') { "{}" } else { s })
        .collect::<Vec<_>>()
        .join("/")
}

const READING: [&str; 10] = [
    "Get", "Read", "Fetch", "Find", "Search", "List", "Query", "Quote", "Lookup", "Check",
];
const MAKING: [&str; 7] = [
    "Create", "Add", "New", "Book", "Register", "Submit", "Place",
];
const LISTING: [&str; 4] = ["List", "Search", "Find", "Query"];

fn shape(plan: &Plan, operation: &Operation) -> Shape {
    let words = words(&operation.name);
    // `getX` says what `GetX` says.
    let verb = words.first().map_or_else(String::new, |w| capital(w));
    let verb = verb.as_str();
    let noun: Vec<String> = words.iter().skip(1).map(|w| w.to_lowercase()).collect();
    if noun.is_empty() {
        return whole_name(operation, "its name has no verb that tells a method");
    }
    let noun = noun.join("-");
    let fields = flat_fields(plan, operation);
    if MAKING.contains(&verb) {
        let why = format!("“{verb}” makes something new");
        return body(operation, "POST", format!("/{}", plural(&noun)), why);
    }
    let Some(fields) = fields else {
        return whole_name(operation, "its input is nested, so it is sent as a body");
    };
    match verb {
        _ if READING.contains(&verb) => reading(operation, verb, &noun, fields),
        "Delete" | "Remove" => match (key_of(&fields), fields.len()) {
            (Some(key), 1) => Shape {
                in_path: vec![(key.clone(), lower_camel(&key))],
                ..body(
                    operation,
                    "DELETE",
                    with_key(&noun, &key),
                    format!("“{verb}” takes away what its one input names"),
                )
            },
            _ => no_method(operation, verb),
        },
        _ => no_method(operation, verb),
    }
}

fn capital(word: &str) -> String {
    let mut chars = word.chars();
    let first = chars.next().map(|c| c.to_uppercase().to_string());
    first.unwrap_or_default() + chars.as_str()
}

fn no_method(operation: &Operation, verb: &str) -> Shape {
    let why = format!("“{verb}” changes something and tells no standard method");
    whole_name(operation, &why)
}

/// The member that names what an operation is about.
fn key_of(fields: &[(String, bool)]) -> Option<String> {
    fields
        .iter()
        .find(|(name, required)| *required && looks_like_key(name))
        .or_else(|| fields.iter().find(|(_, r)| *r && fields.len() == 1))
        .map(|(name, _)| name.clone())
}

/// The thing that a list belongs to, where a required key names it and it is none of what is listed: `HarbourCode` of berths.
fn owner_of(fields: &[(String, bool)], noun: &str) -> Option<(String, String)> {
    let mut keys = fields
        .iter()
        .filter(|(n, required)| *required && looks_like_key(n));
    let (Some((key, _)), None) = (keys.next(), keys.next()) else {
        return None;
    };
    let mut words: Vec<String> = words(key).iter().map(|w| w.to_lowercase()).collect();
    words.pop();
    let owner = words.join("-");
    (!owner.is_empty() && plural(&owner) != plural(noun)).then(|| (owner, key.clone()))
}

fn with_key(noun: &str, key: &str) -> String {
    format!("/{}/{{{}}}", plural(noun), lower_camel(key))
}

fn reading(operation: &Operation, verb: &str, noun: &str, fields: Vec<(String, bool)>) -> Shape {
    let lists = LISTING.contains(&verb);
    let (path, in_path) = match key_of(&fields) {
        Some(key) if !lists => (with_key(noun, &key), vec![(key.clone(), lower_camel(&key))]),
        // What is listed of one other thing lies below that.
        _ if lists && let Some((owner, key)) = owner_of(&fields, noun) => {
            let path = format!(
                "/{}/{{{}}}/{}",
                plural(&owner),
                lower_camel(&key),
                plural(noun)
            );
            (path, vec![(key.clone(), lower_camel(&key))])
        }
        // What lists, and what is listed by its name, go by the same word.
        _ if lists => (format!("/{}", plural(noun)), Vec::new()),
        _ => (format!("/{noun}"), Vec::new()),
    };
    let mut in_query: Vec<(String, String)> = fields
        .into_iter()
        .filter(|(n, _)| !in_path.iter().any(|(p, _)| p == n))
        .map(|(n, _)| (n.clone(), lower_camel(&n)))
        .collect();
    let mut taken = in_path.iter().map(|(_, v)| v.clone()).collect();
    told_apart(&mut in_query, &mut taken);
    let what = if lists { "lists" } else { "reads one" };
    Shape {
        in_path,
        in_query,
        ..body(
            operation,
            "GET",
            path,
            format!("“{verb}” {what}, and its inputs are plain values"),
        )
    }
}

fn body(operation: &Operation, method: &'static str, path: String, why: String) -> Shape {
    Shape {
        id: lower_camel(&operation.name),
        method,
        path,
        in_path: Vec::new(),
        in_query: Vec::new(),
        why,
    }
}

fn whole_name(operation: &Operation, why: &str) -> Shape {
    let path = words(&operation.name)
        .iter()
        .map(|w| w.to_lowercase())
        .collect::<Vec<_>>()
        .join("-");
    body(operation, "POST", format!("/{path}"), why.to_owned())
}

/// The input's members with whether they are required, when all are plain values.
fn flat_fields(plan: &Plan, operation: &Operation) -> Option<Vec<(String, bool)>> {
    let TypePlan::Object(object) = plan.get(operation.input.as_ref()?.type_id) else {
        return None;
    };
    if object.text.is_some() || !object.derived.is_empty() {
        return None;
    }
    let plain = |m: &&crate::Member| {
        !m.many
            && !m.in_choice
            && m.items.is_none()
            && matches!(plan.get(m.type_id), TypePlan::Simple(s) if s.is_scalar())
    };
    (object.members.iter().all(|m| plain(&m))).then(|| {
        object
            .members
            .iter()
            .map(|m| (m.json.clone(), m.required()))
            .collect()
    })
}

fn looks_like_key(name: &str) -> bool {
    let lower = name.to_lowercase();
    ["id", "code", "number", "reference", "ref", "key"]
        .iter()
        .any(|end| lower.ends_with(end))
}

/// The words of a name in any of the usual spellings.
fn words(name: &str) -> Vec<String> {
    let chars: Vec<char> = name.chars().collect();
    let (mut words, mut word) = (Vec::new(), String::new());
    for (i, c) in chars.iter().enumerate() {
        if !c.is_alphanumeric() {
            words.push(std::mem::take(&mut word));
            continue;
        }
        let boundary = c.is_uppercase()
            && i > 0
            && (!chars[i - 1].is_uppercase() || chars.get(i + 1).is_some_and(|n| n.is_lowercase()));
        if boundary {
            words.push(std::mem::take(&mut word));
        }
        word.push(*c);
    }
    words.push(word);
    words.retain(|w| !w.is_empty());
    words
}

/// `QuoteFare` → `quoteFare`.
pub fn lower_camel(name: &str) -> String {
    let mut out = String::new();
    for (i, word) in words(name).iter().enumerate() {
        let mut chars = word.chars();
        match chars.next() {
            Some(first) if i > 0 => {
                out.extend(first.to_uppercase());
                out.push_str(chars.as_str());
            }
            Some(_) => out.push_str(&word.to_lowercase()),
            None => {}
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_cut_into_words() {
        assert_eq!(words("GetPNRStatus"), ["Get", "PNR", "Status"]);
        assert_eq!(words("get_sailing-list"), ["get", "sailing", "list"]);
        assert_eq!(lower_camel("QuoteFare"), "quoteFare");
        assert_eq!(lower_camel("ID"), "id");
    }
}
