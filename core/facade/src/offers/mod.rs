//! Offers and the portal: what is wrong with them, and what they open.

mod portal;
mod terms;

use std::collections::{BTreeSet, HashMap};

use porch_contract::{Contract, Finding, Severity, Step, suggest};
use serde_json::Value;

pub(crate) use self::portal::of_portal;
use crate::documents::{Audience, OfferDoc, OpensDoc, is_term, is_value_of_term};
use crate::read::{Document, beside};
use crate::{Files, Model, is_role};

/// An agreement has at most so many terms.
const MOST_TERMS: usize = 100;
/// A text that is accepted, and a page of the portal, has at most so many bytes.
pub(crate) const MOST_TEXT: usize = 256 << 10;

/// What a facade offers to be opened: its operations, with their tags.
pub type Tagged = HashMap<String, Vec<String>>;

/// The operations of a contract with their tags (OpenAPI 3.1 §4.8.10).
pub fn tagged(contract: &Contract) -> Tagged {
    let written = contract.written();
    let tags = |id: &str| {
        let tags = written.get(id).and_then(|w| w.operation.get("tags"));
        let tags = tags.and_then(Value::as_array).into_iter().flatten();
        tags.filter_map(|t| t.as_str().map(str::to_owned)).collect()
    };
    let ids = contract.operations.keys();
    ids.map(|id| (id.clone(), tags(id))).collect()
}

impl OpensDoc {
    /// Whether it is the facade whole.
    pub fn is_whole(&self) -> bool {
        self.operations.is_empty() && self.tags.is_empty()
    }
}

impl OfferDoc {
    /// What an agreement opens, as it is kept with it: `sailings` for a facade, `sailings/quoteFare` for one of its operations.
    pub fn openings(&self, of: impl Fn(&str) -> Option<Tagged>) -> Vec<String> {
        let mut all = BTreeSet::new();
        for opens in &self.opens {
            if opens.is_whole() {
                all.insert(opens.facade.clone());
                continue;
            }
            let named = |id: &String| format!("{}/{id}", opens.facade);
            all.extend(opens.operations.iter().map(named));
            if opens.tags.is_empty() {
                continue;
            }
            let known = of(&opens.facade).unwrap_or_default();
            let has = |tags: &[String]| tags.iter().any(|t| opens.tags.contains(t));
            let tagged = known.iter().filter(|(_, tags)| has(tags));
            all.extend(tagged.map(|(id, _)| named(id)));
        }
        // What is open whole needs no parts.
        let whole = |entry: &str| entry.split_once('/').map(|(facade, _)| facade.to_owned());
        let within = |entry: &String| whole(entry).is_some_and(|facade| all.contains(&facade));
        all.iter().filter(|e| !within(e)).cloned().collect()
    }
}

/// What is wrong with one place of a document.
struct Told<'a, T> {
    of: &'a Document<T>,
    findings: Vec<Finding>,
}

impl<'a, T> Told<'a, T> {
    fn new(of: &'a Document<T>) -> Self {
        let findings = Vec::new();
        Self { of, findings }
    }

    /// Whether so much is wrong that more would help nobody; what is near to a name is looked for no more.
    fn is_full(&self) -> bool {
        self.findings.len() >= 100
    }

    fn add(&mut self, severity: Severity, path: &[Step], (message, help): (String, String)) {
        let at = self.of.node.locate(path, false);
        let finding = Finding::new(severity, &self.of.file, at, message).help(help);
        self.findings.push(finding);
    }

    fn error(&mut self, path: &[Step], message: String, help: impl Into<String>) {
        self.add(Severity::Error, path, (message, help.into()));
    }

    /// A file that is named must be there, and short enough to be read by people.
    fn file(&mut self, files: &Files, path: &[Step], name: &str) {
        let name = beside(&self.of.file, name);
        match files.get(&name) {
            Some(text) if text.len() <= MOST_TEXT => {}
            Some(_) => {
                let message = format!("“{name}” is longer than {MOST_TEXT} bytes");
                self.error(path, message, "put a part of it on a page of its own");
            }
            None => {
                let near = suggest(&name, files.keys().map(String::as_str));
                let help = near.map_or_else(String::new, |n| format!("did you mean “{n}”?"));
                self.error(path, format!("there is no file “{name}”"), help);
            }
        }
    }

    /// Roles and accounts that can be some.
    fn who(&mut self, key: &[Step], who: &Audience) {
        let Audience::Some { roles, accounts } = who else {
            return;
        };
        if let Some(role) = roles.iter().find(|r| !is_role(r)) {
            let help = "roles have letters, digits, and . : - _";
            self.error(key, format!("“{role}” is no role"), help);
        }
        let empty = |a: &&String| a.trim().is_empty() || a.chars().any(char::is_control);
        if let Some(account) = accounts.iter().find(empty) {
            let help = "name a team, or somebody by an e-mail address";
            self.error(key, format!("“{account}” is no account"), help);
        }
    }
}

fn key(name: &str) -> Step {
    Step::Key(name.to_owned())
}

