//! Records: what falls out at the end of each exchange.
//!
//! Usage is added up in the worker and handed out about once a second, so that a call pays a few nanoseconds for it.

use std::collections::HashMap;
use std::hash::{BuildHasherDefault, Hasher};
use std::sync::Arc;

use porch_facade::{CompiledPorch, OperationIndex};

use crate::Trace;

/// What the gateway hands out.
#[derive(Debug)]
pub enum Record {
    /// Usage of one worker since it last handed some out.
    Usage(Vec<UsageRow>),
    /// The record of one exchange.
    Trace(Box<Trace>),
    /// What copies of calls gave, since one worker last handed some out.
    Copies(Vec<CopyRow>),
    /// A share of a quota is used.
    Quota(Box<QuotaTold>),
}

/// That a share of a quota is used.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct QuotaTold {
    /// When, in milliseconds since 1970.
    pub at: i64,
    /// The facade that was called.
    pub facade: String,
    /// The operation that was called.
    pub operation: String,
    /// The consumer that called; empty where none is known.
    pub consumer: String,
    /// The quota, in words.
    pub rule: String,
    /// What it reaches.
    pub reach: String,
    /// The share, in per cent.
    pub share: u8,
    /// What is used.
    pub used: u64,
    /// Of how much.
    pub most: u64,
    /// When it begins anew, in milliseconds since 1970.
    pub until: i64,
}

/// What copies of an operation's calls gave.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct CopyRow {
    /// Facade.
    pub facade: String,
    /// `operationId`.
    pub operation: String,
    /// The backend that got the copies.
    pub backend: String,
    /// Answers that were the same in all that is compared.
    pub same: u64,
    /// Answers that were not.
    pub different: u64,
    /// Copies that were not answered.
    pub failed: u64,
    /// Calls that were not copied, since there were too many.
    pub left_out: u64,
    /// Microseconds of all exchanges that were copied.
    pub us: u64,
    /// Microseconds of all copies that were answered.
    pub copies_us: u64,
    /// What was different, or failed, last.
    pub told: String,
}

impl CopyRow {
    /// Whether it is of the same copies.
    pub fn is_of(&self, other: &Self) -> bool {
        (&self.facade, &self.operation, &self.backend)
            == (&other.facade, &other.operation, &other.backend)
    }

    /// Adds up.
    pub fn add(&mut self, other: &Self) {
        self.same += other.same;
        self.different += other.different;
        self.failed += other.failed;
        self.left_out += other.left_out;
        self.us += other.us;
        self.copies_us += other.copies_us;
        if !other.told.is_empty() {
            self.told.clone_from(&other.told);
        }
    }
}

/// Number of latency buckets.
const BUCKETS: usize = 40;

/// Usage of one operation by one consumer with one status.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct UsageRow {
    /// Facade.
    pub facade: String,
    /// `operationId`; empty when none was found.
    pub operation: String,
    /// The consumer's number; 0 when unknown.
    pub consumer: i64,
    /// Status of the replies.
    pub status: u16,
    /// Number of calls.
    pub calls: u64,
    /// Bytes of request bodies.
    pub bytes_in: u64,
    /// Bytes of reply bodies.
    pub bytes_out: u64,
    /// Replies that did not fit the contract.
    pub misfits: u64,
    /// Calls by latency: see [`latency_bucket`].
    pub latency: Vec<u32>,
}

/// The bucket of a latency in microseconds: two buckets for each doubling, from 16 µs on.
pub fn latency_bucket(us: u64) -> usize {
    let us = us.max(16);
    let power = 63 - us.leading_zeros() as usize;
    let half = (us >> (power - 1)) & 1;
    ((power - 4) * 2 + half as usize).min(BUCKETS - 1)
}

/// The upper edge of a bucket in microseconds.
pub fn latency_bucket_us(bucket: usize) -> u64 {
    let low = 16u64 << (bucket / 2);
    if bucket.is_multiple_of(2) {
        low + low / 2
    } else {
        low * 2
    }
}

