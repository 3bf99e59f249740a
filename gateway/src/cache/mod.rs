//! Replies that are kept (RFC 9111), by all workers together: bounded by bytes, the ones let go first that nobody asked for.
//!
//! A reply is found by its whole key, never by a number that stands for it. Whoever may not have it does not come so far: callers
//! are admitted before.

mod directives;
mod entry;
mod life;

use std::collections::{HashMap, VecDeque};
use std::hash::{BuildHasher, Hash, RandomState};
use std::sync::atomic::Ordering;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError, RwLock, Weak};
use std::time::{Duration, Instant};

use http::HeaderMap;
use porch_facade::CompiledFacade;
use tokio::sync::watch;

pub(crate) use directives::Directives;
pub(crate) use entry::{Entry, Of};
pub(crate) use life::{Asked, Life, date};

/// What replies are found by.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(crate) struct Key {
    /// Host, and path with query.
    pub(crate) uri: Arc<[u8]>,
    /// Facade, operation, and what of callers they hang on.
    pub(crate) rest: Arc<[u8]>,
}

impl Key {
    /// What it is found by.
    pub(crate) fn parts(&self) -> (&[u8], &[u8]) {
        (&self.uri, &self.rest)
    }

    fn len(&self) -> usize {
        self.uri.len() + self.rest.len()
    }

    /// The first part of a key.
    pub(crate) fn uri(host: &str, target: &str) -> Arc<[u8]> {
        [host.as_bytes(), b"\0", target.as_bytes()].concat().into()
    }
}

/// Parts that are locked apart.
const SHARDS: usize = 16;
/// Replies of one key that differ by what they vary with; the oldest makes room.
const VARIANTS: usize = 16;
/// Keys whose replies are not kept, as far as is known; so long.
const PASSES: usize = 4_096;
const PASSES_FOR: Duration = Duration::from_secs(10);
/// Addresses that a part remembers to have let go of.
const LATELY: usize = 64;
/// Bytes where nothing is said.
pub(crate) const DEFAULT: usize = 64 << 20;

/// Replies that are kept.
pub struct Cache {
    shards: Vec<Mutex<Shard>>,
    hasher: RandomState,
    /// Bytes of each part, at most.
    most: usize,
    /// How often the replies of a tag were let go.
    tags: RwLock<HashMap<TagOf, u64>>,
}

/// Names of a facade and a tag.
type TagOf = (Arc<str>, Arc<str>);
type OfUri = HashMap<Arc<[u8]>, Vec<Arc<Entry>>>;

#[derive(Default)]
struct Shard {
    kept: HashMap<Arc<[u8]>, OfUri>,
    /// In the order in which they came; who was asked for gets another turn.
    /// They do not keep what was let go.
    turns: VecDeque<(Key, Weak<Entry>)>,
    replies: usize,
    bytes: usize,
    flights: HashMap<Key, watch::Receiver<()>>,
    /// Since when replies of a key are known not to be kept, by a number of the key: one that is taken for another waits for
    /// nobody, and nothing else.
    passes: HashMap<u64, Instant>,
    /// How often something was let go because it may not be true any more, and of which addresses lately; `None` stands for all.
    untrue: u64,
    /// Addresses stand there by their numbers: one that is taken for another is not kept once.
    lately: VecDeque<Option<u64>>,
}

/// Whether somebody is asking for the same already.
pub(crate) enum Flight {
    /// Nobody is: whoever holds this asks, and the others wait until it is gone.
    First(Asking),
    /// Somebody is.
    Wait(watch::Receiver<()>),
    /// What comes is not kept: nobody waits for it.
    Alone,
}

/// A request that others wait for.
pub(crate) struct Asking {
    cache: Arc<Cache>,
    key: Key,
    _told: watch::Sender<()>,
}

impl Drop for Asking {
    fn drop(&mut self) {
        self.cache.shard(&self.key.uri).flights.remove(&self.key);
    }
}

/// What was let go before somebody asked: what comes is not kept where more was in the meantime.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Since {
    untrue: u64,
    tags: u64,
}

/// What is let go.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Purge {
    /// Name of the facade; empty for all.
    pub facade: String,
    /// An operation of it; empty for all.
    pub operation: String,
    /// The beginning of paths as callers write them; empty for all.
    pub path: String,
    /// A tag; empty for all.
    pub tag: String,
}

/// How much is kept.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Kept {
    /// Replies.
    pub replies: usize,
    /// Bytes, keys and header fields among them.
    pub bytes: usize,
    /// Bytes at most.
    pub most: usize,
}

