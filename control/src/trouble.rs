//! What is wrong at the moment.

use std::sync::{Mutex, PoisonError};

/// What went wrong lately, for the overview.
#[derive(Default)]
pub(crate) struct Trouble(Mutex<String>);

impl Trouble {
    /// Notes down what went wrong, or with an empty text that all is well again.
    pub(crate) fn set(&self, text: impl Into<String>) {
        *self.0.lock().unwrap_or_else(PoisonError::into_inner) = text.into();
    }

    pub(crate) fn get(&self) -> String {
        self.0
            .lock()
            .unwrap_or_else(PoisonError::into_inner)
            .clone()
    }
}
