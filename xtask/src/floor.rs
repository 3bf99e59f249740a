//! Instructions a request, held against `bench/floor.toml`.
//!
//! The data plane runs under callgrind and gets the same load twice, once shorter: the difference of the two counts is
//! what the additional requests cost, without the start and the end.

use std::fs;
use std::io::{BufRead, BufReader};
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};

use porch_cluster::free_port;

mod kinds;

use crate::{Outcome, install, root, run as run_command};

const CONNECTIONS: u32 = 64;
/// Rounds of the shorter and the longer load.
const ROUNDS: (u32, u32) = (10, 50);
/// A case that seems to have grown is counted so often at most, and the least is what counts: how callers, gateway and backend take
/// turns adds one to three in a hundred, and never takes anything away.
const ATTEMPTS: usize = 3;

/// What is counted.
struct Case {
    name: &'static str,
    path: &'static str,
    /// Status of each answer.
    status: &'static str,
    /// The key that callers show.
    key: Option<&'static str>,
    connections: u32,
    /// Whether the demo's fleet is served too.
    fleet: bool,
    /// Whether each kind of credential and limit is.
    kinds: bool,
}

const fn case(name: &'static str, path: &'static str) -> Case {
    Case {
        name,
        path,
        status: "200",
        key: None,
        connections: CONNECTIONS,
        fleet: false,
        kinds: false,
    }
}

const CASES: [Case; 8] = [
    case("plain", "/plain/item/7"),
    Case {
        connections: 1,
        ..case("plain-alone", "/plain/item/7")
    },
    Case {
        key: Some("bench"),
        ..case("full", "/full/item/7")
    },
    Case {
        status: "401",
        ..case("refused", "/full/item/7")
    },
    case("kept", "/kept/item/7"),
    case("both", "/both/item/7"),
    case("soap-1kb", "/soap/harbours/Farholt/sailings?on=2027-05-14"),
    Case {
        fleet: true,
        ..case("grpc-1kb", "/vessels/v1/vessels/v1")
    },
];

/// `cargo xtask floor [--write|--kinds]`.
pub(crate) fn run(arguments: &[String]) -> Outcome {
    match arguments {
        [] => check(),
        [one] if one == "--write" => write(),
        [one] if one == "--kinds" => kinds::told(),
        _ => Err("floor: only --write and --kinds are known".into()),
    }
}

fn place() -> PathBuf {
    root().join("bench/floor.toml")
}

fn read() -> Outcome<toml::Table> {
    let text = fs::read_to_string(place()).map_err(|e| e.to_string())?;
    text.parse().map_err(|e| format!("bench/floor.toml: {e}"))
}

/// Counts, and compares with what is written down.
pub(crate) fn check() -> Outcome {
    let floor = read()?;
    let tolerance = floor["tolerance"].as_float().unwrap_or(0.03);
    let mut grown = Vec::new();
    build()?;
    for case in &CASES {
        let name = case.name;
        let held = floor["instructions"]
            .get(name)
            .and_then(toml::Value::as_integer)
            .ok_or_else(|| format!("bench/floor.toml has no figure for {name}"))?;
        let own = floor.get(&format!("tolerance-{name}"));
        let tolerance = own.and_then(toml::Value::as_float).unwrap_or(tolerance);
        let most = held as f64 * (1.0 + tolerance);
        let counted = least(case, |counted| counted as f64 <= most)?;
        let change = (counted as f64 / held as f64 - 1.0) * 100.0;
        println!("{name}: {counted} instructions a request, {change:+.1} % against {held}");
        if change > tolerance * 100.0 {
            grown.push(name);
        }
        if change < -tolerance * 100.0 {
            println!("{name} became lighter: write it down with cargo xtask floor --write");
        }
    }
    if grown.is_empty() {
        Ok(())
    } else {
        Err(format!(
            "floor: {} grew; see bench/floor.toml",
            grown.join(" and ")
        ))
    }
}

fn write() -> Outcome {
    let mut text = fs::read_to_string(place()).map_err(|e| e.to_string())?;
    build()?;
    for case in &CASES {
        let (name, counted) = (case.name, least(case, |_| false)?);
        println!("{name}: {counted} instructions a request");
        let lines = text.lines().map(|line| match line.split_once(" = ") {
            Some((key, _)) if key == name => format!("{name} = {counted}\n"),
            _ => format!("{line}\n"),
        });
        text = lines.collect();
    }
    fs::write(place(), text).map_err(|e| e.to_string())
}

