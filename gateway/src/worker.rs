//! A worker: what one thread of the data plane keeps to itself.

use std::cell::{Cell, RefCell};
use std::rc::Rc;
use std::sync::Arc;
use std::time::Instant;

use porch_facade::{CompiledPorch, OperationIndex};

use crate::backend::Backends;
use crate::connection::proxies::Proxies;
use crate::exchange::unix_ms;
use crate::shared::Shared;
use crate::trace::{Refusal, Stage, Trace};
use crate::usage::{Batch, CopyRow, Finished, Record};

/// What one worker thread keeps to itself.
pub(crate) struct Worker {
    pub(crate) shared: Arc<Shared>,
    pub(crate) backends: Backends,
    batch: RefCell<Batch>,
    random: Cell<u64>,
    /// The second, and how many traces were kept in it: full ones, and short ones.
    traces: Cell<(u64, [u32; 2])>,
    inflight: Cell<usize>,
    /// Replies that are compressed now.
    pub(crate) packing: Cell<usize>,
    /// Copies of calls under way, and what came of others.
    copying: Cell<usize>,
    copies: RefCell<Vec<CopyRow>>,
    /// Exchanges at the same time, at most.
    most: usize,
    /// Proxies that callers may come by.
    pub(crate) proxies: Proxies,
}

/// Full traces begun in one second by one worker, at most; beyond that only refusals and failures are kept, in short.
const FULL_TRACES: u32 = 20;
const SHORT_TRACES: u32 = 50;

impl Worker {
    pub(crate) fn new(shared: Arc<Shared>, most: usize, proxies: Proxies) -> Rc<Self> {
        let mut seed = [0u8; 8];
        let _ = getrandom::fill(&mut seed);
        Rc::new(Self {
            backends: Backends::sharing(shared.limits.clone(), shared.watched.clone()),
            shared,
            batch: RefCell::default(),
            random: Cell::new(u64::from_le_bytes(seed) | 1),
            traces: Cell::default(),
            inflight: Cell::new(0),
            packing: Cell::new(0),
            copying: Cell::new(0),
            copies: RefCell::default(),
            most,
            proxies,
        })
    }

    /// The next number of a xorshift generator: ids need to differ, not to be secret.
    pub(crate) fn random(&self) -> u64 {
        let mut x = self.random.get();
        x ^= x << 13;
        x ^= x >> 7;
        x ^= x << 17;
        self.random.set(x);
        x.wrapping_mul(0x2545_f491_4f6c_dd1d)
    }

    /// Whether there are as many exchanges as there may be.
    /// Whether no exchange is under way.
    pub(crate) fn is_idle(&self) -> bool {
        self.inflight.get() == 0
    }

    pub(crate) fn is_full(&self) -> bool {
        self.inflight.get() >= self.most
    }

    pub(crate) fn flush(&self) {
        let rows = self.batch.borrow_mut().take();
        if !rows.is_empty() {
            self.shared.send(Record::Usage(rows));
        }
        let copies = self.copies.take();
        if !copies.is_empty() {
            self.shared.send(Record::Copies(copies));
        }
    }

    /// Notes what came of a copy.
    pub(crate) fn copied(&self, row: CopyRow) {
        let mut all = self.copies.borrow_mut();
        match all.iter_mut().find(|r| r.is_of(&row)) {
            Some(sum) => sum.add(&row),
            None => all.push(row),
        }
    }

    /// Whether another exchange of this second may be kept in full.
    pub(crate) fn may_trace(&self, now: i64) -> bool {
        self.may_keep(now, 0, FULL_TRACES)
    }

    /// Whether another refusal of this second may be kept in short.
    pub(crate) fn may_tell(&self, now: i64) -> bool {
        self.may_keep(now, 1, SHORT_TRACES)
    }

    fn may_keep(&self, now: i64, which: usize, most: u32) -> bool {
        let second = now as u64 / 1000;
        let (at, used) = self.traces.get();
        let mut used = if at == second { used } else { [0; 2] };
        if used[which] >= most {
            return false;
        }
        used[which] += 1;
        self.traces.set((second, used));
        true
    }

