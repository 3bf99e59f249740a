//! Addresses that took no connection.

use std::cell::RefCell;
use std::collections::HashMap;
use std::time::{Duration, Instant};

use super::Key;

/// An address that took no connection is left alone for so long, while there are others.
const DOWN: Duration = Duration::from_secs(5);

/// What is known of the health of addresses.
#[derive(Default)]
pub(super) struct Health {
    down: RefCell<HashMap<Key, Instant>>,
}

impl Health {
    pub(super) fn is_down(&self, key: Key) -> bool {
        let down = self.down.borrow();
        down.get(&key).is_some_and(|since| since.elapsed() < DOWN)
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
