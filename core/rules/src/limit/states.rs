//! The states of all limits, for all subjects, and what is written down of them.

use std::collections::HashMap;
use std::sync::{Mutex, MutexGuard, PoisonError};

use super::{Decision, Form, Limit, Pace, Tally, Window};

/// Something that was counted, as it is written down.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Counted {
    /// The limit.
    pub limit: u64,
    /// The subject.
    pub subject: u64,
    /// When, as its state has it: of a sliding limit the moment, of a smooth one when the next is due in nanoseconds, of a
    /// period its beginning.
    pub at: u64,
    /// How much; of smooth limits and periods all of it until then, of sliding ones this much more, or less.
    pub weight: i64,
    /// Length of the window in milliseconds.
    pub window: u64,
    /// `s`liding, s`m`ooth or `f`ixed.
    pub form: u8,
}

/// Where what is counted is written down before anybody is told that it was.
pub trait Log: Send {
    /// Writes one down; whether there is room for more.
    fn note(&mut self, counted: &Counted) -> bool;

    /// Begins anew with these, which are all that matters.
    fn restart(&mut self, all: &mut dyn Iterator<Item = Counted>);
}

/// The states of all limits, for all subjects: shared by the data plane's threads, kept across releases.
///
/// Each state lies behind one of many locks that are held for the few nanoseconds of a decision; two requests meet at a
/// lock only when they are of the same subject, or by chance.
pub struct States {
    shards: Vec<Mutex<Shard>>,
}

#[derive(Default)]
struct Shard {
    states: HashMap<(u64, u64), (State, u64)>,
    log: Option<Box<dyn Log>>,
    /// The latest moment that was asked about.
    latest: u64,
}

pub(super) enum State {
    Sliding(Window),
    Smooth(Pace),
    Fixed(Tally),
}

/// Subjects of one lock: more than all of them together are not told apart, so that whoever makes subjects up takes no more
/// memory. Those share one count, which is none too many.
const MOST: usize = if cfg!(test) { 200 } else { 50_000 };
const OTHERS: u64 = u64::MAX;

/// How many locks, and logs, there are.
pub const SHARDS: usize = 64;

pub(super) const SLIDING: u8 = b's';
pub(super) const SMOOTH: u8 = b'm';
pub(super) const FIXED: u8 = b'f';

impl State {
    pub(super) fn of(form: Form) -> Self {
        match form {
            Form::Sliding => State::Sliding(Window::new()),
            Form::Smooth { .. } => State::Smooth(Pace::default()),
            Form::Fixed { .. } => State::Fixed(Tally::default()),
        }
    }

    pub(super) fn fits(&self, form: Form) -> bool {
        matches!(
            (self, form),
            (State::Sliding(_), Form::Sliding)
                | (State::Smooth(_), Form::Smooth { .. })
                | (State::Fixed(_), Form::Fixed { .. })
        )
    }

    pub(super) fn ask(&mut self, limit: Limit, weight: u64, now: u64) -> Decision {
        match (self, limit.form) {
            (State::Smooth(pace), Form::Smooth { burst }) => pace.ask(limit, burst, weight, now),
            (State::Fixed(tally), Form::Fixed { from }) => tally.ask(limit, from, weight, now),
            (State::Sliding(window), _) => window.ask(limit, weight, now),
            // Another form has another state.
            (State::Smooth(_) | State::Fixed(_), _) => Window::new().ask(limit, weight, now),
        }
    }

    pub(super) fn give_back(&mut self, limit: Limit, weight: u64, (at, now): (u64, u64)) {
        match (self, limit.form) {
            (State::Sliding(window), _) => window.give_back(weight, at),
            (State::Fixed(tally), _) => tally.give_back(weight, at),
            (State::Smooth(pace), Form::Smooth { burst }) => {
                pace.give_back(limit, burst, weight, (at, now));
            }
            (State::Smooth(_), _) => {}
        }
    }

    pub(super) fn is_over(&self, window: u64, now: u64) -> bool {
        match self {
            State::Sliding(of) => of.is_over(window, now),
            State::Smooth(pace) => pace.due / super::MS < now,
            State::Fixed(tally) => tally.from.saturating_add(window.saturating_mul(2)) < now,
        }
    }

    /// What is written down of it, all in all.
    pub(super) fn written(&self, (limit, subject): (u64, u64), window: u64) -> Vec<Counted> {
        let one = |at, weight: u64, form| Counted {
            limit,
            subject,
            at,
            weight: i64::try_from(weight).unwrap_or(i64::MAX),
            window,
            form,
        };
        match self {
            State::Sliding(of) => of.entries().map(|(at, w)| one(at, w, SLIDING)).collect(),
            State::Smooth(pace) => vec![one(pace.due, 0, SMOOTH)],
            State::Fixed(tally) => vec![one(tally.from, tally.used, FIXED)],
        }
    }

    pub(super) fn read(&mut self, counted: &Counted) {
        let weight = counted.weight.unsigned_abs();
        match self {
            State::Sliding(of) if counted.weight < 0 => of.give_back(weight, counted.at),
            State::Sliding(of) => of.count(counted.at, weight),
            State::Smooth(pace) => pace.due = counted.at,
            State::Fixed(tally) => {
                *tally = Tally {
                    from: counted.at,
                    used: weight,
                }
            }
        }
    }
}

