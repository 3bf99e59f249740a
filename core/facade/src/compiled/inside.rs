//! Facades that stand on other facades, as they are served.

use std::collections::{HashMap, HashSet};

use porch_contract::{Finding, Severity};

use super::CompiledPorch;

impl CompiledPorch {
    /// What is wrong with facades that stand on others: circles are errors, and a facade that is not served is told.
    pub fn inside(&self) -> Vec<Finding> {
        let mut all: HashMap<&str, Vec<String>> = HashMap::new();
        for facade in &self.facades {
            let below: Vec<String> = facade
                .backends
                .iter()
                .filter_map(|b| b.inside().map(str::to_owned))
                .collect();
            if !below.is_empty() {
                all.insert(&facade.name, below);
            }
        }
        let served: HashSet<&str> = match all.is_empty() {
            true => HashSet::new(),
            false => self.facades.iter().map(|f| f.name.as_str()).collect(),
        };
        let mut findings = Vec::new();
        let mut names: Vec<&str> = all.keys().copied().collect();
        names.sort_unstable();
        for name in names {
            let tell = |severity, message| Finding::new(severity, "", Default::default(), message);
            for below in all[name].iter().filter(|b| !served.contains(b.as_str())) {
                let message = format!(
                    "“{name}” stands on the facade “{below}”, which is not served: its calls get 502"
                );
                findings.push(tell(Severity::Warning, message).help("release it as well"));
            }
            if circles(name, &all) {
                let message =
                    format!("the facade “{name}” stands on itself, by way of its backends");
                findings.push(tell(Severity::Error, message));
            }
        }
        findings
    }
}

/// Whether a facade is among those that it stands on.
pub(crate) fn circles(name: &str, all: &HashMap<&str, Vec<String>>) -> bool {
    let mut seen = HashSet::new();
    let mut open: Vec<&str> = vec![name];
    while let Some(one) = open.pop() {
        for below in all.get(one).into_iter().flatten() {
            if below == name {
                return true;
            }
            if seen.insert(below.as_str()) {
                open.push(below);
            }
        }
    }
    false
}
