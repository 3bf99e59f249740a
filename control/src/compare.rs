//! How the draft differs from what is served.

use std::collections::BTreeMap;

use porch_contract::Change;
use porch_facade::{Documents, Files};
use porch_store::Store;
use serde::Serialize;
use similar::TextDiff;
use utoipa::ToSchema;

use crate::app::App;
use crate::error::ApiError;
use crate::served::{ReleasedFacade, take};

/// How one facade differs between the draft and what is served.
#[derive(Clone, Serialize, ToSchema)]
pub(crate) struct Difference {
    pub(crate) facade: String,
    /// `same`, `changed`, `new` (not served yet) or `gone` (served, but not in the draft).
    pub(crate) status: &'static str,
    /// What changes for callers, the most harmful first.
    #[schema(value_type = Vec<Object>)]
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

fn contract_of(facade: &ReleasedFacade) -> Option<porch_contract::Contract> {
    let documents = Documents::read(&facade.files);
    let (name, _) = documents.facades.first()?;
    porch_facade::contract(&facade.files, &documents, name)
}

fn difference(
    name: &str,
    draft: Option<&ReleasedFacade>,
    served: Option<&ReleasedFacade>,
) -> Difference {
    let status = match (draft, served) {
        (Some(d), Some(s)) if d == s => "same",
        (Some(_), Some(_)) => "changed",
        (Some(_), None) => "new",
        _ => "gone",
    };
    let mut files = BTreeMap::new();
    let mut changes = Vec::new();
    if status == "changed" {
        let nothing = ReleasedFacade::default();
        let (d, s) = (draft.unwrap_or(&nothing), served.unwrap_or(&nothing));
        let names: std::collections::BTreeSet<&String> =
            d.files.keys().chain(s.files.keys()).collect();
        for path in names {
            let (old, new) = (
                s.files.get(path).map_or("", String::as_str),
                d.files.get(path).map_or("", String::as_str),
            );
            if old != new {
                files.insert(
                    path.clone(),
                    TextDiff::from_lines(old, new)
                        .unified_diff()
                        .context_radius(2)
                        .header("served", "draft")
                        .to_string(),
                );
            }
        }
        for (backend, address) in &d.addresses {
            if s.addresses.get(backend) != Some(address) {
                let was = s
                    .addresses
                    .get(backend)
                    .map_or("the backend's own", String::as_str);
                files.insert(
                    format!("address of {backend}"),
                    format!("-{was}\n+{address}\n"),
                );
            }
        }
        if let (Some(old), Some(new)) = (contract_of(s), contract_of(d)) {
            changes = porch_contract::compare(&old, &new);
        }
    }
    Difference {
        facade: name.to_owned(),
        status,
        changes,
        files,
        used_by: Vec::new(),
    }
}

/// The differences of all facades, between these files and what is served.
pub(crate) fn differences(app: &App, files: &Files) -> Vec<Difference> {
    let documents = Documents::read(files);
    let served = app.served.load();
    let names: std::collections::BTreeSet<&String> = documents
        .facades
        .keys()
        .chain(served.content.facades.keys())
        .collect();
    names
        .into_iter()
        .map(|name| {
            let draft = take(files, &documents, &app.config.environment, name);
            difference(name, draft.as_ref(), served.content.facades.get(name))
        })
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
