//! Addresses that took no connection, or are known not to be well.

use std::cell::RefCell;
use std::collections::HashMap;
use std::time::{Duration, Instant};

use std::sync::Arc;

use porch_facade::CompiledBackend;

use super::Key;
use super::watched::Watched;

/// An address that took no connection is left alone for so long, while there are others.
const DOWN: Duration = Duration::from_secs(5);

/// What is known of the health of addresses.
#[derive(Default)]
pub(super) struct Health {
    down: RefCell<HashMap<Key, Instant>>,
    watched: Arc<Watched>,
}

impl Health {
    /// That of a worker which is told of addresses together with others.
    pub(super) fn sharing(watched: Arc<Watched>) -> Self {
        Self {
            watched,
            ..Self::default()
        }
    }

    pub(super) fn is_down(&self, backend: &CompiledBackend, at: usize) -> bool {
        let down = self.down.borrow();
        let since = down.get(&(backend.identity, at as u32));
        since.is_some_and(|since| since.elapsed() < DOWN) || self.watched.is_out(backend, at)
    }

    pub(super) fn set_down(&self, key: Key) {
        self.down.borrow_mut().insert(key, Instant::now());
    }

    pub(super) fn sweep(&self) {
        self.down
            .borrow_mut()
            .retain(|_, since| since.elapsed() < DOWN);
    }
}
