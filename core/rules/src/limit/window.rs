//! Sliding windows.

use std::collections::VecDeque;
use std::time::Duration;

use super::{Decision, EXACT_UP_TO, Limit, SLICES};

/// The state of one sliding limit for one subject.
#[derive(Debug, Default)]
pub struct Window {
    /// Times (or starts of slices) in milliseconds with what was counted, the oldest first.
    passed: VecDeque<(u64, u64)>,
    total: u64,
}

/// How long what is counted at one moment counts on: a slice counts until its last moment has left the window.
pub(super) fn slice_of(limit: Limit) -> u64 {
    match limit.most <= EXACT_UP_TO {
        true => 1,
        false => (limit.window_ms() / SLICES).max(1),
    }
}

impl Window {
    /// A window that nothing has passed yet.
    pub fn new() -> Self {
        Self::default()
    }

    /// Asks for so much at `now` (milliseconds on a clock that never goes back) and counts it if it may pass.
    pub fn ask(&mut self, limit: Limit, weight: u64, now: u64) -> Decision {
        let (window, slice) = (limit.window_ms(), slice_of(limit));
        while let Some(&(at, count)) = self.passed.front() {
            if at.saturating_add(slice - 1).saturating_add(window) > now {
                break;
            }
            self.total -= count;
            self.passed.pop_front();
        }
        let allowed = self.total.saturating_add(weight) <= limit.most;
        let at = now / slice * slice;
        if allowed && weight > 0 {
            self.count(at, weight);
        }
        let free_at = |at: u64| {
            let free = at.saturating_add(slice - 1).saturating_add(window);
            Duration::from_millis(free.saturating_sub(now))
        };
        let remaining = limit.most.saturating_sub(self.total);
        let wanted = match allowed {
            true => u64::from(remaining == 0),
            false => weight,
        };
        Decision {
            allowed,
            remaining,
            retry_after: self
                .until_free(limit, wanted)
                .map_or(Duration::ZERO, free_at),
            reset: (self.passed.back()).map_or(Duration::ZERO, |(at, _)| free_at(*at)),
            at,
        }
    }

    /// The moment whose leaving makes room for so much; `None` where there is room.
    fn until_free(&self, limit: Limit, wanted: u64) -> Option<u64> {
        let mut room = limit.most.saturating_sub(self.total);
        if wanted <= room {
            return None;
        }
        for (at, count) in &self.passed {
            room = room.saturating_add(*count);
            if room >= wanted {
                return Some(*at);
            }
        }
        self.passed.back().map(|(at, _)| *at)
    }

    /// Counts at a moment, which is seldom not the latest.
    pub(super) fn count(&mut self, at: u64, weight: u64) {
        self.total = self.total.saturating_add(weight);
        match self.passed.back_mut() {
            Some((last, count)) if *last == at => *count = count.saturating_add(weight),
            Some((last, _)) if *last > at => {
                let place = self.passed.partition_point(|(t, _)| *t < at);
                match self.passed.get_mut(place) {
                    Some((t, count)) if *t == at => *count = count.saturating_add(weight),
                    _ => self.passed.insert(place, (at, weight)),
                }
            }
            _ => self.passed.push_back((at, weight)),
        }
    }

    /// Takes back what was counted at a moment, as if it had not been asked for.
    pub fn give_back(&mut self, weight: u64, at: u64) {
        let place = self.passed.partition_point(|(t, _)| *t < at);
        let Some((t, count)) = self.passed.get_mut(place) else {
            return;
        };
        if *t != at {
            return;
        }
        let back = weight.min(*count);
        *count -= back;
        self.total -= back;
        if *count == 0 {
            self.passed.remove(place);
        }
    }

    /// Whether nothing of it matters any more at `now`.
    pub fn is_over(&self, window: u64, now: u64) -> bool {
        self.passed
            .back()
            .is_none_or(|(at, _)| at.saturating_add(window.saturating_mul(2)) < now)
    }

    /// What was counted, by its moments.
    pub(super) fn entries(&self) -> impl Iterator<Item = (u64, u64)> + '_ {
        self.passed.iter().copied()
    }
}
