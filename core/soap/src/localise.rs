//! The files of a definition under names that a folder can have, with the references between them rewritten.

use std::collections::{BTreeMap, HashSet};

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
    if crate::xml::entities_fit(text).is_err() {
        return Vec::new();
    }
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
    let mut taken = HashSet::from([main_name.to_ascii_lowercase()]);
    for name in used.iter().filter(|n| *n != main) {
        let text = files.get(name).map_or("", String::as_str);
        let (stem, end) = plain_name(name, text);
        let mut free = format!("{stem}{end}");
        let mut n = 1;
        while !taken.insert(free.to_ascii_lowercase()) {
            n += 1;
            free = format!("{stem}_{n}{end}");
        }
        names.insert(name, free);
    }
    let rewritten = names.iter().filter_map(|(old, new)| {
        let text = files.get(*old)?;
        Some((new.clone(), with_names(files, old, text, &names)))
    });
    (rewritten.collect(), names[main].clone())
}

/// The stem and end of a plain file name for a file of a definition.
fn plain_name(name: &str, text: &str) -> (String, &'static str) {
    let path = name.split(['?', '#']).next().unwrap_or(name);
    let path = path.trim_end_matches('/');
    let last = path.rsplit('/').next().unwrap_or(path);
    let plain = |c: char| match c {
        c if c.is_ascii_alphanumeric() || "._-".contains(c) => c,
        _ => '_',
    };
    let clean: String = last.chars().map(plain).collect();
    let end = if text.contains("definitions") && text.contains(WSDL) {
        ".wsdl"
    } else {
        ".xsd"
    };
    let clean = clean.trim_start_matches('.');
    match clean.strip_suffix(end).unwrap_or(clean) {
        "" => ("schema".to_owned(), end),
        stem => (stem.to_owned(), end),
    }
}

/// A text whose references name other files by their new names.
fn with_names(files: &Files, old: &str, text: &str, names: &BTreeMap<&str, String>) -> String {
    let mut rewritten = String::with_capacity(text.len());
    let mut from = 0;
    for (range, location) in references(text) {
        let found = find_name(files.keys().map(String::as_str), old, &location);
        if let Some(target) = found.and_then(|t| names.get(t)) {
            rewritten.push_str(&text[from..range.start]);
            rewritten.push_str(target);
            from = range.end;
        }
    }
    rewritten.push_str(&text[from..]);
    rewritten
}
