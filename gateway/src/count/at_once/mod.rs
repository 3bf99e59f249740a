//! Requests that are under way at the same time: whoever comes first goes first.

#[cfg(test)]
mod tests;
mod together;

use std::collections::{HashMap, VecDeque};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use porch_facade::WhenApart;
use tokio::sync::{Notify, oneshot};

use self::together::Asker;
use super::{Away, CommonCounts};

type Key = (u64, u64);

/// How many of each subject are under way, and who waits.
#[derive(Default)]
pub(crate) struct AtOnce {
    lines: Arc<Lines>,
}

#[derive(Debug, Default)]
struct Lines(Mutex<HashMap<Key, Line>>);

#[derive(Debug, Default)]
struct Line {
    inside: u64,
    /// Who waits, the first in front.
    waiting: VecDeque<Waiter>,
    /// Where nodes have their places together: what this one has of them.
    together: Option<Together>,
}

#[derive(Debug)]
struct Waiter {
    /// How many there may be.
    most: u64,
    /// Whether it waits until one ends; else until it is known whether another node has a place.
    waits: bool,
    /// Questions that were asked before it came.
    after: u64,
    who: oneshot::Sender<Result<Held, NoPlace>>,
}

/// What this node has of the places.
#[derive(Debug, Default)]
struct Together {
    /// So many may be inside.
    may: u64,
    /// Whether what comes free here is another node's.
    yields: bool,
    /// Whether somebody who waited here got a place since it was last asked.
    served: bool,
    /// Why it is not known how many there may be, where it is not.
    away: Option<Away>,
    /// How many there are in all, as was said last.
    most: u64,
    /// Whether whoever asks was woken since, because one had ended.
    woken: bool,
    /// How many questions were asked.
    questions: u64,
    /// Wakes whoever asks.
    wakes: Arc<Notify>,
}

/// What is entered, and how.
pub(crate) struct Door {
    pub(crate) key: Key,
    /// How many there may be.
    pub(crate) most: u64,
    /// How many may wait.
    pub(crate) waiting: u32,
    /// How long each waits.
    pub(crate) within: Duration,
    /// What holds while the place where nodes have them together is away.
    pub(crate) apart: WhenApart,
}

/// Why there is no place.
#[derive(Debug, PartialEq, Eq)]
pub(crate) enum NoPlace {
    /// So many wait already, or it took too long.
    Full(usize),
    /// Whether there is one cannot be known now.
    Away(Arc<str>),
}

/// A place among those that are under way, until it is dropped.
#[derive(Debug)]
pub(crate) struct Held {
    lines: Arc<Lines>,
    key: Key,
}

impl Line {
    /// How many may be inside here.
    fn room(&self, most: u64) -> u64 {
        self.together.as_ref().map_or(most, |t| t.may.min(most))
    }

    /// Whoever waits longest, and still does, where there is room for them.
    fn next(&mut self) -> Option<oneshot::Sender<Result<Held, NoPlace>>> {
        while let Some(first) = self.waiting.pop_front() {
            if first.who.is_closed() {
                continue;
            }
            if self.inside >= self.room(first.most) {
                self.waiting.push_front(first);
                return None;
            }
            self.inside += 1;
            if let Some(together) = &mut self.together {
                together.served = true;
            }
            return Some(first.who);
        }
        None
    }

    /// Lets go of those who gave up.
    fn tidy(&mut self) {
        self.waiting.retain(|w| !w.who.is_closed());
    }

    fn is_over(&self) -> bool {
        self.inside == 0 && self.waiting.is_empty() && self.together.is_none()
    }
}

