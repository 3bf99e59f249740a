//! Attempts to sign in: guessing is slowed down, and nobody locks an owner out.

use std::net::IpAddr;
use std::time::{Duration, Instant};

use porch_rules::guess::{Guess, Guesses};
use porch_rules::limit::{Limit, States};
use tokio::sync::{Semaphore, SemaphorePermit};

/// Lines in the audit.
const TOLD: Limit = Limit::of(60, Duration::from_secs(60));
/// Passwords that are checked at the same time: each takes a core for some ten milliseconds.
const AT_ONCE: usize = 2;

/// What was tried lately.
pub(crate) struct Attempts {
    guesses: Guesses,
    told: States,
    started: Instant,
    checking: Semaphore,
}

impl Attempts {
    pub(crate) fn new() -> Self {
        Self {
            guesses: Guesses::default(),
            told: States::new(),
            started: Instant::now(),
            checking: Semaphore::new(AT_ONCE),
        }
    }

    fn now(&self) -> u64 {
        self.started.elapsed().as_millis() as u64
    }

    /// Counts an attempt; or says how long to wait.
    pub(crate) fn begin(&self, name: &str, address: IpAddr) -> Result<Guess, Duration> {
        self.guesses.begin(name, address, self.now())
    }

    /// It was no failure.
    pub(crate) fn succeeded(&self, attempt: &Guess) {
        self.guesses.succeeded(attempt);
    }

    /// Whether a failure is written down: so many that they can be read.
    pub(crate) fn is_told(&self) -> bool {
        self.told.ask(0, 0, TOLD, 1, self.now()).allowed
    }

    /// One's turn to have a password checked.
    pub(crate) async fn turn(&self) -> Option<SemaphorePermit<'_>> {
        self.checking.acquire().await.ok()
    }

    /// Lets go of what is over.
    pub(crate) fn sweep(&self) {
        self.guesses.sweep(self.now());
        self.told.sweep(self.now());
    }
}
