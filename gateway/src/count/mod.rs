//! Counts: how many requests of a subject a limit has let pass.

pub(crate) mod at_once;
mod common;
mod journal;
mod quotas;

pub use common::{Ask, Away, CommonCounts, CommonState, Soon};
pub use journal::{JournalError, Journals};
pub use quotas::{agreed, counted_for, limit_in, period_of};

use porch_rules::limit::{Decision, Limit, States};

/// Where requests are counted. Limits and subjects are numbers that stay the same from release to release; `now` is in
/// milliseconds on a clock that never goes back.
pub trait Counters: Send + Sync {
    /// Asks for so much of a subject under a limit, and counts it if it may pass.
    fn ask(&self, limit: u64, subject: u64, rule: Limit, weight: u64, now: u64) -> Decision;

    /// Takes back what was counted: a call that is refused further on uses up nothing.
    fn give_back(&self, limit: u64, subject: u64, rule: Limit, weight: u64, when: (u64, u64));

    /// Counts what has passed already, whether or not there is room; gives all that is counted now.
    fn charge(&self, limit: u64, subject: u64, rule: Limit, weight: u64, now: u64) -> u64;

    /// What was counted in periods: limit, subject, the period's beginning, and how much; at most so many.
    fn periods(&self, most: usize) -> Vec<(u64, u64, u64, u64)>;

    /// Forgets what no longer matters; to be called now and then.
    fn sweep(&self, now: u64);
}

/// In the memory of this node, and written down where it has logs.
impl Counters for States {
    fn ask(&self, limit: u64, subject: u64, rule: Limit, weight: u64, now: u64) -> Decision {
        States::ask(self, limit, subject, rule, weight, now)
    }

    fn give_back(&self, limit: u64, subject: u64, rule: Limit, weight: u64, when: (u64, u64)) {
        States::give_back(self, limit, subject, rule, weight, when);
    }

    fn charge(&self, limit: u64, subject: u64, rule: Limit, weight: u64, now: u64) -> u64 {
        let room = Limit {
            most: u64::MAX >> 1,
            ..rule
        };
        let decision = States::ask(self, limit, subject, room, weight, now);
        room.most - decision.remaining
    }

    fn periods(&self, most: usize) -> Vec<(u64, u64, u64, u64)> {
        States::periods(self, most)
    }

    fn sweep(&self, now: u64) {
        States::sweep(self, now);
    }
}
