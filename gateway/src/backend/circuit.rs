//! Backends that are left alone for a while, since too many of their calls failed; they come back slowly.
//!
//! All workers share what is known of one: it hangs on the identity of the backend.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use porch_facade::{Circuit, CompiledBackend};

/// Parts of the time that is looked back.
const PARTS: usize = 10;
/// More backends than this are not kept in mind: identities of old releases end here.
const KEPT: usize = 10_000;

/// What is known of backends, by their identities.
#[derive(Default)]
pub(crate) struct Circuits(Mutex<HashMap<u64, Arc<Mutex<State>>>>);

/// What is known of one.
struct State {
    /// Calls and failures of each part of the time that is looked back.
    parts: [(u32, u32); PARTS],
    /// The number of the latest part since the beginning.
    latest: u64,
    begun: Instant,
    /// Until when it is left alone; it comes back behind that.
    open: Option<Instant>,
    /// Calls that passed while it comes back.
    back: u32,
}

impl State {
    fn new(now: Instant) -> Self {
        Self {
            parts: [(0, 0); PARTS],
            latest: 0,
            begun: now,
            open: None,
            back: 0,
        }
    }

    /// The part of now, those between made empty.
    fn part(&mut self, rule: &Circuit, now: Instant) -> &mut (u32, u32) {
        let length = (rule.within / PARTS as u32).max(Duration::from_millis(1));
        let passed = now.saturating_duration_since(self.begun).as_nanos() / length.as_nanos();
        let number = u64::try_from(passed).unwrap_or(u64::MAX);
        let missed = number.saturating_sub(self.latest).min(PARTS as u64);
        for i in 1..=missed {
            self.parts[((self.latest + i) % PARTS as u64) as usize] = (0, 0);
        }
        self.latest = self.latest.max(number);
        &mut self.parts[(self.latest % PARTS as u64) as usize]
    }

    /// Whether a call may be made; how long it is left alone still, where it may not.
    fn ask(&mut self, rule: &Circuit, now: Instant, random: u64) -> Result<(), Duration> {
        let Some(until) = self.open else {
            return Ok(());
        };
        if now < until {
            return Err(until - now);
        }
        // The first passes alone; of the others more and more, until all do.
        if self.back == 0 {
            self.back = 1;
            return Ok(());
        }
        let since = now - until;
        if since >= rule.back {
            return Ok(());
        }
        let part = since.as_secs_f64() / rule.back.as_secs_f64();
        let passes = (random % 1_000_000) as f64 / 1_000_000.0 < part;
        match passes {
            true => {
                self.back = self.back.saturating_add(1);
                Ok(())
            }
            false => Err(Duration::from_secs(1)),
        }
    }

    /// Takes in what came of a call; whether it is left alone from now on.
    fn tell(&mut self, rule: &Circuit, now: Instant, failed: bool) -> bool {
        if let Some(until) = self.open {
            if now < until {
                // It was under way before.
                return false;
            }
            if failed {
                self.open = Some(now + rule.rest);
                self.back = 0;
                return true;
            }
            if now - until >= rule.back {
                *self = Self::new(now);
            }
            return false;
        }
        let part = self.part(rule, now);
        part.0 = part.0.saturating_add(1);
        part.1 = part.1.saturating_add(u32::from(failed));
        if !failed {
            return false;
        }
        let (calls, failures) = self.parts.iter().fold((0u32, 0u32), |sum, part| {
            (sum.0.saturating_add(part.0), sum.1.saturating_add(part.1))
        });
        let too_many = calls >= rule.calls
            && u64::from(failures) * 100 >= u64::from(calls) * u64::from(rule.share);
        if too_many {
            *self = Self::new(now);
            self.open = Some(now + rule.rest);
        }
        too_many
    }
}

impl Circuits {
    fn of(&self, backend: &CompiledBackend) -> Arc<Mutex<State>> {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if all.len() >= KEPT && !all.contains_key(&backend.identity) {
            all.clear();
        }
        let new = || Arc::new(Mutex::new(State::new(Instant::now())));
        all.entry(backend.identity).or_insert_with(new).clone()
    }

