//! Requests that are under way at the same time: whoever comes first goes first.

use std::collections::{HashMap, VecDeque};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use tokio::sync::oneshot;

type Key = (u64, u64);

/// How many of each subject are under way, and who waits.
#[derive(Default)]
pub(crate) struct AtOnce {
    lines: Arc<Mutex<HashMap<Key, Line>>>,
}

#[derive(Default)]
struct Line {
    inside: u64,
    /// Who waits, the first in front; each with how many there may be.
    waiting: VecDeque<(u64, oneshot::Sender<Held>)>,
}

/// A place among those that are under way, until it is dropped.
pub(crate) struct Held {
    lines: Arc<Mutex<HashMap<Key, Line>>>,
    key: Key,
}

impl AtOnce {
    /// A place; waits for one where there is none.
    ///
    /// # Errors
    /// How many waited, where there were too many of them or it took too long.
    pub(crate) async fn enter(
        &self,
        key: Key,
        most: u64,
        waiting: u32,
        within: Duration,
    ) -> Result<Held, usize> {
        let place = {
            let mut lines = lock(&self.lines);
            let line = lines.entry(key).or_default();
            // Nobody goes past those who wait.
            if line.inside < most && line.waiting.is_empty() {
                line.inside += 1;
                return Ok(self.held(key));
            }
            line.waiting.retain(|(_, who)| !who.is_closed());
            let before = line.waiting.len();
            if before >= waiting as usize {
                forget(&mut lines, key);
                return Err(before);
            }
            let (given, place) = oneshot::channel();
            line.waiting.push_back((most, given));
            place
        };
        match tokio::time::timeout(within, place).await {
            Ok(Ok(held)) => Ok(held),
            _ => {
                let mut lines = lock(&self.lines);
                let before = lines.get(&key).map_or(0, |line| line.waiting.len());
                if let Some(line) = lines.get_mut(&key) {
                    line.waiting.retain(|(_, who)| !who.is_closed());
                }
                forget(&mut lines, key);
                Err(before)
            }
        }
    }

    fn held(&self, key: Key) -> Held {
        Held {
            lines: self.lines.clone(),
            key,
        }
    }
}

fn lock(lines: &Mutex<HashMap<Key, Line>>) -> MutexGuard<'_, HashMap<Key, Line>> {
    lines.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Lets go of a line in which nobody is.
fn forget(lines: &mut HashMap<Key, Line>, key: Key) {
    if lines
        .get(&key)
        .is_some_and(|l| l.inside == 0 && l.waiting.is_empty())
    {
        lines.remove(&key);
    }
}

impl Drop for Held {
    fn drop(&mut self) {
        let mut next = None;
        {
            let mut lines = lock(&self.lines);
            let Some(line) = lines.get_mut(&self.key) else {
                return;
            };
            line.inside -= 1;
            // The place goes to whoever waits longest, and still does.
            while let Some((most, who)) = line.waiting.pop_front() {
                if who.is_closed() {
                    continue;
                }
                if line.inside >= most {
                    line.waiting.push_front((most, who));
                    break;
                }
                line.inside += 1;
                next = Some(who);
                break;
            }
            forget(&mut lines, self.key);
        }
        if let Some(who) = next {
            let held = Held {
                lines: self.lines.clone(),
                key: self.key,
            };
            // One who has just gone gives the place on when this is dropped.
            drop(who.send(held));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const LONG: Duration = Duration::from_secs(10);
    const SHORT: Duration = Duration::from_millis(20);

    #[tokio::test(start_paused = true)]
    async fn who_comes_first_goes_first_and_a_full_line_is_no_place_to_wait() {
        let doors = Arc::new(AtOnce::default());
        let first = doors.enter((1, 1), 1, 2, LONG).await.ok().unwrap();
        let (told, mut order) = tokio::sync::mpsc::unbounded_channel();
        for i in 0..2 {
            let (doors, told) = (doors.clone(), told.clone());
            tokio::spawn(async move {
                let held = doors.enter((1, 1), 1, 2, LONG).await;
                let _ = told.send((i, held.is_ok()));
                drop(held);
            });
            tokio::task::yield_now().await;
        }
        assert_eq!(doors.enter((1, 1), 1, 2, LONG).await.err(), Some(2));
        // Others have a line of their own.
        assert!(doors.enter((1, 2), 1, 0, LONG).await.is_ok());
        drop(first);
        assert_eq!(order.recv().await, Some((0, true)));
        assert_eq!(order.recv().await, Some((1, true)));
        assert!(lock(&doors.lines).is_empty());
    }

    #[tokio::test(start_paused = true)]
    async fn who_waits_too_long_is_refused_and_holds_nobody_up() {
        let doors = AtOnce::default();
        let first = doors.enter((1, 1), 1, 5, LONG).await.ok().unwrap();
        assert_eq!(doors.enter((1, 1), 1, 5, SHORT).await.err(), Some(1));
        // One who leaves while it waits is passed over.
        let left = tokio::time::timeout(SHORT, doors.enter((1, 1), 1, 5, LONG)).await;
        assert!(left.is_err());
        drop(first);
        assert!(doors.enter((1, 1), 1, 0, LONG).await.is_ok());
        assert!(lock(&doors.lines).is_empty());
    }
}
