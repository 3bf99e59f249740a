//! Rate limits: so many requests in any window of a given length.
//!
//! The window slides: at every moment, the requests of the last `window` count. For small limits each request's time is
//! kept and the count is exact. For large ones the window is cut into [`SLICES`] slices; a slice that is only partly
//! inside still counts whole, so a limit is never exceeded, and at worst frees up one slice late.

use std::collections::{HashMap, VecDeque};
use std::sync::Mutex;
use std::time::Duration;

pub use porch_contract::stable_id;

/// Limits up to this many requests are kept request by request.
pub const EXACT_UP_TO: u32 = 256;
/// How finely larger windows are cut.
pub const SLICES: u64 = 60;

/// A limit: `requests` in any `window`.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Limit {
    /// Greatest number of requests.
    pub requests: u32,
    /// Length of the window.
    pub window: Duration,
}

/// What a limit says to one request.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Decision {
    /// Whether it may pass.
    pub allowed: bool,
    /// Requests left in the window.
    pub remaining: u32,
    /// Time until at least one more request is possible; zero while some are left.
    pub retry_after: Duration,
    /// Time until the whole limit is free again, if nobody calls.
    pub reset: Duration,
}

/// The state of one limit for one subject.
#[derive(Debug)]
pub struct Window {
    /// Times (or starts of slices) in milliseconds with the number of requests, the oldest first.
    passed: VecDeque<(u64, u32)>,
    total: u32,
}

impl Window {
    /// A window that nothing has passed yet.
    pub fn new() -> Self {
        Self {
            passed: VecDeque::new(),
            total: 0,
        }
    }

    /// Asks for one request at `now` (milliseconds on any clock that never goes back) and counts it if it may pass.
    pub fn ask(&mut self, limit: Limit, now: u64) -> Decision {
        let window = u64::try_from(limit.window.as_millis())
            .unwrap_or(u64::MAX)
            .max(1);
        let slice = if limit.requests <= EXACT_UP_TO {
            1
        } else {
            (window / SLICES).max(1)
        };
        // A slice counts until its last moment has left the window.
        while let Some(&(at, count)) = self.passed.front() {
            if at + slice - 1 + window > now {
                break;
            }
            self.total -= count;
            self.passed.pop_front();
        }
        let allowed = self.total < limit.requests;
        if allowed {
            let at = now / slice * slice;
            match self.passed.back_mut() {
                Some((last, count)) if *last == at => *count += 1,
                _ => self.passed.push_back((at, 1)),
            }
            self.total += 1;
        }
        let free_at =
            |at: u64| Duration::from_millis((at + slice - 1 + window).saturating_sub(now));
        let oldest = self
            .passed
            .front()
            .map_or(Duration::ZERO, |(at, _)| free_at(*at));
        let newest = self
            .passed
            .back()
            .map_or(Duration::ZERO, |(at, _)| free_at(*at));
        let remaining = limit.requests - self.total.min(limit.requests);
        Decision {
            allowed,
            remaining,
            retry_after: if remaining == 0 {
                oldest
            } else {
                Duration::ZERO
            },
            reset: newest,
        }
    }

    /// Takes the latest request back, as if it had not been made.
    pub fn give_back(&mut self) {
        if let Some((_, count)) = self.passed.back_mut() {
            *count -= 1;
            self.total -= 1;
            if *count == 0 {
                self.passed.pop_back();
            }
        }
    }

    /// Whether nothing of it matters any more at `now`.
    pub fn is_over(&self, window: Duration, now: u64) -> bool {
        let length = u64::try_from(window.as_millis()).unwrap_or(u64::MAX);
        self.passed
            .back()
            .is_none_or(|(at, _)| at.saturating_add(length.saturating_mul(2)) < now)
    }
}

impl Default for Window {
    fn default() -> Self {
        Self::new()
    }
}

/// The states of all limits, for all subjects: shared by the data plane's threads, kept across releases.
///
/// Each state lies behind one of many locks that are held for the few nanoseconds of a decision; two requests meet at a
/// lock only when they are of the same subject, or by chance.
pub struct Windows {
    shards: Vec<Mutex<Shard>>,
}

type Shard = HashMap<(u64, u64), (Window, Duration)>;

const SHARDS: usize = 256;

impl Windows {
    /// No states yet.
    pub fn new() -> Self {
        Self {
            shards: (0..SHARDS).map(|_| Mutex::default()).collect(),
        }
    }