    /// Whether a call may be made; how long the backend is left alone still, where it may not.
    pub(crate) fn ask(
        &self,
        backend: &CompiledBackend,
        rule: &Circuit,
        random: u64,
    ) -> Result<(), Duration> {
        let state = self.of(backend);
        let mut state = state.lock().unwrap_or_else(PoisonError::into_inner);
        state.ask(rule, Instant::now(), random)
    }

    /// Takes in what came of a call.
    pub(crate) fn tell(&self, backend: &CompiledBackend, rule: &Circuit, failed: bool) {
        let state = self.of(backend);
        let opened = {
            let mut state = state.lock().unwrap_or_else(PoisonError::into_inner);
            state.tell(rule, Instant::now(), failed)
        };
        if opened {
            let (name, rest) = (&backend.name, rule.rest);
            tracing::warn!("{name} is left alone for {rest:?}: too many of its calls failed");
        }
    }

    /// How long a backend is left alone still.
    pub(crate) fn resting(&self, backend: &CompiledBackend) -> Option<Duration> {
        backend.circuit.as_ref()?;
        let all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let state = all.get(&backend.identity)?.clone();
        drop(all);
        let state = state.lock().unwrap_or_else(PoisonError::into_inner);
        state
            .open?
            .checked_duration_since(Instant::now())
            .filter(|left| !left.is_zero())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn rule() -> Circuit {
        Circuit {
            share: 50,
            calls: 10,
            within: Duration::from_secs(10),
            rest: Duration::from_secs(30),
            back: Duration::from_secs(10),
            statuses: vec![503],
        }
    }

    const SECOND: Duration = Duration::from_secs(1);

    #[test]
    fn a_backend_is_left_alone_when_too_many_of_enough_calls_failed() {
        let (rule, now) = (rule(), Instant::now());
        let mut state = State::new(now);
        // Nine failures are too few calls to say so.
        assert!((0..9).all(|_| !state.tell(&rule, now, true)));
        assert!(state.tell(&rule, now, true));
        assert_eq!(state.ask(&rule, now, 0), Err(rule.rest));
        assert_eq!(state.ask(&rule, now + 29 * SECOND, 0), Err(SECOND));
        // Fewer than half are borne, and failures of long ago are forgotten.
        let mut state = State::new(now);
        for i in 0..1_000 {
            assert!(!state.tell(&rule, now, i % 3 == 0));
        }
        let mut state = State::new(now);
        for i in 0..100 {
            let then = now + i * 2 * SECOND;
            assert!(!state.tell(&rule, then, true), "{i}");
        }
    }

    #[test]
    fn it_comes_back_slowly_and_goes_again_where_it_fails() {
        let (rule, begun) = (rule(), Instant::now());
        let mut state = State::new(begun);
        for _ in 0..10 {
            state.tell(&rule, begun, true);
        }
        // What was under way says nothing.
        assert!(!state.tell(&rule, begun + SECOND, false));
        let back = begun + rule.rest;
        assert_eq!(state.ask(&rule, back, 999_999), Ok(()), "the first passes");
        assert!(state.ask(&rule, back, 0).is_err(), "and no other yet");
        let passes = |state: &mut State, at: Instant| {
            let all = (0..1_000).map(|i| i * 1_000);
            all.filter(|r| state.ask(&rule, at, *r).is_ok()).count()
        };
        let (early, late) = (
            passes(&mut state, back + SECOND),
            passes(&mut state, back + 9 * SECOND),
        );
        assert!(
            (50..150).contains(&early) && (850..950).contains(&late),
            "{early} {late}"
        );
        // A failure, and it is left alone again from the beginning.
        assert!(state.tell(&rule, back + 9 * SECOND, true));
        assert!(state.ask(&rule, back + 10 * SECOND, 0).is_err());
        let again = back + 9 * SECOND + rule.rest;
        assert_eq!(state.ask(&rule, again, 999_999), Ok(()));
        assert!(!state.tell(&rule, again, false));
        // All pass behind that, and what was is forgotten.
        assert_eq!(passes(&mut state, again + rule.back), 1_000);
        assert!(!state.tell(&rule, again + rule.back, false));
        assert!(state.open.is_none());
        assert!(!state.tell(&rule, again + rule.back, true));
    }
}
