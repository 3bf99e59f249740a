//! Counts that several nodes share.
//!
//! Two places for them: a server that speaks the Redis protocol ([`redis::Counts`]), where each call is one script, sent behind
//! others on one connection of each thread; or the database that there is anyway ([`database::Counts`]), which lends a node as much as
//! its traffic takes in half a second. In both the time is that of the place, and no node's.

pub mod database;
pub mod redis;

use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

use porch_gateway::{Away, CommonState};

/// A node that was not heard of for so many seconds is none.
const GONE: u64 = 10;
/// So often a node says that it is there.
const HEARD: Duration = Duration::from_secs(2);
/// So long nobody is asked again who gave no answer.
const REST: Duration = Duration::from_secs(1);

/// What is known of the place: whether it answers, and how many nodes count there.
struct Known {
    began: Instant,
    /// Milliseconds since it began, until which nobody asks.
    rests_until: AtomicU64,
    /// Whether the last answer came.
    away: std::sync::Mutex<Option<Arc<str>>>,
    nodes: AtomicU64,
    /// Where it is written down how many there are, for a start while the place is away.
    before: PathBuf,
    /// What the node calls itself.
    name: String,
    place: &'static str,
}

impl Known {
    fn new(place: &'static str, before: PathBuf) -> Self {
        let read = std::fs::read_to_string(&before).ok();
        let nodes = read.and_then(|text| text.trim().parse().ok());
        let mut name = [0; 16];
        // Without such numbers its address in memory tells nodes apart well enough for a count of them.
        if getrandom::fill(&mut name).is_err() {
            name[..8].copy_from_slice(&(std::process::id() as u64).to_le_bytes());
        }
        Self {
            began: Instant::now(),
            rests_until: AtomicU64::new(0),
            away: std::sync::Mutex::default(),
            nodes: AtomicU64::new(nodes.unwrap_or(1)),
            before,
            name: name.iter().map(|b| format!("{b:02x}")).collect(),
            place,
        }
    }

    /// Milliseconds since this began.
    fn now(&self) -> u64 {
        self.began.elapsed().as_millis() as u64
    }

    /// Whether it may be asked now; else why it was not there a moment ago.
    fn may_ask(&self) -> Result<(), Away> {
        if self.rests_until.load(Ordering::Relaxed) <= self.now() {
            return Ok(());
        }
        let why = self.lock().clone();
        Err(Away(why.unwrap_or_else(|| "it gave no answer".into())))
    }

    fn lock(&self) -> std::sync::MutexGuard<'_, Option<Arc<str>>> {
        self.away
            .lock()
            .unwrap_or_else(std::sync::PoisonError::into_inner)
    }

    /// It gave no answer.
    fn failed(&self, why: &str) -> Away {
        let why: Arc<str> = why.into();
        let rest = self.now() + REST.as_millis() as u64;
        let mut away = self.lock();
        self.rests_until.store(rest, Ordering::Relaxed);
        if away.replace(why.clone()).is_none() {
            let place = self.place;
            tracing::error!(
                "{place} is away ({why}): limits that several nodes share are this node's share, or refuse, as their documents say"
            );
        }
        Away(why)
    }

    /// It answered.
    fn answered(&self) {
        // Nobody waits for a lock here as long as everything is well.
        if self.rests_until.load(Ordering::Relaxed) == 0 {
            return;
        }
        self.rests_until.store(0, Ordering::Relaxed);
        if self.lock().take().is_some() {
            tracing::info!("{} answers again", self.place);
        }
    }

    /// So many nodes are there.
    fn heard(&self, nodes: u64) {
        if self.nodes.swap(nodes, Ordering::Relaxed) == nodes {
            return;
        }
        if let Err(e) = std::fs::write(&self.before, nodes.to_string()) {
            tracing::warn!("{}: {e}", self.before.display());
        }
    }

    fn state(&self) -> CommonState {
        CommonState {
            place: self.place,
            nodes: self.nodes(),
            away: self.lock().clone(),
        }
    }

    fn nodes(&self) -> u64 {
        self.nodes.load(Ordering::Relaxed).max(1)
    }
}
