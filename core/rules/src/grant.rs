//! Grants: who calls, as it follows from what was shown.
//!
//! The table that the data plane looks them up in never blocks a reader: it is an immutable value; changes go into a small
//! overlay that is copied, one entry at a time, and the overlay is folded into the large table when it has grown.

mod kind;
mod table;
mod terms;

use std::collections::HashMap;
use std::hash::{BuildHasherDefault, Hasher};
use std::sync::Arc;
use std::sync::atomic::{AtomicU32, Ordering};

use porch_proof::SigningKey;
use serde_json::Value;

use self::table::Table;
pub use self::{kind::Kind, terms::shared};
use crate::key::KeyHash;

/// A consumer as the data plane knows it.
#[derive(Debug, Default)]
pub struct Consumer {
    /// Number in the store.
    pub id: i64,
    /// Name.
    pub name: String,
    /// The account that looks after it.
    pub account: String,
    /// Whether it is paused.
    pub paused: bool,
    /// What it may be, for operations that take only some.
    pub roles: Box<[Box<str>]>,
    /// What it has agreed to, the newest first.
    pub agreements: Box<[Agreement]>,
    /// Whether it may call what it has agreed to and nothing else; otherwise its credentials open everything that they do not
    /// narrow themselves.
    pub bound: bool,
}

/// What a consumer has agreed to.
#[derive(Clone, Debug)]
pub struct Agreement {
    /// Number in the store.
    pub id: i64,
    /// Name of what was offered.
    pub offer: Box<str>,
    /// Numbers and texts that rules read.
    pub terms: Arc<Value>,
    /// What it opens, `sailings` for a facade and `sailings/quoteFare` for one of its operations; none: every facade.
    pub opens: Option<Box<[String]>>,
    /// From when, in seconds since 1970.
    pub from: i64,
    /// Until when; `i64::MAX`: without end.
    pub until: i64,
    /// Whether it is paused.
    pub paused: bool,
}

impl Agreement {
    /// Whether it holds for an operation of a facade at a time, in seconds since 1970.
    pub fn holds(&self, (facade, operation): (&str, &str), now: i64) -> bool {
        self.is_now(now) && self.is_open(facade, operation)
    }

    /// Whether it holds at a time, in seconds since 1970.
    pub fn is_now(&self, now: i64) -> bool {
        !self.paused && self.from <= now && now < self.until
    }

    /// Whether it opens a facade, or some of its operations.
    pub fn reaches(&self, facade: &str) -> bool {
        let Some(all) = &self.opens else { return true };
        let of = |entry: &String| entry.split('/').next() == Some(facade);
        all.iter().any(of)
    }

    /// Whether it opens an operation of a facade, whenever it holds.
    pub fn is_open(&self, facade: &str, operation: &str) -> bool {
        let Some(all) = &self.opens else { return true };
        all.iter().any(|entry| match entry.strip_prefix(facade) {
            Some("") => true,
            Some(rest) => rest.strip_prefix('/').is_some_and(|id| id == operation),
            None => false,
        })
    }
}

fn is_among(facades: &Option<Box<[String]>>, facade: &str) -> bool {
    let Some(all) = facades else { return true };
    all.iter().any(|f| f == facade)
}

/// What a credential is known by, and when it was used.
#[derive(Debug)]
pub struct Shown {
    /// What people know it by.
    pub label: Box<str>,
    /// What it says itself, where it is a token.
    pub says: Option<Box<Says>>,
    /// The minute since 1970 in which it was last told that it is used; 0: not since the start.
    used: AtomicU32,
}

impl Shown {
    /// Of something known by a text.
    pub fn new(label: impl Into<Box<str>>) -> Arc<Self> {
        Arc::new(Self {
            label: label.into(),
            says: None,
            used: AtomicU32::new(0),
        })
    }

    /// Of a token, that says something itself.
    pub fn saying(label: impl Into<Box<str>>, says: Says) -> Arc<Self> {
        Arc::new(Self {
            label: label.into(),
            says: Some(Box::new(says)),
            used: AtomicU32::new(0),
        })
    }

    /// Whether it has not been used in this minute yet, as far as is known; from now on it has.
    #[inline]
    pub fn is_first_use(&self, minute: u32) -> bool {
        self.used.load(Ordering::Relaxed) != minute
            && self.used.swap(minute, Ordering::Relaxed) != minute
    }
}

/// What a token says itself.
#[derive(Debug, Default)]
pub struct Says {
    /// Its claims.
    pub claims: Value,
    /// The roles that follow from them.
    pub roles: Box<[Box<str>]>,
}

/// What a credential opens, where that is not everything.
#[derive(Clone, Debug, Default)]
pub struct Opens {
    /// The facades; none: every one.
    pub facades: Option<Box<[String]>>,
    /// Numbers of the agreements that it is for; none: all of its consumer's.
    pub agreements: Option<Box<[i64]>>,
}

