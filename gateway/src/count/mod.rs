//! Counts: how many requests of a subject a limit has let pass.

use porch_rules::limit::{Decision, Limit, Windows};

/// Where requests are counted. Limits and subjects are numbers that stay the same from release to release.
pub trait Counters: Send + Sync {
    /// Asks for one request of a subject under a limit, and counts it if it may pass. `now` is in milliseconds on a clock that
    /// never goes back.
    fn ask(&self, limit: u64, subject: u64, rule: Limit, now: u64) -> Decision;

    /// Takes back the latest request of a subject: a call that another limit refuses uses up nothing here.
    fn give_back(&self, limit: u64, subject: u64);

    /// Forgets what no longer matters; to be called now and then.
    fn sweep(&self, now: u64);
}

/// Sliding windows in the memory of this node.
impl Counters for Windows {
    fn ask(&self, limit: u64, subject: u64, rule: Limit, now: u64) -> Decision {
        Windows::ask(self, limit, subject, rule, now)
    }

    fn give_back(&self, limit: u64, subject: u64) {
        Windows::give_back(self, limit, subject);
    }

    fn sweep(&self, now: u64) {
        Windows::sweep(self, now);
    }
}
