//! What copies of calls to other backends gave: added up by minute until it is written, and read again.

use std::collections::{BTreeMap, HashMap, HashSet};

use porch_gateway::CopyRow;
use porch_store::entity::copies;
use sea_orm::Set;

use super::{Observatory, minute};
use crate::error::ApiError;

/// Sums that wait for the database, at most.
const MAX_SUMS: usize = 50_000;
/// Letters of what is told that are kept.
const TOLD: usize = 1_000;

/// Minute, facade, operation, backend.
type Key = (i64, String, String, String);

/// What waits to be written.
#[derive(Default)]
pub(super) struct Copies {
    minutes: HashMap<Key, CopyRow>,
    dirty: HashSet<Key>,
}

/// What is written in one go.
pub(super) struct CopiesOf {
    keys: Vec<Key>,
    pub(super) models: Vec<copies::ActiveModel>,
}

impl Copies {
    pub(super) fn add(&mut self, row: CopyRow, minute: i64) {
        let key = (
            minute,
            row.facade.clone(),
            row.operation.clone(),
            row.backend.clone(),
        );
        let is_full = self.minutes.len() >= MAX_SUMS;
        match self.minutes.get_mut(&key) {
            Some(sum) => sum.add(&row),
            None if is_full => return,
            None => drop(self.minutes.insert(key.clone(), row)),
        }
        self.dirty.insert(key);
    }

    pub(super) fn batch(&mut self, boot: i64) -> CopiesOf {
        let keys: Vec<Key> = self.dirty.drain().collect();
        let rows = keys.iter().filter_map(|k| Some((k, self.minutes.get(k)?)));
        CopiesOf {
            models: rows.map(|(k, row)| model(k, row, boot)).collect(),
            keys,
        }
    }

    /// What was not written waits again.
    pub(super) fn again(&mut self, batch: CopiesOf) {
        self.dirty.extend(batch.keys);
    }

    /// Lets go of what was written and gets no more.
    pub(super) fn forget(&mut self, now: i64) {
        let dirty = &self.dirty;
        self.minutes
            .retain(|k, _| k.0 + 2 > now || dirty.contains(k));
    }
}

fn model(key: &Key, row: &CopyRow, boot: i64) -> copies::ActiveModel {
    let number = |n: u64| Set(i64::try_from(n).unwrap_or(i64::MAX));
    // PostgreSQL's texts hold no NUL.
    let told = row.told.replace('\0', "\u{fffd}");
    copies::ActiveModel {
        minute: Set(key.0),
        facade: Set(key.1.clone()),
        operation: Set(key.2.clone()),
        backend: Set(key.3.clone()),
        boot: Set(boot),
        same: number(row.same),
        different: number(row.different),
        failed: number(row.failed),
        left_out: number(row.left_out),
        us: number(row.us),
        copies_us: number(row.copies_us),
        told: Set(told.chars().take(TOLD).collect()),
    }
}

impl Observatory {
    /// What copies gave in the last minutes, by facade, operation and backend.
    pub(crate) async fn copies(&self, minutes: i64) -> Result<Vec<CopyRow>, ApiError> {
        let store = self.database.store()?;
        let rows = store.copies_since(minute() - minutes).await?;
        let mut sums: BTreeMap<(String, String, String), CopyRow> = BTreeMap::new();
        for row in rows {
            let number = |n: i64| u64::try_from(n).unwrap_or(0);
            let row = CopyRow {
                facade: row.facade,
                operation: row.operation,
                backend: row.backend,
                same: number(row.same),
                different: number(row.different),
                failed: number(row.failed),
                left_out: number(row.left_out),
                us: number(row.us),
                copies_us: number(row.copies_us),
                told: row.told,
            };
            let key = (
                row.facade.clone(),
                row.operation.clone(),
                row.backend.clone(),
            );
            match sums.get_mut(&key) {
                Some(sum) => sum.add(&row),
                None => drop(sums.insert(key, row)),
            }
        }
        Ok(sums.into_values().collect())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn row(same: u64, told: &str) -> CopyRow {
        CopyRow {
            facade: "timetable".into(),
            operation: "departures".into(),
            backend: "timetable-next".into(),
            same,
            told: told.into(),
            ..CopyRow::default()
        }
    }

    #[test]
    fn copies_are_added_up_by_minute_and_wait_again_when_they_were_not_written() {
        let mut copies = Copies::default();
        copies.add(row(1, "one"), 7);
        copies.add(row(2, ""), 7);
        copies.add(row(4, "\0two"), 8);
        let batch = copies.batch(1);
        assert_eq!(batch.models.len(), 2);
        assert!(copies.batch(1).models.is_empty());
        copies.again(batch);
        copies.forget(100);
        let mut all: Vec<(i64, i64, String)> = copies
            .batch(1)
            .models
            .into_iter()
            .map(|m| (m.minute.unwrap(), m.same.unwrap(), m.told.unwrap()))
            .collect();
        all.sort();
        assert_eq!(all, [(7, 3, "one".into()), (8, 4, "\u{fffd}two".into())]);
        copies.forget(100);
        copies.add(row(1, ""), 100);
        assert_eq!(copies.minutes.len(), 1);
    }
}
