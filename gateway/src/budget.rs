//! Bytes that bodies may take, all exchanges together: many callers, or one large answer, never take the memory away.
//!
//! Counted is what is gathered whole and what is read into values; what streams through, and what is small, is not.

use std::cell::Cell;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use bytes::Bytes;

/// What all bodies may take, unless it is said otherwise.
pub(crate) const DEFAULT: usize = 512 << 20;
/// Bodies up to this size are not counted: there are never more of them than exchanges.
const SMALL: usize = 16 << 10;
const SMALL_VALUE: usize = 1 << 10;
/// What a number, text, array or object takes in a value, measured: see the test beside.
const A_PART: usize = 128;

/// The bytes that are left.
#[derive(Debug)]
pub(crate) struct Budget {
    all: usize,
    left: AtomicUsize,
}

/// Why there is no room.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub(crate) enum NoRoom {
    /// Others have it.
    #[error("the memory for bodies is used up")]
    Now,
    /// More than one exchange may ever have.
    #[error("it would take {0} bytes of memory, more than the {1} that one exchange may have")]
    Ever(usize, usize),
}

impl Budget {
    pub(crate) fn new(all: usize) -> Self {
        Self {
            all,
            left: AtomicUsize::new(all),
        }
    }

    /// Bytes that are in use.
    pub(crate) fn used(&self) -> usize {
        self.all - self.left.load(Ordering::Relaxed)
    }

    fn take(&self, bytes: usize) -> bool {
        let take = |left: usize| left.checked_sub(bytes);
        self.left
            .fetch_update(Ordering::Relaxed, Ordering::Relaxed, take)
            .is_ok()
    }

    fn give_back(&self, bytes: usize) {
        self.left.fetch_add(bytes, Ordering::Relaxed);
    }
}

/// What one exchange has of the budget; given back when it ends.
pub(crate) struct Share<'x> {
    budget: &'x Arc<Budget>,
    has: Cell<usize>,
    gathered: Cell<usize>,
}

impl<'x> Share<'x> {
    pub(crate) fn of(budget: &'x Arc<Budget>) -> Self {
        Self {
            budget,
            has: Cell::new(0),
            gathered: Cell::new(0),
        }
    }

    /// So many bytes of a body were gathered.
    pub(crate) fn gather(&self, bytes: usize) -> Result<(), NoRoom> {
        let (before, now) = (self.gathered.get(), self.gathered.get() + bytes);
        self.gathered.set(now);
        self.grow(now.max(SMALL) - before.max(SMALL))
    }

    /// A text is about to be read into a value.
    pub(crate) fn read(&self, text: &[u8]) -> Result<(), NoRoom> {
        if text.len() <= SMALL_VALUE {
            return Ok(());
        }
        // What stands between parts, in JSON and in XML; inside of texts there are some more, which does no harm.
        let mark = |b: &&u8| matches!(b, b',' | b':' | b'[' | b'{' | b'<' | b'=');
        let parts = text.iter().filter(mark).count();
        self.grow(text.len() + parts * A_PART)
    }

    fn grow(&self, bytes: usize) -> Result<(), NoRoom> {
        if bytes == 0 {
            return Ok(());
        }
        let (then, most) = (self.has.get() + bytes, self.budget.all / 2);
        if then > most {
            return Err(NoRoom::Ever(then, most));
        }
        if !self.budget.take(bytes) {
            return Err(NoRoom::Now);
        }
        self.has.set(then);
        Ok(())
    }
}

impl Drop for Share<'_> {
    fn drop(&mut self) {
        if self.has.get() > 0 {
            self.budget.give_back(self.has.get());
        }
    }
}

/// Bytes that wait to be sent, counted until they are.
struct Waiting {
    bytes: Bytes,
    budget: Arc<Budget>,
    counted: usize,
}

impl AsRef<[u8]> for Waiting {
    fn as_ref(&self) -> &[u8] {
        &self.bytes
    }
}

impl Drop for Waiting {
    fn drop(&mut self) {
        self.budget.give_back(self.counted);
    }
}

/// A reply's bytes: a large one counts until its last byte has left, however slowly it is read. It was made already, and so
/// it is sent even when nothing is left to count it with.
pub(crate) fn waiting(budget: &Arc<Budget>, bytes: Bytes) -> Bytes {
    if bytes.len() <= SMALL {
        return bytes;
    }
    let counted = if budget.take(bytes.len()) {
        bytes.len()
    } else {
        0
    };
    Bytes::from_owner(Waiting {
        bytes,
        budget: budget.clone(),
        counted,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_taken_comes_back() {
        let budget = Arc::new(Budget::new(1 << 20));
        let share = Share::of(&budget);
        assert_eq!(share.gather(SMALL), Ok(()));
        assert_eq!(budget.used(), 0, "small bodies are not counted");
        assert_eq!(share.gather(1000), Ok(()));
        assert_eq!(budget.used(), 1000);
        assert_eq!(share.gather(300_000), Ok(()));
        assert_eq!(
            share.gather(300_000),
            Err(NoRoom::Ever(601_000, 512 << 10)),
            "half is the most for one"
        );
        let other = Share::of(&budget);
        assert_eq!(other.gather(SMALL + 500_000), Ok(()));
        let third = Share::of(&budget);
        assert_eq!(third.gather(SMALL + 500_000), Err(NoRoom::Now));
        drop(share);
        let third = Share::of(&budget);
        assert_eq!(third.gather(SMALL + 500_000), Ok(()));
        drop((other, third));
        assert_eq!(budget.used(), 0);
    }

    #[test]
    fn a_reply_counts_until_it_is_sent() {
        let budget = Arc::new(Budget::new(100_000));
        let first = waiting(&budget, vec![1; 60_000].into());
        assert_eq!(budget.used(), 60_000);
        let part = first.slice(50_000..);
        drop(first);
        assert_eq!(budget.used(), 60_000, "some of it waits still");
        let second = waiting(&budget, vec![2; 60_000].into());
        assert_eq!((second.len(), budget.used()), (60_000, 60_000));
        drop((part, second));
        assert_eq!(budget.used(), 0);
    }

    #[test]
    fn small_numbers_are_counted_for_what_they_take() {
        let budget = Arc::new(Budget::new(usize::MAX));
        for part in ["1,", "{\"a\":1},", "[],", "\"\","] {
            let text = format!("[{}1]", part.repeat(50_000));
            let share = Share::of(&budget);
            share.read(text.as_bytes()).unwrap();
            let value: serde_json::Value = serde_json::from_str(&text).unwrap();
            let (counted, takes) = (budget.used(), takes(&value));
            assert!(
                counted >= takes && counted < takes * 5,
                "{part}: {counted} for {takes}"
            );
        }
    }

    /// What a value takes, without what the allocator adds.
    fn takes(value: &serde_json::Value) -> usize {
        use serde_json::Value;
        let own = size_of::<Value>();
        own + match value {
            Value::Array(all) => all.iter().map(takes).sum(),
            // A table of entries: hash, name and value, and an index.
            Value::Object(map) => map
                .iter()
                .map(|(k, v)| 24 + 8 + 8 + k.len().max(16) + takes(v))
                .sum(),
            Value::String(text) => text.len().max(16),
            Value::Number(_) => 16,
            _ => 0,
        }
    }
}
