//! What a release tells those who call: what was changed for them, kept by facade, and told to the teams that use it.

use std::collections::{BTreeMap, BTreeSet};

use porch_contract::{Change as Changed, Harm};
use porch_facade::{Day, FacadeDoc, Library};
use porch_store::{Change, NewHistory, NewMessage};
use serde_json::json;

use super::content::{Content, ReleasedFacade};
use super::difference::{Difference, to_other};
use crate::error::ApiError;

/// So many changes of a facade are written out in a message.
const MOST: usize = 20;
/// So many changes of a facade are kept of a release.
const KEPT: usize = 200;

/// What a release changes for those who call.
pub(super) struct Telling {
    changed: Vec<Facade>,
}

/// A facade that is changed.
struct Facade {
    difference: Difference,
    version: String,
    /// Those that it has, or had where it is gone.
    operations: Vec<String>,
}

/// The dates of a facade's operations that differ, in words.
pub(super) fn dates(
    old: Option<&FacadeDoc>,
    new: &FacadeDoc,
    ids: &BTreeSet<&str>,
) -> Vec<Changed> {
    let mut changes = Vec::new();
    for id in ids {
        let was = old.map_or((None, None), |d| d.dates_of(id));
        let is = new.dates_of(id);
        let mut add = |what: String| {
            changes.push(Changed {
                harm: Harm::Tells,
                operation: (*id).to_owned(),
                what,
            });
        };
        let told = |word: &str, was: Option<Day>, is: Option<Day>| match (was, is) {
            (was, Some(day)) if was != Some(day) => Some(format!("{word} from {day}")),
            (Some(day), None) => Some(format!("not {word} from {day} any more")),
            _ => None,
        };
        if let Some(what) = told("deprecated", was.0, is.0) {
            add(what);
        }
        if let Some(what) = told("gone", was.1, is.1) {
            add(what);
        }
    }
    changes
}

/// The dates that differ between two releases of a facade.
fn dates_between(
    old: Option<&ReleasedFacade>,
    new: Option<&ReleasedFacade>,
    library: &Library,
) -> Vec<Changed> {
    let read = |of: &ReleasedFacade| library.released(&of.files);
    let Some((new, contract)) = new.and_then(read) else {
        return Vec::new();
    };
    let old = old.and_then(read);
    let ids = contract.contract.iter().flat_map(|c| c.operations.keys());
    let ids = ids.map(String::as_str).collect();
    dates(old.as_ref().map(|(d, _)| &d.doc), &new.doc, &ids)
}

impl Telling {
    /// From what is served to what will be.
    pub(super) fn of(served: &Content, next: &Content, library: &Library) -> Self {
        let mut changed = Vec::new();
        for mut difference in to_other(served, next, "release", library) {
            if difference.status == "same" {
                continue;
            }
            let name = &difference.facade;
            let (old, new) = (served.facades.get(name), next.facades.get(name));
            let dates = dates_between(old.map(|f| &**f), new.map(|f| &**f), library);
            difference.changes.extend(dates);
            let read = new.or(old).and_then(|f| library.released(&f.files));
            let contract = read.as_ref().and_then(|(_, r)| r.contract.as_ref());
            let operations = contract.iter().flat_map(|c| c.operations.keys());
            changed.push(Facade {
                operations: operations.cloned().collect(),
                version: contract.map_or_else(String::new, |c| c.version.clone()),
                difference,
            });
        }
        Self { changed }
    }

    /// Keeps what is changed, and tells those who use it.
    pub(super) async fn tell(
        &self,
        change: &Change,
        environment: &str,
        release: i64,
    ) -> Result<(), ApiError> {
        let rows = self.changed.iter().map(|f| NewHistory {
            facade: &f.difference.facade,
            version: &f.version,
            status: f.difference.status,
            changes: f
                .difference
                .changes
                .iter()
                .take(KEPT)
                .map(|c| json!(c))
                .collect(),
        });
        let rows: Vec<NewHistory<'_>> = rows.collect();
        change.keep_history(environment, release, &rows).await?;
        for facade in &self.changed {
            if facade.difference.status == "new" {
                continue;
            }
            tell_users(change, facade, ("break", "has changed"), |c| {
                c.harm == Harm::Breaks
            })
            .await?;
            let kind = ("deprecation", "is deprecated in part");
            tell_users(change, facade, kind, |c| {
                c.what == "is deprecated" || c.what.starts_with("deprecated from")
            })
            .await?;
            let kind = ("sunset", "will be gone in part");
            tell_users(change, facade, kind, |c| c.what.starts_with("gone from")).await?;
        }
        Ok(())
    }
}

/// Tells the teams that use an operation which a change is about.
async fn tell_users(
    change: &Change,
    of: &Facade,
    (kind, words): (&str, &str),
    is_meant: impl Fn(&Changed) -> bool,
) -> Result<(), ApiError> {
    let (facade, difference) = (&of.difference.facade, &of.difference);
    let mut meant: BTreeMap<String, Vec<&Changed>> = BTreeMap::new();
    for one in difference.changes.iter().filter(|c| is_meant(c)) {
        meant.entry(one.operation.clone()).or_default().push(one);
    }
    if meant.is_empty() {
        return Ok(());
    }
    // What is about the whole is about each operation that somebody has agreed to.
    let whole = meant.contains_key("");
    let all = of.operations.iter().filter(|_| whole);
    let ids = meant.keys().chain(all).map(String::as_str);
    for (team, opened) in change.teams_that_use(facade, ids).await? {
        let whole = opened.contains(facade);
        let own = meant
            .iter()
            .filter(|(id, _)| whole || id.is_empty() || opened.contains(&format!("{facade}/{id}")));
        let lines: Vec<String> = own
            .flat_map(|(id, all)| {
                all.iter().map(move |c| match id.as_str() {
                    "" => format!("- {}", c.what),
                    id => format!("- {id}: {}", c.what),
                })
            })
            .collect();
        let more = match lines.len().saturating_sub(MOST) {
            0 => String::new(),
            n => format!("\n- and {n} more"),
        };
        let text = lines[..lines.len().min(MOST)].join("\n") + &more;
        let told = NewMessage {
            kind,
            team: Some(team),
            subject: &format!("{facade} {words}"),
            text: &text,
            detail: json!({ "facade": facade, "changes": lines.len() }),
        };
        change.tell(&told).await?;
    }
    Ok(())
}
