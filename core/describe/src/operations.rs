//! Paths and operations.

use std::collections::{HashMap, HashSet};

use indexmap::IndexMap;
use porch_contract::{Node, NodeKind, PathTemplate, Position, Severity};
use serde_json::Value;

use crate::build::{Entries, list, map, put, scalar, take, text};
use crate::path::{Route, likeness, read, suffix};
use crate::shape::{BODY, OPERATION, PARAMETER, RESPONSE};
use crate::sound::{is_map, status};
use crate::sources::reference;
use crate::walk::Walk;
use crate::{Upstream, Version, servers, two};

const METHODS: [&str; 8] = [
    "get", "put", "post", "delete", "options", "head", "patch", "trace",
];
/// Fields whose description has no effect (OpenAPI 3.1 §4.8.12.1): they have rules of their own.
const APART: [&str; 3] = ["accept", "content-type", "authorization"];

/// An operation on its way into the contract.
pub(crate) struct Found {
    pub(crate) method: String,
    pub(crate) node: Node,
    pub(crate) upstream: Upstream,
}

/// The operations by their paths, as the contract has them.
pub(crate) type Paths = IndexMap<String, Vec<Found>>;

/// A path item and what its key means.
struct Item<'n> {
    route: Route,
    /// How the contract has the path.
    path: String,
    node: &'n Node,
    merged: Option<Node>,
}

