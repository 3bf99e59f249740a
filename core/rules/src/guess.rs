//! Guessing is slowed down, by address and by name, and nobody locks an owner out.

use std::net::IpAddr;
use std::time::Duration;

use crate::limit::{Limit, States, stable_id};

const MINUTE: Duration = Duration::from_secs(60);
/// Failures of one name from one address in a minute; more of them are refused.
const OF_PAIR: Limit = Limit::of(10, MINUTE);
/// Failures from one address, whatever the names.
const OF_ADDRESS: Limit = Limit::of(30, MINUTE);
/// Failures of one name from everywhere: beyond them each attempt takes longer, the owner's too, but none is refused.
const OF_NAME: Limit = Limit::of(20, MINUTE);
/// How much longer.
const SLOWER: Duration = Duration::from_secs(2);

/// What was tried lately. Times are in milliseconds on a clock that never goes back.
#[derive(Default)]
pub struct Guesses {
    windows: States,
}

/// One attempt, counted as a failure until it is known to be none.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Guess {
    ids: [(u64, u64, u64); 3],
    /// How long it is held back.
    pub wait: Duration,
}

/// The address that is counted: of IPv6 the network, of which one caller has 2^64 addresses (RFC 6177 §2).
pub fn counted(address: IpAddr) -> IpAddr {
    match address.to_canonical() {
        IpAddr::V6(v6) => IpAddr::V6((u128::from(v6) >> 64 << 64).into()),
        v4 => v4,
    }
}

impl Guesses {
    /// Counts an attempt.
    ///
    /// # Errors
    /// How long to wait, where there were too many.
    pub fn begin(&self, name: &str, address: IpAddr, now: u64) -> Result<Guess, Duration> {
        let address = stable_id(&counted(address).to_string());
        let name = stable_id(name);
        let pair = stable_id(&format!("{name} {address}"));
        // The address first: whoever is refused by it leaves no state for each name that it makes up.
        let mut ids = [(2, address, 0), (1, pair, 0), (3, name, 0)];
        for (i, limit) in [OF_ADDRESS, OF_PAIR].into_iter().enumerate() {
            let decision = self.windows.ask(ids[i].0, ids[i].1, limit, 1, now);
            if !decision.allowed {
                self.give_back(&ids[..i], now);
                return Err(decision.retry_after);
            }
            ids[i].2 = decision.at;
        }
        let of_name = self.windows.ask(3, name, OF_NAME, 1, now);
        // One that was not counted is not given back either.
        ids[2].2 = if of_name.allowed {
            of_name.at
        } else {
            u64::MAX
        };
        Ok(Guess {
            ids,
            wait: if of_name.allowed {
                Duration::ZERO
            } else {
                SLOWER
            },
        })
    }

    fn give_back(&self, ids: &[(u64, u64, u64)], now: u64) {
        for (id, subject, at) in ids {
            self.windows
                .give_back(*id, *subject, OF_PAIR, 1, (*at, now));
        }
    }

    /// It was no failure.
    pub fn succeeded(&self, guess: &Guess) {
        self.give_back(&guess.ids, 0);
    }

    /// Counts something wrong that names nobody, from an address.
    ///
    /// # Errors
    /// How long to wait, where there was too much of it.
    pub fn failed(&self, address: IpAddr, now: u64) -> Result<(), Duration> {
        let address = stable_id(&counted(address).to_string());
        let decision = self.windows.ask(2, address, OF_ADDRESS, 1, now);
        if decision.allowed {
            Ok(())
        } else {
            Err(decision.retry_after)
        }
    }

    /// Lets go of what is over.
    pub fn sweep(&self, now: u64) {
        self.windows.sweep(now);
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
        let guesses = Guesses::default();
        let begin = |from: IpAddr| guesses.begin("tove", from, 0);
        for _ in 0..10 {
            assert_eq!(begin(address(1)).unwrap().wait, Duration::ZERO);
        }
        assert_eq!(begin(address(1)), Err(MINUTE));
        let owner = begin(address(2)).unwrap();
        assert_eq!(owner.wait, Duration::ZERO);
        guesses.succeeded(&owner);
        // Guesses from many addresses slow the name down, and never shut it.
        for last in 10..40 {
            begin(address(last)).unwrap();
        }
        assert_eq!(begin(address(2)).unwrap().wait, SLOWER);
        assert!(guesses.begin("tove", address(1), 60_000).is_ok());
    }

    #[test]
    fn names_that_are_made_up_take_no_room() {
        let guesses = Guesses::default();
        for i in 0..5000 {
            let _ = guesses.begin(&format!("name {i}"), address(1), 0);
        }
        assert!(
            guesses.windows.len() <= 1 + 2 * 30,
            "{}",
            guesses.windows.len()
        );
    }

    #[test]
    fn a_network_of_ipv6_is_one_address() {
        let guesses = Guesses::default();
        let guess = |last: u16| {
            let address = [0x2001, 0xdb8, 0, 7, 0, 0, 0, last];
            guesses.begin("tove", IpAddr::from(address), 0)
        };
        assert_eq!((0..10).filter(|i| guess(*i).is_ok()).count(), 10);
        assert!(guess(11).is_err());
        let elsewhere = IpAddr::from([0x2001, 0xdb8, 0, 8, 0, 0, 0, 1]);
        assert!(guesses.begin("tove", elsewhere, 0).is_ok());
    }

    #[test]
    fn many_names_from_one_address_are_refused_and_success_costs_nothing() {
        let guesses = Guesses::default();
        for _ in 0..100 {
            let good = guesses.begin("tove", address(1), 0).unwrap();
            assert_eq!(good.wait, Duration::ZERO);
            guesses.succeeded(&good);
        }
        for i in 0..15 {
            let name = format!("name {i}");
            guesses.begin(&name, address(1), 0).unwrap();
            guesses.failed(address(1), 0).unwrap();
        }
        assert!(guesses.begin("another", address(1), 0).is_err());
        assert!(guesses.failed(address(1), 0).is_err());
        assert!(guesses.begin("another", address(2), 0).is_ok());
    }
}
