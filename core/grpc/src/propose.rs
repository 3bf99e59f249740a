//! REST shapes: those that HTTP rules say, and proposals for methods without any.

mod shape;

use std::collections::{HashMap, HashSet};

use porch_contract::plural;

pub use self::shape::Shape;
use crate::build::lower_camel;
use crate::read::{Definition, Method, Service};
use crate::rule::{Bound, Piece, contract_path, singular};
use crate::types::*;

/// Routes and ids that are taken.
#[derive(Default)]
struct Taken {
    routes: HashSet<(String, String)>,
    ids: HashSet<String>,
}

impl Taken {
    fn has(&self, shape: &Shape) -> bool {
        let route = (shape.method.clone(), pattern(&shape.path));
        self.routes.contains(&route)
    }

    /// Takes a shape's route, and an id for it that no other has.
    fn take(&mut self, mut shape: Shape, service: &Service) -> Shape {
        let (short, mut n) = (shape.path.clone(), 1);
        while self.has(&shape) {
            n += 1;
            shape.path = format!("{short}-{n}");
        }
        let route = (shape.method.clone(), pattern(&shape.path));
        self.routes.insert(route);
        let short = service.name.rsplit('.').next().unwrap_or_default();
        let with_service = format!("{}{}", lower_first(short), upper_first(&shape.id));
        let numbered = (2..).map(|i| format!("{}{i}", shape.id));
        let mut names = [shape.id.clone(), with_service].into_iter().chain(numbered);
        if let Some(free) = names.find(|n| !self.ids.contains(n)) {
            self.ids.insert(free.clone());
            shape.id = free;
        }
        shape
    }
}

/// The shapes of all methods; no two share method and path. What each is called does not depend on the order in which a
/// definition has them: names are given in the order of names, and rules go before proposals.
pub fn shapes(definition: &Definition) -> Vec<Shape> {
    shapes_after(definition, &[])
}

/// The same, where methods of these full names come before all others: what came later takes nothing from them.
pub fn shapes_after(definition: &Definition, first: &[String]) -> Vec<Shape> {
    let first: HashSet<&str> = first.iter().map(String::as_str).collect();
    let mut methods: Vec<(&Service, &Method)> = definition
        .services
        .iter()
        .flat_map(|s| s.methods.iter().map(move |m| (s, m)))
        .collect();
    methods.sort_by_key(|(_, m)| (!first.contains(m.full.as_str()), m.full.as_str()));
    let mut taken = Taken::default();
    let mut made: HashMap<&str, Vec<Shape>> = HashMap::new();
    for (service, method) in methods.iter().filter(|(_, m)| !m.rules.is_empty()) {
        let own = (0..method.rules.len())
            .map(|i| of_rule(method, i))
            .map(|shape| {
                // Only the first of two rules with one route can be called by it.
                let shape = match taken.has(&shape) {
                    true => Shape {
                        id: shape.id,
                        ..by_name(
                            service,
                            method,
                            &format!(
                                "{} {} is the route of another rule too",
                                shape.method, shape.path
                            ),
                        )
                    },
                    false => shape,
                };
                taken.take(shape, service)
            });
        made.insert(&method.full, own.collect());
    }
    for (service, method) in methods.iter().filter(|(_, m)| m.rules.is_empty()) {
        let shape = proposed_beside(&taken, &definition.types, service, method);
        made.insert(&method.full, vec![taken.take(shape, service)]);
    }
    let in_order = definition.methods();
    in_order
        .filter_map(|m| made.remove(m.full.as_str()))
        .flatten()
        .collect()
}

/// A proposal whose route nothing else has.
fn proposed_beside(taken: &Taken, types: &Types, service: &Service, method: &Method) -> Shape {
    let shape = proposed(types, method);
    // The verb tells it apart from the other.
    let first = words(&method.name).first().map(|w| w.to_lowercase());
    let verb = Shape {
        path: format!("{}:{}", shape.path, first.unwrap_or_default()),
        why: format!(
            "{}; another operation has the path without the verb",
            shape.why
        ),
        ..shape.clone()
    };
    match (taken.has(&shape), taken.has(&verb)) {
        (false, _) => shape,
        (true, false) if shape.path.ends_with('}') => verb,
        _ => by_name(
            service,
            method,
            "another operation has the shorter path already",
        ),
    }
}

fn lower_first(text: &str) -> String {
    let mut chars = text.chars();
    chars
        .next()
        .map_or_else(String::new, |c| c.to_lowercase().chain(chars).collect())
}

fn upper_first(text: &str) -> String {
    let mut chars = text.chars();
    chars
        .next()
        .map_or_else(String::new, |c| c.to_uppercase().chain(chars).collect())
}

/// A path with its variables' names left out.
fn pattern(path: &str) -> String {
    let mut out = String::new();
    let mut inside = false;
    for c in path.chars() {
        match c {
            '{' => inside = true,
            '}' => inside = false,
            c if inside && c != '*' => continue,
            _ => {}
        }
        out.push(c);
    }
    out
}

