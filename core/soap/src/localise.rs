//! The files of a definition under names that a folder can have, with the references between them rewritten.

use std::collections::BTreeMap;

use roxmltree::{Document, Node, ParsingOptions};

use crate::wsdl::{Files, find_name};
use crate::xml::is_xsd;

const WSDL: &str = "http://schemas.xmlsoap.org/wsdl/";

/// The places where a file names another: the range of the name in the text, and the name.
pub fn references(text: &str) -> Vec<(std::ops::Range<usize>, String)> {
    let options = ParsingOptions {
        allow_dtd: true,
        nodes_limit: 4_000_000,
        ..ParsingOptions::default()
    };
    let Ok(document) = Document::parse_with_options(text, options) else {
        return Vec::new();
    };
    let names_file = |n: Node<'_, '_>| match (n.tag_name().namespace(), n.tag_name().name()) {
        (Some(WSDL), "import") => Some("location"),
        (Some(uri), "import" | "include" | "redefine") if is_xsd(uri) => Some("schemaLocation"),
        _ => None,
    };
    let mut all: Vec<_> = document
        .descendants()
        .filter_map(|n| {
            let name = names_file(n)?;
            let attribute = n
                .attributes()
                .find(|a| a.name() == name && a.namespace().is_none())?;
            Some((attribute.range_value(), attribute.value().trim().to_owned()))
        })
        // What an entity brought in has no place of its own in the text.
        .filter(|(range, _)| text.get(range.clone()).is_some())
        .collect();
    all.sort_by_key(|(range, _)| range.start);
    all
}

/// The files that a definition uses, each with a plain name, and the new name of the main one.
pub fn localise(files: &Files, main: &str, used: &[String], main_name: &str) -> (Files, String) {
    let mut names: BTreeMap<&str, String> = BTreeMap::from([(main, main_name.to_owned())]);
    for name in used.iter().filter(|n| *n != main) {
        let text = files.get(name).map_or("", String::as_str);
        let last = name
            .split(['?', '#'])
            .next()
            .unwrap_or(name)
            .trim_end_matches('/')
            .rsplit('/')
            .next()
            .unwrap_or_default();
        let clean: String = last
            .chars()
            .map(|c| {
                if c.is_ascii_alphanumeric() || "._-".contains(c) {
                    c
                } else {
                    '_'
                }
            })
            .collect();
        let end = if text.contains("definitions") && text.contains(WSDL) {
            ".wsdl"
        } else {
            ".xsd"
        };
        let stem = clean
            .trim_start_matches('.')
            .strip_suffix(end)
            .unwrap_or(clean.trim_start_matches('.'))
            .to_owned();
        let stem = if stem.is_empty() {
            "schema".to_owned()
        } else {
            stem
        };
        let mut free = format!("{stem}{end}");
        let mut n = 1;
        while names.values().any(|v| v.eq_ignore_ascii_case(&free)) {
            n += 1;
            free = format!("{stem}_{n}{end}");
        }
        names.insert(name, free);
    }
    let all = || files.keys().map(String::as_str);
    let mut out = Files::new();
    for (old, new) in &names {
        let Some(text) = files.get(*old) else {
            continue;
        };
        let mut rewritten = String::with_capacity(text.len());
        let mut from = 0;
        for (range, location) in references(text) {
            if let Some(target) = find_name(all(), old, &location).and_then(|t| names.get(t)) {
                rewritten.push_str(&text[from..range.start]);
                rewritten.push_str(target);
                from = range.end;
            }
        }
        rewritten.push_str(&text[from..]);
        out.insert(new.clone(), rewritten);
    }
    (out, names[main].clone())
}
