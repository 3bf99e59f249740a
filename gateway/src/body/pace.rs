//! The least rate at which a caller sends or reads.
//!
//! Whoever is waited for has so much patience; bytes that move give some of it back. So a pause is borne now and then, and
//! one byte every few seconds is not.

use std::future::Future;
use std::pin::Pin;
use std::task::Context;
use std::time::Duration;

use tokio::time::{Instant, Sleep};

/// How long a caller may be waited for without anything moving.
const PATIENCE: Duration = Duration::from_secs(20);
/// Bytes that make up for a second of waiting.
const LEAST_RATE: u32 = 512;

/// The patience with one direction of an exchange or connection. A timer is only set while something is waited for.
pub struct Pace {
    left: Duration,
    waiting: Option<Waiting>,
}

struct Waiting {
    since: Instant,
    until: Pin<Box<Sleep>>,
}

impl Default for Pace {
    fn default() -> Self {
        Self::new()
    }
}

impl Pace {
    /// All the patience there is.
    pub fn new() -> Self {
        Self {
            left: PATIENCE,
            waiting: None,
        }
    }

    /// So many bytes moved.
    #[inline]
    pub fn moved(&mut self, bytes: usize) {
        if self.waiting.is_some() || self.left < PATIENCE {
            self.settle(bytes);
        }
    }

    #[cold]
    fn settle(&mut self, bytes: usize) {
        if let Some(waiting) = self.waiting.take() {
            self.left = self.left.saturating_sub(waiting.since.elapsed());
        }
        let bytes = u32::try_from(bytes).unwrap_or(u32::MAX);
        self.left = PATIENCE.min(self.left + Duration::from_secs(1) * bytes / LEAST_RATE);
    }

    /// Whether the patience is at its end while nothing moves; wakes the task when it is.
    pub fn is_over(&mut self, cx: &mut Context<'_>) -> bool {
        let left = self.left;
        let waiting = self.waiting.get_or_insert_with(|| Waiting {
            since: Instant::now(),
            until: Box::pin(tokio::time::sleep(left)),
        });
        waiting.until.as_mut().poll(cx).is_ready()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// How long a side is borne with that moves so many bytes every so many seconds; `None` when it always is.
    async fn borne(bytes: usize, every: u64) -> Option<u64> {
        let (mut pace, start) = (Pace::new(), Instant::now());
        for _ in 0..1000 {
            let next = tokio::time::sleep(Duration::from_secs(every));
            let over = std::future::poll_fn(|cx| match pace.is_over(cx) {
                true => std::task::Poll::Ready(()),
                false => std::task::Poll::Pending,
            });
            tokio::select! {
                biased;
                () = next => pace.moved(bytes),
                () = over => return Some(start.elapsed().as_secs()),
            }
        }
        None
    }

    #[tokio::test(start_paused = true)]
    async fn silence_and_single_bytes_end_and_slow_lines_do_not() {
        assert_eq!(borne(0, 3600).await, Some(20), "silence");
        let drops = borne(1, 5).await;
        assert!(drops.is_some_and(|s| (20..=25).contains(&s)), "{drops:?}");
        assert_eq!(borne(1024, 2).await, None, "the least rate itself");
        let below = borne(700, 2).await;
        assert!(below.is_some_and(|s| s < 90), "{below:?}");
        assert_eq!(borne(64 << 10, 19).await, None, "a pause now and then");
    }
}
