//! Which of several addresses is called next.

use std::cell::{Cell, RefCell};
use std::collections::HashMap;
use std::rc::Rc;

use porch_facade::CompiledBackend;

use super::Key;
use super::health::Health;

/// What the addresses of backends have to do, as this worker knows it; of backends with one address nothing is counted.
#[derive(Default)]
pub(super) struct Busy {
    /// Whose turn it is, by the backend's name: others may have the same addresses, or it had other weights before.
    turns: RefCell<HashMap<String, usize>>,
    /// Calls whose answers are waited for, by address.
    open: RefCell<HashMap<Key, Rc<Cell<u32>>>>,
}

/// A call whose answer is waited for.
pub(super) struct Open(Option<Rc<Cell<u32>>>);

impl Drop for Open {
    fn drop(&mut self) {
        if let Some(count) = &self.0 {
            count.set(count.get() - 1);
        }
    }
}

impl Busy {
    /// Counts a call as long as its answer is waited for.
    #[inline(always)]
    pub(super) fn begin(&self, backend: &CompiledBackend, at: usize) -> Open {
        match backend.turns.is_empty() {
            true => Open(None),
            false => self.counted(backend, at),
        }
    }

    #[cold]
    fn counted(&self, backend: &CompiledBackend, at: usize) -> Open {
        let mut open = self.open.borrow_mut();
        let count = open
            .entry((backend.identity, at as u32))
            .or_default()
            .clone();
        count.set(count.get() + 1);
        Open(Some(count))
    }

    /// The next of the addresses.
    pub(super) fn choose(&self, backend: &CompiledBackend, health: &Health) -> usize {
        let count = backend.turns.len();
        let turn = self.turn(&backend.name) % count;
        let in_turn = (0..count).map(|i| usize::from(backend.turns[(turn + i) % count]));
        let is_up = |at: &usize| !health.is_down(backend, *at);
        let mut up = in_turn.clone().filter(is_up);
        let Some(first) = up.next() else {
            return usize::from(backend.turns[turn]);
        };
        let Some(second) = up.find(|at| *at != first) else {
            return first;
        };
        let open = self.open.borrow();
        let has = |at: usize| {
            let count = open.get(&(backend.identity, at as u32));
            count.map_or(0, |c| u64::from(c.get()))
        };
        // By their weights, without a division.
        let weight = |at: usize| u64::from(backend.addresses[at].weight);
        match has(second) * weight(first) < has(first) * weight(second) {
            true => second,
            false => first,
        }
    }

    /// Takes a turn of a backend.
    fn turn(&self, name: &str) -> usize {
        let mut turns = self.turns.borrow_mut();
        match turns.get_mut(name) {
            Some(turn) => {
                *turn = turn.wrapping_add(1);
                *turn
            }
            None => *turns.entry(name.to_owned()).or_default(),
        }
    }

    /// Lets go of what nobody waits for.
    pub(super) fn sweep(&self) {
        self.open
            .borrow_mut()
            .retain(|_, count| Rc::strong_count(count) > 1);
        let mut turns = self.turns.borrow_mut();
        if turns.len() > 10_000 {
            turns.clear();
        }
    }
}
