//! What all workers share.

use std::collections::{HashMap, HashSet};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, OnceLock, PoisonError};
use std::time::{Duration, Instant};

use arc_swap::ArcSwap;
use porch_facade::{CompiledBackend, CompiledPorch, Cors};
use porch_rules::grant::Grants;
use porch_rules::guess::Guesses;
use porch_rules::limit::{Decision, States};
use tokio::sync::mpsc;

use crate::Record;
use crate::backend::circuit::Circuits;
use crate::backend::places::Limits;
use crate::backend::tokens::Tokens;
use crate::backend::watched::Watched;
use crate::budget::{self, Budget};
use crate::cache::{self, Cache};
use crate::count::at_once::AtOnce;
use crate::count::{Ask, Away, CommonCounts, Counters};
use crate::exchange::unix_ms;
use crate::introspected::Introspected;
use crate::issuers::Issuers;
use crate::passwords::Passwords;

/// Facades and operations that are stopped without a release.
#[derive(Clone, Debug, Default)]
pub struct Pauses {
    /// Names of facades.
    pub facades: HashSet<String>,
    /// Facade and `operationId`.
    pub operations: HashSet<(String, String)>,
}

impl Pauses {
    /// Whether an operation is stopped.
    pub fn stops(&self, facade: &str, operation: &str) -> bool {
        if self.facades.is_empty() && self.operations.is_empty() {
            return false;
        }
        self.facades.contains(facade)
            || self
                .operations
                .iter()
                .any(|(f, o)| f == facade && o == operation)
    }
}

/// What all workers share: swapped as a whole, never changed in place.
pub struct Shared {
    /// The release that is served.
    pub porch: ArcSwap<CompiledPorch>,
    /// Who may call, by what they show.
    pub grants: ArcSwap<Grants>,
    /// What is paused.
    pub pauses: ArcSwap<Pauses>,
    /// Where requests are counted that this node counts alone.
    pub counters: Box<dyn Counters>,
    /// Where limits and quotas are counted that several nodes share.
    pub common: Option<Arc<dyn CommonCounts>>,
    /// Records that nobody took in time and that were dropped.
    pub lost_records: AtomicU64,
    pub(crate) records: mpsc::Sender<Record>,
    pub(crate) budget: Arc<Budget>,
    /// What backends are shown that demand tokens.
    pub(crate) tokens: Tokens,
    /// Connections of backends that take only so many.
    pub(crate) limits: Arc<Limits>,
    /// Which backends are left alone.
    pub(crate) circuits: Circuits,
    /// Which addresses are known not to be well.
    pub watched: Arc<Watched>,
    /// The portal's pages, which may call everything.
    portal: OnceLock<Cors>,
    /// Replies that are kept.
    pub cache: Arc<Cache>,
    /// What was added to quotas, by limit, subject and the beginning of the period.
    pub additions: ArcSwap<HashMap<(u64, u64, u64), u64>>,
    /// Who is under way where only so many may be.
    pub(crate) at_once: AtOnce,
    /// Keys of those who issue tokens.
    pub(crate) issuers: Issuers,
    /// What issuers said of tokens.
    pub(crate) introspected: Introspected,
    /// Passwords that were right lately.
    pub(crate) passwords: Passwords,
    /// Credentials that were not good lately.
    pub(crate) guesses: Guesses,
    /// Credentials that were used for the first time in a minute, since somebody asked.
    uses: Mutex<HashMap<(&'static str, Box<str>), u32>>,
    started: Instant,
    /// Milliseconds since 1970 at the start.
    began: u64,
}

/// Credentials whose use is remembered until somebody asks.
const MOST_USES: usize = 1_000_000;

impl Shared {
    /// Nothing published yet. Records come out of the receiver; when it is full they are dropped and counted, so that a slow database
    /// never slows a call.
    pub fn new() -> (Arc<Self>, mpsc::Receiver<Record>) {
        Self::with_memory(budget::DEFAULT)
    }

    /// The same, with a bound for the bytes of all bodies that are gathered or read at the same time.
    pub fn with_memory(bytes: usize) -> (Arc<Self>, mpsc::Receiver<Record>) {
        Self::with_bounds(bytes, cache::DEFAULT)
    }

    /// The same, with a bound for the bytes of all replies that are kept, too.
    pub fn with_bounds(bytes: usize, kept: usize) -> (Arc<Self>, mpsc::Receiver<Record>) {
        Self::with_counters(bytes, kept, Box::new(States::new()), None)
    }

