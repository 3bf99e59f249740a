//! Limits: so much in a window of a given length, or in a period of the calendar.
//!
//! * **Sliding**: at every moment, what was counted in the last `window` counts. For small limits each request's time is kept
//!   and the count is exact. For large ones the window is cut into [`SLICES`] slices; a slice that is only partly inside still
//!   counts whole, so a limit is never exceeded, and at worst frees up one slice late.
//! * **Smooth**: what is allowed comes at even distances, and a burst of it at once (the generic cell rate algorithm, ITU-T
//!   I.371 annex A, in its form of virtual scheduling). It takes sixteen bytes whatever the rate; in any window at most
//!   `most + burst − 1` pass.
//! * **Fixed**: what is counted between two moments; for quotas.

mod account;
mod again;
mod lease;
mod places;
mod states;
mod window;

use std::time::Duration;

pub use account::{Account, Granted, Want};
pub use again::Again;
pub use lease::{Leases, Returned, Taken};
pub use places::{Places, PlacesAsked, PlacesTold};
pub use porch_contract::stable_id;
pub use states::{Counted, Log, SHARDS, States};
pub use window::Window;

/// Limits up to this many requests are kept request by request.
pub const EXACT_UP_TO: u64 = 256;
/// How finely larger windows are cut.
pub const SLICES: u64 = 60;

/// How it is counted.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Form {
    /// In any window.
    Sliding,
    /// At even distances, with so much at once.
    Smooth {
        /// How much may come at once.
        burst: u64,
    },
    /// From a moment on, in milliseconds since 1970, for as long as the window is.
    Fixed {
        /// Its beginning.
        from: u64,
    },
}

/// A limit: `most` in any `window`.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Limit {
    /// Greatest number: of requests, or of what they weigh.
    pub most: u64,
    /// Length of the window.
    pub window: Duration,
    /// How it is counted.
    pub form: Form,
}

impl Limit {
    /// So many in any window of a length.
    pub const fn of(most: u64, window: Duration) -> Self {
        Self {
            most,
            window,
            form: Form::Sliding,
        }
    }

    fn window_ms(&self) -> u64 {
        u64::try_from(self.window.as_millis())
            .unwrap_or(u64::MAX)
            .max(1)
    }
}

/// What a limit says to one request.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Decision {
    /// Whether it may pass.
    pub allowed: bool,
    /// How much is left.
    pub remaining: u64,
    /// Time until as much is possible as was asked for, and one more where nothing is left; zero while there is.
    pub retry_after: Duration,
    /// Time until the whole limit is free again, if nobody calls.
    pub reset: Duration,
    /// By which it is given back.
    pub at: u64,
}

/// So many requests in any window, at distances: the state of a smooth limit.
#[derive(Clone, Copy, Debug, Default)]
pub struct Pace {
    /// When the next one is due, in nanoseconds.
    due: u64,
}

const MS: u64 = 1_000_000;

impl Pace {
    /// The distance between two, and how far ahead of their time some may come, in nanoseconds.
    fn pace(limit: Limit, burst: u64) -> (u64, u64) {
        let window = limit.window_ms().saturating_mul(MS);
        let each = (window / limit.most.max(1)).max(1);
        // Nothing is told apart within one millisecond of the clock.
        let burst = burst.max(MS.div_ceil(each)).clamp(1, limit.most.max(1));
        (each, each.saturating_mul(burst))
    }

    /// Asks for so much at `now` in milliseconds, and counts it if it may pass.
    pub fn ask(&mut self, limit: Limit, burst: u64, weight: u64, now: u64) -> Decision {
        let (each, ahead) = Self::pace(limit, burst);
        let now = now.saturating_mul(MS);
        let due = self.due.max(now);
        let then = due.saturating_add(each.saturating_mul(weight));
        let last = now.saturating_add(ahead);
        let allowed = limit.most > 0 && then <= last;
        if allowed {
            self.due = then;
        }
        let due = self.due.max(now);
        let remaining = (last.saturating_sub(due) / each).min(limit.most);
        let wanted = weight.max(1);
        let missing = due
            .saturating_add(each.saturating_mul(wanted))
            .saturating_sub(last);
        Decision {
            allowed,
            remaining,
            retry_after: match !allowed || remaining == 0 {
                true => Duration::from_nanos(missing),
                false => Duration::ZERO,
            },
            reset: Duration::from_nanos(due - now),
            at: self.due / MS,
        }
    }

    /// Takes back what has not passed by itself since.
    pub fn give_back(&mut self, limit: Limit, burst: u64, weight: u64, (at, now): (u64, u64)) {
        let (each, _) = Self::pace(limit, burst);
        let left = at.saturating_sub(now).saturating_mul(MS);
        self.due -= each.saturating_mul(weight).min(left).min(self.due);
    }
}

/// What was counted in one period.
#[derive(Clone, Copy, Debug, Default)]
pub struct Tally {
    from: u64,
    used: u64,
}

impl Tally {
    /// Asks for so much, and counts it if it may pass.
    pub fn ask(&mut self, limit: Limit, from: u64, weight: u64, now: u64) -> Decision {
        // A clock that went back begins no period anew.
        if from > self.from {
            *self = Self { from, used: 0 };
        }
        let allowed = self.used.saturating_add(weight) <= limit.most;
        if allowed {
            self.used += weight;
        }
        let ends = self.from.saturating_add(limit.window_ms());
        let left = Duration::from_millis(ends.saturating_sub(now));
        let remaining = limit.most.saturating_sub(self.used);
        Decision {
            allowed,
            remaining,
            retry_after: match !allowed || remaining == 0 {
                true => left,
                false => Duration::ZERO,
            },
            reset: left,
            at: self.from,
        }
    }

    /// Takes back what was counted in the same period.
    pub fn give_back(&mut self, weight: u64, at: u64) {
        if self.from == at {
            self.used -= weight.min(self.used);
        }
    }
}

#[cfg(test)]
mod simulation;
#[cfg(test)]
mod tests;
