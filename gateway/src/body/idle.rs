//! A side that falls silent.

use std::future::Future;
use std::pin::Pin;
use std::task::Context;
use std::time::Duration;

use tokio::time::Sleep;

/// Notices when nothing has come for a while. A timer is only set while something is waited for.
pub(crate) struct Idle {
    most: Duration,
    timer: Option<Pin<Box<Sleep>>>,
}

impl Idle {
    pub(crate) fn new(most: Duration) -> Self {
        Self { most, timer: None }
    }

    /// Something came.
    pub(crate) fn came(&mut self) {
        self.timer = None;
    }

    /// Whether it is silent for too long; wakes the task when it is.
    pub(crate) fn is_over(&mut self, cx: &mut Context<'_>) -> bool {
        let most = self.most;
        self.timer
            .get_or_insert_with(|| Box::pin(tokio::time::sleep(most)))
            .as_mut()
            .poll(cx)
            .is_ready()
    }
}
