//! Very many grants, packed: a vector of them, and an index of positions by hash.

use hashbrown::HashTable;

use super::Grant;
use crate::key::KeyHash;

/// Grants by the hash of their credential; what is looked up costs one step in the index and one in the vector.
#[derive(Clone, Debug, Default)]
pub(super) struct Table {
    index: HashTable<u32>,
    entries: Vec<(KeyHash, Grant)>,
}

/// A hash is as good as any hash of it.
fn spread(hash: &KeyHash) -> u64 {
    hash.0
        .first_chunk()
        .map_or(0, |first| u64::from_le_bytes(*first))
}

impl Table {
    /// Adds one, or puts it in the place of the one that is there.
    pub(super) fn put(&mut self, hash: KeyHash, grant: Grant) {
        let Self { index, entries } = self;
        let found = index.find(spread(&hash), |at| entries[*at as usize].0 == hash);
        match (found, u32::try_from(entries.len())) {
            (Some(at), _) => entries[*at as usize].1 = grant,
            (None, Ok(at)) => {
                entries.push((hash, grant));
                index.insert_unique(spread(&hash), at, |at| spread(&entries[*at as usize].0));
            }
            // Four thousand million of them: more than the memory of any machine that serves calls.
            (None, Err(_)) => {}
        }
    }

    #[inline]
    pub(super) fn get(&self, hash: &KeyHash) -> Option<&Grant> {
        let same = |at: &u32| self.entries[*at as usize].0 == *hash;
        let at = self.index.find(spread(hash), same)?;
        Some(&self.entries[*at as usize].1)
    }

    pub(super) fn iter(&self) -> impl Iterator<Item = &(KeyHash, Grant)> {
        self.entries.iter()
    }

    pub(super) fn len(&self) -> usize {
        self.entries.len()
    }

    pub(super) fn shrink(&mut self) {
        self.entries.shrink_to_fit();
    }
}
