//! Keys: secrets that consumers show.
//!
//! A key is drawn from 160 random bits, so a plain BLAKE3 hash is enough to keep it by: there is nothing to guess from.
//! The table that the data plane looks keys up in never blocks a reader: changes go into a small overlay that is copied,
//! and the overlay is folded into the large table when it has grown.

use std::collections::HashMap;
use std::hash::{BuildHasherDefault, Hasher};
use std::sync::Arc;

/// Hash of a whole key.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
pub struct KeyHash([u8; 32]);

const ALPHABET: &[u8; 32] = b"abcdefghijkmnpqrstuvwxyz23456789";
const PREFIX: usize = 8;

impl KeyHash {
    /// The hash of a key as the caller sent it.
    pub fn of(key: &str) -> Self {
        Self(*blake3::hash(key.as_bytes()).as_bytes())
    }

    /// The hash from its hexadecimal spelling.
    pub fn from_hex(text: &str) -> Option<Self> {
        let mut out = [0; 32];
        if text.len() != 64 || !text.is_ascii() {
            return None;
        }
        for (i, byte) in out.iter_mut().enumerate() {
            *byte = u8::from_str_radix(&text[i * 2..i * 2 + 2], 16).ok()?;
        }
        Some(Self(out))
    }

    /// The hash in hexadecimal.
    pub fn to_hex(self) -> String {
        self.0.iter().map(|b| format!("{b:02x}")).collect()
    }
}

impl std::fmt::Debug for KeyHash {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("KeyHash(…)")
    }
}

/// A new key from random bytes: eight characters to know it by, a dash, and the secret.
///
/// ```
/// let key = porch_rules::key::new_key(&[7; 25]);
/// assert_eq!(porch_rules::key::prefix(&key), Some(&key[..8]));
/// ```
pub fn new_key(random: &[u8; 25]) -> String {
    let bits: Vec<u8> = random
        .iter()
        .flat_map(|b| (0..8).rev().map(move |i| b >> i & 1))
        .collect();
    let mut key: String = bits
        .chunks(5)
        .map(|c| ALPHABET[c.iter().fold(0, |n, b| n << 1 | *b) as usize] as char)
        .collect();
    key.insert(PREFIX, '-');
    key
}

/// The part of a key that it is known by afterwards; `None` for what cannot be a key.
pub fn prefix(key: &str) -> Option<&str> {
    (key.len() == 41 && key.is_ascii() && key.as_bytes()[PREFIX] == b'-').then(|| &key[..PREFIX])
}

/// A consumer as the data plane knows it.
#[derive(Debug)]
pub struct Consumer {
    /// Number in the store.
    pub id: i64,
    /// Name.
    pub name: String,
    /// Whether it is paused.
    pub paused: bool,
}

/// What is known of one key.
#[derive(Clone, Debug)]
pub struct KeyEntry {
    /// Whose it is.
    pub consumer: Arc<Consumer>,
    /// What it is known by.
    pub prefix: Box<str>,
    /// When it ends, in seconds since 1970; `i64::MAX`: never.
    pub ends: i64,
    /// Whether it is paused.
    pub paused: bool,
}

/// Why a key does not open the door.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Refused {
    /// Nobody has this key.
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

/// All keys, to be looked up without a lock. Cloning is cheap.
#[derive(Clone, Debug, Default)]
pub struct KeyTable {
    base: Arc<Table<KeyEntry>>,
    overlay: Arc<Table<Option<KeyEntry>>>,
}

const OVERLAY: usize = 512;

impl KeyTable {
    /// A table of these keys.
    pub fn new(keys: impl IntoIterator<Item = (KeyHash, KeyEntry)>) -> Self {
        Self {
            base: Arc::new(keys.into_iter().map(|(h, e)| (h.0, e)).collect()),
            overlay: Arc::default(),
        }
    }

    /// The same table with one key added, changed or (with `None`) removed.
    #[must_use]
    pub fn with(&self, hash: KeyHash, entry: Option<KeyEntry>) -> Self {
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

    /// How many keys there are, about: changes still in the overlay count too.
    pub fn len(&self) -> usize {
        self.base.len() + self.overlay.len()
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The entry of a key that is good now.
    ///
    /// # Errors
    /// Why it is not.
    pub fn check(&self, key: &str, now: i64) -> Result<&KeyEntry, Refused> {
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

    fn entry(name: &str, ends: i64, paused: bool) -> KeyEntry {
        KeyEntry {
            consumer: Arc::new(Consumer {
                id: 1,
                name: name.into(),
                paused: false,
            }),
            prefix: "p".into(),
            ends,
            paused,
        }
    }

    #[test]
    fn a_key_has_a_prefix_and_a_hash_that_survives_spelling() {
        let key = new_key(&[0xa7; 25]);
        assert_eq!((key.len(), prefix(&key).unwrap().len()), (41, 8));
        assert_eq!(prefix("short"), None);
        let hash = KeyHash::of(&key);
        assert_eq!(KeyHash::from_hex(&hash.to_hex()), Some(hash));
        assert_eq!(KeyHash::from_hex(&"é".repeat(32)), None);
        assert_ne!(KeyHash::of(&format!("{key} ")), hash);
    }

    #[test]
    fn changes_are_seen_before_and_after_the_overlay_is_folded() {
        let mut table = KeyTable::new((0..1000).map(|i| {
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
}
