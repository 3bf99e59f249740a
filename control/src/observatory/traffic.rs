//! Usage arithmetic: traffic of a time, percentiles.

use porch_gateway::latency_bucket_us;
use porch_store::UsageTotals;
use serde::Serialize;
use utoipa::ToSchema;

/// Traffic of one hour.
#[derive(Default, Serialize, ToSchema)]
pub(crate) struct Traffic {
    pub(crate) calls: i64,
    /// Replies with a status from 400 to 499.
    pub(crate) refused: i64,
    /// Replies with a status from 500 on.
    pub(crate) failed: i64,
    /// Half of the calls took at most so many microseconds.
    pub(crate) p50_us: u64,
    pub(crate) p99_us: u64,
}

#[derive(Serialize, ToSchema)]
pub(crate) struct Minute {
    /// Minutes since 1970.
    pub(crate) minute: i64,
    pub(crate) calls: i64,
    pub(crate) refused: i64,
    pub(crate) failed: i64,
}

/// The upper edge of the bucket that holds a share of the calls.
fn percentile(latency: &[i64], share: f64) -> u64 {
    let total: i64 = latency.iter().sum();
    let mut seen = 0;
    for (bucket, count) in latency.iter().enumerate() {
        seen += count;
        if total > 0 && seen as f64 >= total as f64 * share {
            return latency_bucket_us(bucket);
        }
    }
    0
}

pub(crate) fn traffic<'a>(rows: impl Iterator<Item = (&'a i32, &'a UsageTotals)>) -> Traffic {
    let mut traffic = Traffic::default();
    let mut latency: Vec<i64> = Vec::new();
    for (status, total) in rows {
        traffic.calls += total.calls;
        match status / 100 {
            4 => traffic.refused += total.calls,
            5 => traffic.failed += total.calls,
            _ => {}
        }
        latency.resize(latency.len().max(total.latency.len()), 0);
        latency
            .iter_mut()
            .zip(&total.latency)
            .for_each(|(a, b)| *a += b);
    }
    traffic.p50_us = percentile(&latency, 0.5);
    traffic.p99_us = percentile(&latency, 0.99);
    traffic
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn percentiles_are_the_upper_edges_of_their_buckets() {
        assert_eq!(percentile(&[], 0.5), 0);
        assert_eq!(percentile(&[0, 0, 0], 0.99), 0);
        let latency = [90, 9, 0, 1];
        assert_eq!(percentile(&latency, 0.5), latency_bucket_us(0));
        assert_eq!(percentile(&latency, 0.99), latency_bucket_us(1));
        assert_eq!(percentile(&latency, 1.0), latency_bucket_us(3));
    }

    #[test]
    fn refusals_and_failures_are_told_apart_by_status() {
        let total = |calls| UsageTotals {
            calls,
            latency: vec![calls],
            ..UsageTotals::default()
        };
        let rows = [
            (200, total(5)),
            (404, total(2)),
            (429, total(1)),
            (503, total(1)),
        ];
        let sum = traffic(rows.iter().map(|(s, t)| (s, t)));
        assert_eq!((sum.calls, sum.refused, sum.failed), (9, 3, 1));
    }
}
