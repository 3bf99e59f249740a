//! Passwords of callers: checked on threads of their own, and remembered for a while.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError, Weak};

use argon2::Argon2;
use argon2::password_hash::PasswordVerifier;
use porch_rules::grant::Proof;
use tokio::sync::{OwnedMutexGuard, Semaphore};

/// Passwords that are checked at the same time: each takes a core for some ten milliseconds.
const AT_ONCE: usize = 2;
/// How long one that was right is remembered, in milliseconds.
const REMEMBERED: u64 = 5 * 60_000;
/// So many are remembered.
const MOST: usize = 10_000;

/// What a password is held against where nobody has the name: it takes as long, and fits nothing.
const NOBODY: &str = "$argon2id$v=19$m=19456,t=2,p=1$AAAAAAAAAAAAAAAAAAAAAA$AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA";

/// Passwords that were right lately. What is remembered is a hash with a secret that is drawn at the start and leaves this
/// process nowhere: it says nothing to whoever has not both. It belongs to the proof in the table of grants: a change of the
/// password, or of its consumer, makes another proof, and what is remembered of the old one is nothing any more.
pub(crate) struct Passwords {
    secret: [u8; 32],
    right: Mutex<HashMap<usize, Right>>,
    turns: Semaphore,
    asking: Mutex<HashMap<blake3::Hash, Arc<Same>>>,
}

/// Those who show the same name and password at the same time.
type Same = tokio::sync::Mutex<()>;

/// One's turn among them: the others wait, and find out what came of it.
pub(crate) struct Alone<'p> {
    passwords: &'p Passwords,
    pair: blake3::Hash,
    turn: Option<OwnedMutexGuard<()>>,
}

impl Drop for Alone<'_> {
    fn drop(&mut self) {
        drop(self.turn.take());
        let mut asking = self
            .passwords
            .asking
            .lock()
            .unwrap_or_else(PoisonError::into_inner);
        // Whoever comes to wait takes it while the map is locked, as here.
        if asking
            .get(&self.pair)
            .is_some_and(|same| Arc::strong_count(same) == 1)
        {
            asking.remove(&self.pair);
        }
    }
}

struct Right {
    of: Weak<Proof>,
    hash: blake3::Hash,
    until: u64,
}

impl Passwords {
    pub(crate) fn new() -> Self {
        let mut secret = [0; 32];
        // Without random bytes nothing is remembered.
        let drawn = getrandom::fill(&mut secret).is_ok();
        Self {
            secret: if drawn { secret } else { [0; 32] },
            right: Mutex::default(),
            turns: Semaphore::new(AT_ONCE),
            asking: Mutex::default(),
        }
    }

