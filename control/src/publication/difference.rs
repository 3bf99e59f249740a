//! How the draft differs from what is served.

use std::collections::{BTreeMap, BTreeSet};

use porch_contract::{Change, Contract};
use porch_facade::Model;
use porch_store::Store;
use serde::Serialize;
use similar::TextDiff;
use utoipa::ToSchema;

use super::content::{ReleasedFacade, Served};
use crate::error::ApiError;

/// How one facade differs between the draft and what is served.
#[derive(Clone, Serialize, ToSchema)]
pub(crate) struct Difference {
    pub(crate) facade: String,
    /// `same`, `changed`, `new` (not served yet) or `gone` (served, but not in the draft).
    pub(crate) status: &'static str,
    /// What changes for callers, the most harmful first.
    pub(crate) changes: Vec<Change>,
    /// Changed files, as unified differences.
    pub(crate) files: BTreeMap<String, String>,
    /// Consumers that called an operation in the last seven days that would break.
    #[serde(default)]
    pub(crate) used_by: Vec<UsedBy>,
}

/// A consumer that uses what changes.
#[derive(Clone, Serialize, ToSchema)]
pub(crate) struct UsedBy {
    operation: String,
    consumer: String,
    calls: i64,
}

/// The contract of a facade that is served.
fn contract_of(facade: &ReleasedFacade) -> Option<Contract> {
    let documents = porch_facade::Documents::read(&facade.files);
    let (_, served) = documents.facades.first()?;
    let (file, text) = porch_facade::contract_file(&facade.files, served)?;
    porch_contract::parse_contract(&file, text).0
}

/// Changed files, as unified differences.
fn changed_files(draft: &ReleasedFacade, served: &ReleasedFacade) -> BTreeMap<String, String> {
    let mut files = BTreeMap::new();
    let names: BTreeSet<&String> = draft.files.keys().chain(served.files.keys()).collect();
    for path in names {
        let text = |of: &ReleasedFacade| of.files.get(path).cloned().unwrap_or_default();
        let (old, new) = (text(served), text(draft));
        if old != new {
            let lines = TextDiff::from_lines(&old, &new)
                .unified_diff()
                .context_radius(2)
                .header("served", "draft")
                .to_string();
            files.insert(path.clone(), lines);
        }
    }
    for (backend, address) in &draft.addresses {
        let was = served.addresses.get(backend);
        if was != Some(address) {
            let was = was.map_or("the backend's own", String::as_str);
            files.insert(
                format!("address of {backend}"),
                format!("-{was}\n+{address}\n"),
            );
        }
    }
    files
}

fn difference(model: &Model, served: &Served, environment: &str, name: &str) -> Difference {
    let draft = ReleasedFacade::take(model, environment, name);
    let released = served.content.facades.get(name);
    let mut difference = Difference {
        facade: name.to_owned(),
        status: "gone",
        changes: Vec::new(),
        files: BTreeMap::new(),
        used_by: Vec::new(),
    };
    match (&draft, released) {
        (Some(d), Some(s)) if *d == **s => difference.status = "same",
        (Some(d), Some(s)) => {
            difference.status = "changed";
            difference.files = changed_files(d, s);
            if let (Some(old), Some(new)) = (contract_of(s), model.contract(name)) {
                difference.changes = porch_contract::compare(&old, new);
            }
        }
        (Some(_), None) => difference.status = "new",
        (None, _) => {}
    }
    difference
}

/// The differences of all facades, between a draft and what is served.
pub(super) fn differences(model: &Model, served: &Served, environment: &str) -> Vec<Difference> {
    let names: BTreeSet<&String> = model
        .documents
        .facades
        .keys()
        .chain(served.content.facades.keys())
        .collect();
    names
        .into_iter()
        .map(|name| difference(model, served, environment, name))
        .collect()
}

/// Adds who uses the operations that would break.
pub(crate) async fn add_users(store: &Store, list: &mut [Difference]) -> Result<(), ApiError> {
    if list.iter().all(|d| {
        d.changes
            .iter()
            .all(|c| c.harm != porch_contract::Harm::Breaks)
    }) {
        return Ok(());
    }
    let week = porch_store::now_ms() / 60_000 - 7 * 24 * 60;
    let usage = Store::add_up(&store.usage_since(week).await?, |r| {
        (r.facade.clone(), r.operation.clone(), r.consumer)
    });
    let names: BTreeMap<i64, String> = store
        .consumers()
        .await?
        .into_iter()
        .map(|c| (c.id, c.name))
        .collect();
    for d in list {
        for ((facade, operation, consumer), total) in &usage {
            let breaks = d
                .changes
                .iter()
                .any(|c| c.harm == porch_contract::Harm::Breaks && c.operation == *operation);
            if *facade == d.facade && breaks {
                let consumer = names
                    .get(consumer)
                    .cloned()
                    .unwrap_or_else(|| "callers without a key".into());
                d.used_by.push(UsedBy {
                    operation: operation.clone(),
                    consumer,
                    calls: total.calls,
                });
            }
        }
        d.used_by.sort_by_key(|u| -u.calls);
    }
    Ok(())
}
