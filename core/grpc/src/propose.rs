//! REST shapes: those that HTTP rules say, and proposals for methods without any.

use crate::read::{Definition, Method, Service};
use crate::rule::{Bound, Piece, contract_path, singular};
use crate::types::*;

/// A way to call a method by HTTP.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Shape {
    /// `operationId`.
    pub id: String,
    /// Method; `*` for any.
    pub method: String,
    /// Path template of the contract.
    pub path: String,
    /// Full name of the gRPC method.
    pub calls: String,
    /// What fields get from the path.
    pub bound: Vec<Bound>,
    /// The field that the request's body is; `*` for the whole message; empty for none.
    pub body: String,
    /// The field that the reply's body is; empty for the whole message.
    pub response_body: String,
    /// Why this shape.
    pub why: String,
}

/// The shapes of all methods; no two share method and path.
pub fn shapes(definition: &Definition) -> Vec<Shape> {
    let mut all: Vec<Shape> = Vec::new();
    for service in &definition.services {
        for method in &service.methods {
            let mut own: Vec<Shape> = method
                .rules
                .iter()
                .enumerate()
                .map(|(i, _)| of_rule(method, i))
                .collect();
            if own.is_empty() {
                let shape = proposed(&definition.types, method);
                let taken = |s: &Shape| {
                    all.iter()
                        .any(|o| o.method == s.method && pattern(&o.path) == pattern(&s.path))
                };
                // The verb tells it apart from the other.
                let verb = Shape {
                    path: format!(
                        "{}:{}",
                        shape.path,
                        words(&method.name)
                            .first()
                            .map_or_else(String::new, |w| w.to_lowercase())
                    ),
                    why: format!(
                        "{}; another operation has the path without the verb",
                        shape.why
                    ),
                    ..shape.clone()
                };
                own.push(match (taken(&shape), taken(&verb)) {
                    (false, _) => shape,
                    (true, false) if shape.path.ends_with('}') => verb,
                    _ => by_name(
                        service,
                        method,
                        "another operation has the shorter path already",
                    ),
                });
            }
            for mut shape in own {
                shape.id = unused(&shape.id, service, &all);
                all.push(shape);
            }
        }
    }
    all
}

fn unused(id: &str, service: &Service, all: &[Shape]) -> String {
    let short = service.name.rsplit('.').next().unwrap_or_default();
    let with_service = format!("{}{}", lower_first(short), upper_first(id));
    let mut names = [id.to_owned(), with_service]
        .into_iter()
        .chain((2..).map(|i| format!("{id}{i}")));
    names
        .find(|n| !all.iter().any(|s| s.id == *n))
        .unwrap_or_default()
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
    let input = types.message(method.input);
    let words = words(&method.name);
    let verb = words.first().map_or("", String::as_str);
    let noun = kebab(words.get(1..).unwrap_or_default());
    let make = |http: &str, path: String, bound: Vec<Bound>, body: &str, why: String| Shape {
        id: lower_first(&method.name),
        method: http.into(),
        path,
        calls: method.full.clone(),
        bound,
        body: body.into(),
        response_body: String::new(),
        why,
    };
    let whole = |why: &str| {
        make(
            "POST",
            format!("/{}", kebab(&words)),
            Vec::new(),
            "*",
            why.into(),
        )
    };
    if method.client_streaming {
        return whole("it takes a stream of messages, sent as a body");
    }
    if noun.is_empty() {
        return whole("its name has no verb that tells a method");
    }
    let bound = |field: &str, variable: &str| Bound {
        field: field.split('.').map(str::to_owned).collect(),
        pieces: vec![Piece::Variable(variable.to_owned())],
        several: false,
    };
    let key = input.fields.iter().find(|f| is_key(f));
    let in_query = |skip: Option<&Field>| {
        let listed = types.query_fields(method.input);
        input
            .fields
            .iter()
            .filter(|f| skip.is_none_or(|s| s.number != f.number))
            .all(|f| {
                listed
                    .iter()
                    .any(|(p, _)| p.split('.').next() == Some(&f.json))
            })
    };
    let variable = |f: &Field| crate::build::lower_camel(&f.name);
    if LISTING.contains(&verb) && in_query(None) {
        return make(
            "GET",
            format!("/{noun}"),
            Vec::new(),
            "",
            format!("“{verb}” lists, and its fields fit a query"),
        );
    }
    if READING.contains(&verb) {
        return match key {
            Some(key) if in_query(Some(key)) => make(
                "GET",
                format!("/{noun}/{{{}}}", variable(key)),
                vec![bound(&key.name, &variable(key))],
                "",
                format!("“{verb}” reads one, named by “{}”", key.json),
            ),
            None if in_query(None) => make(
                "GET",
                format!("/{noun}"),
                Vec::new(),
                "",
                format!("“{verb}” reads, and its fields fit a query"),
            ),
            _ => whole("its fields do not fit a query, so they are sent as a body"),
        };
    }
    // The message that the method is about: a field of the noun's own type, or named like it.
    let joined = words.get(1..).unwrap_or_default().concat();
    let about = input.fields.iter().find(|f| {
        let typed = f.kind.message().is_some_and(|id| {
            types.message(id).well_known.is_none()
                && types
                    .message(id)
                    .name
                    .rsplit('.')
                    .next()
                    .is_some_and(|n| n.eq_ignore_ascii_case(&joined))
        });
        typed && f.cardinality == Cardinality::Single
    });
    match (verb, about, key) {
        (v, Some(about), _) if MAKING.contains(&v) && in_query(Some(about)) => make(
            "POST",
            format!("/{noun}"),
            Vec::new(),
            &about.name,
            format!("“{v}” makes a new “{}”", about.json),
        ),
        (v, _, _) if MAKING.contains(&v) => make(
            "POST",
            format!("/{noun}"),
            Vec::new(),
            "*",
            format!("“{v}” makes something new"),
        ),
        ("Update" | "Modify" | "Patch", Some(about), _) if in_query(Some(about)) => {
            let inner = about
                .kind
                .message()
                .and_then(|id| types.message(id).fields.iter().find(|f| is_key(f)));
            match inner {
                Some(inner) => {
                    let (path, name) = (format!("{}.{}", about.name, inner.name), variable(inner));
                    make(
                        "PATCH",
                        format!("/{noun}/{{{name}}}"),
                        vec![bound(&path, &name)],
                        &about.name,
                        format!(
                            "“{verb}” changes the “{}” that its “{}” names",
                            about.json, inner.json
                        ),
                    )
                }
                None => whole("nothing in its message names what is changed"),
            }
        }
        ("Delete" | "Remove", _, Some(key)) if in_query(Some(key)) => make(
            "DELETE",
            format!("/{noun}/{{{}}}", variable(key)),
            vec![bound(&key.name, &variable(key))],
            "",
            format!("“{verb}” takes away what “{}” names", key.json),
        ),
        (v, _, Some(key)) if input.fields.len() > 1 || !noun.is_empty() => {
            let action = kebab(&[v.to_owned()]);
            make(
                "POST",
                format!("/{noun}/{{{}}}:{action}", variable(key)),
                vec![bound(&key.name, &variable(key))],
                "*",
                format!("“{v}” does something with what “{}” names", key.json),
            )
        }
        _ => whole("its name tells no other method"),
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