impl AtOnce {
    /// A place; waits for one where there is none.
    ///
    /// # Errors
    /// Why there is none.
    pub(crate) async fn enter(
        &self,
        door: Door,
        common: Option<&Arc<dyn CommonCounts>>,
    ) -> Result<Held, NoPlace> {
        let key = door.key;
        let place = {
            let mut lines = self.lines.lock();
            let line = lines.entry(key).or_default();
            if let Some(common) = common {
                self.lines.begin(line, &door, common);
            }
            // Nobody goes past those who wait.
            if line.inside < line.room(door.most) && line.waiting.is_empty() {
                line.inside += 1;
                return Ok(self.lines.held(key));
            }
            if let Some(away) = line.refuses(door.apart) {
                forget(&mut lines, key);
                return Err(NoPlace::Away(away));
            }
            line.tidy();
            let before = line.waiting.len();
            // Where nodes ask for places together, whoever waits for the first answer waits for no place.
            let asks = line
                .together
                .as_ref()
                .is_some_and(|t| line.inside + (before as u64) < t.most);
            if before >= door.waiting as usize && !asks {
                forget(&mut lines, key);
                return Err(NoPlace::Full(before));
            }
            let (who, place) = oneshot::channel();
            line.waiting.push_back(Waiter {
                most: door.most,
                waits: before < door.waiting as usize,
                after: line.together.as_ref().map_or(0, |t| t.questions),
                who,
            });
            if let Some(together) = &line.together {
                together.wakes.notify_one();
            }
            place
        };
        match tokio::time::timeout(door.patience(common.is_some()), place).await {
            Ok(Ok(told)) => told,
            _ => Err(self.given_up(key)),
        }
    }

    /// Whoever waited does not any more.
    fn given_up(&self, key: Key) -> NoPlace {
        let mut lines = self.lines.lock();
        let Some(line) = lines.get_mut(&key) else {
            return NoPlace::Full(0);
        };
        let before = line.waiting.len();
        line.tidy();
        forget(&mut lines, key);
        NoPlace::Full(before)
    }
}

impl Door {
    /// How long one waits; for an answer of the place where nodes have them together in any case.
    fn patience(&self, together: bool) -> Duration {
        match together && self.waiting == 0 {
            true => ANSWER,
            false => self.within,
        }
    }
}

/// So long one who may not wait for a place waits to be told that there is one.
const ANSWER: Duration = Duration::from_millis(600);

impl Line {
    /// Why nobody enters who is not sure to have a place.
    fn refuses(&self, apart: WhenApart) -> Option<Arc<str>> {
        let away = self.together.as_ref()?.away.as_ref()?;
        (apart == WhenApart::Refuse).then(|| away.0.clone())
    }
}

impl Lines {
    fn lock(&self) -> MutexGuard<'_, HashMap<Key, Line>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn held(self: &Arc<Self>, key: Key) -> Held {
        Held {
            lines: self.clone(),
            key,
        }
    }

    /// Begins to ask for places, for as long as anybody is in the line.
    fn begin(self: &Arc<Self>, line: &mut Line, door: &Door, common: &Arc<dyn CommonCounts>) {
        if let Some(together) = &mut line.together {
            together.most = door.most;
            return;
        }
        let wakes = Arc::new(Notify::new());
        line.together = Some(Together {
            most: door.most,
            wakes: wakes.clone(),
            ..Together::default()
        });
        let asker = Asker {
            lines: Arc::downgrade(self),
            key: door.key,
            apart: door.apart,
            common: common.clone(),
            wakes,
        };
        tokio::spawn(asker.run());
    }
}

/// Lets go of a line in which nobody is.
fn forget(lines: &mut HashMap<Key, Line>, key: Key) {
    if lines.get(&key).is_some_and(Line::is_over) {
        lines.remove(&key);
    }
}

impl Drop for Held {
    fn drop(&mut self) {
        let next = {
            let mut lines = self.lines.lock();
            let Some(line) = lines.get_mut(&self.key) else {
                return;
            };
            line.inside -= 1;
            if let Some(together) = &mut line.together {
                if together.yields {
                    // It goes to another node, which is told at once.
                    together.may = together.may.min(line.inside);
                }
                if together.yields || line.waiting.is_empty() && !together.woken {
                    together.woken = true;
                    together.wakes.notify_one();
                }
            }
            // The place goes to whoever waits longest.
            let next = line.next();
            forget(&mut lines, self.key);
            next
        };
        if let Some(who) = next {
            // One who has just gone gives the place on when this is dropped.
            drop(who.send(Ok(self.lines.held(self.key))));
        }
    }
}