/// What is wrong with an offer.
pub(crate) fn of_offer(model: &Model, offer: &Document<OfferDoc>) -> Vec<Finding> {
    let mut told = Told::new(offer);
    let doc = &offer.doc;
    if doc.opens.is_empty() {
        let help = "name at least one facade";
        told.error(&[key("opens")], "this opens nothing".into(), help);
    }
    for (i, opens) in doc.opens.iter().enumerate() {
        of_opening(model, &mut told, i, opens);
    }
    if doc.terms.len() > MOST_TERMS {
        let message = format!("an offer has at most {MOST_TERMS} terms");
        told.error(&[key("terms")], message, "");
    }
    for (name, value) in &doc.terms {
        let help =
            "terms are named as in `requests: 7`, with a whole number, a text, or true or false";
        let path = [key("terms"), key(name)];
        if !is_term(name) {
            told.error(&path, format!("“{name}” is no name of a term"), help);
        } else if !is_value_of_term(value) {
            told.error(
                &path,
                format!("this is no value of the term “{name}”"),
                help,
            );
        }
    }
    told.who(&[key("see")], &doc.see);
    told.who(&[key("ask")], &doc.ask);
    if doc.ask == Audience::Everyone {
        let help = "an agreement is somebody's: write signed-in, or name roles or accounts";
        told.error(&[key("ask")], "visitors cannot ask".into(), help);
    }
    if doc.lasts.is_none() && doc.renewed != crate::documents::Renewing::default() {
        let message = "what does not end is not renewed".to_owned();
        told.error(&[key("renewed")], message, "say how long it `lasts`");
    }
    let hour = std::time::Duration::from_secs(3600);
    if doc.lasts.is_some_and(|span| span.0 < hour) {
        let message = "an agreement lasts at least an hour".to_owned();
        told.error(&[key("lasts")], message, "what is shorter is a limit");
    }
    if let Some(accept) = &doc.accept {
        told.file(&model.files, &[key("accept"), key("text")], &accept.text);
        if accept.version.trim().is_empty() || accept.version.len() > 100 {
            let help = "a date or a number will do";
            told.error(
                &[key("accept"), key("version")],
                "this is no version".into(),
                help,
            );
        }
    }
    terms::compare(model, &mut told);
    told.findings
}

fn of_opening(model: &Model, told: &mut Told<'_, OfferDoc>, i: usize, opens: &OpensDoc) {
    let at = |name: &str| [key("opens"), Step::Index(i), key(name)];
    let documents = &model.documents;
    if !documents.facades.contains_key(&opens.facade) {
        if told.is_full() || documents.may_hold("facade/1", Some(&opens.facade)) {
            return;
        }
        let near = suggest(&opens.facade, documents.facades.keys().map(String::as_str));
        let help = near.map_or_else(String::new, |n| format!("did you mean “{n}”?"));
        let message = format!("there is no facade “{}”", opens.facade);
        told.error(&at("facade"), message, help);
        return;
    }
    let Some(contract) = model.contract(&opens.facade) else {
        return;
    };
    let known = tagged(contract);
    asks_for_nothing(model, told, i, opens);
    for (j, id) in opens.operations.iter().enumerate() {
        if !known.contains_key(id) && !told.is_full() {
            let path = [
                key("opens"),
                Step::Index(i),
                key("operations"),
                Step::Index(j),
            ];
            let near = suggest(id, known.keys().map(String::as_str));
            let help = near.map_or_else(String::new, |n| format!("did you mean “{n}”?"));
            let message = format!("{} has no operation “{id}”", opens.facade);
            told.error(&path, message, help);
        }
    }
    let tags: BTreeSet<&str> = known.values().flatten().map(String::as_str).collect();
    for (j, tag) in opens.tags.iter().enumerate() {
        if !tags.contains(tag.as_str()) && !told.is_full() {
            let path = [key("opens"), Step::Index(i), key("tags"), Step::Index(j)];
            let near = suggest(tag, tags.iter().copied());
            let help = match near {
                Some(near) => format!("did you mean “{near}”?"),
                None if tags.is_empty() => "its contract gives no operation a tag".to_owned(),
                None => String::new(),
            };
            let message = format!("no operation of {} has the tag “{tag}”", opens.facade);
            told.error(&path, message, help);
        }
    }
}

/// Tells where an agreement opens nothing, because nobody is asked for a credential.
fn asks_for_nothing(model: &Model, told: &mut Told<'_, OfferDoc>, i: usize, opens: &OpensDoc) {
    let found = model.found(&opens.facade);
    let Some(compiled) = found.as_ref().and_then(|f| f.compiled.as_ref()) else {
        return;
    };
    let asks = |o: &crate::CompiledOperation| !o.admission.credentials.rules.is_empty();
    if compiled.operations.is_empty() || compiled.operations.iter().any(asks) {
        return;
    }
    let message = format!(
        "{} asks nobody for a credential: whoever calls it needs no agreement",
        opens.facade
    );
    let help = "say `credentials:` in the facade, or leave it out of the offer".to_owned();
    let path = [key("opens"), Step::Index(i), key("facade")];
    told.add(Severity::Warning, &path, (message, help));
}
