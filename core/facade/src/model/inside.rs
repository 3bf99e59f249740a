//! Facades that stand on other facades of the porch.

use std::collections::{HashMap, HashSet};

use porch_contract::{Finding, suggest};

use super::Model;
use crate::Document;
use crate::compile::facade_of;
use crate::compiled::circles;
use crate::documents::FacadeDoc;

impl Model {
    /// A facade and those that it stands on, itself first.
    pub fn stands_on(&self, name: &str) -> Vec<String> {
        let mut all = vec![name.to_owned()];
        let mut seen: HashSet<String> = all.iter().cloned().collect();
        let mut next = 0;
        while next < all.len() {
            for below in self.below(&all[next]) {
                if seen.insert(below.clone()) {
                    all.push(below);
                }
            }
            next += 1;
        }
        all
    }

    /// The facades that a facade stands on by itself.
    fn below(&self, name: &str) -> Vec<String> {
        let facade = self.documents.facades.get(name);
        let backends = facade.into_iter().flat_map(|f| self.inside(f));
        backends.map(|(_, target)| target).collect()
    }

    /// Backends of a facade that are facades, each with the name of that.
    fn inside<'m>(
        &'m self,
        facade: &'m Document<FacadeDoc>,
    ) -> impl Iterator<Item = (&'m str, String)> {
        let here = self.environment.as_ref();
        self.backends_of(facade).filter_map(move |backend| {
            let name = backend.doc.name.as_str();
            let place = here.and_then(|e| e.backends.get(name)).map(|p| &p.address);
            let address = place.or(backend.doc.address.as_ref())?.first()?;
            Some((name, facade_of(address)?.to_owned()))
        })
    }

    /// What is wrong with facades that stand on others: those that are not there, and circles.
    pub(super) fn wrong_inside(&self) -> Vec<Finding> {
        let mut findings = Vec::new();
        let facades = &self.documents.facades;
        let mut all: HashMap<&str, Vec<String>> = HashMap::new();
        for (name, facade) in facades {
            let mut below = Vec::new();
            for (backend, target) in self.inside(facade) {
                if !facades.contains_key(&target) {
                    if self.documents.may_hold("facade/1", Some(&target)) {
                        continue;
                    }
                    let document = &self.documents.backends[backend];
                    let message =
                        format!("there is no facade “{target}” that “{backend}” could be");
                    let near = suggest(&target, facades.keys().map(String::as_str));
                    let help = near.map_or_else(String::new, |n| format!("did you mean “{n}”?"));
                    let finding = Finding::error(&document.file, document.node.at, message);
                    findings.push(finding.help(help));
                    continue;
                }
                below.push(target);
            }
            if !below.is_empty() {
                all.insert(name, below);
            }
        }
        let names = facades.keys().map(String::as_str);
        for name in names.filter(|n| all.contains_key(n) && circles(n, &all)) {
            let facade = &facades[name];
            let message = format!("the facade “{name}” stands on itself, by way of its backends");
            findings.push(Finding::error(&facade.file, facade.node.at, message));
        }
        findings
    }
}