impl Cache {
    /// One that keeps so many bytes.
    pub(crate) fn of(bytes: usize) -> Self {
        Self {
            shards: (0..SHARDS).map(|_| Mutex::default()).collect(),
            hasher: RandomState::new(),
            most: bytes / SHARDS,
            tags: RwLock::default(),
        }
    }

    /// A number of something, for this process.
    fn number(&self, of: impl Hash) -> u64 {
        self.hasher.hash_one(of)
    }

    fn shard(&self, uri: &[u8]) -> MutexGuard<'_, Shard> {
        let at = self.hasher.hash_one(uri) as usize % SHARDS;
        lock(&self.shards[at])
    }

    /// The reply that fits a request, and whether there are others of the same key.
    pub(crate) fn find(
        &self,
        (uri, rest): (&[u8], &[u8]),
        headers: &HeaderMap,
        facade: &Arc<CompiledFacade>,
    ) -> (Option<Arc<Entry>>, bool) {
        let found = {
            let shard = self.shard(uri);
            let Some(all) = shard.kept.get(uri).and_then(|k| k.get(rest)) else {
                return (None, false);
            };
            let mut found = all.iter().rev();
            let found = found.find(|e| e.is_of(facade) && e.varies_as(headers));
            found.cloned()
        };
        let found = found.filter(|e| self.number_of(&facade.name, &e.tags) == e.since.tags);
        if let Some(entry) = &found {
            entry.asked_for.store(true, Ordering::Relaxed);
        }
        (found, true)
    }

    /// How often the replies of some tags were let go.
    fn number_of(&self, facade: &str, tags: &[Arc<str>]) -> u64 {
        if tags.is_empty() {
            return 0;
        }
        let all = self.tags.read().unwrap_or_else(PoisonError::into_inner);
        let of = |tag: &Arc<str>| all.get(&(facade.into(), tag.clone())).copied().unwrap_or(0);
        tags.iter().map(of).sum()
    }

    /// To be asked for before a backend is.
    pub(crate) fn since(&self, key: &Key, facade: &str, tags: &[Arc<str>]) -> Since {
        Since {
            untrue: self.shard(&key.uri).untrue,
            tags: self.number_of(facade, tags),
        }
    }

    /// Keeps a reply, in place of those that fit the same requests; whether it is kept.
    pub(crate) fn keep(&self, key: &Key, entry: &Arc<Entry>) -> bool {
        let size = entry.size + key.len();
        let uri = self.number(&*key.uri);
        let pass = self.number(key);
        let mut shard = self.shard(&key.uri);
        if size > self.most || shard.is_untrue(uri, entry.since) {
            return false;
        }
        shard.passes.remove(&pass);
        let of_uri = shard.kept.entry(key.uri.clone()).or_default();
        let all = of_uri.entry(key.rest.clone()).or_default();
        let mut gone: Vec<Arc<Entry>> = all.extract_if(.., |e| entry.stands_for(e)).collect();
        if all.len() >= VARIANTS {
            gone.push(all.remove(0));
        }
        all.push(entry.clone());
        gone.iter().for_each(|old| shard.lost(old, key));
        shard.replies += 1;
        shard.bytes += size;
        shard.turns.push_back((key.clone(), Arc::downgrade(entry)));
        shard.make_room(self.most);
        true
    }

    /// Begins to ask, or says who does.
    pub(crate) fn flight(self: &Arc<Self>, key: &Key) -> Flight {
        let pass = self.number(key);
        let mut shard = self.shard(&key.uri);
        if let Some(waiting) = shard.flights.get(key) {
            return Flight::Wait(waiting.clone());
        }
        if let Some(since) = shard.passes.get(&pass) {
            match since.elapsed() < PASSES_FOR {
                true => return Flight::Alone,
                false => drop(shard.passes.remove(&pass)),
            }
        }
        let (told, waiting) = watch::channel(());
        shard.flights.insert(key.clone(), waiting);
        Flight::First(Asking {
            cache: self.clone(),
            key: key.clone(),
            _told: told,
        })
    }

    /// Whether somebody is asking for it.
    pub(crate) fn is_asked(&self, key: &Key) -> bool {
        self.shard(&key.uri).flights.contains_key(key)
    }

    /// Notes that what comes for a key is not kept: nobody need wait for it.
    pub(crate) fn passes(&self, key: &Key) {
        let pass = self.number(key);
        let mut shard = self.shard(&key.uri);
        if shard.passes.len() >= PASSES {
            shard.passes.clear();
        }
        shard.passes.insert(pass, Instant::now());
    }

    /// Lets go of all that fits; gives their number.
    pub fn purge(&self, purge: &Purge) -> usize {
        let mut number = 0;
        for shard in &self.shards {
            let mut shard = lock(shard);
            shard.spoil(None);
            let all = shard.turns.iter();
            let all = all.filter_map(|(key, e)| Some((key.clone(), e.upgrade()?)));
            let gone = all.filter(|(_, e)| !e.is_gone() && e.fits(purge));
            let gone: Vec<(Key, Arc<Entry>)> = gone.collect();
            number += gone.len();
            gone.iter()
                .for_each(|(key, entry)| shard.remove(key, entry));
            let is_there = |e: &Weak<Entry>| e.upgrade().is_some_and(|e| !e.is_gone());
            shard.turns.retain(|(_, entry)| is_there(entry));
        }
        number
    }

    /// Lets go of what is kept for an address (RFC 9111 §4.4).
    pub(crate) fn invalidate(&self, host: &str, target: &str) {
        let uri = Key::uri(host, target);
        let number = self.number(&*uri);
        let mut shard = self.shard(&uri);
        shard.spoil(Some(number));
        let Some(all) = shard.kept.remove(&uri) else {
            return;
        };
        for (rest, entries) in all {
            let key = Key {
                uri: uri.clone(),
                rest,
            };
            entries.iter().for_each(|entry| shard.lost(entry, &key));
        }
    }

    /// Lets go of what has a tag, by saying that it is not true any more.
    pub(crate) fn clear(&self, facade: &str, tag: &Arc<str>) {
        let mut all = self.tags.write().unwrap_or_else(PoisonError::into_inner);
        *all.entry((facade.into(), tag.clone())).or_default() += 1;
    }

    /// How much is kept.
    pub fn kept(&self) -> Kept {
        let mut kept = Kept {
            most: self.most * SHARDS,
            ..Kept::default()
        };
        for shard in &self.shards {
            let shard = lock(shard);
            kept.replies += shard.replies;
            kept.bytes += shard.bytes;
        }
        kept
    }
}

