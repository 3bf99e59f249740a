//! Grants: who calls, as it follows from what was shown.
//!
//! The table that the data plane looks them up in never blocks a reader: it is an immutable value; changes go into a small
//! overlay that is copied, one entry at a time, and the overlay is folded into the large table when it has grown.

mod table;

use std::collections::HashMap;
use std::hash::{BuildHasherDefault, Hasher};
use std::sync::Arc;

use self::table::Table;

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

type Overlay = HashMap<[u8; 32], Option<Grant>, BuildHasherDefault<TakeAsIs>>;

/// All grants by the hash of the credential that they follow from, to be looked up without a lock. Cloning is cheap.
#[derive(Clone, Debug, Default)]
pub struct Grants {
    base: Arc<Table>,
    overlay: Arc<Overlay>,
}

const OVERLAY: usize = 512;

impl Grants {
    /// A table of these.
    pub fn new(grants: impl IntoIterator<Item = (KeyHash, Grant)>) -> Self {
        let mut table = Self::default();
        table.extend(grants);
        table.shrink();
        table
    }

    /// Adds many at once, while nobody else has the table.
    pub fn extend(&mut self, grants: impl IntoIterator<Item = (KeyHash, Grant)>) {
        let base = Arc::make_mut(&mut self.base);
        for (hash, grant) in grants {
            base.put(hash, grant);
        }
    }

    /// Lets go of room for more of them.
    pub fn shrink(&mut self) {
        Arc::make_mut(&mut self.base).shrink();
    }

    /// All of them, in no order that means anything.
    pub fn iter(&self) -> impl Iterator<Item = (KeyHash, &Grant)> {
        let kept = self.base.iter().map(|(hash, grant)| (*hash, grant));
        let kept = kept.filter(|(hash, _)| !self.overlay.contains_key(&hash.0));
        let changed = self.overlay.iter();
        kept.chain(changed.filter_map(|(hash, grant)| Some((KeyHash(*hash), grant.as_ref()?))))
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
        let whole = Self {
            base: self.base.clone(),
            overlay: Arc::new(overlay),
        };
        Self::new(whole.iter().map(|(hash, grant)| (hash, grant.clone())))
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
            None => self.base.get(&hash),
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
        assert_eq!(table.iter().count(), 1000 - 1 + OVERLAY);
        let all = Grants::new(table.iter().map(|(hash, grant)| (hash, grant.clone())));
        assert_eq!(all.check("k2", 100).unwrap_err(), Refused::Ended);
        assert_eq!((all.len(), all.overlay.len()), (999 + OVERLAY, 0));
    }

    #[test]
    fn very_many_take_little_room_each() {
        let each = size_of::<(KeyHash, Grant)>();
        assert!(each <= 88, "{each}");
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
