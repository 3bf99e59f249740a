//! One large thing that is kept as long as it is used.

use std::sync::Arc;
use std::time::{Duration, Instant};

/// What was made of a revision, and when somebody asked for it last.
pub(super) struct Recent<T> {
    lasts: Duration,
    kept: Option<(i64, Arc<T>, Instant)>,
}

impl<T> Recent<T> {
    /// Keeps things for so long after their last use.
    pub(super) const fn new(lasts: Duration) -> Self {
        Self { lasts, kept: None }
    }

    pub(super) fn keep(&mut self, revision: i64, made: Arc<T>, now: Instant) {
        self.kept = Some((revision, made, now));
    }

    /// What is kept of a revision; that is a use of it.
    pub(super) fn of(&mut self, revision: i64, now: Instant) -> Option<Arc<T>> {
        let (of, made, used) = self.kept.as_mut()?;
        (*of == revision).then(|| {
            *used = now;
            made.clone()
        })
    }

    /// Lets go of what nobody asked for lately. Gives whether it did.
    pub(super) fn forget(&mut self, now: Instant) -> bool {
        self.kept
            .take_if(|(_, _, used)| now.duration_since(*used) > self.lasts)
            .is_some()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_thing_is_kept_for_its_revision_and_while_it_is_used() {
        let (start, second) = (Instant::now(), Duration::from_secs(1));
        let made = Arc::new([0u8; 64]);
        let held = Arc::downgrade(&made);
        let mut recent = Recent::new(second * 20);
        assert!(!recent.forget(start), "there is nothing yet");
        recent.keep(7, made, start);
        assert!(recent.of(6, start).is_none(), "another revision");
        assert!(recent.of(7, start + second * 15).is_some());
        // Used at 15: 20 seconds from then.
        assert!(!recent.forget(start + second * 35));
        assert!(recent.of(7, start + second * 35).is_some());
        assert!(recent.forget(start + second * 56));
        assert!(held.upgrade().is_none(), "its memory is free");
        assert!(recent.of(7, start + second * 56).is_none());
        assert!(!recent.forget(start + second * 99), "once only");
    }

    #[test]
    fn a_new_revision_takes_the_place_of_the_old_one() {
        let now = Instant::now();
        let mut recent = Recent::new(Duration::from_secs(1));
        let old = Arc::new(1);
        let held = Arc::downgrade(&old);
        recent.keep(1, old, now);
        recent.keep(2, Arc::new(2), now);
        assert!(held.upgrade().is_none());
        assert_eq!(recent.of(2, now).as_deref(), Some(&2));
        assert_eq!(recent.of(1, now), None);
    }
}
