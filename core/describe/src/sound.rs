//! What the standard demands of an object's members together.

use porch_contract::{Node, NodeKind, Severity};
use serde_json::Value;

use crate::build::{map, put, scalar, take, text};
use crate::shape::Shape;
use crate::walk::Walk;

/// Members that are addresses.
const ADDRESSES: [&str; 4] = ["url", "termsOfService", "externalValue", "namespace"];

/// An object with what it must have and without what it must not; `None` where nothing sound is left.
pub(crate) fn object(walk: &mut Walk<'_>, shape: &Shape, mut made: Node) -> Option<Node> {
    for name in ADDRESSES {
        let odd = made
            .get(name)
            .and_then(Node::text)
            .is_some_and(|url| !is_address(url));
        if odd && shape.members.iter().any(|(n, _)| *n == name) {
            let at = made.get(name).map_or(made.at, |n| n.at);
            let told = format!("“{name}” is no address");
            walk.warn(at, "not an address", told, "it is left out");
            take(&mut made, name);
            if shape.required.contains(&name) {
                return None;
            }
        }
    }
    match shape.what {
        "parameter" => parameter(walk, &mut made)?,
        "header" => schema_or_content(&mut made),
        "response" if made.get("description").is_none() => {
            let empty = text(made.at, "");
            put(&mut made, "description", empty);
        }
        "license" if made.get("url").is_some() => drop(take(&mut made, "identifier")),
        "contact" => {
            let email = made.get("email").and_then(Node::text);
            if email.is_some_and(|e| !e.contains('@')) {
                take(&mut made, "email");
            }
        }
        "example" if made.get("value").is_some() => drop(take(&mut made, "externalValue")),
        _ => {}
    }
    if made.get("examples").is_some() && shape.what != "schema" {
        take(&mut made, "example");
    }
    Some(made)
}

fn is_address(url: &str) -> bool {
    !url.is_empty() && !url.contains(|c: char| c.is_whitespace() || "<>\"{}|\\^`".contains(c))
}

/// Section 4.8.12.2: a schema or a content with one media type, and a style that its place has.
fn parameter(walk: &mut Walk<'_>, made: &mut Node) -> Option<()> {
    let at = made.at;
    let place = made.get("in").and_then(Node::text).unwrap_or_default();
    let place = place.trim().to_ascii_lowercase();
    let styles: &[&str] = match place.as_str() {
        "path" => &["simple", "matrix", "label"],
        "query" => &["form", "spaceDelimited", "pipeDelimited", "deepObject"],
        "header" => &["simple"],
        "cookie" => &["form"],
        other => {
            let told =
                format!("a parameter's `in` is path, query, header or cookie, not “{other}”");
            walk.warn(at, "parameter that stands nowhere", told, "it is left out");
            return None;
        }
    };
    let style = made.get("style").and_then(Node::text).map(str::to_owned);
    if let Some(style) = style.filter(|s| !styles.contains(&s.as_str())) {
        let told = format!("a parameter in the {place} has no style “{style}”");
        let help = format!("it is read as “{}”", styles[0]);
        walk.warn(at, "unknown style", told, &help);
        take(made, "style");
    }
    if place == "path" {
        put(made, "required", scalar(at, Value::Bool(true)));
    }
    if place != "query" {
        take(made, "allowEmptyValue");
        take(made, "allowReserved");
    }
    put(made, "in", text(at, &place));
    schema_or_content(made);
    Some(())
}

fn schema_or_content(made: &mut Node) {
    let one = |content: &Node| content.entries().len() == 1;
    match (made.get("schema"), made.get("content")) {
        (None, Some(content)) if one(content) => {
            for name in ["style", "explode", "allowReserved", "example", "examples"] {
                take(made, name);
            }
        }
        (None, _) => {
            take(made, "content");
            put(made, "schema", map(made.at, Vec::new()));
        }
        (Some(_), Some(_)) => drop(take(made, "content")),
        (Some(_), None) => {}
    }
}

/// The statuses of responses (section 4.8.16): three digits, a class, or all others.
pub(crate) fn status(walk: &mut Walk<'_>, key: &str, node: &Node) -> Option<String> {
    let key = key.trim();
    if key.eq_ignore_ascii_case("default") {
        return Some("default".into());
    }
    let three: String = key.chars().take(3).collect();
    let bytes = three.as_bytes();
    let first = bytes.first().is_some_and(|b| (b'1'..=b'5').contains(b));
    let digits = bytes.len() == 3 && bytes[1..].iter().all(u8::is_ascii_digit);
    let class = three.len() == 3 && three[1..].eq_ignore_ascii_case("xx");
    let more = key
        .chars()
        .nth(3)
        .is_some_and(|c| c.is_ascii_alphanumeric());
    if first && (digits || class) && !more {
        return Some(three.to_ascii_uppercase());
    }
    let told = format!("“{key}” is no status of HTTP");
    walk.found.tell(
        Severity::Warning,
        node.at,
        "not a status",
        told,
        "this response is left out",
    );
    None
}

/// Whether a node is an object.
pub(crate) fn is_map(node: &Node) -> bool {
    matches!(node.kind, NodeKind::Map(_))
}