    /// The same, with the places where requests are counted: this node's own, and one that it shares with others.
    pub fn with_counters(
        bytes: usize,
        kept: usize,
        counters: Box<dyn Counters>,
        common: Option<Arc<dyn CommonCounts>>,
    ) -> (Arc<Self>, mpsc::Receiver<Record>) {
        let (records, receiver) = mpsc::channel(4096);
        let shared = Self {
            porch: ArcSwap::from_pointee(CompiledPorch::default()),
            grants: ArcSwap::from_pointee(Grants::default()),
            pauses: ArcSwap::from_pointee(Pauses::default()),
            counters,
            common,
            lost_records: AtomicU64::new(0),
            records,
            budget: Arc::new(Budget::new(bytes)),
            tokens: Tokens::default(),
            limits: Arc::default(),
            circuits: Circuits::default(),
            watched: Arc::default(),
            portal: OnceLock::new(),
            cache: Arc::new(Cache::of(kept)),
            additions: ArcSwap::default(),
            at_once: AtOnce::default(),
            issuers: Issuers::default(),
            introspected: Introspected::default(),
            passwords: Passwords::new(),
            guesses: Guesses::default(),
            uses: Mutex::default(),
            started: Instant::now(),
            began: u64::try_from(unix_ms()).unwrap_or(0),
        };
        (Arc::new(shared), receiver)
    }

    /// Lets pages of the portal's origin call everything, beside the pages that facades let.
    pub fn welcome_portal(&self, origin: &str) {
        let _ = self.portal.set(Cors::of_portal(origin));
    }

    /// Whether there is a portal.
    #[inline]
    pub(crate) fn has_portal(&self) -> bool {
        self.portal.get().is_some()
    }

    /// What lets a page of an origin call, where it is the portal's and the facade's own rule does not let it.
    pub(crate) fn portal_for(&self, own: Option<&Cors>, origin: &str) -> Option<&Cors> {
        let portal = self.portal.get().filter(|p| p.allows(origin))?;
        match own.is_some_and(|c| c.allows(origin)) {
            true => None,
            false => Some(portal),
        }
    }

    /// How long a backend is left alone still, where it is.
    pub fn resting(&self, backend: &CompiledBackend) -> Option<Duration> {
        self.circuits.resting(backend)
    }

    /// Bytes of memory that bodies have now.
    pub fn bytes_of_bodies(&self) -> usize {
        self.budget.used()
    }

    /// Milliseconds since 1970, for limits: by the wall's clock at the start, and never back from then on.
    pub fn now_ms(&self) -> u64 {
        self.began + self.started.elapsed().as_millis() as u64
    }

    /// Whether this is asked for the first time, here and on the nodes that count with this one.
    pub(crate) async fn is_first(&self, ask: Ask) -> Result<bool, Away> {
        let Some(common) = &self.common else {
            let (now, counters) = (self.now_ms(), &self.counters);
            let one = counters.ask(ask.limit, ask.subject, ask.rule, ask.weight, now);
            return Ok(one.allowed);
        };
        let decisions = common.ask(vec![ask]).await?;
        Ok(decisions.iter().all(|d| d.allowed))
    }

    /// What is left of limits, here or together with others; nothing is counted.
    ///
    /// # Errors
    /// When the place where nodes count together gives no answer.
    pub async fn left(&self, asks: Vec<Ask>) -> Result<Vec<Decision>, Away> {
        let mut asks = asks;
        for ask in &mut asks {
            ask.weight = 0;
        }
        if let Some(common) = &self.common {
            return common.ask(asks).await;
        }
        let now = self.now_ms();
        let of = |a: &Ask| self.counters.ask(a.limit, a.subject, a.rule, a.weight, now);
        Ok(asks.iter().map(of).collect())
    }

    /// What was counted in periods, here or together with others: limit, subject, the period's beginning, and how much; at
    /// most so many.
    ///
    /// # Errors
    /// When the place where nodes count together gives no answer.
    pub async fn periods(&self, most: usize) -> Result<Vec<(u64, u64, u64, u64)>, Away> {
        match &self.common {
            Some(common) => common.periods(most).await,
            None => Ok(self.counters.periods(most)),
        }
    }

    /// What was added to a quota in a period.
    pub(crate) fn added(&self, limit: u64, subject: u64, from: u64) -> u64 {
        let all = self.additions.load();
        all.get(&(limit, subject, from)).copied().unwrap_or(0)
    }

    /// Notes that a credential was used in a minute since 1970.
    #[cold]
    pub(crate) fn used(&self, kind: &'static str, label: &str, minute: u32) {
        let mut uses = self.uses.lock().unwrap_or_else(PoisonError::into_inner);
        if uses.len() < MOST_USES {
            uses.insert((kind, label.into()), minute);
        }
    }

    /// The credentials that were used since this was asked, by kind and what they are known by, with the minute since 1970.
    pub fn take_uses(&self) -> HashMap<(&'static str, Box<str>), u32> {
        std::mem::take(&mut *self.uses.lock().unwrap_or_else(PoisonError::into_inner))
    }

    /// Forgets what no longer matters of counts; to be called now and then.
    pub fn sweep(&self) {
        let now = self.now_ms();
        self.counters.sweep(now);
        self.guesses.sweep(now);
    }

    pub(crate) fn send(&self, record: Record) {
        if self.records.try_send(record).is_err() {
            self.lost_records.fetch_add(1, Ordering::Relaxed);
        }
    }
}