    /// Asks for one request of a subject under a limit; both are numbers that stay the same across releases.
    pub fn ask(&self, limit_id: u64, subject: u64, limit: Limit, now: u64) -> Decision {
        let mut shard = self.shard(limit_id, subject);
        let (window, length) = shard
            .entry((limit_id, subject))
            .or_insert_with(|| (Window::new(), limit.window));
        *length = limit.window;
        window.ask(limit, now)
    }

    /// Takes back the latest request of a subject: a call that another limit refuses uses up nothing here.
    pub fn give_back(&self, limit_id: u64, subject: u64) {
        if let Some((window, _)) = self.shard(limit_id, subject).get_mut(&(limit_id, subject)) {
            window.give_back();
        }
    }

    fn shard(&self, limit_id: u64, subject: u64) -> std::sync::MutexGuard<'_, Shard> {
        let mixed = (limit_id ^ subject.rotate_left(32)).wrapping_mul(0x9e37_79b9_7f4a_7c15);
        self.shards[(mixed >> 56) as usize % SHARDS]
            .lock()
            .unwrap_or_else(std::sync::PoisonError::into_inner)
    }

    /// Forgets the states that no longer matter; to be called now and then.
    pub fn sweep(&self, now: u64) {
        for shard in &self.shards {
            shard
                .lock()
                .unwrap_or_else(std::sync::PoisonError::into_inner)
                .retain(|_, (w, length)| !w.is_over(*length, now));
        }
    }

    /// How many states there are.
    pub fn len(&self) -> usize {
        self.shards
            .iter()
            .map(|s| {
                s.lock()
                    .unwrap_or_else(std::sync::PoisonError::into_inner)
                    .len()
            })
            .sum()
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }
}

impl Default for Windows {
    fn default() -> Self {
        Self::new()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn the_sixth_in_two_minutes_waits_for_the_first_to_leave() {
        let limit = Limit {
            requests: 5,
            window: Duration::from_secs(120),
        };
        let mut window = Window::new();
        for i in 0..5 {
            let d = window.ask(limit, i * 1000);
            assert!(d.allowed && d.remaining == 4 - i as u32);
        }
        let d = window.ask(limit, 10_000);
        assert_eq!(
            (d.allowed, d.remaining, d.retry_after),
            (false, 0, Duration::from_secs(110))
        );
        assert_eq!(d.reset, Duration::from_secs(114));
        assert!(!window.ask(limit, 119_999).allowed);
        assert!(window.ask(limit, 120_000).allowed);
        assert!(!window.ask(limit, 120_500).allowed);
    }

    #[test]
    fn states_are_apart_and_forgotten_when_over() {
        let (windows, limit) = (
            Windows::new(),
            Limit {
                requests: 1,
                window: Duration::from_secs(1),
            },
        );
        assert!(
            windows.ask(1, 1, limit, 0).allowed
                && windows.ask(1, 2, limit, 0).allowed
                && windows.ask(2, 1, limit, 0).allowed
        );
        assert!(!windows.ask(1, 1, limit, 0).allowed);
        assert_eq!(windows.len(), 3);
        windows.sweep(10_000);
        assert!(windows.is_empty());
    }

    proptest! {
        /// At no moment have more than the limit passed in the window before it; and a limit is never stricter than one
        /// slice makes it.
        #[test]
        fn never_more_than_the_limit_in_any_window(requests in prop_oneof![1u32..20, 257u32..300], steps in proptest::collection::vec(0u64..40, 1..900)) {
            let limit = Limit { requests, window: Duration::from_millis(1000) };
            let (mut window, mut now, mut passed) = (Window::new(), 0, Vec::new());
            for step in steps {
                now += step;
                let d = window.ask(limit, now);
                let recent = passed.iter().filter(|t| **t + 1000 > now).count() as u32;
                let slack = passed.iter().filter(|t| **t + 1000 + 1000 / SLICES > now).count() as u32;
                if d.allowed {
                    prop_assert!(recent < requests);
                    passed.push(now);
                } else {
                    prop_assert!(slack >= requests);
                    prop_assert!(window.ask(limit, now + d.retry_after.as_millis() as u64).allowed);
                    passed.push(now + d.retry_after.as_millis() as u64);
                    now += d.retry_after.as_millis() as u64;
                }
            }
        }
    }
}