    /// Waits until nobody else has the same name and password looked at: many calls of one caller that come at once are one
    /// attempt, and no guesses.
    pub(crate) async fn alone(&self, name: &str, password: &str) -> Alone<'_> {
        let mut pair = blake3::Hasher::new_keyed(&self.secret);
        pair.update(&(name.len() as u64).to_le_bytes());
        pair.update(name.as_bytes());
        pair.update(password.as_bytes());
        let pair = pair.finalize();
        let same = {
            let mut asking = self.asking.lock().unwrap_or_else(PoisonError::into_inner);
            asking.entry(pair).or_default().clone()
        };
        // Made before the wait, so that one that is given up leaves nothing behind.
        let mut alone = Alone {
            passwords: self,
            pair,
            turn: None,
        };
        alone.turn = Some(same.lock_owned().await);
        alone
    }

    fn hash(&self, password: &str) -> Option<blake3::Hash> {
        let drawn = self.secret != [0; 32];
        drawn.then(|| blake3::keyed_hash(&self.secret, password.as_bytes()))
    }

    /// Whether a password is known to be right for a proof.
    pub(crate) fn knows(&self, proof: &Arc<Proof>, password: &str, now: u64) -> bool {
        let Some(hash) = self.hash(password) else {
            return false;
        };
        let right = self.right.lock().unwrap_or_else(PoisonError::into_inner);
        let found = right.get(&(Arc::as_ptr(proof) as usize));
        // The comparison takes the same time whatever is different; and another proof may lie where one lay that is gone.
        found.is_some_and(|r| {
            std::ptr::eq(r.of.as_ptr(), Arc::as_ptr(proof)) && r.until > now && r.hash == hash
        })
    }

    /// Remembers that a password is right.
    pub(crate) fn keep(&self, proof: &Arc<Proof>, password: &str, now: u64) {
        let Some(hash) = self.hash(password) else {
            return;
        };
        let mut right = self.right.lock().unwrap_or_else(PoisonError::into_inner);
        if right.len() >= MOST {
            right.retain(|_, r| r.until > now && r.of.strong_count() > 0);
            if right.len() >= MOST {
                right.clear();
            }
        }
        let kept = Right {
            of: Arc::downgrade(proof),
            hash,
            until: now + REMEMBERED,
        };
        right.insert(Arc::as_ptr(proof) as usize, kept);
    }

    /// Whether a password fits a hash; without one, it does not, and takes as long.
    pub(crate) async fn check(&self, hash: Option<Box<str>>, password: &str) -> bool {
        let Ok(turn) = self.turns.acquire().await else {
            return false;
        };
        let password = password.to_owned();
        let work = move || {
            let against = hash.as_deref().unwrap_or(NOBODY);
            let fits = Argon2::default().verify_password(password.as_bytes(), against);
            fits.is_ok() && hash.is_some()
        };
        let fits = tokio::task::spawn_blocking(work).await.unwrap_or(false);
        drop(turn);
        fits
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_remembered_belongs_to_one_proof_and_ends() {
        let passwords = Passwords::new();
        let proof = |hash: &str| Arc::new(Proof::Password(hash.into()));
        let (one, other) = (proof("x"), proof("x"));
        passwords.keep(&one, "tern rock", 0);
        assert!(passwords.knows(&one, "tern rock", REMEMBERED - 1));
        assert!(!passwords.knows(&one, "tern rock", REMEMBERED));
        assert!(!passwords.knows(&one, "tern roc", 0));
        assert!(!passwords.knows(&other, "tern rock", 0));
        // A proof that comes to lie where another one was is another one: what is remembered holds its place.
        drop(one);
        for _ in 0..100 {
            assert!(!passwords.knows(&proof("y"), "tern rock", 0));
        }
    }

    #[tokio::test]
    async fn those_who_show_the_same_wait_for_each_other_and_nothing_is_left() {
        let passwords = Passwords::new();
        let first = passwords.alone("tove", "tern rock").await;
        // Another name, or another password, waits for nobody.
        drop(passwords.alone("tove", "tern rocks").await);
        drop(passwords.alone("tovet", "ern rock").await);
        {
            let mut second = std::pin::pin!(passwords.alone("tove", "tern rock"));
            let mut third = std::pin::pin!(passwords.alone("tove", "tern rock"));
            let waits = tokio::time::Duration::from_millis(1);
            assert!(tokio::time::timeout(waits, second.as_mut()).await.is_err());
            assert!(tokio::time::timeout(waits, third.as_mut()).await.is_err());
            drop(first);
            drop(second.await);
            // The third leaves without its turn.
        }
        assert_eq!(passwords.asking.lock().unwrap().len(), 0);
    }

    #[tokio::test]
    async fn a_password_fits_its_own_hash_and_nobody_s_fits_nothing() {
        use argon2::password_hash::PasswordHasher;
        let passwords = Passwords::new();
        let hash = Argon2::default().hash_password(b"tern rock").unwrap();
        let hash: Box<str> = hash.to_string().into();
        assert!(passwords.check(Some(hash.clone()), "tern rock").await);
        assert!(!passwords.check(Some(hash), "tern rocks").await);
        assert!(!passwords.check(None, "tern rock").await);
        assert!(!passwords.check(Some("nonsense".into()), "x").await);
    }
}
