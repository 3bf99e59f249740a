//! Paths of a facade that several of its operations have.

use std::collections::BTreeMap;

use porch_contract::{Finding, PathTemplate, Severity};

use super::FacadeCompiler;
use crate::compiled::CompiledOperation;
use crate::route::overlap::clashes;

/// So many pairs are told.
const TOLD: usize = 20;

impl FacadeCompiler<'_> {
    /// Warns of templates that fit the same paths, where neither is more specific: which of them wins is said.
    pub(super) fn overlaps(&mut self, operations: &[CompiledOperation]) {
        let mut by_method: BTreeMap<&str, Vec<(&CompiledOperation, PathTemplate)>> =
            BTreeMap::new();
        for operation in operations {
            if let Ok(template) = PathTemplate::parse(&operation.route.path) {
                let group = by_method.entry(&operation.route.method).or_default();
                group.push((operation, template));
            }
        }
        let mut pairs = Vec::new();
        for group in by_method.values() {
            let templates: Vec<PathTemplate> = group.iter().map(|(_, t)| t.clone()).collect();
            let found = clashes(&templates).into_iter();
            pairs.extend(found.map(|(wins, other)| (group[wins].0, group[other].0)));
        }
        for (wins, other) in pairs.into_iter().take(TOLD) {
            let message = format!(
                "some paths fit both {} of “{}” and {} of “{}”: they go to “{}”",
                other.route.path, other.id, wins.route.path, wins.id, wins.id
            );
            let file = other.place.file.to_string();
            self.findings.push(
                Finding::new(Severity::Warning, &file, other.at, message)
                    .help("fixed text wins over a variable, from left to right; give one of them another path if that is not meant"),
            );
        }
    }
}
