//! How the draft differs from what is served.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use porch_contract::{Change, Harm};
use porch_facade::{Files, Library, Model, ReadContract};
use porch_store::Store;
use serde::Serialize;
use similar::TextDiff;
use utoipa::ToSchema;

use super::content::{Content, ReleasedFacade, Served};
use super::telling::dates;
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
    /// Changed files that other facades stand on too.
    #[serde(default)]
    pub(crate) shared: Vec<SharedFile>,
    /// Consumers that called an operation in the last seven days that would break, or would be gone.
    #[serde(default)]
    pub(crate) used_by: Vec<UsedBy>,
}

/// A changed file that several facades stand on.
#[derive(Clone, Serialize, ToSchema)]
pub(crate) struct SharedFile {
    file: String,
    /// The other facades that it changes.
    facades: Vec<String>,
}

/// A consumer that uses what changes.
#[derive(Clone, Serialize, ToSchema)]
pub(crate) struct UsedBy {
    operation: String,
    consumer: String,
    calls: i64,
}

/// What changes for callers between two contracts; nothing when they are the same one.
fn changes(old: Option<&Arc<ReadContract>>, new: Option<&Arc<ReadContract>>) -> Vec<Change> {
    let (Some(old), Some(new)) = (old, new) else {
        return Vec::new();
    };
    match (&old.contract, &new.contract) {
        (Some(a), Some(b)) if !Arc::ptr_eq(old, new) => porch_contract::compare(a, b),
        _ => Vec::new(),
    }
}

/// Changed texts, as unified differences.
pub(super) fn changed_texts(served: &Files, new: &Files, called: &str) -> BTreeMap<String, String> {
    let mut files = BTreeMap::new();
    let names: BTreeSet<&String> = new.keys().chain(served.keys()).collect();
    for path in names {
        let text = |of: &Files| of.get(path).cloned().unwrap_or_default();
        let (old, new) = (text(served), text(new));
        if old != new {
            let lines = TextDiff::from_lines(&old, &new)
                .unified_diff()
                .context_radius(2)
                .header("served", called)
                .to_string();
            files.insert(path.clone(), lines);
        }
    }
    files
}

/// Changed files and addresses, as unified differences.
fn changed_files(
    new: &ReleasedFacade,
    served: &ReleasedFacade,
    called: &str,
) -> BTreeMap<String, String> {
    let mut files = changed_texts(&served.files, &new.files, called);
    for (backend, address) in &new.addresses {
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
    let released = served.content.facades.get(name).map(Arc::as_ref);
    let mut difference = Difference::between(name, released, draft.as_ref(), "draft");
    if let Some(old) = released.filter(|_| difference.status == "changed") {
        // The draft's first: what is served is the same one in most cases.
        let new = model.shared_contract(name);
        let old = model.library.released(&old.files).map(|(_, c)| c);
        difference.changes = changes(old.as_ref(), new.as_ref());
    }
    if difference.status == "changed" {
        difference.add_dates(model, released);
    }
    difference
}

impl Difference {
    /// From what is served to something else, but for what callers see of it.
    fn between(
        name: &str,
        served: Option<&ReleasedFacade>,
        new: Option<&ReleasedFacade>,
        called: &str,
    ) -> Self {
        let mut difference = Self {
            facade: name.to_owned(),
            status: "same",
            changes: Vec::new(),
            files: BTreeMap::new(),
            shared: Vec::new(),
            used_by: Vec::new(),
        };
        match (served, new) {
            (Some(s), Some(n)) if s == n => {}
            (Some(s), Some(n)) => {
                difference.status = "changed";
                difference.files = changed_files(n, s, called);
            }
            (None, _) => difference.status = "new",
            (Some(_), None) => {
                difference.status = "gone";
                difference.changes.push(Change {
                    harm: Harm::Breaks,
                    operation: String::new(),
                    what: "the whole facade is gone: its callers get 404".into(),
                });
            }
        }
        difference
    }

    /// Adds from when operations of the draft are deprecated or gone, where that is said otherwise than in what is served.
    fn add_dates(&mut self, model: &Model, released: Option<&ReleasedFacade>) {
        let (Some(old), Some(draft)) = (released, model.documents.facades.get(&self.facade)) else {
            return;
        };
        let Some((old, contract)) = model.library.released(&old.files) else {
            return;
        };
        let ids = contract.contract.iter().flat_map(|c| c.operations.keys());
        let ids = ids.map(String::as_str).collect();
        self.changes.extend(dates(Some(&old.doc), &draft.doc, &ids));
    }

    /// Whether a change of this kind breaks the callers of an operation.
    fn breaks(&self, operation: &str) -> bool {
        let harmful = self.changes.iter().filter(|c| c.harm == Harm::Breaks);
        let mut ids = harmful.map(|c| c.operation.as_str());
        ids.any(|id| id == operation || (id.is_empty() && self.status == "gone"))
    }
}

/// What serving other content in place of the served one would change, facade by facade.
pub(super) fn to_other(
    served: &Content,
    other: &Content,
    called: &str,
    library: &Library,
) -> Vec<Difference> {
    let names: BTreeSet<&String> = served.facades.keys().chain(other.facades.keys()).collect();
    let of = |name: &String| {
        let one = |content: &Content| content.facades.get(name).cloned();
        let (old, new) = (one(served), one(other));
        let mut difference = Difference::between(name, old.as_deref(), new.as_deref(), called);
        if let (Some(old), Some(new)) = (&old, &new)
            && old != new
        {
            let contract = |of: &ReleasedFacade| library.released(&of.files).map(|(_, c)| c);
            let (old, new) = (contract(old), contract(new));
            difference.changes = changes(old.as_ref(), new.as_ref());
        }
        difference
    };
    with_shared(names.into_iter().map(of).collect())
}

/// Says of each file that changes several facades which others it changes.
fn with_shared(mut list: Vec<Difference>) -> Vec<Difference> {
    let mut by_file: BTreeMap<String, Vec<String>> = BTreeMap::new();
    for d in &list {
        for file in d.files.keys() {
            by_file
                .entry(file.clone())
                .or_default()
                .push(d.facade.clone());
        }
    }
    by_file.retain(|_, facades| facades.len() > 1);
    for d in &mut list {
        let changed = d.files.keys().filter_map(|f| by_file.get_key_value(f));
        let shared = changed.map(|(file, facades)| SharedFile {
            file: file.clone(),
            facades: facades
                .iter()
                .filter(|f| **f != d.facade)
                .cloned()
                .collect(),
        });
        d.shared = shared.collect();
    }
    list
}

/// The differences of all facades, between a draft and what is served.
pub(super) fn differences(model: &Model, served: &Served, environment: &str) -> Vec<Difference> {
    let names: BTreeSet<&String> = model
        .documents
        .facades
        .keys()
        .chain(served.content.facades.keys())
        .collect();
    let all = names.into_iter();
    let all = all.map(|name| difference(model, served, environment, name));
    with_shared(all.collect())
}

/// Adds who uses the operations that would break.
pub(crate) async fn add_users(store: &Store, list: &mut [Difference]) -> Result<(), ApiError> {
    let harmless = |d: &Difference| d.changes.iter().all(|c| c.harm != Harm::Breaks);
    if list.iter().all(harmless) {
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
            if *facade == d.facade && d.breaks(operation) {
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