impl Walk<'_> {
    /// Everything below `paths`.
    pub(crate) fn paths(&mut self, root: &Node) -> Paths {
        let mut routes = Vec::new();
        for (key, at, node) in root.get("paths").map(Node::entries).unwrap_or_default() {
            if key.starts_with("x-") {
                continue;
            }
            match read(key) {
                Ok(route) => {
                    let as_it_is = route.query.is_empty() && route.apart.is_empty();
                    if route.mended && as_it_is && route.named.is_empty() {
                        let told = format!("the path “{key}” is published as “{}”", route.path);
                        self.found
                            .tell(Severity::Note, *at, "path written otherwise", told, "");
                    }
                    routes.push((route, node));
                }
                Err(why) => {
                    let told = format!("the path “{key}”: {why}");
                    self.warn(
                        *at,
                        "path that no request has",
                        told,
                        "its operations are left out",
                    );
                }
            }
        }
        let mut counts: HashMap<String, usize> = HashMap::new();
        for (route, _) in &routes {
            *counts.entry(likeness(&route.path)).or_default() += 1;
        }
        let (mut paths, mut known) = (Paths::new(), HashMap::new());
        for (route, node) in routes {
            let alone = counts.get(&likeness(&route.path)) == Some(&1);
            let own = suffix(&route);
            let path = match alone || own.is_empty() {
                true => route.path.clone(),
                false => format!("{}/{own}", route.path.trim_end_matches('/')),
            };
            // Paths that differ in the names of variables only are one (§4.8.8.1): the first gives the names.
            let path = known.entry(likeness(&path)).or_insert(path).clone();
            self.item(&mut paths, route, path, node);
        }
        paths
    }

    fn item(&mut self, paths: &mut Paths, route: Route, path: String, node: &Node) {
        let merged = self.merged(node);
        let item = Item {
            route,
            path,
            node,
            merged,
        };
        let node = item.merged.as_ref().unwrap_or(item.node);
        if !is_map(node) {
            let told = "a path has an object with its methods".to_owned();
            self.warn(node.at, "not an object", told, "it is left out");
            return;
        }
        for (name, at, value) in node.entries() {
            let lower = name.to_ascii_lowercase();
            match lower.as_str() {
                "parameters" | "servers" | "summary" | "description" | "$ref" => {}
                // 3.2 §4.9 names further methods; 3.1 has no place for them.
                "additionaloperations" | "x-additionaloperations" => {
                    for (method, _, value) in value.entries() {
                        self.add(paths, &item, node, method, value);
                    }
                }
                "query" => self.add(paths, &item, node, "QUERY", value),
                method if METHODS.contains(&method) => self.add(paths, &item, node, method, value),
                other if other.starts_with("x-") => {}
                _ => {
                    let told = format!("“{name}” is no method");
                    self.warn(*at, "unknown method", told, "it is left out");
                }
            }
        }
    }

    /// A path item that refers to another, with what it says itself.
    fn merged(&mut self, node: &Node) -> Option<Node> {
        let target = reference(node)?;
        let found = match self.sources.follow_from(target, node.at) {
            Ok(found) => found,
            Err(why) => {
                self.nowhere(target, node.at, &why);
                return Some(map(node.at, Vec::new()));
            }
        };
        let mut merged = found.clone();
        for (name, _, value) in node.entries() {
            if name != "$ref" {
                put(&mut merged, name, value.clone());
            }
        }
        self.room(crate::text::size_of(&merged), node.at)
            .then_some(merged)
    }

    fn add(
        &mut self,
        paths: &mut Paths,
        item: &Item<'_>,
        shared: &Node,
        method: &str,
        node: &Node,
    ) {
        // RFC 9110 §9.1: a token; and no other name of ours.
        if method.is_empty() || !method.bytes().all(|b| b.is_ascii_alphabetic() || b == b'-') {
            let told = format!("“{method}” is no method");
            self.warn(node.at, "unknown method", told, "it is left out");
            return;
        }
        if !is_map(node) {
            if !crate::walk::is_null(node) {
                let told = format!("“{method}” has an object that says what it does");
                self.warn(node.at, "not an object", told, "it is left out");
            }
            return;
        }
        let converted = (self.version == Version::Two).then(|| two::operation(self, shared, node));
        let given = converted.as_ref().unwrap_or(node);
        let Some(mut made) = self.object(&OPERATION, given) else {
            return;
        };
        let shared = (self.version != Version::Two).then_some(shared);
        let parameters = self.parameters(item, shared, given);
        if !parameters.is_empty() {
            put(&mut made, "parameters", list(node.at, parameters));
        }
        if let Some(body) = given
            .get("requestBody")
            .and_then(|b| self.referred(&BODY, b))
        {
            put(&mut made, "requestBody", body);
        }
        let responses = self.responses(given);
        put(&mut made, "responses", responses);
        let own = servers::of(node).into_iter().next();
        let own = own.or_else(|| shared.and_then(|s| servers::of(s).into_iter().next()));
        self.place(paths, item, method, made, own);
    }

    /// Puts an operation where no other one stands.
    fn place(
        &mut self,
        paths: &mut Paths,
        item: &Item<'_>,
        method: &str,
        node: Node,
        server: Option<String>,
    ) {
        let id = node
            .get("operationId")
            .and_then(Node::text)
            .unwrap_or_default()
            .trim()
            .to_owned();
        // A name for each method and path; what is another one's gets a segment more.
        let key = |path: &str| format!("{} {path}", method.to_ascii_uppercase());
        let bare = item.path.trim_end_matches('/');
        let path = match self.routes.take(&key(&item.path)) {
            true => item.path.clone(),
            false => {
                let given = self.routes.give(&key(bare), "/");
                let given = given.split_once(' ').map_or("", |(_, path)| path);
                if given == bare {
                    format!("{bare}/1")
                } else {
                    given.to_owned()
                }
            }
        };
        if path != item.path {
            let told = format!("{} {} is there already", method.to_uppercase(), item.path);
            self.warn(
                node.at,
                "path that stands twice",
                told,
                &format!("this one is published as {path}"),
            );
        }
        let backend = match item.route.query.as_str() {
            // The contract's names of variables are those of the call.
            "" => renamed(&item.route, &path),
            query => format!("{}?{query}", renamed(&item.route, &path)),
        };
        let upstream = Upstream {
            id,
            path: (backend != path).then_some(backend),
            server,
        };
        let method = method.to_owned();
        paths.entry(path).or_default().push(Found {
            method,
            node,
            upstream,
        });
    }

    fn parameters(&mut self, item: &Item<'_>, shared: Option<&Node>, node: &Node) -> Vec<Node> {
        let own: Vec<String> = template_variables(&item.path);
        let (mut made, mut known): (Vec<Node>, HashSet<(String, String)>) =
            (Vec::new(), HashSet::new());
        let given = [Some(node), shared].into_iter().flatten();
        let given =
            given.flat_map(|from| from.get("parameters").map(Node::items).unwrap_or_default());
        for parameter in given {
            let Some(mut one) = self.referred(&PARAMETER, parameter) else {
                continue;
            };
            let seen = self.seen(&PARAMETER, &one).clone();
            let text_of = |name: &str| seen.get(name).and_then(Node::text).unwrap_or_default();
            let as_given = (text_of("name").trim(), text_of("in").trim());
            let Some((name, place)) = self.standing(item, &own, as_given, parameter.at) else {
                continue;
            };
            if !known.insert((name.clone(), place.to_owned())) {
                continue;
            }
            if (name.as_str(), place) != as_given {
                let at = parameter.at;
                one.clone_from(&seen);
                put(&mut one, "name", text(at, &name));
                put(&mut one, "in", text(at, place));
                if place == "query" {
                    take(&mut one, "style");
                }
            }
            made.push(one);
        }
        self.missing(item, &own, &mut known, &mut made);
        made
    }

    /// What a parameter is called in the contract, and where it stands; `None` where it is not published.
    fn standing<'t>(
        &mut self,
        item: &Item<'_>,
        own: &[String],
        (name, place): (&'t str, &'t str),
        at: Position,
    ) -> Option<(String, &'t str)> {
        if place == "header" && APART.iter().any(|n| name.eq_ignore_ascii_case(n)) {
            return None;
        }
        if place != "path" {
            return Some((name.to_owned(), place));
        }
        let (bare, route) = (name.trim_end_matches('*'), &item.route);
        let number = route.variables.iter().position(|v| *v == bare);
        if let Some(called) = number.and_then(|n| own.get(n)) {
            return Some((called.clone(), place));
        }
        if let Some((query, _)) = route.named.iter().find(|(_, v)| *v == bare) {
            return Some((query.clone(), "query"));
        }
        let told = format!("the parameter “{name}” is in no segment of {}", route.path);
        let kind = "parameter that is in no path";
        self.warn(at, kind, told, "it is left out");
        None
    }

    /// Parameters that the path names and nobody describes: texts.
    fn missing(
        &mut self,
        item: &Item<'_>,
        own: &[String],
        known: &mut HashSet<(String, String)>,
        made: &mut Vec<Node>,
    ) {
        let at = item.node.at;
        let of_path = own.iter().map(|name| (name.clone(), "path"));
        let of_query = item
            .route
            .named
            .iter()
            .map(|(name, _)| (name.clone(), "query"));
        for (name, place) in of_path.chain(of_query) {
            let star = |n: &str| (format!("{n}*"), place.to_owned());
            if known.contains(&star(&name)) || !known.insert((name.clone(), place.to_owned())) {
                continue;
            }
            let mut one = map(at, Vec::new());
            put(&mut one, "name", text(at, &name));
            put(&mut one, "in", text(at, place));
            if place == "path" {
                put(&mut one, "required", scalar(at, Value::Bool(true)));
                let told = format!("the path variable {{{name}}} is not described");
                self.found.tell(
                    Severity::Note,
                    at,
                    "variable not described",
                    told,
                    "any text is taken",
                );
            }
            let schema: Entries = vec![("type".into(), at, text(at, "string"))];
            put(&mut one, "schema", map(at, schema));
            made.push(one);
        }
    }

    fn responses(&mut self, node: &Node) -> Node {
        let given = node.get("responses");
        let mut made: Entries = Vec::new();
        for (key, at, response) in given.map(Node::entries).unwrap_or_default() {
            if key.starts_with("x-") {
                continue;
            }
            let Some(status) = status(self, key, response) else {
                continue;
            };
            if made.iter().any(|(known, ..)| *known == status) {
                continue;
            }
            if let Some(response) = self.referred(&RESPONSE, response) {
                made.push((status, *at, response));
            }
        }
        let at = given.map_or(node.at, |g| g.at);
        let kind = NodeKind::Map(made.into());
        Node { at, kind }
    }
}

fn template_variables(path: &str) -> Vec<String> {
    let template = PathTemplate::parse(path).ok();
    template.map_or_else(Vec::new, |t| t.variables().map(str::to_owned).collect())
}

/// The backend's path with the contract's names of variables.
fn renamed(route: &Route, path: &str) -> String {
    let names = template_variables(path);
    if names == route.variables {
        return route.path.clone();
    }
    let (mut out, mut rest) = (String::new(), route.path.as_str());
    for name in &names {
        let Some((before, after)) = rest.split_once('{') else {
            break;
        };
        let (inner, after) = after.split_once('}').unwrap_or((after, ""));
        let star = if inner.ends_with('*') { "*" } else { "" };
        out.push_str(&format!("{before}{{{name}{star}}}"));
        rest = after;
    }
    out.push_str(rest);
    out
}
