//! What no throughput tells: added time beside a byte relay's, releases under load, memory, a second worker.

use std::time::Instant;

use serde_json::{Value, json};

use super::cases::{Bench, full};
use super::measure::{Load, median, round, wrk};
use super::service::{Porch, Size};
use crate::Outcome;

/// Connections while something is released: calls one behind the other, which leave half of two cores.
const CALLERS: u32 = 1;

impl Bench<'_> {
    pub(super) fn running_cases(&mut self) -> Outcome {
        if self.options.wants("added") {
            let row = self.added()?;
            self.results.running.push(row);
        }
        if self.options.wants("two-calls") {
            let row = self.two_calls()?;
            self.results.running.push(row);
        }
        if self.options.wants("release") {
            let row = self.release_under_load()?;
            self.results.running.push(row);
        }
        if self.options.wants("memory") {
            let rows = self.memory()?;
            self.results.running.extend(rows);
        }
        if self.options.wants("known") {
            let rows = self.known()?;
            self.results.running.extend(rows);
        }
        if self.options.wants("workers") {
            let row = self.workers()?;
            self.results.running.push(row);
        }
        Ok(())
    }

    /// Median time of a call with one connection, less that of the backend without anything between: ours over a byte relay's.
    fn added(&self) -> Outcome<Value> {
        eprintln!("· added time against a byte relay");
        let path = "/item/7";
        let (ours, relay) = (
            self.small.load("/plain/item/7", false),
            self.relay.load(path),
        );
        let direct = self.backend.load(path);
        let (mut own, mut other) = (Vec::new(), Vec::new());
        for _ in 0..self.options.runs {
            let p50 = |load: &Load| wrk(load, 1, self.options.seconds).map(|m| m.p50_us);
            let (direct, ours, relay) = (p50(&direct)?, p50(&ours)?, p50(&relay)?);
            own.push(ours - direct);
            other.push(relay - direct);
        }
        let (own, other) = (median(own), median(other));
        Ok(row(
            "added median, one connection",
            &format!("{own:.0} µs, a byte relay {other:.0} µs"),
            own / other,
            1.3,
        ))
    }

    /// Median time of two calls at once, over that of the slower one alone, both through the porch.
    fn two_calls(&self) -> Outcome<Value> {
        eprintln!("· two calls at once against the slower one alone");
        let (both, alone) = (
            self.small.load("/both/both", false),
            self.small.load("/both/slower", false),
        );
        let (mut ratios, mut two, mut one) = (Vec::new(), Vec::new(), Vec::new());
        for _ in 0..self.options.runs {
            let p50 = |load: &Load| wrk(load, 1, self.options.seconds).map(|m| m.p50_us);
            let (both, alone) = (p50(&both)?, p50(&alone)?);
            ratios.push(both / alone);
            two.push(both);
            one.push(alone);
        }
        let (two, one) = (median(two), median(one));
        Ok(row(
            "two calls at once, median with one connection",
            &format!("{two:.0} µs, the slower alone {one:.0} µs"),
            median(ratios),
            1.15,
        ))
    }

    /// The slowest hundredth of the calls while a facade of 10,000 operations is changed and released, over the same before.
    fn release_under_load(&self) -> Outcome<Value> {
        eprintln!("· a release under load");
        let size = Size {
            operations: 10_000,
            cores: "0-1",
            ..Size::FEW
        };
        let porch = Porch::start("released", self.cluster, self.backends(), size)?;
        let load = full(&porch, 7777);
        let calls = |seconds: u32| wrk(&load, CALLERS, seconds).map(|m| m.p99_us);
        // All of these before anything is released: what a release leaves to be done goes on for a while behind it.
        let quiet = (0..self.options.runs).map(|_| calls(self.options.seconds));
        let before: Vec<f64> = quiet.collect::<Outcome<_>>()?;
        let release = |n: u32| {
            let from = Instant::now();
            let done = porch.change_and_release(n);
            done.map(|()| from.elapsed().as_secs_f64())
        };
        let (mut meanwhile, mut took) = (Vec::new(), vec![release(0)?]);
        for run in 1..=self.options.runs {
            // Until the release is over, by what the last one took, and some time behind it.
            let long = took.last().map_or(1.0, |t| t.ceil()) as u32 + self.options.seconds;
            let (loaded, released) = std::thread::scope(|scope| {
                let releasing = scope.spawn(move || release(run));
                (calls(long), releasing.join())
            });
            // A call that fails ends the measurement with an error.
            meanwhile.push(loaded?);
            took.push(released.map_err(|_| "the release panicked")??);
        }
        let (before, meanwhile) = (median(before), median(meanwhile));
        let said = format!(
            "p99 {before:.0} µs before, {meanwhile:.0} µs from its push until a while behind its release, which come to {:.1} s; no call failed",
            median(took)
        );
        Ok(row(
            "release among 10,000 operations",
            &said,
            meanwhile / before,
            2.0,
        ))
    }

    /// What an operation and a key take, after a start with all of them.
    fn memory(&self) -> Outcome<Vec<Value>> {
        eprintln!("· memory");
        let mut rows = Vec::new();
        let after_restart = |name: &str, size: Size| -> Outcome<(f64, f64)> {
            let mut porch = Porch::publish(name, self.cluster, self.backends(), size)?;
            let released = porch.memory_mb();
            porch.restart(self.cluster)?;
            Ok((released, porch.memory_mb()))
        };
        let (_, idle) = after_restart("idle", Size::FEW)?;
        rows.push(row(
            "idle: MB of a service with 10 operations",
            "",
            idle,
            30.0,
        ));
        for (name, operations) in [("ten", 10_000), ("hundred", 100_000)] {
            let size = Size {
                operations,
                ..Size::FEW
            };
            let (released, restarted) = after_restart(name, size)?;
            let each = (restarted - idle) * 1024.0 / operations as f64;
            let said =
                format!("{released:.0} MB after the release, {restarted:.0} MB after a restart");
            let case = format!("kB an operation, of {operations}");
            rows.push(row(&case, &said, each, 4.0));
        }
        Ok(rows)
    }

    /// Two workers, which share the second core with the load and the backend, over one.
    fn workers(&self) -> Outcome<Value> {
        eprintln!("· two workers");
        let size = Size {
            workers: 2,
            cores: "0-1",
            ..Size::FEW
        };
        let two = Porch::start("two", self.cluster, self.backends(), size)?;
        let (one, two) = (
            self.small.load("/plain/item/7", false),
            two.load("/plain/item/7", false),
        );
        let mut ratios = Vec::new();
        for _ in 0..self.options.runs {
            let second = wrk(&two, 64, self.options.seconds)?.per_second;
            ratios.push(second / wrk(&one, 64, self.options.seconds)?.per_second);
        }
        // No target: JSON has no infinity, and the table says that it is not judged.
        Ok(row(
            "two workers over one",
            "of two cores the second also carries load and backend",
            median(ratios),
            f64::INFINITY,
        ))
    }
}

pub(super) fn row(case: &str, said: &str, value: f64, most: f64) -> Value {
    json!({ "case": case, "said": said, "value": round(value, 2), "target": most, "met": value <= most })
}
