//! Grants: who calls, as it follows from what was shown.
//!
//! The table that the data plane looks them up in never blocks a reader: it is an immutable value; changes go into a small
//! overlay that is copied, one entry at a time, and the overlay is folded into the large table when it has grown.

use std::collections::HashMap;
use std::hash::{BuildHasherDefault, Hasher};
use std::sync::Arc;

use crate::key::KeyHash;

/// A consumer as the data plane knows it.
#[derive(Debug)]
pub struct Consumer {
    /// Number in the store.
    pub id: i64,
    /// Name.
    pub name: String,
    /// The account that looks after it.
    pub account: String,
    /// Whether it is paused.
    pub paused: bool,
}

/// What follows from a credential: who calls, and what was shown.
#[derive(Clone, Debug)]
pub struct Grant {
    /// Whose it is.
    pub consumer: Arc<Consumer>,
    /// What the credential that was shown is known by.
    pub shown: Arc<str>,
    /// When it ends, in seconds since 1970; `i64::MAX`: never.
    pub ends: i64,
    /// Whether it is paused.
    pub paused: bool,
    /// The facades that it opens; none: every one.
    pub facades: Option<Arc<[String]>>,
}

impl Grant {
    /// Whether it opens a facade.
    #[inline]
    pub fn opens(&self, facade: &str) -> bool {
        self.facades
            .as_ref()
            .is_none_or(|all| all.iter().any(|f| f == facade))
    }
}

/// Why a credential does not open the door.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Refused {
    /// Nobody has it.
    Unknown,
    /// It has ended.
    Ended,
    /// It is paused, or its consumer is.
    Paused,
}

/// Hash keys are hashes already.
#[derive(Clone, Default)]
pub struct TakeAsIs(u64);

impl Hasher for TakeAsIs {
    fn finish(&self) -> u64 {
        self.0
    }
    fn write(&mut self, bytes: &[u8]) {
        if let Some(first) = bytes.first_chunk::<8>() {
            self.0 = u64::from_le_bytes(*first);
        }
    }
    fn write_usize(&mut self, _: usize) {}
}

type Table<V> = HashMap<[u8; 32], V, BuildHasherDefault<TakeAsIs>>;

/// All grants by the hash of the credential that they follow from, to be looked up without a lock. Cloning is cheap.
#[derive(Clone, Debug, Default)]
pub struct Grants {
    base: Arc<Table<Grant>>,
    overlay: Arc<Table<Option<Grant>>>,
}

const OVERLAY: usize = 512;

impl Grants {
    /// A table of these.
    pub fn new(grants: impl IntoIterator<Item = (KeyHash, Grant)>) -> Self {
        Self {
            base: Arc::new(grants.into_iter().map(|(h, e)| (h.0, e)).collect()),
            overlay: Arc::default(),
        }
    }

    /// The same table with one grant added, changed or (with `None`) removed.
    #[must_use]
    pub fn with(&self, hash: KeyHash, entry: Option<Grant>) -> Self {
        let mut overlay = (*self.overlay).clone();
        overlay.insert(hash.0, entry);
        if overlay.len() < OVERLAY {
            return Self {
                base: self.base.clone(),
                overlay: Arc::new(overlay),
            };
        }
        let mut base = (*self.base).clone();
        for (hash, entry) in overlay {
            match entry {
                Some(entry) => drop(base.insert(hash, entry)),
                None => drop(base.remove(&hash)),
            }
        }
        Self {
            base: Arc::new(base),
            overlay: Arc::default(),
        }
    }

    /// How many there are, about: changes still in the overlay count too.
    pub fn len(&self) -> usize {
        self.base.len() + self.overlay.len()
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The grant of a key that is good now.
    ///
    /// # Errors
    /// Why it is not.
    pub fn check(&self, key: &str, now: i64) -> Result<&Grant, Refused> {
        let hash = KeyHash::of(key);
        let found = match if self.overlay.is_empty() {
            None
        } else {
            self.overlay.get(&hash.0)
        } {
            Some(changed) => changed.as_ref(),
            None => self.base.get(&hash.0),
        };
        let entry = found.ok_or(Refused::Unknown)?;
        if entry.ends <= now {
            return Err(Refused::Ended);
        }
        if entry.paused || entry.consumer.paused {
            return Err(Refused::Paused);
        }
        Ok(entry)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn entry(name: &str, ends: i64, paused: bool) -> Grant {
        Grant {
            consumer: Arc::new(Consumer {
                id: 1,
                name: name.into(),
                account: String::new(),
                paused: false,
            }),
            shown: "p".into(),
            ends,
            paused,
            facades: None,
        }
    }

    #[test]
    fn changes_are_seen_before_and_after_the_overlay_is_folded() {
        let mut table = Grants::new((0..1000).map(|i| {
            (
                KeyHash::of(&format!("k{i}")),
                entry("base", i64::MAX, false),
            )
        }));
        table = table
            .with(KeyHash::of("k1"), None)
            .with(KeyHash::of("k2"), Some(entry("base", 100, false)))
            .with(KeyHash::of("k3"), Some(entry("base", 100, true)));
        for round in 0..2 {
            assert_eq!(
                table.check("k0", 0).unwrap().consumer.name,
                "base",
                "{round}"
            );
            assert_eq!(table.check("k1", 0).unwrap_err(), Refused::Unknown);
            assert!(table.check("k2", 99).is_ok());
            assert_eq!(table.check("k2", 100).unwrap_err(), Refused::Ended);
            assert_eq!(table.check("k3", 0).unwrap_err(), Refused::Paused);
            for i in 0..OVERLAY {
                table = table.with(
                    KeyHash::of(&format!("n{i}")),
                    Some(entry("new", i64::MAX, false)),
                );
            }
        }
        assert_eq!(table.check("n7", 0).unwrap().consumer.name, "new");
    }

    #[test]
    fn a_grant_opens_what_it_names_or_everything() {
        let every = entry("a", i64::MAX, false);
        assert!(every.opens("tides") && every.opens("sailings"));
        let one = Grant {
            facades: Some(["tides".to_owned()].into()),
            ..every.clone()
        };
        assert!(one.opens("tides") && !one.opens("sailings") && !one.opens("tide"));
        let none = Grant {
            facades: Some([].into()),
            ..every
        };
        assert!(!none.opens("tides"));
    }
}
