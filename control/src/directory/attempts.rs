//! Attempts to sign in: guessing is slowed down, and nobody locks an owner out.

use std::net::IpAddr;
use std::time::{Duration, Instant};

use porch_rules::limit::{Limit, Windows, stable_id};
use tokio::sync::{Semaphore, SemaphorePermit};

const MINUTE: Duration = Duration::from_secs(60);
/// Failures of one name from one address in a minute; more of them are refused.
const OF_PAIR: Limit = limit(10);
/// Failures from one address, whatever the names.
const OF_ADDRESS: Limit = limit(30);
/// Failures of one name from everywhere: beyond them each attempt takes longer, the owner's too, but none is refused.
const OF_NAME: Limit = limit(20);
const SLOWER: Duration = Duration::from_secs(2);
/// Lines in the audit.
const TOLD: Limit = limit(60);
/// Passwords that are checked at the same time: each takes a core for some ten milliseconds.
const AT_ONCE: usize = 2;

const fn limit(requests: u32) -> Limit {
    Limit {
        requests,
        window: MINUTE,
    }
}

/// What was tried lately.
pub(crate) struct Attempts {
    windows: Windows,
    started: Instant,
    checking: Semaphore,
}

/// One attempt, counted as a failure until it is known to be none.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Attempt {
    ids: [(u64, u64); 3],
    /// How long it is held back.
    pub(crate) wait: Duration,
}

impl Attempts {
    pub(crate) fn new() -> Self {
        Self {
            windows: Windows::new(),
            started: Instant::now(),
            checking: Semaphore::new(AT_ONCE),
        }
    }

    fn now(&self) -> u64 {
        self.started.elapsed().as_millis() as u64
    }

    /// Counts an attempt; or says how long to wait.
    pub(crate) fn begin(&self, name: &str, address: IpAddr) -> Result<Attempt, Duration> {
        // Of IPv6 the network, of which one caller has 2^64 addresses (RFC 6177 §2).
        let address = match address.to_canonical() {
            IpAddr::V6(v6) => IpAddr::V6((u128::from(v6) >> 64 << 64).into()),
            v4 => v4,
        };
        let (name, address) = (stable_id(name), stable_id(&address.to_string()));
        let pair = stable_id(&format!("{name} {address}"));
        let ids = [(1, pair), (2, address), (3, name)];
        let now = self.now();
        for (i, limit) in [OF_PAIR, OF_ADDRESS].into_iter().enumerate() {
            let (limit_id, subject) = ids[i];
            let decision = self.windows.ask(limit_id, subject, limit, now);
            if !decision.allowed {
                for (limit_id, subject) in &ids[..i] {
                    self.windows.give_back(*limit_id, *subject);
                }
                return Err(decision.retry_after);
            }
        }
        let often = !self.windows.ask(3, name, OF_NAME, now).allowed;
        Ok(Attempt {
            ids,
            wait: if often { SLOWER } else { Duration::ZERO },
        })
    }

    /// It was no failure.
    pub(crate) fn succeeded(&self, attempt: &Attempt) {
        for (limit_id, subject) in attempt.ids {
            self.windows.give_back(limit_id, subject);
        }
    }

    /// Whether a failure is written down: so many that they can be read.
    pub(crate) fn is_told(&self) -> bool {
        self.windows.ask(4, 0, TOLD, self.now()).allowed
    }

    /// One's turn to have a password checked.
    pub(crate) async fn turn(&self) -> Option<SemaphorePermit<'_>> {
        self.checking.acquire().await.ok()
    }

    /// Lets go of what is over.
    pub(crate) fn sweep(&self) {
        self.windows.sweep(self.now());
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn address(last: u8) -> IpAddr {
        [192, 0, 2, last].into()
    }

    #[test]
    fn one_who_guesses_is_refused_and_the_owner_elsewhere_is_not() {
        let attempts = Attempts::new();
        for _ in 0..10 {
            let wait = attempts.begin("tove", address(1)).unwrap().wait;
            assert_eq!(wait, Duration::ZERO);
        }
        assert!(attempts.begin("tove", address(1)).is_err());
        let owner = attempts.begin("tove", address(2)).unwrap();
        assert_eq!(owner.wait, Duration::ZERO);
        attempts.succeeded(&owner);
        // Guesses from many addresses slow the name down, and never shut it.
        for last in 10..40 {
            attempts.begin("tove", address(last)).unwrap();
        }
        assert_eq!(attempts.begin("tove", address(2)).unwrap().wait, SLOWER);
    }

    #[test]
    fn a_network_of_ipv6_is_one_address() {
        let attempts = Attempts::new();
        let guess = |last: u16| {
            let address = [0x2001, 0xdb8, 0, 7, 0, 0, 0, last];
            attempts.begin("tove", IpAddr::from(address))
        };
        assert_eq!((0..10).filter(|i| guess(*i).is_ok()).count(), 10);
        assert!(guess(11).is_err());
        let elsewhere = IpAddr::from([0x2001, 0xdb8, 0, 8, 0, 0, 0, 1]);
        assert!(attempts.begin("tove", elsewhere).is_ok());
    }

    #[test]
    fn many_names_from_one_address_are_refused_and_success_costs_nothing() {
        let attempts = Attempts::new();
        for _ in 0..100 {
            let good = attempts.begin("tove", address(1)).unwrap();
            assert_eq!(good.wait, Duration::ZERO);
            attempts.succeeded(&good);
        }
        for i in 0..30 {
            attempts.begin(&format!("name {i}"), address(1)).unwrap();
        }
        assert!(attempts.begin("another", address(1)).is_err());
        assert!(attempts.begin("another", address(2)).is_ok());
    }
}
