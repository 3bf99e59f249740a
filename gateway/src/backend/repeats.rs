//! How many attempts again a backend is asked to bear: a tenth of its calls, and a few at the beginning.

use std::cell::RefCell;
use std::collections::HashMap;

/// Attempts that may be made before there were calls to earn them; no more are ever saved up.
const SAVED: u32 = 10;
/// So many calls earn one attempt.
const CALLS: u32 = 10;

/// What of attempts is left, by the identities of backends, in tenths of one.
#[derive(Default)]
pub(super) struct Repeats(RefCell<HashMap<u64, u32>>);

/// More backends than this are not kept in mind: identities of old releases end here.
const KEPT: usize = 10_000;

impl Repeats {
    /// A call was made.
    pub(super) fn earned(&self, identity: u64) {
        let mut left = self.0.borrow_mut();
        if left.len() >= KEPT {
            left.clear();
        }
        let own = left.entry(identity).or_insert(SAVED * CALLS);
        *own = (*own + 1).min(SAVED * CALLS);
    }

    /// Whether one more attempt may be made; it counts.
    pub(super) fn spend(&self, identity: u64) -> bool {
        let mut left = self.0.borrow_mut();
        let own = left.entry(identity).or_insert(SAVED * CALLS);
        match own.checked_sub(CALLS) {
            Some(rest) => {
                *own = rest;
                true
            }
            None => false,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn attempts_are_a_tenth_of_the_calls() {
        let repeats = Repeats::default();
        let made = (0..1_000).filter(|_| {
            repeats.earned(7);
            repeats.spend(7)
        });
        let made = made.count();
        assert!((100..=110).contains(&made), "{made}");
        // Another backend has its own.
        assert!(repeats.spend(8));
        // What is saved up while all is well is not more than at the beginning.
        for _ in 0..10_000 {
            repeats.earned(9);
        }
        assert_eq!((0..50).filter(|_| repeats.spend(9)).count(), 10);
    }
}
