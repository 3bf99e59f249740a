//! A limit that calls of the past are counted against.

use super::{Limit, States};

/// Parts of a minute that calls of it are counted in at most.
const PARTS: u64 = 60;
const MINUTE: u64 = 60_000;

/// What was counted against a limit, minute by minute in their order. Where within its minute a call came is not known: those of
/// a minute are spread over it evenly.
#[derive(Default)]
pub struct Again(States);

impl Again {
    /// Counts what came in a minute (in minutes since 1970) for a subject: `calls` of so much each; how many calls would have been
    /// refused. What is refused uses up nothing.
    pub fn minute(
        &self,
        subject: u64,
        rule: Limit,
        (calls, weight): (u64, u64),
        minute: u64,
    ) -> u64 {
        let begins = minute.saturating_mul(MINUTE);
        let parts = calls.clamp(1, PARTS);
        let mut refused = 0;
        for part in 0..parts {
            // So that all parts together are all calls.
            let until = |n: u64| (u128::from(calls) * u128::from(n) / u128::from(parts)) as u64;
            let (mut left, at) = (
                until(part + 1) - until(part),
                begins + part * MINUTE / parts,
            );
            while left > 0 {
                let asked = left.saturating_mul(weight);
                let decision = self.0.ask(0, subject, rule, asked, at);
                if decision.allowed {
                    break;
                }
                // As many as there is room for; the rest is refused.
                let room = decision.remaining / weight.max(1);
                if room == 0 || room >= left {
                    refused += left;
                    break;
                }
                refused += left - room;
                left = room;
            }
        }
        refused
    }
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use super::super::Form;
    use super::*;

    #[test]
    fn those_beyond_a_limit_are_counted_and_use_up_nothing() {
        let again = Again::default();
        let limit = Limit::of(10, Duration::from_secs(60));
        assert_eq!(again.minute(1, limit, (10, 1), 100), 0);
        // Ten within the minute before: one leaves every six seconds, and one comes.
        assert_eq!(again.minute(1, limit, (10, 1), 101), 0);
        assert_eq!(again.minute(1, limit, (30, 1), 102), 20);
        assert_eq!(again.minute(1, limit, (0, 1), 103), 0);
        assert_eq!(again.minute(2, limit, (11, 1), 102), 1);
        // A thousand in a minute, more than there are parts of one.
        assert_eq!(again.minute(3, limit, (1000, 1), 105), 990);
        // Each counts four: two fit.
        assert_eq!(again.minute(4, limit, (5, 4), 105), 3);
        // More than there ever is.
        assert_eq!(again.minute(5, limit, (2, 11), 105), 2);
    }

    #[test]
    fn periods_and_even_distances_are_held_too() {
        let again = Again::default();
        let hour = |from: u64| Limit {
            form: Form::Fixed {
                from: from * MINUTE,
            },
            ..Limit::of(100, Duration::from_secs(3600))
        };
        assert_eq!(again.minute(1, hour(600), (80, 1), 610), 0);
        assert_eq!(again.minute(1, hour(600), (80, 1), 650), 60);
        assert_eq!(again.minute(1, hour(660), (80, 1), 661), 0);
        let smooth = Limit {
            form: Form::Smooth { burst: 5 },
            ..Limit::of(60, Duration::from_secs(60))
        };
        assert_eq!(again.minute(2, smooth, (60, 1), 700), 0);
        let refused = again.minute(2, smooth, (120, 1), 701);
        assert!((55..=60).contains(&refused), "{refused}");
    }
}
