//! One run of `wrk`, and a case: interleaved runs of ours and a reference.

use std::process::Command;

use serde_json::{Value, json};

use super::server::{Cpu, memory_mb};
use crate::Outcome;

/// One case: ours against a reference.
pub(super) struct Case {
    pub(super) name: &'static str,
    pub(super) reference_name: &'static str,
    /// Least throughput ratio, greatest CPU ratio.
    pub(super) target: (f64, Option<f64>),
    /// Connections for throughput.
    pub(super) connections: u32,
    pub(super) ours: Load,
    pub(super) reference: Load,
}

/// What is loaded: a process, an address, a key.
#[derive(Clone)]
pub(super) struct Load {
    pub(super) pid: u32,
    pub(super) url: String,
    pub(super) key: Option<String>,
}

/// One run of wrk.
#[derive(Clone, Copy, Default)]
pub(super) struct Measured {
    pub(super) per_second: f64,
    cpu_us: f64,
    pub(super) p50_us: f64,
    pub(super) p99_us: f64,
}

/// A time as wrk writes it, in microseconds.
fn wrk_time(text: &str) -> f64 {
    let at = text
        .find(|c: char| c.is_ascii_alphabetic())
        .unwrap_or(text.len());
    let n: f64 = text[..at].parse().unwrap_or(f64::NAN);
    match &text[at..] {
        "us" => n,
        "ms" => n * 1e3,
        _ => n * 1e6,
    }
}

pub(super) fn wrk(load: &Load, connections: u32, seconds: u32) -> Outcome<Measured> {
    let mut command = Command::new("taskset");
    command.args([
        "-c",
        "1",
        "wrk",
        "-t1",
        &format!("-c{connections}"),
        &format!("-d{seconds}s"),
        "--latency",
    ]);
    if let Some(key) = &load.key {
        command.arg("-H").arg(format!("API-Key: {key}"));
    }
    let before = Cpu::of(load.pid);
    let output = command
        .arg(&load.url)
        .output()
        .map_err(|e| format!("wrk: {e}"))?;
    let cpu = Cpu::of(load.pid).since(&before);
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    let after = |name: &str| {
        text.lines()
            .find_map(|l| l.trim().strip_prefix(name))
            .map(|r| r.trim().to_owned())
    };
    if after("Non-2xx").is_some() || after("Socket errors").is_some() {
        return Err(format!("{} did not answer well:\n{text}", load.url));
    }
    let per_second: f64 = after("Requests/sec:")
        .and_then(|t| t.parse().ok())
        .ok_or_else(|| format!("wrk gave no figure:\n{text}"))?;
    let requests: f64 = text
        .lines()
        .find_map(|l| l.trim().split_once(" requests in ")?.0.parse().ok())
        .unwrap_or(f64::NAN);
    let percentile = |name: &str| after(name).map_or(f64::NAN, |t| wrk_time(&t));
    Ok(Measured {
        per_second,
        cpu_us: cpu as f64 / 1000.0 / requests,
        p50_us: percentile("50%"),
        p99_us: percentile("99%"),
    })
}

pub(super) fn median(mut values: Vec<f64>) -> f64 {
    values.sort_by(f64::total_cmp);
    values.get(values.len() / 2).copied().unwrap_or(f64::NAN)
}

pub(super) fn round(x: f64, digits: i32) -> f64 {
    (x * 10f64.powi(digits)).round() / 10f64.powi(digits)
}

/// What the runs of one case gave.
#[derive(Default)]
struct Runs {
    throughput: Vec<f64>,
    cpu: Vec<f64>,
    p50: Vec<f64>,
    p99: Vec<f64>,
    ours_per_second: Vec<f64>,
    reference_per_second: Vec<f64>,
}

impl Runs {
    /// One more: ours, the reference, and both straight with one connection.
    fn add(&mut self, case: &Case, direct: &Load, seconds: u32) -> Outcome {
        let ours = wrk(&case.ours, case.connections, seconds)?;
        let reference = wrk(&case.reference, case.connections, seconds)?;
        self.throughput.push(ours.per_second / reference.per_second);
        self.cpu.push(ours.cpu_us / reference.cpu_us);
        self.ours_per_second.push(ours.per_second);
        self.reference_per_second.push(reference.per_second);
        let one = wrk(&case.ours, 1, seconds.min(2))?;
        let straight = wrk(direct, 1, seconds.min(2))?;
        self.p50.push(one.p50_us - straight.p50_us);
        self.p99.push(one.p99_us - straight.p99_us);
        Ok(())
    }

    fn report(self, case: &Case) -> Value {
        let throughput = round(median(self.throughput), 3);
        let cpu = round(median(self.cpu), 3);
        let (least, most) = case.target;
        let met = throughput >= least && most.is_none_or(|most| cpu <= most);
        let target = most.map_or_else(
            || format!("throughput ≥ {least}"),
            |most| format!("throughput ≥ {least}, CPU ≤ {most}"),
        );
        json!({
            "case": case.name,
            "reference": case.reference_name,
            "throughput_ratio": throughput,
            "cpu_ratio": cpu,
            "p50_added_us": round(median(self.p50), 1),
            "p99_added_us": round(median(self.p99), 1),
            "memory_mb": round(memory_mb(case.ours.pid), 1),
            "target": target,
            "met": met,
            "ours_per_second": median(self.ours_per_second).round(),
            "reference_per_second": median(self.reference_per_second).round(),
        })
    }
}

pub(super) fn measure(case: &Case, direct: &Load, seconds: u32, runs: u32) -> Outcome<Value> {
    for load in [&case.ours, &case.reference] {
        wrk(load, case.connections, 1)?;
    }
    let mut measured = Runs::default();
    for _ in 0..runs {
        measured.add(case, direct, seconds)?;
    }
    Ok(measured.report(case))
}