fn of_rule(method: &Method, index: usize) -> Shape {
    let rule = &method.rules[index];
    let (path, bound) = contract_path(&rule.template);
    let id = if index == 0 {
        lower_first(&method.name)
    } else {
        format!("{}{}", lower_first(&method.name), index + 1)
    };
    let why = if index == 0 {
        "its HTTP rule"
    } else {
        "an additional binding of its HTTP rule"
    };
    Shape {
        id,
        method: rule.method.clone(),
        path,
        calls: method.full.clone(),
        bound,
        body: rule.body.clone(),
        response_body: rule.response_body.clone(),
        why: why.into(),
    }
}

const LISTING: [&str; 5] = ["List", "Search", "Find", "Query", "Stream"];
const READING: [&str; 8] = [
    "Get",
    "Read",
    "Fetch",
    "Lookup",
    "Describe",
    "Check",
    "Watch",
    "Subscribe",
];
const MAKING: [&str; 6] = ["Create", "Add", "New", "Register", "Submit", "Insert"];

/// The words of a method's name: `ReportDefect` gives `Report`, `Defect`.
fn words(name: &str) -> Vec<String> {
    let mut words: Vec<String> = Vec::new();
    let mut before_lower = true;
    for c in name.chars() {
        if words.is_empty() || (c.is_uppercase() && before_lower) || c == '_' {
            words.push(String::new());
        }
        before_lower = !c.is_uppercase();
        if let Some(last) = words.last_mut()
            && c != '_'
        {
            last.push(c);
        }
    }
    words
}

fn kebab(words: &[String]) -> String {
    words
        .iter()
        .map(|w| w.to_lowercase())
        .collect::<Vec<_>>()
        .join("-")
}

/// Whether a field can stand in a path and names what the method is about.
fn is_key(field: &Field) -> bool {
    let plain = field.cardinality == Cardinality::Single
        && !matches!(
            field.kind,
            Kind::Message(_)
                | Kind::Group(_)
                | Kind::Double
                | Kind::Float
                | Kind::Bytes
                | Kind::Bool
        );
    plain
        && (["name", "id", "code", "key", "uuid", "number"]
            .iter()
            .any(|k| *field.name == **k)
            || ["_id", "_name", "_code", "_key", "_number"]
                .iter()
                .any(|k| field.name.ends_with(k)))
}

fn proposed(types: &Types, method: &Method) -> Shape {
    Telling::of(types, method).shape()
}

/// What a method's name and message tell.
struct Telling<'a> {
    types: &'a Types,
    method: &'a Method,
    input: &'a MessageType,
    words: Vec<String>,
    noun: String,
    /// The names of fields that fit a query.
    in_query: Vec<String>,
    /// The field that names what the method is about.
    key: Option<&'a Field>,
}

impl<'a> Telling<'a> {
    fn of(types: &'a Types, method: &'a Method) -> Self {
        let input = types.message(method.input);
        let words = words(&method.name);
        let listed = types.query_fields(method.input);
        let first = |path: &str| path.split('.').next().map(str::to_owned);
        Self {
            types,
            method,
            input,
            noun: kebab(words.get(1..).unwrap_or_default()),
            words,
            in_query: listed.iter().filter_map(|(p, _)| first(p)).collect(),
            key: input.fields.iter().find(|f| is_key(f)),
        }
    }

    fn shape(&self) -> Shape {
        let verb = self.words.first().map_or("", String::as_str);
        if self.method.client_streaming {
            return self.whole("it takes a stream of messages, sent as a body");
        }
        if self.noun.is_empty() {
            return self.whole("its name has no verb that tells a method");
        }
        match verb {
            _ if LISTING.contains(&verb) && self.fits_query(None) => {
                let why = format!("“{verb}” lists, and its fields fit a query");
                self.owned(&why)
                    .unwrap_or_else(|| self.several("GET", "", why))
            }
            _ if READING.contains(&verb) => self.reading(verb),
            _ if MAKING.contains(&verb) => self.making(verb),
            "Update" | "Modify" | "Patch" => {
                self.changing(verb).unwrap_or_else(|| self.action(verb))
            }
            "Delete" | "Remove" => match self.key {
                Some(key) if self.fits_query(Some(key)) => {
                    let why = format!("“{verb}” takes away what “{}” names", key.json);
                    self.keyed("DELETE", key, "", "", why)
                }
                _ => self.action(verb),
            },
            _ => self.action(verb),
        }
    }

    fn reading(&self, verb: &str) -> Shape {
        match self.key {
            Some(key) if self.fits_query(Some(key)) => {
                let why = format!("“{verb}” reads one, named by “{}”", key.json);
                self.keyed("GET", key, "", "", why)
            }
            None if self.fits_query(None) => {
                let why = format!("“{verb}” reads, and its fields fit a query");
                self.plain("GET", "", why)
            }
            _ => self.whole("its fields do not fit a query, so they are sent as a body"),
        }
    }