impl Shard {
    /// Writes down what was counted of one subject: `weight` more of a sliding limit at a moment, or all that its state has.
    fn note(&mut self, key: (u64, u64), weight: i64, at: u64) {
        let Some(log) = &mut self.log else { return };
        let Some((state, window)) = self.states.get(&key) else {
            return;
        };
        let counted = match state {
            State::Sliding(_) => Counted {
                limit: key.0,
                subject: key.1,
                at,
                weight,
                window: *window,
                form: SLIDING,
            },
            other => match other.written(key, *window).pop() {
                Some(counted) => counted,
                None => return,
            },
        };
        if log.note(&counted) {
            return;
        }
        let latest = self.latest;
        self.states.retain(|_, (s, w)| !s.is_over(*w, latest));
        let all = self.states.iter();
        log.restart(&mut all.flat_map(|(key, (state, window))| state.written(*key, *window)));
    }
}

impl States {
    /// No states yet, kept in memory alone.
    pub fn new() -> Self {
        Self {
            shards: (0..SHARDS).map(|_| Mutex::default()).collect(),
        }
    }

    /// The states that were written down, each shard's with its log. What a clock that was wrong for a while dated later than
    /// a window from now is counted as of now, or, of a period, not at all.
    pub fn of_logs(logs: impl IntoIterator<Item = (Vec<Counted>, Box<dyn Log>)>, now: u64) -> Self {
        let states = Self::new();
        for (shard, (counted, log)) in states.shards.iter().zip(logs) {
            let mut shard = lock(shard);
            for mut one in counted {
                let last = now.saturating_add(one.window);
                let form = match one.form {
                    SLIDING => Form::Sliding,
                    SMOOTH => Form::Smooth { burst: 1 },
                    FIXED => Form::Fixed { from: 0 },
                    _ => continue,
                };
                match form {
                    Form::Sliding => one.at = one.at.min(last),
                    Form::Smooth { .. } => one.at = one.at.min(last.saturating_mul(super::MS)),
                    Form::Fixed { .. } if one.at > last => continue,
                    Form::Fixed { .. } => {}
                }
                let state = shard.states.entry((one.limit, one.subject));
                let (state, _) = state.or_insert_with(|| (State::of(form), one.window));
                if state.fits(form) {
                    state.read(&one);
                }
            }
            shard.log = Some(log);
        }
        states
    }

    /// Asks for so much of a subject under a limit; both are numbers that stay the same across releases.
    pub fn ask(
        &self,
        limit_id: u64,
        subject: u64,
        limit: Limit,
        weight: u64,
        now: u64,
    ) -> Decision {
        let mut key = (limit_id, subject);
        let mut shard = self.shard(key);
        shard.latest = shard.latest.max(now);
        if shard.states.len() >= MOST && !shard.states.contains_key(&key) {
            key.1 = OTHERS;
        }
        // A clock that goes back lets nothing pass that would not have passed.
        let now = shard.latest;
        let window = limit.window_ms();
        let (state, length) = shard
            .states
            .entry(key)
            .or_insert_with(|| (State::of(limit.form), window));
        if !state.fits(limit.form) {
            *state = State::of(limit.form);
        }
        *length = window;
        let decision = state.ask(limit, weight, now);
        if decision.allowed && weight > 0 && shard.log.is_some() {
            let weight = i64::try_from(weight).unwrap_or(i64::MAX);
            shard.note(key, weight, decision.at);
        }
        decision
    }

    /// Takes back what was counted: a call that is refused further on uses up nothing.
    pub fn give_back(
        &self,
        limit_id: u64,
        subject: u64,
        limit: Limit,
        weight: u64,
        (at, now): (u64, u64),
    ) {
        let key = (limit_id, subject);
        let mut shard = self.shard(key);
        let Some((state, _)) = shard.states.get_mut(&key) else {
            return;
        };
        state.give_back(limit, weight, (at, now));
        let weight = i64::try_from(weight).unwrap_or(i64::MAX);
        shard.note(key, -weight, at);
    }

    /// What a subject has used of a period; `None` where nothing was counted in it.
    pub fn used(&self, limit_id: u64, subject: u64, from: u64) -> Option<u64> {
        match self
            .shard((limit_id, subject))
            .states
            .get(&(limit_id, subject))?
        {
            (State::Fixed(tally), _) if tally.from == from => Some(tally.used),
            _ => None,
        }
    }

    /// What was counted in periods: limit, subject, the period's beginning, and how much; at most so many.
    pub fn periods(&self, most: usize) -> Vec<(u64, u64, u64, u64)> {
        let mut all = Vec::new();
        for shard in &self.shards {
            let shard = lock(shard);
            let of_period = |(key, (state, _)): (&(u64, u64), &(State, u64))| match state {
                State::Fixed(tally) => Some((key.0, key.1, tally.from, tally.used)),
                _ => None,
            };
            let found = shard.states.iter().filter_map(of_period);
            all.extend(found.take(most - all.len()));
        }
        all
    }

    fn shard(&self, (limit_id, subject): (u64, u64)) -> MutexGuard<'_, Shard> {
        let mixed = (limit_id ^ subject.rotate_left(32)).wrapping_mul(0x9e37_79b9_7f4a_7c15);
        lock(&self.shards[(mixed >> 56) as usize % SHARDS])
    }

    /// Forgets the states that no longer matter; to be called now and then.
    pub fn sweep(&self, now: u64) {
        for shard in &self.shards {
            let mut shard = lock(shard);
            shard
                .states
                .retain(|_, (s, window)| !s.is_over(*window, now));
        }
    }

    /// How many states there are.
    pub fn len(&self) -> usize {
        self.shards.iter().map(|s| lock(s).states.len()).sum()
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }
}

fn lock(shard: &Mutex<Shard>) -> MutexGuard<'_, Shard> {
    shard.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Default for States {
    fn default() -> Self {
        Self::new()
    }
}