impl Shard {
    /// Notes that what is asked for of an address may not be true when it comes.
    fn spoil(&mut self, uri: Option<u64>) {
        self.untrue += 1;
        self.lately.push_back(uri);
        if self.lately.len() > LATELY {
            self.lately.pop_front();
        }
    }

    /// Whether something was let go of an address since somebody asked; also where that is not known any more.
    fn is_untrue(&self, uri: u64, since: Since) -> bool {
        let missed = self.untrue.saturating_sub(since.untrue);
        let Ok(missed) = usize::try_from(missed) else {
            return true;
        };
        let mut lately = self.lately.iter().rev().take(missed);
        missed > LATELY || lately.any(|of| of.is_none_or(|of| of == uri))
    }

    /// Counts what is gone.
    fn lost(&mut self, entry: &Entry, key: &Key) {
        entry.let_go();
        self.replies = self.replies.saturating_sub(1);
        self.bytes = self.bytes.saturating_sub(entry.size + key.len());
    }

    fn remove(&mut self, key: &Key, entry: &Arc<Entry>) {
        let Some(of_uri) = self.kept.get_mut(&key.uri) else {
            return;
        };
        if let Some(all) = of_uri.get_mut(&key.rest) {
            all.retain(|e| !Arc::ptr_eq(e, entry));
            if all.is_empty() {
                of_uri.remove(&key.rest);
            }
        }
        if of_uri.is_empty() {
            self.kept.remove(&key.uri);
        }
        self.lost(entry, key);
    }

    /// Lets go until there is room: each of those that came first, unless it was asked for since its last turn.
    fn make_room(&mut self, most: usize) {
        // Each has one more turn at most, and so this ends.
        for _ in 0..self.turns.len() * 2 {
            if self.bytes <= most && self.turns.len() <= 2 * self.replies + 64 {
                return;
            }
            let Some((key, entry)) = self.turns.pop_front() else {
                return;
            };
            let Some(entry) = entry.upgrade().filter(|e| !e.is_gone()) else {
                continue;
            };
            if entry.asked_for.swap(false, Ordering::Relaxed) || self.bytes <= most {
                self.turns.push_back((key, Arc::downgrade(&entry)));
                continue;
            }
            self.remove(&key, &entry);
        }
    }
}

/// What is kept may be lost, and is sound all the same.
fn lock(shard: &Mutex<Shard>) -> MutexGuard<'_, Shard> {
    shard.lock().unwrap_or_else(PoisonError::into_inner)
}

#[cfg(test)]
mod tests;
