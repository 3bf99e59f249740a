//! HTTP rules from service configurations.

use std::collections::HashMap;

use porch_contract::{Finding, Node, Severity};

use crate::descriptor::{CustomPattern, HttpRule};

/// The rules of service configurations by selector; they win over those in the files (`google/api/service.proto`).
pub(super) fn rules_of(
    configs: &[(&String, &String)],
    findings: &mut Vec<Finding>,
) -> HashMap<String, HttpRule> {
    let mut all = HashMap::new();
    for (path, text) in configs {
        let Ok(node) = Node::parse(text) else {
            continue;
        };
        let Some(rules) = node.get("http").and_then(|h| h.get("rules")) else {
            continue;
        };
        for rule in rules.items() {
            let http = config_rule(rule);
            if http.selector.is_empty() {
                findings.push(
                    Finding::new(
                        Severity::Warning,
                        path,
                        rule.at,
                        "a rule without `selector`",
                    )
                    .help("name the method: selector: package.Service.Method"),
                );
                continue;
            }
            all.insert(http.selector.clone(), http);
        }
    }
    all
}

fn config_rule(node: &Node) -> HttpRule {
    let text = |name: &str| {
        node.get(name)
            .and_then(Node::text)
            .unwrap_or_default()
            .to_owned()
    };
    let either = |a: &str, b: &str| node.get(a).or_else(|| node.get(b));
    HttpRule {
        selector: text("selector"),
        get: text("get"),
        put: text("put"),
        post: text("post"),
        delete: text("delete"),
        patch: text("patch"),
        body: text("body"),
        response_body: either("response_body", "responseBody")
            .and_then(Node::text)
            .unwrap_or_default()
            .to_owned(),
        custom: node.get("custom").map(|c| {
            let part = |name: &str| {
                c.get(name)
                    .and_then(Node::text)
                    .unwrap_or_default()
                    .to_owned()
            };
            CustomPattern {
                kind: part("kind"),
                path: part("path"),
            }
        }),
        additional_bindings: either("additional_bindings", "additionalBindings")
            .map_or_else(Vec::new, |list| {
                list.items().iter().map(config_rule).collect()
            }),
    }
}