fn build() -> Outcome {
    install::packages(&["valgrind"])?;
    run_command(
        "building the data plane for counting",
        Command::new("cargo")
            .args(["build", "--quiet", "--release", "-p", "porch-bench-gateway"])
            .current_dir(root()),
    )
}

/// Instructions a request: the least of several counts, as many as it takes.
fn least(case: &Case, enough: impl Fn(u64) -> bool) -> Outcome<u64> {
    let mut least = u64::MAX;
    for _ in 0..ATTEMPTS {
        eprintln!("· counting instructions: {}", case.name);
        // As many requests, however many at the same time.
        let rounds = |n: u32| n * CONNECTIONS / case.connections;
        let short = instructions(case, rounds(ROUNDS.0))?;
        let long = instructions(case, rounds(ROUNDS.1))?;
        let requests = u64::from((ROUNDS.1 - ROUNDS.0) * CONNECTIONS);
        least = least.min(long.saturating_sub(short) / requests);
        if enough(least) {
            break;
        }
    }
    Ok(least)
}

/// Ends a program whatever happens.
struct Ended(Child);

impl Drop for Ended {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// All instructions of one run under a load.
fn instructions(case: &Case, rounds: u32) -> Outcome<u64> {
    let out = root().join("target/floor.callgrind");
    let mut valgrind = Command::new("valgrind");
    valgrind
        .args(["--tool=callgrind", "--quiet"])
        .arg(format!("--callgrind-out-file={}", out.display()))
        .arg(programs().join("bench-gateway"));
    loaded(case, valgrind, rounds, |_| Ok(()))?;
    total(&fs::read_to_string(&out).map_err(|e| e.to_string())?)
}

fn programs() -> PathBuf {
    root().join("target/release")
}

/// Runs the data plane under a load; it is looked at before and after it.
fn loaded(
    case: &Case,
    mut program: Command,
    rounds: u32,
    mut look: impl FnMut(u32) -> Outcome,
) -> Outcome {
    let port = || free_port().map_err(|e| e.to_string());
    let (gateway, backend) = (port()?.to_string(), port()?.to_string());
    let mut child = Ended(
        program
            .args([&gateway, &backend])
            .args(case.fleet.then_some(&backend))
            .envs(case.kinds.then_some(("BENCH_KINDS", "1")))
            .current_dir(root())
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()
            .map_err(|e| format!("bench-gateway: {e}"))?,
    );
    let mut ready = String::new();
    if let Some(output) = child.0.stdout.take() {
        let read = BufReader::new(output).read_line(&mut ready);
        read.map_err(|e| e.to_string())?;
    }
    if ready.trim() != "ready" {
        return Err("floor: bench-gateway did not start".into());
    }
    look(child.0.id())?;
    let load = Command::new(programs().join("bench-load"))
        .args([&gateway, &backend, case.path])
        .args([case.connections.to_string(), rounds.to_string()])
        .arg(case.status)
        .args(case.key)
        .output()
        .map_err(|e| format!("bench-load: {e}"))?;
    if !load.status.success() {
        let why = String::from_utf8_lossy(&load.stderr);
        return Err(format!("floor: the load on {} ended: {why}", case.path));
    }
    look(child.0.id())?;
    drop(child.0.stdin.take());
    child.0.wait().map_err(|e| e.to_string())?;
    Ok(())
}

/// The sum that callgrind writes at the end of its file.
fn total(text: &str) -> Outcome<u64> {
    let lines = text.lines();
    let mut sums = lines.filter_map(|l| {
        l.strip_prefix("totals: ")
            .or_else(|| l.strip_prefix("summary: "))
    });
    let sum = sums.next().and_then(|s| s.trim().parse().ok());
    sum.ok_or_else(|| "floor: callgrind wrote no sum".into())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_sum_is_found_wherever_it_stands() {
        assert_eq!(total("events: Ir\nsummary: 12\nfn=x\n"), Ok(12));
        assert_eq!(total("events: Ir\nfn=x\ntotals: 345\n"), Ok(345));
        assert!(total("events: Ir\n").is_err());
    }

    #[test]
    fn every_case_has_its_figure() {
        let floor = read().unwrap();
        for Case { name, .. } in CASES {
            let figure = floor["instructions"][name].as_integer().unwrap();
            assert!(figure > 5_000, "{name}: {figure}");
        }
    }
}