    fn making(&self, verb: &str) -> Shape {
        match self.about() {
            Some(about) if self.fits_query(Some(about)) => {
                let why = format!("“{verb}” makes a new “{}”", about.json);
                self.several("POST", &about.name, why)
            }
            _ => self.several("POST", "*", format!("“{verb}” makes something new")),
        }
    }

    /// A change of the message that the method is about; `None` when there is none.
    fn changing(&self, verb: &str) -> Option<Shape> {
        let about = self.about().filter(|about| self.fits_query(Some(about)))?;
        let of = about.kind.message().map(|id| self.types.message(id));
        let Some(inner) = of.and_then(|m| m.fields.iter().find(|f| is_key(f))) else {
            return Some(self.whole("nothing in its message names what is changed"));
        };
        let name = lower_camel(&inner.name);
        let why = format!(
            "“{verb}” changes the “{}” that its “{}” names",
            about.json, inner.json
        );
        Some(self.make(
            "PATCH",
            format!("/{}/{{{name}}}", plural(&self.noun)),
            vec![bound(&format!("{}.{}", about.name, inner.name), &name)],
            &about.name,
            why,
        ))
    }

    fn action(&self, verb: &str) -> Shape {
        let Some(key) = self.key else {
            return self.whole("its name tells no other method");
        };
        let action = format!(":{}", kebab(&[verb.to_owned()]));
        let why = format!("“{verb}” does something with what “{}” names", key.json);
        self.keyed("POST", key, &action, "*", why)
    }

    /// The message that the method is about: a field of the noun's own type.
    fn about(&self) -> Option<&'a Field> {
        let joined = self.words.get(1..).unwrap_or_default().concat();
        self.input.fields.iter().find(|f| {
            let of = f.kind.message().map(|id| self.types.message(id));
            let own = of.filter(|m| m.well_known.is_none());
            let name = own.and_then(|m| m.name.rsplit('.').next());
            f.cardinality == Cardinality::Single
                && name.is_some_and(|n| n.eq_ignore_ascii_case(&joined))
        })
    }

    /// Whether all fields but one fit a query.
    fn fits_query(&self, skip: Option<&Field>) -> bool {
        let others = self.input.fields.iter();
        others
            .filter(|f| skip.is_none_or(|s| s.number != f.number))
            .all(|f| self.in_query.iter().any(|name| **name == *f.json))
    }

    fn plain(&self, http: &str, body: &str, why: String) -> Shape {
        self.make(http, format!("/{}", self.noun), Vec::new(), body, why)
    }

    /// All of them, under the word that one of them is found under too.
    fn several(&self, http: &str, body: &str, why: String) -> Shape {
        self.make(
            http,
            format!("/{}", plural(&self.noun)),
            Vec::new(),
            body,
            why,
        )
    }

    /// Those of one other thing, where the one REQUIRED key names it (`google/api/field_behavior.proto`): `harbour_id` of berths.
    fn owned(&self, why: &str) -> Option<Shape> {
        let mut keys = self.input.fields.iter().filter(|f| f.must && is_key(f));
        let (key, None) = (keys.next()?, keys.next()) else {
            return None;
        };
        let (owner, _) = key.name.rsplit_once('_')?;
        let owner = plural(&owner.replace('_', "-"));
        let noun = plural(&self.noun);
        let name = lower_camel(&key.name);
        (owner != noun).then(|| {
            let path = format!("/{owner}/{{{name}}}/{noun}");
            let why = format!("{why}; “{}” names whose", key.json);
            self.make("GET", path, vec![bound(&key.name, &name)], "", why)
        })
    }

    fn keyed(&self, http: &str, key: &Field, behind: &str, body: &str, why: String) -> Shape {
        let name = lower_camel(&key.name);
        let path = format!("/{}/{{{name}}}{behind}", plural(&self.noun));
        self.make(http, path, vec![bound(&key.name, &name)], body, why)
    }

    /// Everything in the body.
    fn whole(&self, why: &str) -> Shape {
        let path = format!("/{}", kebab(&self.words));
        self.make("POST", path, Vec::new(), "*", why.into())
    }

    fn make(&self, http: &str, path: String, bound: Vec<Bound>, body: &str, why: String) -> Shape {
        Shape {
            id: lower_first(&self.method.name),
            method: http.into(),
            path,
            calls: self.method.full.clone(),
            bound,
            body: body.into(),
            response_body: String::new(),
            why,
        }
    }
}

fn bound(field: &str, variable: &str) -> Bound {
    Bound {
        field: field.split('.').map(str::to_owned).collect(),
        pieces: vec![Piece::Variable(variable.to_owned())],
        several: false,
    }
}

fn by_name(service: &Service, method: &Method, why: &str) -> Shape {
    let short = service.name.rsplit('.').next().unwrap_or_default();
    let path = format!(
        "/{}/{}",
        singular(&kebab(&words(short))),
        kebab(&words(&method.name))
    );
    Shape {
        id: lower_first(&method.name),
        method: "POST".into(),
        path,
        calls: method.full.clone(),
        bound: Vec::new(),
        body: "*".into(),
        response_body: String::new(),
        why: why.into(),
    }
}
