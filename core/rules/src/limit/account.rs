//! What all nodes together counted of one subject under one limit, where that is kept in a place that they share.
//!
//! A node asks for what a call takes, and may ask for more at the same time: calls that come soon are then decided on the node
//! itself. What is lent like that is counted **as of the last moment at which it may be used**, so that no window holds more than
//! the limit whenever within its time it is used, by whichever clock. What was not used is given back; what a node that
//! died had is counted like what was used.

use super::states::{Counted, FIXED, SLIDING, SMOOTH, State};
use super::{Decision, Form, Limit, MS, window::slice_of};

/// One subject's count under one limit.
pub struct Account {
    state: State,
    window: u64,
    /// The latest moment that was asked about: a clock that goes back lets nothing pass.
    latest: u64,
}

/// What a node asks for.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Want {
    /// What the call that is waiting takes.
    pub weight: u64,
    /// What it would like to have for those that come next.
    pub more: u64,
    /// For how long, in milliseconds.
    pub hold: u64,
    /// How many nodes share the limit.
    pub nodes: u64,
}

/// What it gets.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Granted {
    /// For the call that is waiting; what is lent is no part of what it says is used.
    pub decision: Decision,
    /// For those that come next.
    pub more: u64,
    /// By which that is given back.
    pub more_at: u64,
}

/// Bytes of the head of what is written down, and of an entry.
const HEAD: usize = 17;
const ENTRY: usize = 16;

impl Account {
    /// Nothing counted yet.
    pub fn new(form: Form) -> Self {
        Self {
            state: State::of(form),
            window: 0,
            latest: 0,
        }
    }

    /// As it was written down; `None` where these are other bytes.
    pub fn read(bytes: &[u8]) -> Option<Self> {
        let (head, entries) = bytes.split_at_checked(HEAD)?;
        let number = |at: usize, of: &[u8]| {
            let eight = of.get(at..)?.first_chunk()?;
            Some(u64::from_le_bytes(*eight))
        };
        let form = match head[0] {
            SLIDING => Form::Sliding,
            SMOOTH => Form::Smooth { burst: 1 },
            FIXED => Form::Fixed { from: 0 },
            _ => return None,
        };
        let mut account = Self {
            state: State::of(form),
            window: number(1, head)?,
            latest: number(9, head)?,
        };
        for entry in entries.chunks(ENTRY) {
            account.state.read(&Counted {
                limit: 0,
                subject: 0,
                at: number(0, entry)?,
                weight: i64::try_from(number(8, entry)?).ok()?,
                window: account.window,
                form: head[0],
            });
        }
        Some(account)
    }

    /// As it is written down.
    pub fn write(&self) -> Vec<u8> {
        let all = self.state.written((0, 0), self.window);
        let form = match self.state {
            State::Sliding(_) => SLIDING,
            State::Smooth(_) => SMOOTH,
            State::Fixed(_) => FIXED,
        };
        let mut bytes = Vec::with_capacity(HEAD + all.len() * ENTRY);
        bytes.push(form);
        bytes.extend_from_slice(&self.window.to_le_bytes());
        bytes.extend_from_slice(&self.latest.to_le_bytes());
        for one in all {
            bytes.extend_from_slice(&one.at.to_le_bytes());
            bytes.extend_from_slice(&one.weight.to_le_bytes());
        }
        bytes
    }

    /// From when on nothing of it matters any more, unless it is asked before.
    pub fn over_at(&self) -> u64 {
        let windows = self.window.saturating_mul(2);
        match &self.state {
            State::Smooth(pace) => pace.due / MS,
            _ => self.latest.saturating_add(windows),
        }
    }

    /// What was counted in its period, and the period's beginning, where it has one.
    pub fn period(&self) -> Option<(u64, u64)> {
        match &self.state {
            State::Fixed(tally) => Some((tally.from, tally.used)),
            _ => None,
        }
    }

    fn at(&mut self, rule: Limit, now: u64) -> u64 {
        if !self.state.fits(rule.form) {
            self.state = State::of(rule.form);
        }
        self.window = rule.window_ms();
        self.latest = self.latest.max(now);
        self.latest
    }

    /// Asks for what a call takes, and for more; counts what is given. `now` is the shared place's own clock, in milliseconds.
    pub fn take(&mut self, rule: Limit, want: Want, now: u64) -> Granted {
        let now = self.at(rule, now);
        let decision = self.state.ask(rule, want.weight, now);
        let (mut more, mut more_at) = (0, 0);
        if decision.allowed && want.more > 0 {
            // Half of what is left, and of that each node's part: the last ones are for whoever asks first.
            let part = decision.remaining / want.nodes.max(1).saturating_mul(2);
            (more, more_at) = self.lend(rule, want.more.min(part), (want.hold, now));
        }
        Granted {
            decision,
            more,
            more_at,
        }
    }

    /// Lends so much until the time is over; what is lent, and by which it is given back.
    fn lend(&mut self, rule: Limit, more: u64, (hold, now): (u64, u64)) -> (u64, u64) {
        if more == 0 {
            return (0, 0);
        }
        match (&mut self.state, rule.form) {
            (State::Sliding(window), _) => {
                let slice = slice_of(rule);
                let at = now.saturating_add(hold) / slice * slice;
                window.count(at, more);
                (more, at)
            }
            (State::Fixed(tally), _) => {
                tally.used = tally.used.saturating_add(more);
                (more, tally.from)
            }
            // What is used late comes closer to what comes behind it: so much less of a burst there may be.
            (State::Smooth(pace), Form::Smooth { burst }) => {
                let each = (rule.window_ms().saturating_mul(MS) / rule.most.max(1)).max(1);
                let late = hold.saturating_mul(MS).div_ceil(each);
                match burst.checked_sub(late) {
                    Some(less) if less > 0 => {
                        let decision = pace.ask(rule, less, more, now);
                        match decision.allowed {
                            true => (more, decision.at),
                            false => (0, 0),
                        }
                    }
                    _ => (0, 0),
                }
            }
            (State::Smooth(_), _) => (0, 0),
        }
    }

    /// Takes back what was not used.
    pub fn give_back(&mut self, rule: Limit, weight: u64, at: u64, now: u64) {
        if self.state.fits(rule.form) {
            let now = self.latest.max(now);
            self.state.give_back(rule, weight, (at, now));
        }
    }

    /// Counts what has passed already, whether or not there is room; gives all that is counted now.
    pub fn charge(&mut self, rule: Limit, weight: u64, now: u64) -> u64 {
        let room = Limit {
            most: u64::MAX >> 1,
            ..rule
        };
        let now = self.at(rule, now);
        room.most - self.state.ask(room, weight, now).remaining
    }
}
