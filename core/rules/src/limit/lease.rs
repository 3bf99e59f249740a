//! What this node has been lent of counts that all nodes share, so that not each call asks for itself.
//!
//! How much it asks for follows its traffic: as much as it let pass in the time for which something is lent, and nothing where
//! that was a single call. All times here are those of this node's own clock that never goes back; what is lent ends by it
//! before it ends by the clock of whoever lends, since it counts from the moment before it asked.

use std::collections::HashMap;
use std::time::Duration;

use super::{Decision, Form, Granted, Limit, Want};

/// For how long something is lent at most, in milliseconds.
const HOLD: u64 = 500;
/// A refusal is asked about again after so many milliseconds, however long it says to wait: others give back what they had.
const AGAIN: u64 = 50;
/// Subjects that are remembered; of more of them each call asks for itself.
const MOST: usize = 100_000;

type Key = (u64, u64);

/// What a node has been lent, of all limits and subjects.
#[derive(Default)]
pub struct Leases {
    all: HashMap<Key, Lease>,
    /// What is to be given back, from before.
    back: Vec<Returned>,
}

/// Of one limit and subject.
struct Lease {
    rule: Limit,
    /// How much of it is left, until when, and by which it is given back.
    left: u64,
    until: u64,
    at: u64,
    /// What was let pass since `since`, and in the time before that.
    passed: u64,
    before: u64,
    since: u64,
    /// What was said last, and when.
    said: Decision,
    said_at: u64,
}

/// What is decided here of a call.
#[derive(Debug, PartialEq, Eq)]
pub enum Taken {
    /// It passes, or does not.
    Decided(Decision),
    /// Whoever lends is to be asked.
    Ask(Want),
}

/// Something that is given back.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Returned {
    /// Limit and subject.
    pub key: Key,
    /// The limit.
    pub rule: Limit,
    /// How much.
    pub weight: u64,
    /// By which it was counted.
    pub at: u64,
}

/// For how long something of a limit is lent.
fn hold(rule: Limit) -> u64 {
    HOLD.min(rule.window_ms() / 32)
}

impl Lease {
    fn new(rule: Limit, now: u64) -> Self {
        Self {
            rule,
            left: 0,
            until: 0,
            at: 0,
            passed: 0,
            before: 0,
            since: now,
            said: Decision {
                allowed: true,
                remaining: 0,
                retry_after: Duration::ZERO,
                reset: Duration::ZERO,
                at: 0,
            },
            said_at: 0,
        }
    }

    fn count(&mut self, weight: u64, now: u64) {
        let hold = hold(self.rule).max(1);
        let since = now.saturating_sub(self.since);
        if since >= hold {
            self.before = if since < 2 * hold { self.passed } else { 0 };
            self.passed = 0;
            self.since = now;
        }
        self.passed = self.passed.saturating_add(weight);
    }

    /// What is left when it is no longer good.
    fn over(&mut self, key: Key) -> Option<Returned> {
        let weight = std::mem::take(&mut self.left);
        (weight > 0).then_some(Returned {
            key,
            rule: self.rule,
            weight,
            at: self.at,
        })
    }
}

impl Leases {
    /// Decides of a call, where that is possible without asking; `now` in milliseconds.
    pub fn take(&mut self, key: Key, rule: Limit, weight: u64, nodes: u64, now: u64) -> Taken {
        let mut want = Want {
            weight,
            more: 0,
            hold: hold(rule),
            nodes,
        };
        if self.all.len() >= MOST && !self.all.contains_key(&key) {
            return Taken::Ask(want);
        }
        let lease = (self.all.entry(key)).or_insert_with(|| Lease::new(rule, now));
        if lease.rule != rule || now >= lease.until {
            self.back.extend(lease.over(key));
        }
        // What another number refused is not refused by this one.
        lease.said.allowed |= lease.rule != rule;
        lease.rule = rule;
        if lease.left >= weight && weight > 0 {
            lease.left -= weight;
            lease.count(weight, now);
            return Taken::Decided(Decision {
                allowed: true,
                remaining: lease.said.remaining.saturating_add(lease.left),
                retry_after: Duration::ZERO,
                reset: lease.said.reset,
                at: lease.at,
            });
        }
        // What was refused a moment ago is refused still; a period that began anew is another one.
        let since = now.saturating_sub(lease.said_at);
        let same = !matches!(rule.form, Form::Fixed { from } if from != lease.said.at);
        if !lease.said.allowed && same && since < AGAIN && weight > lease.said.remaining {
            let passed = Duration::from_millis(since);
            let wait = lease.said.retry_after.saturating_sub(passed);
            if !wait.is_zero() {
                return Taken::Decided(Decision {
                    retry_after: wait,
                    ..lease.said
                });
            }
        }
        lease.count(weight, now);
        want.more = lease.passed.max(lease.before).saturating_sub(weight);
        Taken::Ask(want)
    }

    /// What was lent; `asked` is when that was asked for, by this node's clock.
    pub fn granted(&mut self, key: Key, rule: Limit, granted: &Granted, asked: u64, now: u64) {
        let returned = Returned {
            key,
            rule,
            weight: granted.more,
            at: granted.more_at,
        };
        let until = asked.saturating_add(hold(rule));
        let Some(lease) = self.all.get_mut(&key).filter(|l| l.rule == rule) else {
            self.back.extend((granted.more > 0).then_some(returned));
            return;
        };
        (lease.said, lease.said_at) = (granted.decision, now);
        // What is lent here is counted down apart from what is left for all.
        lease.said.remaining = lease.said.remaining.saturating_sub(granted.more);
        if granted.more == 0 {
            return;
        }
        if now >= until {
            self.back.push(returned);
            return;
        }
        self.back.extend(lease.over(key));
        (lease.left, lease.at, lease.until) = (granted.more, granted.more_at, until);
    }

    /// Takes back what a call took that is refused further on; what can no longer be used here goes back to whoever lent it.
    pub fn give_back(&mut self, returned: Returned, now: u64) {
        match self.all.get_mut(&returned.key) {
            Some(lease)
                if lease.at == returned.at && lease.rule == returned.rule && now < lease.until =>
            {
                lease.left = lease.left.saturating_add(returned.weight);
            }
            _ => self.back.push(returned),
        }
        if let Some(lease) = self.all.get_mut(&returned.key) {
            // A refusal of before may be none any more.
            lease.said.allowed = true;
        }
    }

    /// What is given back now: of time that is over, and of before.
    pub fn returned(&mut self, now: u64) -> Vec<Returned> {
        let back = &mut self.back;
        self.all.retain(|key, lease| {
            if now >= lease.until {
                back.extend(lease.over(*key));
            }
            now.saturating_sub(lease.since) < 4 * HOLD || lease.left > 0
        });
        std::mem::take(back)
    }

    /// Everything that is left, when the node stops.
    pub fn all(&mut self) -> Vec<Returned> {
        let back = &mut self.back;
        for (key, mut lease) in self.all.drain() {
            back.extend(lease.over(key));
        }
        std::mem::take(back)
    }
}
