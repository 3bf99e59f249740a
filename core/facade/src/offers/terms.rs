//! Terms that rules read, held against those that an offer has.

use std::collections::BTreeSet;

use porch_contract::{Node, Severity, suggest};

use super::{Told, key};
use crate::Model;
use crate::documents::OfferDoc;

/// So many texts of one facade are looked into.
const MOST: usize = 100_000;

/// A term that an expression reads.
#[derive(PartialEq, Eq, PartialOrd, Ord)]
struct Reads<'a> {
    name: &'a str,
    /// Whether the expression says what happens without it (`terms.?name`).
    optional: bool,
}

/// Tells of terms that rules of what is opened read and the offer does not have, and of those that nothing reads.
pub(super) fn compare(model: &Model, told: &mut Told<'_, OfferDoc>) {
    let of = told.of;
    let doc = &of.doc;
    let mut read: BTreeSet<&str> = BTreeSet::new();
    let mut missing: Vec<(String, String)> = Vec::new();
    let facades: BTreeSet<&str> = doc.opens.iter().map(|o| o.facade.as_str()).collect();
    let mut room = MOST;
    for facade in facades {
        for reads in of_facade(model, facade, &mut room) {
            read.insert(reads.name);
            if !reads.optional && !doc.terms.contains_key(reads.name) {
                missing.push((facade.to_owned(), reads.name.to_owned()));
            }
        }
    }
    for (facade, name) in missing {
        let own = doc.terms.keys().map(String::as_str);
        let help = match suggest(&name, own) {
            Some(near) => format!("did you mean it by “{near}”?"),
            None => format!("add `{name}` to the terms"),
        };
        let message =
            format!("rules of {facade} read the term “{name}”, which this offer does not have");
        told.add(Severity::Warning, &[key("terms")], (message, help));
    }
    let unread: Vec<&String> = doc
        .terms
        .keys()
        .filter(|n| !read.contains(n.as_str()))
        .collect();
    for name in unread {
        let message = format!("no rule of what it opens reads the term “{name}”");
        let help = format!("a rule reads it as `=terms.{name}`");
        told.add(Severity::Note, &[key("terms"), key(name)], (message, help));
    }
}

/// The terms that the rules of a facade read, shared ones among them.
fn of_facade<'m>(model: &'m Model, facade: &str, room: &mut usize) -> BTreeSet<Reads<'m>> {
    let mut found = BTreeSet::new();
    let documents = &model.documents;
    if let Some(own) = documents.facades.get(facade) {
        within(&own.node, room, &mut found);
    }
    for rules in model.rules_of(facade) {
        if let Some(rules) = documents.rules.get(rules) {
            within(&rules.node, room, &mut found);
        }
    }
    found
}

fn within<'m>(node: &'m Node, room: &mut usize, found: &mut BTreeSet<Reads<'m>>) {
    if *room == 0 {
        return;
    }
    *room -= 1;
    if let Some(text) = node.text().filter(|t| t.starts_with('=')) {
        reads(text, found);
    }
    node.items().iter().for_each(|n| within(n, room, found));
    node.entries()
        .iter()
        .for_each(|(_, _, n)| within(n, room, found));
}

/// `terms.name` and `terms.?name` in an expression.
fn reads<'m>(text: &'m str, found: &mut BTreeSet<Reads<'m>>) {
    let is_part = |c: char| c.is_ascii_alphanumeric() || c == '_';
    for (at, _) in text.match_indices("terms.") {
        if text[..at].ends_with(|c: char| is_part(c) || c == '.') {
            continue;
        }
        let rest = &text[at + "terms.".len()..];
        let (optional, rest) = match rest.strip_prefix('?') {
            Some(rest) => (true, rest),
            None => (false, rest),
        };
        let end = rest.find(|c: char| !is_part(c)).unwrap_or(rest.len());
        if end > 0 {
            let name = &rest[..end];
            found.insert(Reads { name, optional });
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn terms_are_found_wherever_an_expression_reads_them() {
        let mut found = BTreeSet::new();
        reads(
            "=terms.requests + terms.?extra.orValue(1) + path.terms.x + myterms.y",
            &mut found,
        );
        let names: Vec<_> = found.iter().map(|r| (r.name, r.optional)).collect();
        assert_eq!(names, [("extra", true), ("requests", false)]);
    }
}