/// What follows from a credential: who calls, and what was shown.
#[derive(Clone, Debug)]
pub struct Grant {
    /// Whose it is.
    pub consumer: Arc<Consumer>,
    /// What the credential that was shown is known by.
    pub shown: Arc<Shown>,
    /// When it ends, in seconds since 1970; `i64::MAX`: never.
    pub ends: i64,
    /// Whether it is paused.
    pub paused: bool,
    /// What it opens; none: everything.
    pub opens: Option<Arc<Opens>>,
    /// What proves it besides that it is known; none: it is a key.
    pub proof: Option<Arc<Proof>>,
}

/// What a credential that is no key is held against.
#[derive(Debug)]
pub enum Proof {
    /// The argon2id hash of a password, as RFC 9106 and the PHC string format have it.
    Password(Box<str>),
    /// Tokens of an issuer, for a client: what is shown proves itself.
    Token,
    /// A key that requests are signed with.
    Signing(Signing),
    /// A certificate: who shows it has proven that it has its key.
    Certificate,
}

/// A key that requests are signed with.
#[derive(Debug)]
pub struct Signing {
    /// The key.
    pub key: SigningKey,
    /// The same as it is kept: a public key as it was given, a secret sealed.
    pub kept: Box<str>,
}

/// What a grant opens of a facade.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Opened {
    /// It does, with the agreement at this place of the consumer's, if there is one.
    Yes(Option<usize>),
    /// It is for other facades.
    OtherFacades,
    /// It is for agreements, and none of them holds for the facade now.
    NoAgreement,
}

impl Grant {
    /// Whether it opens an operation of a facade at a time, in seconds since 1970, and by which agreement.
    #[inline]
    pub fn opens(&self, (facade, operation): (&str, &str), now: i64) -> Opened {
        let consumer = &self.consumer;
        if self.opens.is_none() && consumer.agreements.is_empty() && !consumer.bound {
            return Opened::Yes(None);
        }
        self.opened((facade, operation), now)
    }

    fn opened(&self, (facade, operation): (&str, &str), now: i64) -> Opened {
        let (facades, named) = match &self.opens {
            None => (&None, None),
            Some(opens) => (&opens.facades, opens.agreements.as_deref()),
        };
        if !is_among(facades, facade) {
            return Opened::OtherFacades;
        }
        let is_named = |a: &Agreement| named.is_none_or(|all| all.contains(&a.id));
        let mut all = self.consumer.agreements.iter();
        let at = (facade, operation);
        match all.position(|a| is_named(a) && a.holds(at, now)) {
            None if named.is_some() || self.consumer.bound => Opened::NoAgreement,
            found => Opened::Yes(found),
        }
    }

    /// Whether it follows from a key, which needs no other proof than that it is known.
    pub fn is_of_key(&self) -> bool {
        self.proof.is_none()
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
        self.with_all([(hash, entry)])
    }

    /// The same of several, at once.
    #[must_use]
    pub fn with_all(&self, all: impl IntoIterator<Item = (KeyHash, Option<Grant>)>) -> Self {
        let mut changed = self.clone();
        let overlay = Arc::make_mut(&mut changed.overlay);
        overlay.extend(all.into_iter().map(|(hash, entry)| (hash.0, entry)));
        match changed.overlay.len() < OVERLAY {
            true => changed,
            false => Self::new(changed.iter().map(|(hash, grant)| (hash, grant.clone()))),
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

    /// The grant of a hash.
    #[inline]
    pub fn get(&self, hash: &KeyHash) -> Option<&Grant> {
        let changed = match self.overlay.is_empty() {
            true => None,
            false => self.overlay.get(&hash.0),
        };
        match changed {
            Some(changed) => changed.as_ref(),
            None => self.base.get(hash),
        }
    }

    /// The grant of a key that is good now.
    ///
    /// # Errors
    /// Why it is not.
    pub fn check(&self, key: &str, now: i64) -> Result<&Grant, Refused> {
        let found = self.get(&KeyHash::of(key));
        good(found.filter(|g| g.is_of_key()), now)
    }

    /// The grant of a name that something else must prove, that is good now.
    ///
    /// # Errors
    /// Why it is not.
    pub fn check_name(&self, kind: &str, name: &str, now: i64) -> Result<&Grant, Refused> {
        let found = self.get(&KeyHash::of_name(kind, name));
        good(found.filter(|g| !g.is_of_key()), now)
    }
}

fn good(found: Option<&Grant>, now: i64) -> Result<&Grant, Refused> {
    let entry = found.ok_or(Refused::Unknown)?;
    if entry.ends <= now {
        return Err(Refused::Ended);
    }
    if entry.paused || entry.consumer.paused {
        return Err(Refused::Paused);
    }
    Ok(entry)
}

#[cfg(test)]
mod tests;