#[derive(Default)]
struct Sum {
    calls: u64,
    bytes_in: u64,
    bytes_out: u64,
    misfits: u64,
    latency: Vec<u32>,
}

/// A quick hasher for numbers that no caller chooses.
#[derive(Default)]
pub(crate) struct Mix(u64);

impl Hasher for Mix {
    fn finish(&self) -> u64 {
        self.0
    }
    fn write(&mut self, bytes: &[u8]) {
        for b in bytes {
            self.write_u64(u64::from(*b));
        }
    }
    fn write_u64(&mut self, n: u64) {
        self.0 = (self.0.rotate_left(5) ^ n).wrapping_mul(0x9e37_79b9_7f4a_7c15);
    }
    fn write_u32(&mut self, n: u32) {
        self.write_u64(u64::from(n));
    }
    fn write_u16(&mut self, n: u16) {
        self.write_u64(u64::from(n));
    }
    fn write_isize(&mut self, n: isize) {
        self.write_u64(n as u64);
    }
    fn write_i64(&mut self, n: i64) {
        self.write_u64(n as u64);
    }
}

/// What a worker has added up.
#[derive(Default)]
pub(crate) struct Batch {
    porch: Option<Arc<CompiledPorch>>,
    sums: HashMap<(Option<OperationIndex>, i64, u16), Sum, BuildHasherDefault<Mix>>,
}

/// One finished exchange.
pub(crate) struct Finished {
    pub(crate) operation: Option<OperationIndex>,
    pub(crate) consumer: i64,
    pub(crate) status: u16,
    pub(crate) us: u64,
    pub(crate) bytes_in: u64,
    pub(crate) bytes_out: u64,
    pub(crate) misfit: bool,
}

impl Batch {
    /// Adds one exchange; gives rows of an earlier release first, since their numbers mean something else.
    pub(crate) fn add(&mut self, porch: &Arc<CompiledPorch>, f: &Finished) -> Vec<UsageRow> {
        let before = match &self.porch {
            Some(own) if Arc::ptr_eq(own, porch) => Vec::new(),
            _ => {
                let rows = self.take();
                self.porch = Some(porch.clone());
                rows
            }
        };
        let sum = self
            .sums
            .entry((f.operation, f.consumer, f.status))
            .or_default();
        sum.calls += 1;
        sum.bytes_in += f.bytes_in;
        sum.bytes_out += f.bytes_out;
        sum.misfits += u64::from(f.misfit);
        if sum.latency.is_empty() {
            sum.latency = vec![0; BUCKETS];
        }
        sum.latency[latency_bucket(f.us)] += 1;
        before
    }

    pub(crate) fn take(&mut self) -> Vec<UsageRow> {
        let Some(porch) = &self.porch else {
            return Vec::new();
        };
        self.sums
            .drain()
            .map(|((operation, consumer, status), sum)| {
                let at = operation.and_then(|index| porch.at(index));
                UsageRow {
                    facade: at.map_or_else(String::new, |(facade, _)| facade.name.clone()),
                    operation: at.map_or_else(String::new, |(_, op)| op.id.clone()),
                    consumer,
                    status,
                    calls: sum.calls,
                    bytes_in: sum.bytes_in,
                    bytes_out: sum.bytes_out,
                    misfits: sum.misfits,
                    latency: sum.latency,
                }
            })
            .collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn buckets_grow_by_halves_and_their_edges_fit() {
        assert_eq!(
            (
                latency_bucket(0),
                latency_bucket(16),
                latency_bucket(24),
                latency_bucket(32)
            ),
            (0, 0, 1, 2)
        );
        for us in [16u64, 17, 100, 999, 12_345, 1_000_000] {
            let bucket = latency_bucket(us);
            assert!(
                us < latency_bucket_us(bucket)
                    && (bucket == 0 || us >= latency_bucket_us(bucket - 1)),
                "{us}"
            );
        }
        assert_eq!(latency_bucket(u64::MAX), BUCKETS - 1);
    }
}