    fn finish(&self, porch: &Arc<CompiledPorch>, finished: &Finished) {
        let rows = self.batch.borrow_mut().add(porch, finished);
        if !rows.is_empty() {
            self.shared.send(Record::Usage(rows));
        }
    }
}

/// The place of an exchange among those that are under way: until its reply's last byte is on its way.
pub(crate) struct InFlight(Rc<Worker>);

impl InFlight {
    pub(crate) fn new(worker: &Rc<Worker>) -> Self {
        worker.inflight.set(worker.inflight.get() + 1);
        Self(worker.clone())
    }
}

impl Drop for InFlight {
    fn drop(&mut self) {
        self.0.inflight.set(self.0.inflight.get() - 1);
    }
}

/// The place of a copy among those that are under way.
pub(crate) struct Copying(Rc<Worker>);

/// Copies of one worker at the same time; more calls are not copied.
const COPIES: usize = 16;

impl Copying {
    pub(crate) fn begin(worker: &Rc<Worker>) -> Option<Self> {
        let number = worker.copying.get();
        (number < COPIES && !worker.is_full()).then(|| {
            worker.copying.set(number + 1);
            Self(worker.clone())
        })
    }
}

impl Drop for Copying {
    fn drop(&mut self) {
        self.0.copying.set(self.0.copying.get() - 1);
    }
}

/// Counts an exchange when its last byte is gone, or when the caller has left.
pub(crate) struct Ending {
    pub(crate) inflight: InFlight,
    pub(crate) porch: Arc<CompiledPorch>,
    pub(crate) started: Instant,
    pub(crate) operation: Option<OperationIndex>,
    pub(crate) consumer: i64,
    pub(crate) status: u16,
    pub(crate) bytes_in: u64,
    pub(crate) bytes_out: Cell<u64>,
    /// Whether the reply does not fit the contract.
    pub(crate) misfit: bool,
    /// Of a reply that is made while it is sent: what is known of its exchange, should it break off.
    pub(crate) outline: Option<Box<Trace>>,
    /// Limits of bytes that are counted now, and places that are held until now.
    pub(crate) rare: Option<Box<crate::exchange::state::Rare>>,
}

impl Ending {
    pub(crate) fn worker(&self) -> &Rc<Worker> {
        &self.inflight.0
    }

    pub(crate) fn add_bytes(&self, n: u64) {
        self.bytes_out.set(self.bytes_out.get() + n);
    }

    /// A reply that had begun broke off: a trace of its own, beside the one that was kept when it began.
    pub(crate) fn broke(&self, refusal: Refusal) {
        let Some(outline) = &self.outline else {
            return;
        };
        if !self.worker().may_tell(unix_ms()) {
            return;
        }
        let us = self.started.elapsed().as_micros() as u64;
        let stage = Stage {
            name: refusal.stage,
            from_us: us,
            notes: vec![format!("the reply had begun: {}", refusal.why)],
            ..Stage::default()
        };
        let mut trace = outline.clone();
        trace.us = us;
        trace.refusal = Some(refusal);
        trace.stages = vec![stage];
        trace.hide_keys();
        self.worker().shared.send(Record::Trace(trace));
    }
}

impl Drop for Ending {
    fn drop(&mut self) {
        if let Some(rare) = self.rare.take() {
            let bytes = self.bytes_in.saturating_add(self.bytes_out.get());
            for charge in rare.charges {
                charge.pay(&self.worker().shared, bytes);
            }
        }
        let finished = Finished {
            operation: self.operation,
            consumer: self.consumer,
            status: self.status,
            us: self.started.elapsed().as_micros() as u64,
            bytes_in: self.bytes_in,
            bytes_out: self.bytes_out.get(),
            misfit: self.misfit,
        };
        self.worker().finish(&self.porch, &finished);
    }
}
