//! Backends that take only so many connections: counted over all workers, and waited for where all are in use.

use std::collections::HashMap;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError, Weak};
use std::time::Duration;

use tokio::sync::{Notify, OwnedSemaphorePermit, Semaphore};
use tokio::time::Instant;

use super::{CallFailure, Key};

/// The places of all backends that have only so many; one for all workers.
#[derive(Default)]
pub(crate) struct Limits {
    all: Mutex<HashMap<Key, Weak<Places>>>,
    /// Somebody waits: connections that nobody uses are closed.
    wanted: Notify,
}

/// The places of one address.
struct Places {
    free: Arc<Semaphore>,
    waiting: AtomicUsize,
}

/// The place of a connection, as long as it is open.
pub(super) struct Place {
    places: Arc<Places>,
    _taken: OwnedSemaphorePermit,
}

impl Place {
    /// Whether somebody waits for one: a connection that is not in use is closed.
    pub(super) fn is_wanted(&self) -> bool {
        self.places.waiting.load(Ordering::SeqCst) > 0
    }
}

/// Counts who waits, however that ends.
struct Waiting<'p>(&'p Places);

impl<'p> Waiting<'p> {
    /// One more, behind so many others.
    fn at(places: &'p Places) -> (Self, usize) {
        let before = places.waiting.fetch_add(1, Ordering::SeqCst);
        (Self(places), before)
    }
}

impl Drop for Waiting<'_> {
    fn drop(&mut self) {
        self.0.waiting.fetch_sub(1, Ordering::SeqCst);
    }
}

impl Limits {
    /// A place for another connection; waits for one where there is none.
    pub(super) async fn take(
        &self,
        key: Key,
        (most, waiting): (u32, Option<u32>),
        within: Duration,
    ) -> Result<Place, CallFailure> {
        let places = self.places(key, most);
        if let Ok(taken) = places.free.clone().try_acquire_owned() {
            return Ok(Place {
                places,
                _taken: taken,
            });
        }
        let (in_line, before) = Waiting::at(&places);
        // A queue that is full is no place to wait.
        if waiting.is_some_and(|most| before >= most as usize) {
            return Err(CallFailure::Busy(most));
        }
        let until = Instant::now() + within;
        // Who gets it first asked first. One that was put aside a moment too late to be told of this is asked for again.
        const AGAIN: Duration = Duration::from_millis(50);
        let mut taking = Box::pin(places.free.clone().acquire_owned());
        let taken = loop {
            self.wanted.notify_waiters();
            let next = until.min(Instant::now() + AGAIN);
            match tokio::time::timeout_at(next, taking.as_mut()).await {
                Ok(Ok(taken)) => break taken,
                Err(_) if Instant::now() < until => {}
                Ok(Err(_)) | Err(_) => return Err(CallFailure::Busy(most)),
            }
        };
        drop(in_line);
        Ok(Place {
            places,
            _taken: taken,
        })
    }

    /// Waits until somebody waits for a place.
    pub(super) async fn wanted(&self) {
        self.wanted.notified().await;
    }

    fn places(&self, key: Key, most: u32) -> Arc<Places> {
        let mut all = self.all.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(known) = all.get(&key).and_then(Weak::upgrade) {
            return known;
        }
        all.retain(|_, places| places.strong_count() > 0);
        let made = Arc::new(Places {
            free: Arc::new(Semaphore::new(most as usize)),
            waiting: AtomicUsize::new(0),
        });
        all.insert(key, Arc::downgrade(&made));
        made
    }
}
