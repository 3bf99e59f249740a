//! Addresses of the service that is described (OpenAPI 3.1 §4.8.5, §4.8.6).

use porch_contract::Node;
use url::Url;

/// The addresses of a document, path or operation, with the defaults of their variables.
pub(crate) fn of(node: &Node) -> Vec<String> {
    let given = node.get("servers").map(Node::items).unwrap_or_default();
    const FEW: usize = 100;
    given.iter().take(FEW).filter_map(address).collect()
}

fn address(server: &Node) -> Option<String> {
    let mut url = server.get("url").and_then(Node::text)?.trim().to_owned();
    let variables = server
        .get("variables")
        .map(Node::entries)
        .unwrap_or_default();
    for (name, _, variable) in variables {
        let first = variable.get("enum").and_then(|e| e.items().first());
        let value = variable.get("default").or(first);
        let value = value.map(|v| match v.text() {
            Some(text) => text.to_owned(),
            None => v.to_value().to_string(),
        });
        if let Some(value) = value {
            url = url.replace(&format!("{{{name}}}"), &value);
        }
    }
    (!url.is_empty()).then_some(url)
}

/// An address that may be relative to where the document came from; `None` where it is none that could be called.
pub(crate) fn resolved(url: &str, from: &str) -> Option<String> {
    let full = match Url::parse(url) {
        Ok(full) => full,
        Err(_) => Url::parse(from).ok()?.join(url).ok()?,
    };
    let callable = ["http", "https"].contains(&full.scheme()) && full.has_host();
    // A variable without a value is nobody's address yet.
    if !callable || url.contains('{') || full.query().is_some() {
        return None;
    }
    let text = String::from(full);
    Some(text.split('#').next().unwrap_or_default().to_owned())
}

/// What the service demands of its callers, in words, each of its ways once (OpenAPI 3.1 §4.8.30).
pub(crate) fn demanded(root: &Node, operations: &[&Node]) -> Vec<String> {
    let schemes = root
        .get("components")
        .and_then(|c| c.get("securitySchemes"));
    let schemes = schemes.or_else(|| root.get("securityDefinitions"));
    let of = |name: &str| {
        schemes
            .and_then(|s| s.get(name))
            .map_or_else(|| format!("“{name}”"), in_words)
    };
    let mut found: Vec<String> = Vec::new();
    let nodes = std::iter::once(&root).chain(operations.iter());
    // More ways than these nobody reads.
    const FEW: usize = 20;
    for alternatives in nodes.filter_map(|n| n.get("security")) {
        let words = alternatives.items().iter().map(|all| {
            let all: Vec<String> = all.entries().iter().map(|(name, ..)| of(name)).collect();
            if all.is_empty() {
                "nothing".into()
            } else {
                all.join(" and ")
            }
        });
        let mut words: Vec<String> = words.collect();
        words.dedup();
        let words = words.join(" or ");
        let new = found.len() < FEW && !found.contains(&words);
        if !words.is_empty() && words != "nothing" && new {
            found.push(words);
        }
    }
    found
}

fn in_words(scheme: &Node) -> String {
    let text = |name: &str| scheme.get(name).and_then(Node::text).unwrap_or_default();
    match (text("type"), text("scheme")) {
        ("apiKey", _) => format!("a key in the {} “{}”", text("in"), text("name")),
        ("basic", _) => "name and password (Basic, RFC 7617)".into(),
        ("http", scheme) if scheme.eq_ignore_ascii_case("basic") => {
            "name and password (Basic, RFC 7617)".into()
        }
        ("http", scheme) if scheme.eq_ignore_ascii_case("bearer") => {
            "a bearer token (RFC 6750)".into()
        }
        ("http", scheme) => format!("the scheme “{scheme}” of HTTP"),
        ("oauth2", _) => "a token of OAuth 2.0 (RFC 6749)".into(),
        ("openIdConnect", _) => "a token of OpenID Connect".into(),
        ("mutualTLS", _) => "a client certificate".into(),
        (other, _) => format!("a credential of the type “{other}”"),
    }
}
